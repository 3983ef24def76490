//! How far a surface lies from another, as figures and as a map.

use glam::DVec3;
use ulmix_mesh::{parallel, Bvh, TriMesh};

/// Over all places that were looked at. mm.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moved {
    /// The greatest distance.
    pub greatest: f64,
    /// The mean distance.
    pub mean: f64,
}

impl Moved {
    /// How far the places of a surface lie from another one.
    pub fn of(places: &[DVec3], from: &Bvh) -> Moved {
        Moved::summed(distances(places, from).iter())
    }

    /// How far two surfaces lie from each other, measured both ways at their points and at places
    /// between those.
    pub fn between(now: &TriMesh, before: &TriMesh) -> Moved {
        map(now, before).moved
    }

    fn summed<'a>(all: impl Iterator<Item = &'a f64>) -> Moved {
        let (greatest, sum, count) =
            all.fold((0.0, 0.0, 0), |(most, sum, n), d| (d.max(most), sum + d, n + 1));
        Moved { greatest, mean: sum / count.max(1) as f64 }
    }
}

/// A surface cut finely, and how far it lies from the one that it was before.
pub struct Map {
    /// The mesh that is coloured.
    pub mesh: TriMesh,
    /// By point of the mesh. mm.
    pub far: Vec<f64>,
    /// Measured both ways.
    pub moved: Moved,
}

/// Distances of a mesh from another one, as a map of the first.
pub fn map(now: &TriMesh, before: &TriMesh) -> Map {
    let (mesh, old) = (finely_cut(now), finely_cut(before));
    let (far, back) =
        (distances(&mesh.points, &Bvh::new(before)), distances(&old.points, &Bvh::new(now)));
    let moved = Moved::summed(far.iter().chain(&back));
    Map { mesh, far, moved }
}

fn distances(places: &[DVec3], from: &Bvh) -> Vec<f64> {
    let away =
        |p: &DVec3| from.nearest(*p, f64::INFINITY).map_or(0.0, |n| n.distance_squared.sqrt());
    parallel::map_list(places, |_, p| away(p))
}

/// Triangles of a surface that is looked at: a coarser one is cut until there are about so many.
const FINE: usize = 200_000;

fn finely_cut(mesh: &TriMesh) -> TriMesh {
    let mut mesh = mesh.clone();
    while !mesh.triangles.is_empty() && 4 * mesh.triangles.len() <= FINE {
        mesh = ulmix_mesh::remesh::quartered(&mesh);
    }
    mesh
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_map_shows_the_chords_of_a_coarse_ball() {
        let (fine, coarse) = (TriMesh::sphere(10.0, 6), TriMesh::sphere(10.0, 3));
        let Map { mesh, far, moved } = map(&coarse, &fine);
        assert!(mesh.triangles.len() > 10_000 && mesh.points.len() == far.len());
        // Corners lie on the finer ball, middles of triangles inside it.
        let inside = |p: &DVec3| 10.0 - p.length();
        for (p, f) in mesh.points.iter().zip(&far) {
            assert!((inside(p) - f).abs() < 0.02, "{} {f}", inside(p));
        }
        assert!(far.iter().copied().fold(0.0, f64::max) > 0.05);
        // The other way points of the finer ball lie over the middles of the coarse one's
        // triangles: as far, about.
        let (there, back) = (Moved::between(&coarse, &fine), Moved::between(&fine, &coarse));
        assert!(
            moved == there && (there.greatest - back.greatest).abs() < 1e-12,
            "{there:?} {back:?}"
        );
        assert!(Moved::between(&fine, &fine).greatest < 1e-12);
    }
}
