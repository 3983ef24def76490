//! Voronoi cells of points, by clipping.
//!
//! The cell of a point starts as a box and is clipped by the planes halfway to its neighbours, nearest
//! first, until no farther point can reach it (the security radius of Lévy & Bonneel 2013). A cell is
//! held as its vertices, each the meeting of three planes (Ray et al. 2018), so that every vertex, edge
//! and wall has an identity: the points whose cells meet there. Duplicates vanish by it, never by
//! distance.

use super::index::PointGrid;
use super::skeleton::Skeleton;
use glam::{DMat3, DVec3};
use rayon::prelude::*;

/// A wall of a cell: points p with `normal · p = at`, the cell on the smaller side.
#[derive(Clone, Copy)]
struct Plane {
    normal: DVec3,
    at: f64,
    /// The point on the other side, [`BOX`] for the box.
    other: u32,
}

/// Number of no point: a side of the box.
const BOX: u32 = u32::MAX;

/// What bounds cells.
#[derive(Clone, Copy, Debug)]
pub struct Within {
    pub low: DVec3,
    pub high: DVec3,
    /// No cell reaches farther from its point along an axis: at the rim of the points cells would have no
    /// end, and ask all others.
    pub radius: f64,
}

/// Where three planes meet, numbered so that seen from outside they run counter-clockwise.
#[derive(Clone, Copy)]
struct Corner {
    planes: [u16; 3],
    place: DVec3,
}

/// One point's cell.
#[derive(Default)]
struct Cell {
    planes: Vec<Plane>,
    corners: Vec<Corner>,
    gone: Vec<Corner>,
}

impl Cell {
    /// The box itself.
    fn begin(&mut self, low: DVec3, high: DVec3) {
        self.planes.clear();
        self.corners.clear();
        for axis in [DVec3::X, DVec3::Y, DVec3::Z] {
            self.planes.push(Plane { normal: -axis, at: -axis.dot(low), other: BOX });
            self.planes.push(Plane { normal: axis, at: axis.dot(high), other: BOX });
        }
        for c in 0..8u16 {
            let place = DVec3::select(glam::BVec3::new(c & 1 == 1, c & 2 == 2, c & 4 == 4), high, low);
            let [x, y, z] = [c & 1, 2 + (c >> 1 & 1), 4 + (c >> 2)];
            let odd = c.count_ones() % 2 == 1;
            self.corners.push(Corner { planes: if odd { [x, y, z] } else { [x, z, y] }, place });
        }
    }

    /// Cuts off what lies beyond a plane; false when that is nothing. A cut that rounding makes inconsistent is left out: it would
    /// have taken a sliver.
    fn clip(&mut self, plane: Plane) -> bool {
        self.gone.clear();
        let gone = &mut self.gone;
        self.corners.retain(|c| {
            let stays = plane.normal.dot(c.place) <= plane.at;
            if !stays {
                gone.push(*c);
            }
            stays
        });
        if self.gone.is_empty() {
            return false;
        }
        let new = self.planes.len() as u16;
        self.planes.push(plane);
        let kept = self.corners.len();
        let sides = |c: &Corner| [0, 1, 2].map(|n| (c.planes[n], c.planes[(n + 1) % 3]));
        for c in &self.gone {
            for (a, b) in sides(c) {
                // An edge between a corner that goes and one that stays is cut.
                if !self.gone.iter().any(|d| sides(d).contains(&(b, a))) {
                    let place = self.meet(a, b, new).unwrap_or(c.place);
                    self.corners.push(Corner { planes: [a, b, new], place });
                }
            }
        }
        // The cut runs around once: every plane of it is entered once and left once.
        let cut = &self.corners[kept..];
        let sound = cut.len() >= 3
            && cut.iter().all(|c| cut.iter().filter(|d| d.planes[0] == c.planes[1]).count() == 1)
            && cut.iter().all(|c| cut.iter().filter(|d| d.planes[1] == c.planes[0]).count() == 1);
        if !sound {
            self.corners.truncate(kept);
            self.corners.append(&mut self.gone);
            self.planes.pop();
        }
        sound
    }

    fn meet(&self, a: u16, b: u16, c: u16) -> Option<DVec3> {
        let [a, b, c] = [a, b, c].map(|n| self.planes[n as usize]);
        let m = DMat3::from_cols(a.normal, b.normal, c.normal).transpose();
        let det = m.determinant();
        let place = m.inverse() * DVec3::new(a.at, b.at, c.at);
        (det.abs() > 1e-14 && place.is_finite()).then_some(place)
    }

