//! Meshes as files hold them, and the few triangles of them that cross.

use crate::crossing::{crossing_and_folded_among, crossing_and_folded_pairs};
use crate::nearby::SomeMoved;
use crate::parallel;
use crate::{Bounds, Bvh, TriMesh};
use glam::DVec3;
use rayon::prelude::*;
use std::collections::{BTreeMap, HashSet};

/// Neighbouring normals that turn more than about 177° are folded flat: a reader that rounds
/// another way would find them crossing.
const FOLDED: f64 = -0.9985;

/// Where points of triangles that cross may go.
#[derive(Clone, Copy)]
pub struct Room<'a> {
    /// How far each may move. mm.
    pub may_move: &'a dyn Fn(u32) -> f64,
    /// The nearest place that a point may reach.
    pub confine: &'a dyn Fn(DVec3) -> DVec3,
    /// Points of triangles that cross move as far as it takes.
    pub last_resort: bool,
}

impl Room<'_> {
    /// Anywhere within so many mm.
    pub fn of(may_move: &dyn Fn(u32) -> f64) -> Room<'_> {
        Room { may_move, confine: &|p| p, last_resort: false }
    }
}

/// How far around triangles that cross a mesh is not reduced in the next attempt, in steps; the
/// last attempt is taken as it is.
pub const KEPT_AROUND: [Option<f64>; 4] = [Some(3.0), Some(6.0), Some(12.0), None];

/// Boxes around triangles that cross, grown by so many mm.
pub fn around<'a>(
    mesh: &'a TriMesh,
    pairs: &'a [[u32; 2]],
    by: f64,
) -> impl Iterator<Item = Bounds> + 'a {
    pairs.as_flattened().iter().map(move |&t| Bounds::of(mesh.corners(t as usize)).grown(by))
}

/// The few triangles that cross or fold all the same, where walls are cut off to an edge finer than
/// the grid: their points step toward the middle of their neighbours until nothing crosses, as far
/// as there is room. Folds that this leaves are harmless. The pairs that cross all the same are
/// returned.
pub fn untangle(mesh: &mut TriMesh, room: Room) -> Vec<[u32; 2]> {
    const ROUNDS: usize = 8;
    /// Folds that so many rounds leave are no longer touched: where they were they did no harm.
    const FOLD_ROUNDS: usize = 2;
    let bvh = Bvh::new(mesh);
    let [mut pairs, mut folds] = crossing_and_folded_pairs(mesh, &bvh, FOLDED);
    let mut before: BTreeMap<u32, DVec3> = BTreeMap::new();
    let among = |mesh: &TriMesh, triangles: &[u32], before: &BTreeMap<u32, DVec3>| {
        let boxes = SomeMoved::new(&bvh, mesh, touching(mesh, before.keys()));
        crossing_and_folded_among(mesh, &boxes, triangles, FOLDED)
    };
    for round in 0..ROUNDS {
        if round == FOLD_ROUNDS && !folds.is_empty() {
            let left = points_of(mesh, folds.iter());
            left.iter().for_each(|v| {
                mesh.points[*v as usize] =
                    before.get(v).copied().unwrap_or(mesh.points[*v as usize])
            });
            let also = points_of(mesh, pairs.iter());
            let touched = touching(mesh, left.iter().chain(&also));
            [pairs, _] = among(mesh, &touched, &before);
        }
        if round >= FOLD_ROUNDS {
            folds.clear();
        }
        if pairs.is_empty() && folds.is_empty() {
            break;
        }
        let crossed = points_of(mesh, pairs.iter());
        let tangled = points_of(mesh, pairs.iter().chain(&folds));
        let touched = touching(mesh, tangled.iter());
        let mut sums = vec![(DVec3::ZERO, 0.0); tangled.len()];
        for t in touched.iter().map(|&n| mesh.triangles[n as usize]) {
            for (c, v) in t.iter().enumerate() {
                if let Ok(i) = tangled.binary_search(v) {
                    sums[i].0 +=
                        mesh.points[t[(c + 1) % 3] as usize] + mesh.points[t[(c + 2) % 3] as usize];
                    sums[i].1 += 2.0;
                }
            }
        }
        for (&v, (sum, count)) in tangled.iter().zip(sums) {
            let p = &mut mesh.points[v as usize];
            let from = *before.entry(v).or_insert(*p);
            let any = room.last_resort && crossed.binary_search(&v).is_ok();
            let limit = if any { f64::INFINITY } else { (room.may_move)(v) };
            let q =
                (room.confine)(from + (p.lerp(sum / count, 0.5) - from).clamp_length_max(limit));
            *p = q;
        }
        round_to_f32(mesh);
        // Only what has moved can cross anew.
        [pairs, folds] = among(mesh, &touched, &before);
    }
    pairs
}

/// The points of triangles that cross or fold, in order.
fn points_of<'a>(mesh: &TriMesh, pairs: impl Iterator<Item = &'a [u32; 2]>) -> Vec<u32> {
    let mut points: Vec<u32> = pairs.flatten().flat_map(|&t| mesh.triangles[t as usize]).collect();
    points.sort_unstable();
    points.dedup();
    points
}

