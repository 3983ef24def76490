//! A hollow of the part by the faces around it, as a body of its own.

use ulmix_mesh::holes::{close, holes};
use ulmix_mesh::orient::orient;
use ulmix_mesh::{Topology, TriMesh};

/// What faces of a part enclose: the faces seen from the other side, with lids over the rims where
/// they are open. `None` when they enclose nothing.
pub fn enclosed(faces: &TriMesh) -> Option<TriMesh> {
    if faces.triangles.is_empty() {
        return None;
    }
    let mut mesh = faces.clone();
    // Faces look into the hollow; a body's look out of it.
    mesh.triangles.iter_mut().for_each(|t| t.swap(1, 2));
    for hole in holes(&mesh) {
        close(&mut mesh, &hole);
    }
    let topology = Topology::of(&mesh);
    orient(&mut mesh, &topology);
    let size = mesh.bounds().size().max_element();
    (Topology::of(&mesh).closed() && mesh.volume() > 1e-9 * size.powi(3)).then_some(mesh)
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    #[test]
    fn open_and_closed_hollows_are_filled_to_their_rims() {
        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        let mut hollow = cube.clone();
        hollow.triangles.iter_mut().for_each(|t| t.swap(0, 1));
        let up =
            |t: &usize| hollow.area_vector(*t).normalize().z < -0.5 && hollow.middle(*t).z > 5.0;
        for open in [false, true] {
            let body = enclosed(&hollow.filtered(|t| !(open && up(&t)))).unwrap();
            assert!(Topology::of(&body).sound() && (body.volume() - 1000.0).abs() < 1e-9);
        }
        // One flat face encloses nothing.
        assert!(enclosed(&cube.filtered(|t| cube.area_vector(t).z > 0.5)).is_none());
        assert!(enclosed(&TriMesh::default()).is_none());
    }
}