    /// The cell of point `own` within the bounds.
    fn build(&mut self, points: &[DVec3], grid: &PointGrid, own: usize, bounds: &Within) {
        let p = points[own];
        self.begin(bounds.low.max(p - bounds.radius), bounds.high.min(p + bounds.radius));
        let mut near: Vec<(f64, u32)> = Vec::new();
        let mut reach = f64::INFINITY;
        for ring in 0.. {
            near.clear();
            let next = grid.ring(p, ring, |id| {
                let d = points[id as usize].distance_squared(p);
                if id as usize != own && d < 4.0 * reach * reach {
                    near.push((d, id));
                }
            });
            near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
            for &(d, id) in &near {
                if d >= 4.0 * reach * reach {
                    break;
                }
                let q = points[id as usize];
                let normal = (q - p) / d.sqrt().max(1e-300);
                if !self.clip(Plane { normal, at: normal.dot((p + q) * 0.5), other: id }) && reach.is_finite() {
                    continue;
                }
                reach = self.corners.iter().map(|c| c.place.distance_squared(p)).fold(0.0, f64::max).sqrt();
            }
            if next.is_none_or(|n| n > 2.0 * reach) {
                break;
            }
        }
    }

    /// Volume, and the middle of the volume.
    fn centroid(&self, p: DVec3) -> (f64, DVec3) {
        let (mut volume, mut sum) = (0.0, DVec3::ZERO);
        // The wall of plane a is a fan of triangles around its first corner.
        let mut first: Vec<Option<DVec3>> = vec![None; self.planes.len()];
        self.each_edge(|a, _, from, to| {
            let apex = *first[a as usize].get_or_insert(from);
            let (u, v, w) = (apex - p, from - p, to - p);
            let six = u.dot(v.cross(w)).abs();
            volume += six / 6.0;
            sum += (u + v + w) * (six / 24.0);
        });
        (volume, if volume > 0.0 { p + sum / volume } else { p })
    }

    /// Calls `f` with every edge of every wall: the wall's plane, the other plane, and the ends.
    fn each_edge(&self, mut f: impl FnMut(u16, u16, DVec3, DVec3)) {
        for c in &self.corners {
            for n in 0..3 {
                let (a, b) = (c.planes[n], c.planes[(n + 1) % 3]);
                let pair = |d: &&Corner| (0..3).any(|m| d.planes[m] == b && d.planes[(m + 1) % 3] == a);
                if let Some(d) = self.corners.iter().find(pair) {
                    f(a, b, c.place, d.place);
                }
            }
        }
    }
}

/// What is known of a point's cell.
#[derive(Clone, Copy, Debug, Default)]
pub struct CellFacts {
    pub volume: f64,
    pub middle: DVec3,
}

/// Volume and middle of every point's cell.
pub fn cell_facts(points: &[DVec3], bounds: &Within) -> Vec<CellFacts> {
    let grid = PointGrid::new(points);
    (0..points.len())
        .into_par_iter()
        .map_init(Cell::default, |cell, own| {
            cell.build(points, &grid, own, bounds);
            let (volume, middle) = cell.centroid(points[own]);
            CellFacts { volume, middle }
        })
        .collect()
}

/// The cells of all points together.
pub struct Diagram {
    /// Edges of the cells; those on the box are left out.
    pub edges: Skeleton,
    /// For every wall the diameter of the widest ball that fits through, about.
    pub widths: Vec<f64>,
    /// Pairs of points whose cells share a wall, each once, first point first.
    pub pairs: Vec<[u32; 2]>,
}

pub fn diagram(points: &[DVec3], bounds: &Within) -> Diagram {
    let grid = PointGrid::new(points);
    let found: Vec<(Vec<EdgeKey>, Vec<Wall>)> = (0..points.len())
        .into_par_iter()
        .map_init(Cell::default, |cell, own| {
            cell.build(points, &grid, own, bounds);
            cell.emit(own as u32)
        })
        .collect();
    let mut keys: Vec<([u32; 4], DVec3)> = found.iter().flat_map(|(e, _)| e.iter().flatten().copied()).collect();
    // Stable, so that of the cells' slightly different roundings it is always the first one's.
    keys.par_sort_by_key(|k| k.0);
    keys.dedup_by_key(|k| k.0);
    let struts = found
        .par_iter()
        .flat_map_iter(|(edges, _)| {
            edges.iter().map(|e| e.map(|(key, _)| keys.binary_search_by_key(&key, |k| k.0).expect("every key is listed") as u32))
        })
        .collect();
    let walls = || found.iter().flat_map(|(_, w)| w);
    Diagram {
        edges: Skeleton { nodes: keys.into_iter().map(|k| k.1).collect(), struts },
        widths: walls().map(|w| w.1).collect(),
        pairs: walls().map(|w| w.0).collect(),
    }
}

/// The two points beside a wall, and its width.
type Wall = ([u32; 2], f64);

/// Two vertices, each by the points whose cells meet there.
type EdgeKey = [([u32; 4], DVec3); 2];

