//! Voronoi cells of points, by clipping.
//!
//! The cell of a point starts as a box and is clipped by the planes halfway to its neighbours, nearest
//! first, until no farther point can reach it (the security radius of Lévy & Bonneel 2013). A cell is
//! held as its vertices, each the meeting of three planes (Ray et al. 2018), so that every vertex, edge
//! and wall has an identity: the points whose cells meet there. Duplicates vanish by it, never by
//! distance.

use super::index::PointGrid;
use super::skeleton::Skeleton;
use glam::DVec3;
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
    /// Points from this number on only complete the cells of those before. Nothing lies on their far side, and their
    /// own cells need not be whole there: they reach no farther than this.
    pub outer: (usize, f64),
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
    /// By pair of planes, the corner that runs from the first to the second; `stride` to a row. What it holds of
    /// other pairs is left from earlier cells.
    at: Vec<u32>,
    stride: usize,
    /// By plane, when a cut last began or ended there.
    begun: Vec<u32>,
    ended: Vec<u32>,
    cuts: u32,
    near: Vec<(f64, u32)>,
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

    /// Makes room for pairs of so many planes.
    fn reserve(&mut self, planes: usize) {
        if planes > self.stride {
            self.stride = planes.next_power_of_two().max(64);
            self.at = vec![0; self.stride * self.stride];
            self.begun.resize(self.stride, 0);
            self.ended.resize(self.stride, 0);
        }
    }

    fn pair(&self, a: u16, b: u16) -> usize {
        a as usize * self.stride + b as usize
    }

    /// Cuts off what lies beyond a plane; false when that is nothing. A cut that rounding makes inconsistent is left out: it would
    /// have taken a sliver.
    fn clip(&mut self, plane: Plane) -> bool {
        let beyond = |c: &Corner| plane.normal.dot(c.place) > plane.at;
        let Some(first) = self.corners.iter().position(beyond) else { return false };
        self.gone.clear();
        let mut kept = first;
        for n in first..self.corners.len() {
            let c = self.corners[n];
            if beyond(&c) {
                self.gone.push(c);
            } else {
                self.corners[kept] = c;
                kept += 1;
            }
        }
        self.corners.truncate(kept);
        let new = self.planes.len() as u16;
        self.reserve(new as usize + 1);
        self.planes.push(plane);
        for (n, c) in self.gone.iter().enumerate() {
            for (a, b) in sides(c) {
                self.at[a as usize * self.stride + b as usize] = n as u32;
            }
        }
        self.cuts += 1;
        let mut sound = true;
        for n in 0..self.gone.len() {
            let c = self.gone[n];
            for (a, b) in sides(&c) {
                // An edge between a corner that goes and one that stays is cut.
                let across = self.gone.get(self.at[self.pair(b, a)] as usize);
                if across.is_some_and(|d| sides(d).contains(&(b, a))) {
                    continue;
                }
                // The cut runs around once: every plane of it is entered once and left once.
                sound &= self.begun[a as usize] != self.cuts && self.ended[b as usize] != self.cuts;
                (self.begun[a as usize], self.ended[b as usize]) = (self.cuts, self.cuts);
                let place = self.meet(a, b, new).unwrap_or(c.place);
                self.corners.push(Corner { planes: [a, b, new], place });
            }
        }
        let cut = &self.corners[kept..];
        let closes = |c: &Corner| self.begun[c.planes[1] as usize] == self.cuts && self.ended[c.planes[0] as usize] == self.cuts;
        sound &= cut.len() >= 3 && cut.iter().all(closes);
        if !sound {
            self.corners.truncate(kept);
            self.corners.append(&mut self.gone);
            self.planes.pop();
        }
        sound
    }

    fn meet(&self, a: u16, b: u16, c: u16) -> Option<DVec3> {
        let [a, b, c] = [a, b, c].map(|n| self.planes[n as usize]);
        let ab = a.normal.cross(b.normal);
        let det = ab.dot(c.normal);
        let place = (b.normal.cross(c.normal) * a.at + c.normal.cross(a.normal) * b.at + ab * c.at) / det;
        (det.abs() > 1e-14 && place.is_finite()).then_some(place)
    }

    /// The cell of point `own` within the bounds. Points that are `likely` to have a part in it come first: with good
    /// ones the others have nothing left to cut.
    fn build(&mut self, points: &[DVec3], grid: &PointGrid, own: usize, bounds: &Within, likely: &[u32]) {
        let p = points[own];
        let radius = if own < bounds.outer.0 { bounds.radius } else { bounds.outer.1 };
        self.begin(bounds.low.max(p - radius), bounds.high.min(p + radius));
        let mut reach = f64::INFINITY;
        for &id in likely {
            self.cut_off(p, points[id as usize], id, &mut reach);
        }
        let mut near = std::mem::take(&mut self.near);
        for ring in 0.. {
            near.clear();
            let next = grid.ring(p, ring, |id, q| {
                let d = q.distance_squared(p);
                if id as usize != own && d < 4.0 * reach {
                    near.push((d, id));
                }
            });
            if likely.is_empty() {
                near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
            }
            for &(d, id) in &near {
                if d < 4.0 * reach && !likely.contains(&id) {
                    self.cut_off(p, points[id as usize], id, &mut reach);
                }
            }
            if next.is_none_or(|n| n * n > 4.0 * reach) {
                break;
            }
        }
        self.near = near;
    }

    /// Takes what is nearer to `q` away from the cell of `p`; `reach` becomes the square of how far the cell reaches.
    fn cut_off(&mut self, p: DVec3, q: DVec3, id: u32, reach: &mut f64) {
        let d = q.distance_squared(p);
        let normal = (q - p) / d.sqrt().max(1e-300);
        if self.clip(Plane { normal, at: normal.dot((p + q) * 0.5), other: id }) || !reach.is_finite() {
            *reach = self.corners.iter().map(|c| c.place.distance_squared(p)).fold(0.0, f64::max);
        }
    }

    /// Points whose planes bound the cell.
    fn neighbours(&self, into: &mut Vec<u32>) {
        into.clear();
        into.extend(self.corners.iter().flat_map(|c| c.planes).map(|n| self.planes[n as usize].other).filter(|o| *o != BOX));
        into.sort_unstable();
        into.dedup();
    }

    /// Volume, and the middle of the volume.
    fn centroid(&mut self, p: DVec3) -> (f64, DVec3) {
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

    /// Notes which corner every pair of planes runs from.
    fn link(&mut self) {
        self.reserve(self.planes.len());
        for (n, c) in self.corners.iter().enumerate() {
            for (a, b) in sides(c) {
                self.at[a as usize * self.stride + b as usize] = n as u32;
            }
        }
    }

    /// The other end of the edge that leaves a corner between two planes, after [`link`](Self::link).
    fn across(&self, a: u16, b: u16) -> Option<&Corner> {
        self.corners.get(self.at[self.pair(b, a)] as usize).filter(|d| sides(d).contains(&(b, a)))
    }

    /// Calls `f` with every edge of every wall: the wall's plane, the other plane, and the ends.
    fn each_edge(&mut self, mut f: impl FnMut(u16, u16, DVec3, DVec3)) {
        self.link();
        for c in &self.corners {
            for (a, b) in sides(c) {
                if let Some(d) = self.across(a, b) {
                    f(a, b, c.place, d.place);
                }
            }
        }
    }
}

