//! Takes back the few vertices that make triangles cross or fold.
//!
//! A crease that just misses a cell still shows in its normals, and the vertex then wants to
//! leave the cell. Most of that is right and keeps edges sharp; where it makes triangles cross, the
//! vertex steps back toward the mean of its hits, which never crosses.

use super::cells::Cells;
use super::hold::drawn_in;
use super::quads::Quads;
use super::vertex::Placed;
use super::words::{numbers, rank, ranks};
use super::Shape;
use crate::grid::Grid;
use glam::{DVec3, UVec3};
use std::collections::BTreeMap;
use ulmix_mesh::bins::TriangleBins;
use ulmix_mesh::crossing::{crossing_and_folded_among, triangles_of};
use ulmix_mesh::nearby::AllMoved;
use ulmix_mesh::{parallel, Bounds, TriMesh};

const ROUNDS: u32 = 8;
/// How often a vertex is moved within the shape's borders.
const WITHIN: u32 = 4;
/// Steps along a side of the blocks that are looked at.
const BLOCK: f64 = 4.0;
/// Neighbouring normals that turn more than about 154° are a fold.
const FOLD: f64 = -0.9;

/// Works on quads with a vertex that left its cell.
pub(super) fn repair(
    quads: &mut Quads,
    placed: &[Placed],
    grid: &Grid,
    cells: &Cells,
    shape: &dyn Shape,
) {
    let step = grid.step;
    let mesh = &mut quads.mesh;
    let unsettled = numbers(&quads.unsettled);
    // Only what lies near a vertex that left its cell can cross: the rest is not looked at.
    let left = parallel::flat_map(unsettled.len(), |n| {
        let corners = mesh.triangles[2 * unsettled[n] as usize..][..2].as_flattened();
        let left = corners.iter().filter(|&&v| placed[v as usize].left_cell());
        left.map(|&v| mesh.points[v as usize])
    });
    let blocks = Blocks::around(left, BLOCK * step);
    let is_near = |t: u32| {
        let tri = mesh.triangles[t as usize];
        tri.iter().any(|&v| placed[v as usize].unsettled())
            && blocks.hold(mesh.points[tri[0] as usize])
    };
    let near: Vec<u32> = parallel::flat_map(unsettled.len(), |n| {
        [2 * unsettled[n], 2 * unsettled[n] + 1].into_iter().filter(|t| is_near(*t))
    });
    let (mut part, used) = apart(mesh, &near);
    let placed: Vec<Placed> = used.iter().map(|&v| placed[v as usize]).collect();
    // Points move by less than a cell and a half: boxes grown by that find the same pairs later.
    let boxes = TriangleBins::new(&part, BLOCK * step);
    let suspect = |crossing: &(dyn Fn(u32) -> bool + Sync), part: &TriMesh| -> Vec<u32> {
        parallel::filter_map(part.triangles.len(), |t| {
            part.triangles[t].iter().any(|&v| crossing(v)).then_some(t as u32)
        })
    };
    let mut suspects = suspect(&|v| placed[v as usize].left_cell(), &part);
    let mut moved: BTreeMap<u32, (u32, DVec3, DVec3)> = BTreeMap::new();
    let mut by = 0.0;
    for round in 0..ROUNDS {
        let pairs =
            crossing_and_folded_among(&part, &AllMoved { before: &boxes, by }, &suspects, FOLD);
        let bad = triangles_of(&pairs.concat());
        if bad.is_empty() {
            break;
        }
        by = 1.5 * step;
        let mut crossing: Vec<u32> = bad.iter().flat_map(|&t| part.triangles[t as usize]).collect();
        crossing.sort_unstable();
        crossing.dedup();
        if round == 0 {
            // Often the other diagonal of the quad is enough, and moves nothing.
            flip(&mut part, &near, &bad);
        } else {
            // First those that left their cell, and only if that is not enough the others.
            let left = |v: &u32| placed[*v as usize].left_cell();
            if round < 4 && crossing.iter().any(left) {
                crossing.retain(left);
            }
            for &v in &crossing {
                let place = part.points[v as usize];
                let to_mean = || match placed[v as usize] {
                    at if at.unsettled() => at.to_mean() * step,
                    _ => smooth_mean(used[v as usize], place, grid, cells)
                        .map_or(DVec3::ZERO, |mean| mean - place),
                };
                let (times, start, to_mean) =
                    moved.entry(v).or_insert_with(|| (0, place, to_mean()));
                *times += 1;
                // A third of the way, two thirds, then all of it.
                let nearer = *start + *to_mean * (*times as f64 / 3.0).min(1.0);
                // The mean lies outside where the shape has an inward edge, and may where it is one
                // of edges' middles. What crosses all the same goes there.
                part.points[v as usize] =
                    if *times <= WITHIN { drawn_in(shape, nearer, step) } else { nearer };
            }
        }
        let mut is_hit = vec![false; used.len()];
        crossing.iter().for_each(|&v| is_hit[v as usize] = true);
        suspects = suspect(&|v| is_hit[v as usize], &part);
    }
    for (&t, tri) in near.iter().zip(part.triangles) {
        mesh.triangles[t as usize] = tri.map(|v| used[v as usize]);
    }
    for (&v, p) in used.iter().zip(part.points) {
        mesh.points[v as usize] = p;
    }
}