impl Cell {
    /// Edges and walls of which this cell's point is the first.
    fn emit(&self, own: u32) -> (Vec<EdgeKey>, Vec<Wall>) {
        let key = |c: &Corner| {
            let [a, b, d] = c.planes.map(|n| self.planes[n as usize].other);
            let mut key = [own, a, b, d];
            key.sort_unstable();
            key
        };
        let mut out = Vec::new();
        for c in &self.corners {
            for n in 0..3 {
                let (a, b) = (c.planes[n], c.planes[(n + 1) % 3]);
                let [pa, pb] = [a, b].map(|n| self.planes[n as usize].other);
                // Both cells' corners are seen from here: one direction is enough.
                if a > b || pa < own || pb < own || pa == BOX || pb == BOX {
                    continue;
                }
                let pair = |d: &&Corner| (0..3).any(|m| d.planes[m] == b && d.planes[(m + 1) % 3] == a);
                if let Some(d) = self.corners.iter().find(pair) {
                    let (from, to) = (key(c), key(d));
                    if from[3] != BOX && to[3] != BOX && from != to {
                        out.push([(from, c.place), (to, d.place)]);
                    }
                }
            }
        }
        // Of a round wall four times the area over the outline is the widest ball's diameter.
        let mut walls = vec![(0.0, 0.0, None::<DVec3>); self.planes.len()];
        self.each_edge(|a, _, from, to| {
            let w = &mut walls[a as usize];
            let apex = *w.2.get_or_insert(from);
            w.0 += 0.5 * (from - apex).cross(to - apex).length();
            w.1 += from.distance(to);
        });
        let real = |p: &Plane| p.other != BOX && p.other > own;
        let walls = walls.iter().zip(&self.planes).filter(|(w, p)| real(p) && w.1 > 0.0);
        (out, walls.map(|(w, p)| ([own, p.other], 4.0 * w.0 / w.1)).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lattice::surface::low_discrepancy;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn scattered(n: u64, seed: u64) -> Vec<DVec3> {
        (1..=n).map(|i| (low_discrepancy(i * 2 + seed) * 7919.0).fract() * 10.0).collect()
    }
    const ALL: Within = Within { low: DVec3::ZERO, high: DVec3::splat(10.0), radius: f64::INFINITY };

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20))]
        #[test]
        fn cells_fill_the_box_and_obey_their_laws(n in 5u64..120, seed in 0u64..1000) {
            let points = scattered(n, seed);
            let facts = cell_facts(&points, &ALL);
            let sum: f64 = facts.iter().map(|f| f.volume).sum();
            prop_assert!((sum - 1000.0).abs() < 1e-6, "{sum}");
            // A vertex is as far from four points, and no point is nearer.
            let net = diagram(&points, &ALL).edges;
            for v in &net.nodes {
                let mut d: Vec<f64> = points.iter().map(|p| p.distance(*v)).collect();
                d.sort_by(f64::total_cmp);
                prop_assert!(d[3] - d[0] < 1e-6, "{:?}", &d[..5]);
            }
            let mut seen = std::collections::BTreeSet::new();
            prop_assert!(net.struts.iter().all(|s| seen.insert((s[0].min(s[1]), s[0].max(s[1])))));
        }
    }

    #[test]
    fn cells_obey_euler_and_inner_nodes_have_four_struts() {
        let points = scattered(200, 3);
        let grid = PointGrid::new(&points);
        for own in 0..200 {
            let mut cell = Cell::default();
            cell.build(&points, &grid, own, &ALL);
            let (mut walls, mut edges) = (std::collections::BTreeSet::new(), 0);
            cell.each_edge(|a, _, _, _| {
                walls.insert(a);
                edges += 1;
            });
            assert_eq!(cell.corners.len() + walls.len(), edges / 2 + 2);
        }
        let Diagram { edges: net, widths, .. } = diagram(&points, &ALL);
        let mut degree: BTreeMap<u32, usize> = BTreeMap::new();
        net.struts.iter().flatten().for_each(|n| *degree.entry(*n).or_default() += 1);
        let inner = |p: DVec3| p.min_element() > 3.0 && p.max_element() < 7.0;
        let degrees: Vec<usize> = (0..net.nodes.len()).filter(|n| inner(net.nodes[*n])).map(|n| degree[&(n as u32)]).collect();
        assert!(degrees.len() > 20 && degrees.iter().all(|d| *d == 4));
        assert!(widths.iter().all(|w| *w > 0.0 && *w < 10.0));
    }

    #[test]
    fn points_in_rows_and_equal_points_break_nothing() {
        let mut points: Vec<DVec3> =
            (0..125).map(|n| DVec3::new((n % 5) as f64, (n / 5 % 5) as f64, (n / 25) as f64) * 2.0 + 1.0).collect();
        points.push(points[17]);
        let facts = cell_facts(&points, &ALL);
        for (n, f) in facts.iter().enumerate() {
            if n != 17 && n != 125 {
                assert!((f.volume - 8.0).abs() < 1e-6, "{n}: {}", f.volume);
            }
        }
        assert_eq!(diagram(&points[..125], &ALL).pairs.iter().filter(|p| p[1] - p[0] == 1).count(), 100);
    }
}
