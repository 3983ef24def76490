//! What a cell adds to the diagram, and all of it as one net.

use super::cell::{Cell, Plane, BOX};
use crate::lattice::skeleton::Skeleton;
use glam::DVec3;
use rayon::prelude::*;

/// What a cell adds to the diagram.
#[derive(Default)]
pub struct Emitted {
    edges: Vec<[Key; 2]>,
    /// Those at edges of which this cell's point is the first, in order.
    vertices: Vec<(Key, DVec3)>,
    pub walls: Vec<Wall>,
    pub volume: f64,
}

/// The edges of all cells as one net, in the `order` in which the cells are best gone through. A vertex is listed by the
/// cell of its first point, and looked up there.
pub fn joined(points: &[DVec3], found: &[Emitted], order: &[u32]) -> Skeleton {
    let mut before = vec![0];
    before.extend(found.iter().scan(0, |sum, cell| {
        *sum += cell.vertices.len() as u32;
        Some(*sum)
    }));
    let listed = |key: &Key| {
        let first = key[0] as usize;
        let at = found[first].vertices.binary_search_by_key(key, |v| v.0).ok()?;
        Some(before[first] + at as u32)
    };
    let edges = || order.par_iter().flat_map_iter(|own| &found[*own as usize].edges);
    let number = |key: &Key| listed(key).unwrap_or(u32::MAX);
    let mut struts: Vec<[u32; 2]> = edges().map(|[from, to]| [number(from), number(to)]).collect();
    let mut nodes: Vec<DVec3> = found.iter().flat_map(|cell| &cell.vertices).map(|v| v.1).collect();
    // Rounding may leave a vertex out of a cell that others see it in.
    if struts.par_iter().any(|s| s.contains(&u32::MAX)) {
        let mut strays: Vec<Key> = edges().flatten_iter().filter(|key| listed(key).is_none()).copied().collect();
        strays.sort_unstable();
        strays.dedup();
        let number = |key: &Key| listed(key).or_else(|| strays.binary_search(key).ok().map(|n| (nodes.len() + n) as u32));
        struts = edges().map(|e| [0, 1].map(|n| number(&e[n]).expect("listed or a stray"))).collect();
        nodes.extend(strays.iter().map(|key| centre(key.map(|n| points[n as usize]))));
    }
    Skeleton { nodes, struts }
}

/// The place as far from all four points.
fn centre([p, q, r, s]: [DVec3; 4]) -> DVec3 {
    let [a, b, c] = [q - p, r - p, s - p];
    let (bc, ca, ab) = (b.cross(c), c.cross(a), a.cross(b));
    let place = (bc * a.length_squared() + ca * b.length_squared() + ab * c.length_squared()) / (2.0 * a.dot(bc));
    p + if place.is_finite() { place } else { (a + b + c) / 4.0 }
}

/// A wall: the two points beside it, its width, and the circle in it.
pub struct Wall {
    pub pair: [u32; 2],
    pub width: f64,
    pub disc: (DVec3, f64),
}

/// A wall's outline as it is gone around.
#[derive(Clone, Default)]
struct Outline {
    area: f64,
    length: f64,
    apex: Option<DVec3>,
    /// Middles of its triangles by their areas.
    moment: DVec3,
    /// Of the radius of the circle around its middle.
    square: f64,
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

/// A vertex by the points whose cells meet there, in order.
type Key = [u32; 4];

impl Cell {
    /// Edges and walls of which this cell's point is the first.
    pub fn emit(&mut self, p: DVec3, own: u32) -> Emitted {
        let keys: Vec<Key> = (0..self.corner_count()).map(|n| self.key(n, own)).collect();
        // Both cells' corners are seen from here: a wall or an edge belongs to its first cell.
        let is_own: Vec<bool> = self.planes.iter().map(|p| p.other != BOX && p.other > own).collect();
        let mut outlines = vec![Outline::default(); self.planes.len()];
        let (mut edges, mut vertices, mut volume) = (Vec::new(), Vec::new(), 0.0);
        self.each_edge(|wall, beside, [n, m], from, to| {
            let w = &mut outlines[wall as usize];
            let apex = *w.apex.get_or_insert(from);
            volume += apex.dot(from.cross(to)).abs() / 6.0;
            if !is_own[wall as usize] {
                return;
            }
            let area = 0.5 * (from - apex).cross(to - apex).length();
            w.area += area;
            w.moment += (apex + from + to) * (area / 3.0);
            w.length += from.distance(to);
            // One of its two directions is enough.
            let is_edge = wall < beside && is_own[beside as usize] && keys[n] != keys[m];
            if is_edge && keys[n][3] != BOX && keys[m][3] != BOX {
                edges.push([keys[n], keys[m]]);
                let ends = [(keys[n], p + from), (keys[m], p + to)];
                vertices.extend(ends.into_iter().filter(|(key, _)| key[0] == own));
            }
        });
        outlines.iter_mut().for_each(|w| w.square = f64::INFINITY);
        self.each_edge(|wall, _, _, from, to| {
            if is_own[wall as usize] {
                let w = &mut outlines[wall as usize];
                let (edge, way) = (to - from, w.middle() - from);
                let along = way.dot(edge).powi(2) / edge.length_squared().max(f64::MIN_POSITIVE);
                w.square = w.square.min(way.length_squared() - along);
            }
        });
        let walls = outlines.iter().zip(&self.planes).zip(&is_own).filter(|((w, _), is_own)| **is_own && w.length > 0.0);
        let wall = |((w, plane), _): ((&Outline, &Plane), &bool)| Wall {
            pair: [own, plane.other],
            // Of a round wall four times the area over the outline is the widest ball's diameter.
            width: 4.0 * w.area / w.length,
            disc: (p + w.middle(), w.square.max(0.0).sqrt()),
        };
        let walls = walls.map(wall).collect();
        vertices.sort_by_key(|v| v.0);
        vertices.dedup_by_key(|v| v.0);
        // There are many cells: none keeps room that it does not need.
        vertices.shrink_to_fit();
        edges.shrink_to_fit();
        Emitted { edges, vertices, walls, volume }
    }

    fn key(&self, corner: usize, own: u32) -> Key {
        let [a, b, c] = self.corner(corner).planes;
        let other = |plane: u16| self.planes[plane as usize].other;
        let mut key = [own, other(a), other(b), other(c)];
        key.sort_unstable();
        key
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lattice::surface::low_discrepancy;

    #[test]
    fn a_vertex_that_its_first_cell_does_not_list_is_still_one_node() {
        let points: Vec<DVec3> = (1..9).map(low_discrepancy).collect();
        let key = [0, 2, 5, 7];
        let place = centre(key.map(|n| points[n as usize]));
        let far = |n: u32| points[n as usize].distance(place);
        assert!(key.iter().all(|n| (far(*n) / far(0) - 1.0).abs() < 1e-9));
        // Cells 1 and 2 see an edge from it to vertices of their own.
        let mut found: Vec<Emitted> = (0..8).map(|_| Emitted::default()).collect();
        for own in [1, 2] {
            let other = [own, 3, 5, 7];
            found[own as usize].edges = vec![[key, other]];
            found[own as usize].vertices = vec![(other, DVec3::splat(own as f64))];
        }
        let net = joined(&points, &found, &[0, 1, 2, 3, 4, 5, 6, 7]);
        assert_eq!(net.struts, [[2, 0], [2, 1]]);
        assert_eq!(net.nodes, [DVec3::ONE, DVec3::splat(2.0), place]);
    }
}
