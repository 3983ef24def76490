//! What a cell adds to the diagram, and all of it as one net.

use super::cell::{Cell, Plane, BOX};
use crate::skeleton::Skeleton;
use glam::DVec3;
use ulmix_mesh::parallel;

/// What is asked for of a diagram.
#[derive(Clone, Copy)]
pub struct DiagramRequest<'a> {
    /// Edges between such places; those of the others are left out.
    pub edge: &'a (dyn Fn(DVec3, DVec3) -> bool + Sync),
    /// The circles in walls, too.
    pub circles: bool,
}

/// Number of cells, neighbours one after the other, that add to the diagram together: cells are
/// many, and few lists are to be kept.
pub(super) const TOGETHER: usize = 64;

/// What they add.
#[derive(Default)]
pub(super) struct Batch {
    edges: Vec<[Key; 2]>,
    /// Vertices at edges of which a cell's point is the first, in order for each cell, where they
    /// lie, and where those of each cell end.
    vertices: Vec<Key>,
    places: Vec<DVec3>,
    ends: Vec<u32>,
    pub walls: Vec<CellWall>,
    pub volumes: Vec<f64>,
}

impl Batch {
    /// Number of a vertex among those of the batch, where its first cell is the `nth`.
    fn find(&self, nth: usize, key: &Key) -> Option<u32> {
        let from = if nth > 0 { self.ends[nth - 1] } else { 0 };
        let of_cell = &self.vertices[from as usize..self.ends[nth] as usize];
        of_cell.binary_search(key).ok().map(|at| from + at as u32)
    }
}

/// The edges of all cells as one net. A vertex is listed by the cell of its first point, and looked
/// up there. `order` is that in which batches hold the cells.
pub(super) fn joined(points: &[DVec3], batches: &[Batch], order: &[u32]) -> Skeleton {
    let mut before = Vec::with_capacity(batches.len());
    let mut count = 0;
    for batch in batches {
        before.push(count);
        count += batch.vertices.len() as u32;
    }
    let mut place = vec![0; points.len()];
    order.iter().zip(0..).for_each(|(own, at)| place[*own as usize] = at);
    let listed = |key: &Key| {
        let at = place[key.first() as usize];
        let (batch, nth) = (at / TOGETHER, at % TOGETHER);
        batches[batch].find(nth, key).map(|n| before[batch] + n)
    };
    let number = |key: &Key| listed(key).unwrap_or(u32::MAX);
    let numbered = |edge: &[Key; 2]| edge.each_ref().map(number);
    let of_batch = |n: usize| batches[n].edges.iter().map(numbered).collect::<Vec<_>>();
    let mut struts = parallel::flat_map(batches.len(), of_batch);
    let edges = || batches.iter().flat_map(|batch| &batch.edges);
    let mut nodes: Vec<DVec3> = batches.iter().flat_map(|batch| &batch.places).copied().collect();
    // Rounding may leave a vertex out of a cell that others see it in.
    if struts.iter().any(|s| s.contains(&u32::MAX)) {
        let mut strays: Vec<Key> =
            edges().flatten().filter(|key| listed(key).is_none()).copied().collect();
        strays.sort_unstable();
        strays.dedup();
        let number = |key: &Key| {
            listed(key).or_else(|| strays.binary_search(key).ok().map(|n| (nodes.len() + n) as u32))
        };
        struts =
            edges().map(|e| [0, 1].map(|n| number(&e[n]).expect("listed or a stray"))).collect();
        nodes.extend(strays.iter().map(|key| centre(key.points().map(|n| points[n as usize]))));
    }
    Skeleton { nodes, struts }
}

/// The place as far from all four points.
fn centre([p, q, r, s]: [DVec3; 4]) -> DVec3 {
    let [a, b, c] = [q - p, r - p, s - p];
    let (bc, ca, ab) = (b.cross(c), c.cross(a), a.cross(b));
    let place = (bc * a.length_squared() + ca * b.length_squared() + ab * c.length_squared())
        / (2.0 * a.dot(bc));
    p + if place.is_finite() { place } else { (a + b + c) / 4.0 }
}

/// A wall: the two points beside it, its width, and the circle in it.
pub(super) struct CellWall {
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

/// A vertex by the points whose cells meet there, in order: the first one in the highest bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Key(u128);

impl Key {
    fn new([a, b, c, d]: [u32; 4]) -> Key {
        // Five comparisons sort four.
        let (a, b, c, d) = (a.min(b), a.max(b), c.min(d), c.max(d));
        let (a, c, b, d) = (a.min(c), a.max(c), b.min(d), b.max(d));
        let (b, c) = (b.min(c), b.max(c));
        Key((a as u128) << 96 | (b as u128) << 64 | (c as u128) << 32 | d as u128)
    }

    fn points(self) -> [u32; 4] {
        [96, 64, 32, 0].map(|bits| (self.0 >> bits) as u32)
    }

    fn first(self) -> u32 {
        (self.0 >> 96) as u32
    }

