//! How far a surface lies from another, as figures and as a map.

use glam::DVec3;
use rayon::prelude::*;
use ulmix_mesh::{Bvh, TriMesh};

/// Over all places that were looked at. mm.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moved {
    pub greatest: f64,
    pub mean: f64,
}

impl Moved {
    /// Of places, each list from the surface beside it.
    pub fn of(lists: &[(&[DVec3], &Bvh)]) -> Moved {
        let far: Vec<f64> =
            lists.iter().flat_map(|(places, from)| places.par_iter().map(|p| away(p, from)).collect::<Vec<f64>>()).collect();
        Moved { greatest: far.iter().copied().fold(0.0, f64::max), mean: far.iter().sum::<f64>() / far.len().max(1) as f64 }
    }

    /// Of two surfaces from each other, both ways: of their points and of places between them.
    pub fn between(now: &TriMesh, before: &TriMesh) -> Moved {
        Moved::of(&[(&finely_cut(now).points, &Bvh::new(before)), (&finely_cut(before).points, &Bvh::new(now))])
    }
}

fn away(p: &DVec3, from: &Bvh) -> f64 {
    from.nearest(*p, f64::INFINITY).map_or(0.0, |n| n.distance_squared.sqrt())
}

/// Triangles of surfaces that are looked at: larger ones are cut until there are about so many.
const FINE: usize = 200_000;

fn finely_cut(mesh: &TriMesh) -> TriMesh {
    let mut mesh = mesh.clone();
    while !mesh.triangles.is_empty() && 4 * mesh.triangles.len() <= FINE {
        mesh = ulmix_mesh::remesh::quartered(&mesh);
    }
    mesh
}

/// A surface cut finely, and how far each of its points lies from the one that it was before. mm.
pub fn map(now: &TriMesh, before: &Bvh) -> (TriMesh, Vec<f32>) {
    let mesh = finely_cut(now);
    let far = mesh.points.par_iter().map(|p| away(p, before) as f32).collect();
    (mesh, far)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_map_shows_the_chords_of_a_coarse_ball() {
        let (fine, coarse) = (TriMesh::sphere(10.0, 6), TriMesh::sphere(10.0, 3));
        let (mesh, far) = map(&coarse, &Bvh::new(&fine));
        assert!(mesh.triangles.len() > 10_000 && mesh.points.len() == far.len());
        // Corners lie on the finer ball, middles of triangles inside it.
        let inside = |p: &DVec3| 10.0 - p.length();
        for (p, f) in mesh.points.iter().zip(&far) {
            assert!((inside(p) - *f as f64).abs() < 0.02, "{} {f}", inside(p));
        }
        assert!(far.iter().copied().fold(0.0, f32::max) > 0.05);
    }
}