/// The triangles at some points, in order.
fn touching<'a>(mesh: &TriMesh, points: impl Iterator<Item = &'a u32>) -> Vec<u32> {
    let mut is_one = vec![false; mesh.points.len()];
    points.for_each(|&v| is_one[v as usize] = true);
    let touches = |t: &[u32; 3]| t.iter().any(|&v| is_one[v as usize]);
    parallel::filter_map(mesh.triangles.len(), |n| touches(&mesh.triangles[n]).then_some(n as u32))
}

/// Files hold 32-bit coordinates: checks must see the same. Points that would fall together are
/// moved apart by the least step, so that welding by place gives the mesh back.
pub fn round_to_f32(mesh: &mut TriMesh) {
    let bits = |p: &DVec3| p.as_vec3().to_array().map(f32::to_bits);
    // Adding zero makes −0 and 0 one.
    mesh.points.iter_mut().for_each(|p| *p = (p.as_vec3() + glam::Vec3::ZERO).as_dvec3());
    let mut all: Vec<[u32; 3]> = mesh.points.iter().map(bits).collect();
    all.par_sort_unstable();
    if all.windows(2).all(|w| w[0] != w[1]) {
        return;
    }
    let mut seen: HashSet<[u32; 3]> = HashSet::with_capacity(mesh.points.len());
    for p in &mut mesh.points {
        let mut q = p.as_vec3();
        let mut axis = 0;
        while !seen.insert(q.to_array().map(f32::to_bits)) {
            q[axis] = if q[axis] == 0.0 {
                f32::MIN_POSITIVE
            } else {
                f32::from_bits(q[axis].to_bits() + 1)
            };
            axis = (axis + 1) % 3;
        }
        *p = q.as_dvec3();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::crossing::crossing_pairs;
    use crate::Topology;

    /// A ball with points of its surface pushed out through the other side, and which those are.
    fn pierced(by: f64) -> (TriMesh, Vec<u32>) {
        let mut m = TriMesh::sphere(5.0, 4);
        let pushed: Vec<u32> = (0..m.points.len() as u32).step_by(97).collect();
        pushed.iter().for_each(|v| m.points[*v as usize] *= -by);
        round_to_f32(&mut m);
        (m, pushed)
    }

    #[test]
    fn crossings_go_where_points_have_room_and_stay_told_where_they_have_none() {
        let (tangled, pushed) = pierced(1.2);
        let told = crossing_pairs(&tangled, &Bvh::new(&tangled));
        assert!(!told.is_empty());
        // Without room nothing moves, and all that crosses is told.
        let mut still = tangled.clone();
        assert_eq!(untangle(&mut still, Room::of(&|_| 0.0)).len(), told.len());
        assert!(still == tangled);
        // Only the points that were pushed, and those around them, have to move.
        let mut free = tangled.clone();
        let left = untangle(&mut free, Room { last_resort: true, ..Room::of(&|_| 0.0) });
        assert!(left.is_empty() && crossing_pairs(&free, &Bvh::new(&free)).is_empty());
        assert!(Topology::of(&free).sound());
        let moved =
            (0..free.points.len()).filter(|v| free.points[*v] != tangled.points[*v]).count();
        assert!(moved >= pushed.len() && moved < 20 * pushed.len(), "{moved} for {}", pushed.len());
    }

    #[test]
    fn points_move_no_farther_than_they_may_and_stay_where_they_are_confined() {
        let (tangled, _) = pierced(0.3);
        let most = 0.7;
        // What is confined to the ball comes out of it nowhere.
        let confine = |p: DVec3| p.clamp_length_max(5.0);
        let mut m = tangled.clone();
        untangle(&mut m, Room { confine: &confine, ..Room::of(&|_| most) });
        for (p, q) in m.points.iter().zip(&tangled.points) {
            assert!(p.distance(*q) <= most + 1e-5 && p.length() <= 5.0 + 1e-5, "{q} to {p}");
        }
    }

    #[test]
    fn boxes_around_crossings_hold_their_triangles_with_room_about_them() {
        let (m, _) = pierced(1.2);
        let pairs = crossing_pairs(&m, &Bvh::new(&m));
        let boxes: Vec<Bounds> = around(&m, &pairs, 0.5).collect();
        assert_eq!(boxes.len(), 2 * pairs.len());
        for (t, b) in pairs.as_flattened().iter().zip(&boxes) {
            let own = Bounds::of(m.corners(*t as usize));
            assert!(b.contains(&own) && (b.size() - own.size() - 1.0).abs().max_element() < 1e-9);
        }
    }

    #[test]
    fn rounding_keeps_points_apart_and_the_mesh_whole() {
        let mut m = TriMesh::sphere(1e-6, 3).mapped(|p| p + 100.0);
        let points = m.points.len();
        round_to_f32(&mut m);
        let welded = crate::weld::weld(&m, 0.0).mesh;
        assert_eq!(welded.points.len(), points);
        assert!(Topology::of(&welded).sound());
    }
}
