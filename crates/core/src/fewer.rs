//! A part's surface with fewer triangles, within a deviation.

use crate::moved::Moved;
use glam::DVec3;
use std::collections::HashMap;
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::{Bvh, TriMesh};

/// Triangles before and after, and how far the surfaces lie from each other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Fewer {
    pub before: usize,
    pub after: usize,
    pub moved: Moved,
}

/// Joins triangles where that moves no point by more than `error` mm. Rims of open surfaces and edges shared by more
/// than two triangles stay as they are.
pub fn fewer(mesh: &mut TriMesh, error: f64) -> Fewer {
    let kept = at_odd_edges(mesh);
    let options = ReduceOptions { error, labels: None, faithful: (&[], 0.0), kept: &kept, cancelled: &|| false };
    let new = reduce(mesh, &options).mesh;
    let old = std::mem::replace(mesh, new);
    // All points of the new surface are old ones; between them it may still leave the old one.
    let middles: Vec<DVec3> = (0..mesh.triangles.len()).map(|t| mesh.middle(t)).collect();
    let moved = Moved::of(&[(&old.points, &Bvh::new(mesh)), (&middles, &Bvh::new(&old))]);
    Fewer { before: old.triangles.len(), after: mesh.triangles.len(), moved }
}

/// The points on edges that do not join exactly two triangles.
fn at_odd_edges(mesh: &TriMesh) -> Vec<bool> {
    let mut uses: HashMap<(u32, u32), u32> = HashMap::with_capacity(3 * mesh.triangles.len() / 2);
    for t in &mesh.triangles {
        for c in 0..3 {
            let (a, b) = (t[c], t[(c + 1) % 3]);
            *uses.entry((a.min(b), a.max(b))).or_default() += 1;
        }
    }
    let mut out = vec![false; mesh.points.len()];
    for ((a, b), _) in uses.into_iter().filter(|(_, n)| *n != 2) {
        (out[a as usize], out[b as usize]) = (true, true);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::Topology;

    #[test]
    fn a_ball_keeps_its_bound_its_topology_and_the_told_deviation() {
        let ball = TriMesh::sphere(20.0, 6);
        for error in [0.02, 0.1, 0.5] {
            let mut m = ball.clone();
            let told = fewer(&mut m, error);
            assert!(Topology::of(&m).sound() && told.after == m.triangles.len() && told.before == ball.triangles.len());
            assert!(told.after * 4 < told.before, "{told:?}");
            // A middle lies as far in as the chords of its triangle, which carry points within the bound.
            assert!(told.moved.greatest <= 1.5 * error && told.moved.mean <= told.moved.greatest, "{told:?} {error}");
            assert!((m.volume() / ball.volume() - 1.0).abs() < 3.0 * error / 20.0);
        }
    }

    #[test]
    fn flat_faces_cost_nothing_and_rims_stay() {
        let mut block = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        let told = fewer(&mut block, 0.1);
        assert!((told.before, told.after) == (12, 12) && told.moved.greatest < 1e-12, "{told:?}");
        // A half ball keeps every point of its rim.
        let ball = TriMesh::sphere(20.0, 5);
        let mut half = ulmix_mesh::weld::weld(&ball.filtered(|t| ball.middle(t).z > 0.0), 0.0).mesh;
        let rim = |m: &TriMesh| m.points.iter().filter(|p| p.z.abs() < 1e-9).count();
        let (open, points) = (Topology::of(&half).open_edges, rim(&half));
        let told = fewer(&mut half, 0.3);
        assert!(told.after * 3 < told.before);
        assert_eq!((Topology::of(&half).open_edges, rim(&half)), (open, points));
    }
}