/// The mean of the middles of the cut edges around the one vertex of a smooth cell; none where the
/// vertex lies elsewhere.
fn smooth_mean(vertex: u32, place: DVec3, grid: &Grid, cells: &Cells) -> Option<DVec3> {
    let low = ((place - grid.origin) / grid.step).floor();
    let cell = cells
        .find_index(low.as_ivec3())
        .filter(|&cell| cell == vertex as usize && !cells.has_several(cell))?;
    Some(grid.origin + (low + cells.mean(cell, 0)) * grid.step)
}

/// Some triangles with the points that they use, and those points' numbers in the mesh: small
/// enough to stay near the processor.
fn apart(mesh: &TriMesh, triangles: &[u32]) -> (TriMesh, Vec<u32>) {
    let mut used = vec![0u64; mesh.points.len().div_ceil(64)];
    let whole: Vec<[u32; 3]> = parallel::map_list_cheap(triangles, |&t| mesh.triangles[t as usize]);
    whole.as_flattened().iter().for_each(|&v| used[v as usize / 64] |= 1 << (v % 64));
    let before = ranks(used.iter().copied());
    let own = |v: u32| rank(before[v as usize / 64], used[v as usize / 64], v % 64) as u32;
    let used_points = numbers(&used);
    let points = parallel::map_list_cheap(&used_points, |&v| mesh.points[v as usize]);
    let triangles = parallel::map_list_cheap(&whole, |t| t.map(own));
    (TriMesh { points, triangles }, used_points)
}

/// Cubes of space around given points.
struct Blocks {
    low: DVec3,
    edge: f64,
    size: UVec3,
    held: Vec<bool>,
}

impl Blocks {
    /// The cubes of side `edge` that hold a point, and their neighbours.
    fn around(points: Vec<DVec3>, edge: f64) -> Blocks {
        let bounds = Bounds::of(points.iter().copied());
        let (low, size) = if points.is_empty() {
            (DVec3::ZERO, UVec3::ZERO)
        } else {
            (bounds.min - 1.5 * edge, (bounds.size() / edge).as_uvec3() + 4)
        };
        let mut out =
            Blocks { low, edge, size, held: vec![false; (size.x * size.y * size.z) as usize] };
        for p in points {
            let at = out.index(((p - out.low) / edge).as_uvec3());
            out.held[at] = true;
        }
        // Their neighbours by axis, and so those around corners.
        for apart in [1, size.x as usize, (size.x * size.y) as usize] {
            out.spread(apart);
        }
        out
    }

    /// Holds what lies this many places before or after a held one as well. The outermost blocks
    /// hold none.
    fn spread(&mut self, apart: usize) {
        let before = self.held.clone();
        let (low, high) =
            (&before[..before.len().saturating_sub(apart)], &before[apart.min(before.len())..]);
        self.held.iter_mut().zip(high).for_each(|(held, next)| *held |= next);
        self.held.iter_mut().skip(apart).zip(low).for_each(|(held, last)| *held |= last);
    }

    fn index(&self, c: UVec3) -> usize {
        ((c.z * self.size.y + c.y) * self.size.x + c.x) as usize
    }

    fn hold(&self, p: DVec3) -> bool {
        let c = ((p - self.low) / self.edge).floor();
        c.min_element() >= 0.0
            && c.cmplt(self.size.as_dvec3()).all()
            && self.held[self.index(c.as_uvec3())]
    }
}

/// Splits the quads of bad triangles the other way where their halves then lie flatter. Triangles
/// `2q` and `2q + 1` of the whole mesh are the halves of quad `q`; `near` gives their numbers
/// there.
fn flip(part: &mut TriMesh, near: &[u32], bad: &[u32]) {
    for &t in bad {
        let other = if near[t as usize] & 1 == 0 { t + 1 } else { t.wrapping_sub(1) };
        if near.get(other as usize).is_none_or(|o| o / 2 != near[t as usize] / 2) {
            continue;
        }
        let (s, t) = (part.triangles[t.min(other) as usize], t.min(other) as usize);
        let [a, b] = [s, part.triangles[t + 1]];
        // Both halves hold the diagonal; the quad runs around it.
        let Some(apex_a) = (0..3).find(|&c| !b.contains(&a[c])) else { continue };
        let Some(apex_b) = (0..3).find(|&c| !a.contains(&b[c])) else { continue };
        let (p, q, r, s) = (a[apex_a], a[(apex_a + 1) % 3], b[apex_b], a[(apex_a + 2) % 3]);
        let flat = |x: [u32; 3], y: [u32; 3]| {
            let n = |t: [u32; 3]| {
                let [i, j, k] = t.map(|v| part.points[v as usize]);
                (j - i).cross(k - i).normalize_or_zero()
            };
            n(x).dot(n(y))
        };
        let flipped = [[p, q, r], [p, r, s]];
        if flat(flipped[0], flipped[1]) > flat(a, b) {
            part.triangles[t..t + 2].copy_from_slice(&flipped);
        }
    }
}
