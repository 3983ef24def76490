//! Sheets: open surfaces that are meant to be open.

use crate::recipe::Shell;
use ulmix_mesh::holes::{close, holes};
use ulmix_mesh::weld::weld;
use ulmix_mesh::{Topology, TriMesh};

/// A part whose holes have more than this share of its surface is a sheet rather than a broken solid.
const OPEN: f64 = 0.15;

/// First thickness for named bodies of which one is a sheet.
pub fn shell_of(bodies: &[(String, TriMesh)]) -> Option<Shell> {
    bodies.iter().find_map(|b| shell_for(&b.1))
}

/// First thickness for a mesh in mm that is a sheet; none for a solid, broken or not.
pub fn shell_for(mesh: &TriMesh) -> Option<Shell> {
    let longest = mesh.bounds().size().max_element();
    if !longest.is_finite() || longest <= 0.0 {
        return None;
    }
    // Most meshes are closed by equal points alone, which is found out far sooner.
    let mut welded = weld(mesh, 0.0).mesh;
    if Topology::of(&welded).open_edges == 0 {
        return None;
    }
    welded = weld(&welded, 1e-6 * longest).mesh;
    if Topology::of(&welded).open_edges == 0 {
        return None;
    }
    let mut closed = welded.clone();
    holes(&welded).iter().for_each(|h| close(&mut closed, h));
    let surface = welded.area();
    (closed.area() - surface > OPEN * surface).then(|| Shell::for_size(longest))
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    #[test]
    fn sheets_are_told_from_broken_solids() {
        let ball = TriMesh::sphere(20.0, 4);
        let half = ball.filtered(|t| ball.middle(t).z > 0.0);
        assert_eq!(shell_for(&half), Some(Shell { thickness_mm: 1.0, front_percent: 50.0 }));
        assert_eq!(shell_for(&ball), None);
        assert_eq!(shell_for(&ball.filtered(|t| t > 3)), None);
        assert_eq!(shell_for(&TriMesh::cuboid(DVec3::ZERO, DVec3::ONE).filtered(|t| t != 3)), None);
        let flat = TriMesh { points: vec![DVec3::ZERO, DVec3::X, DVec3::Y], triangles: vec![[0, 1, 2]] };
        assert!(shell_for(&flat).is_some() && shell_for(&TriMesh::default()).is_none());
    }
}