/// Pairs of planes around a corner.
fn sides(c: &Corner) -> [(u16, u16); 3] {
    let [a, b, d] = c.planes;
    [(a, b), (b, d), (d, a)]
}

/// What is known of a point's cell.
#[derive(Clone, Copy, Debug, Default)]
pub struct CellFacts {
    pub volume: f64,
    pub middle: DVec3,
}

/// Cells of points that move a little at a time: what bounded a cell last time is looked at first.
#[derive(Default)]
pub struct Cells {
    likely: Vec<Vec<u32>>,
}

impl Cells {
    /// Volume and middle of every point's cell.
    pub fn facts(&mut self, points: &[DVec3], bounds: &Within) -> Vec<CellFacts> {
        let grid = PointGrid::new(points);
        self.likely.resize(points.len(), Vec::new());
        self.likely
            .par_iter_mut()
            .enumerate()
            .map_init(Cell::default, |cell, (own, likely)| {
                cell.build(points, &grid, own, bounds, likely);
                cell.neighbours(likely);
                let (volume, middle) = cell.centroid(points[own]);
                CellFacts { volume, middle }
            })
            .collect()
    }
}

/// The cells of all points together.
pub struct Diagram {
    /// Edges of the cells; those on the box are left out.
    pub edges: Skeleton,
    /// For every wall the diameter of the widest ball that fits through, about.
    pub widths: Vec<f64>,
    /// Pairs of points whose cells share a wall, each once, first point first.
    pub pairs: Vec<[u32; 2]>,
    /// For every wall the middle of its area, and the radius of the widest circle around that in the wall.
    pub discs: Vec<(DVec3, f64)>,
}