    /// Does it lie on the box?
    fn is_on_box(self) -> bool {
        self.0 as u32 == BOX
    }
}

/// Adds cells to batches; what it needs for one is used again for the next.
#[derive(Default)]
pub(super) struct Emitter {
    pub cell: Cell,
    keys: Vec<Key>,
    is_own: Vec<bool>,
    outlines: Vec<Outline>,
    vertices: Vec<(Key, DVec3)>,
}

impl Emitter {
    /// Adds edges and walls of which the cell's point `p` is the first.
    pub(super) fn add(&mut self, p: DVec3, own: u32, asked: &DiagramRequest, to: &mut Batch) {
        let Emitter { cell, keys, is_own, outlines, vertices } = self;
        keys.clear();
        keys.extend((0..cell.corner_count()).map(|n| cell.key(n, own)));
        // Both cells' corners are seen from here: a wall or an edge belongs to its first cell.
        is_own.clear();
        is_own.extend(cell.planes.iter().map(|p| p.other != BOX && p.other > own));
        outlines.clear();
        outlines.resize(cell.planes.len(), Outline::default());
        vertices.clear();
        let mut volume = 0.0;
        cell.each_edge(|wall, beside, [n, m], from, end| {
            let w = &mut outlines[wall as usize];
            let apex = *w.apex.get_or_insert(from);
            volume += apex.dot(from.cross(end)).abs() / 6.0;
            if !is_own[wall as usize] {
                return;
            }
            let area = 0.5 * (from - apex).cross(end - apex).length();
            w.area += area;
            w.moment += (apex + from + end) * (area / 3.0);
            w.length += from.distance(end);
            // One of its two directions is enough.
            let is_edge = wall < beside && is_own[beside as usize] && keys[n] != keys[m];
            if is_edge
                && !keys[n].is_on_box()
                && !keys[m].is_on_box()
                && (asked.edge)(p + from, p + end)
            {
                to.edges.push([keys[n], keys[m]]);
                let ends = [(keys[n], p + from), (keys[m], p + end)];
                vertices.extend(ends.into_iter().filter(|(key, _)| key.first() == own));
            }
        });
        if asked.circles {
            outlines.iter_mut().for_each(|w| w.square = f64::INFINITY);
            cell.each_edge(|wall, _, _, from, end| {
                if is_own[wall as usize] {
                    let w = &mut outlines[wall as usize];
                    let (edge, way) = (end - from, w.middle() - from);
                    let along =
                        way.dot(edge).powi(2) / edge.length_squared().max(f64::MIN_POSITIVE);
                    w.square = w.square.min(way.length_squared() - along);
                }
            });
        }
        let walls = outlines
            .iter()
            .zip(&cell.planes)
            .zip(&*is_own)
            .filter(|((w, _), is_own)| **is_own && w.length > 0.0);
        let wall = |((w, plane), _): ((&Outline, &Plane), &bool)| CellWall {
            pair: [own, plane.other],
            // Of a round wall four times the area over the outline is the widest ball's diameter.
            width: 4.0 * w.area / w.length,
            disc: (p + w.middle(), w.square.max(0.0).sqrt()),
        };
        to.walls.extend(walls.map(wall));
        vertices.sort_unstable_by_key(|v| v.0);
        // Seen from one cell a vertex has one place.
        vertices.dedup_by_key(|v| v.0);
        to.vertices.extend(vertices.iter().map(|v| v.0));
        to.places.extend(vertices.iter().map(|v| v.1));
        to.ends.push(to.vertices.len() as u32);
        to.volumes.push(volume);
    }
}

impl Cell {
    fn key(&self, corner: usize, own: u32) -> Key {
        let [a, b, c] = self.corner(corner).planes;
        let other = |plane: u16| self.planes[plane as usize].other;
        Key::new([own, other(a), other(b), other(c)])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_field::numeric::low_discrepancy;

    #[test]
    fn a_vertex_that_its_first_cell_does_not_list_is_still_one_node() {
        let points: Vec<DVec3> = (1..9).map(low_discrepancy).collect();
        let key = Key::new([5, 0, 7, 2]);
        assert_eq!(key.points(), [0, 2, 5, 7]);
        let place = centre(key.points().map(|n| points[n as usize]));
        let far = |n: u32| points[n as usize].distance(place);
        assert!(key.points().iter().all(|n| (far(*n) / far(0) - 1.0).abs() < 1e-9));
        // Cells 1 and 2 see an edge from it to vertices of their own.
        let mut batch = Batch::default();
        for own in 0..8 {
            if own == 1 || own == 2 {
                let other = Key::new([own, 3, 5, 7]);
                batch.edges.push([key, other]);
                batch.vertices.push(other);
                batch.places.push(DVec3::splat(own as f64));
            }
            batch.ends.push(batch.vertices.len() as u32);
        }
        let net = joined(&points, &[batch], &[0, 1, 2, 3, 4, 5, 6, 7]);
        assert_eq!(net.struts, [[2, 0], [2, 1]]);
        assert_eq!(net.nodes, [DVec3::ONE, DVec3::splat(2.0), place]);
    }
}
