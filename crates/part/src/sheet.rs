//! Sheets: open surfaces that are meant to be open.

use crate::welded::welded;
use crate::PartError;
use ulmix_mesh::holes::{close, holes};
use ulmix_mesh::TriMesh;
use ulmix_recipe::Shell;

/// A part whose holes have more than this share of its surface is a sheet rather than a broken
/// solid.
const OPEN: f64 = 0.15;

/// First thickness for named bodies of which one is a sheet.
///
/// # Errors
/// A body that cannot be worked on, as [`welded`] tells.
pub fn shell_of(bodies: &[(String, TriMesh)]) -> Result<Option<Shell>, PartError> {
    for (_, mesh) in bodies {
        if let Some(shell) = shell_for(mesh)? {
            return Ok(Some(shell));
        }
    }
    Ok(None)
}

/// First thickness for a mesh in mm that is a sheet; none for a solid, broken or not.
///
/// # Errors
/// A mesh that cannot be worked on, as [`welded`] tells.
pub fn shell_for(mesh: &TriMesh) -> Result<Option<Shell>, PartError> {
    let longest = mesh.bounds().size().max_element();
    if !longest.is_finite() || longest <= 0.0 {
        return Ok(None);
    }
    let (welded, topology) = welded(mesh)?;
    if topology.open_edges == 0 {
        return Ok(None);
    }
    let mut closed = welded.clone();
    holes(&welded).iter().for_each(|h| close(&mut closed, h));
    let surface = welded.area();
    Ok((closed.area() - surface > OPEN * surface).then(|| Shell::for_size(longest)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    #[test]
    fn sheets_are_told_from_broken_solids() {
        let ball = TriMesh::sphere(20.0, 4);
        let half = ball.filtered(|t| ball.middle(t).z > 0.0);
        assert_eq!(
            shell_for(&half).unwrap(),
            Some(Shell { thickness_mm: 1.0, front_percent: 50.0 })
        );
        assert_eq!(shell_for(&ball).unwrap(), None);
        assert_eq!(shell_for(&ball.filtered(|t| t > 3)).unwrap(), None);
        assert_eq!(
            shell_for(&TriMesh::cuboid(DVec3::ZERO, DVec3::ONE).filtered(|t| t != 3)).unwrap(),
            None
        );
        let flat =
            TriMesh { points: vec![DVec3::ZERO, DVec3::X, DVec3::Y], triangles: vec![[0, 1, 2]] };
        assert!(
            shell_for(&flat).unwrap().is_some()
                && shell_for(&TriMesh::default()).unwrap().is_none()
        );
    }
}