pub fn diagram(points: &[DVec3], bounds: &Within) -> Diagram {
    let grid = PointGrid::new(points);
    let found: Vec<(Vec<EdgeKey>, Vec<Wall>)> = (0..points.len())
        .into_par_iter()
        .map_init(Cell::default, |cell, own| {
            cell.build(points, &grid, own, bounds, &[]);
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
        widths: walls().map(|w| w.width).collect(),
        pairs: walls().map(|w| w.pair).collect(),
        discs: walls().map(|w| w.disc).collect(),
    }
}

/// A wall: the two points beside it, its width, and the circle in it.
struct Wall {
    pair: [u32; 2],
    width: f64,
    disc: (DVec3, f64),
}

/// A wall's outline as it is gone around.
#[derive(Clone, Default)]
struct Outline {
    area: f64,
    length: f64,
    apex: Option<DVec3>,
    /// Middles of its triangles by their areas.
    moment: DVec3,
    /// Of the circle around its middle.
    radius: f64,
}

impl Outline {
    fn middle(&self) -> DVec3 {
        if self.area > 0.0 {
            self.moment / self.area
        } else {
            self.apex.unwrap_or_default()
        }
    }
}

/// Two vertices, each by the points whose cells meet there.
type EdgeKey = [([u32; 4], DVec3); 2];

impl Cell {
    /// Edges and walls of which this cell's point is the first.
    fn emit(&mut self, own: u32) -> (Vec<EdgeKey>, Vec<Wall>) {
        // Of a round wall four times the area over the outline is the widest ball's diameter.
        let mut walls = vec![Outline { radius: f64::INFINITY, ..Outline::default() }; self.planes.len()];
        self.each_edge(|a, _, from, to| {
            let w = &mut walls[a as usize];
            let apex = *w.apex.get_or_insert(from);
            let area = 0.5 * (from - apex).cross(to - apex).length();
            w.area += area;
            w.moment += (apex + from + to) * (area / 3.0);
            w.length += from.distance(to);
        });
        self.each_edge(|a, _, from, to| {
            let w = &mut walls[a as usize];
            let along = (to - from).normalize_or_zero();
            let way = w.middle() - from;
            w.radius = w.radius.min((way - along * way.dot(along)).length());
        });
        let key = |c: &Corner| {
            let [a, b, d] = c.planes.map(|n| self.planes[n as usize].other);
            let mut key = [own, a, b, d];
            key.sort_unstable();
            key
        };
        let mut out = Vec::new();
        for c in &self.corners {
            for (a, b) in sides(c) {
                let [pa, pb] = [a, b].map(|n| self.planes[n as usize].other);
                // Both cells' corners are seen from here: one direction is enough.
                if a > b || pa < own || pb < own || pa == BOX || pb == BOX {
                    continue;
                }
                if let Some(d) = self.across(a, b) {
                    let (from, to) = (key(c), key(d));
                    if from[3] != BOX && to[3] != BOX && from != to {
                        out.push([(from, c.place), (to, d.place)]);
                    }
                }
            }
        }
        let real = |p: &Plane| p.other != BOX && p.other > own;
        let walls = walls.iter().zip(&self.planes).filter(|(w, p)| real(p) && w.length > 0.0);
        let wall = |(w, p): (&Outline, &Plane)| Wall {
            pair: [own, p.other],
            width: 4.0 * w.area / w.length,
            disc: (w.middle(), w.radius),
        };
        (out, walls.map(wall).collect())
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
    const ALL: Within =
        Within { low: DVec3::ZERO, high: DVec3::splat(10.0), radius: f64::INFINITY, outer: (usize::MAX, f64::INFINITY) };

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20))]
        #[test]
        fn cells_fill_the_box_and_obey_their_laws(n in 5u64..120, seed in 0u64..1000) {
            let points = scattered(n, seed);
            let facts = Cells::default().facts(&points, &ALL);
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
            cell.build(&points, &grid, own, &ALL, &[]);
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
        let facts = Cells::default().facts(&points, &ALL);
        for (n, f) in facts.iter().enumerate() {
            if n != 17 && n != 125 {
                assert!((f.volume - 8.0).abs() < 1e-6, "{n}: {}", f.volume);
            }
        }
        assert_eq!(diagram(&points[..125], &ALL).pairs.iter().filter(|p| p[1] - p[0] == 1).count(), 100);
    }
}
