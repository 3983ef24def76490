//! Parts by name, for recipes that are made or kept for them.

use glam::DVec3;
use ulmix_mesh::TriMesh;
use ulmix_part::demo::Reedling;
use ulmix_part::Part;

/// Simple shapes, by name.
pub(super) fn shapes() -> [(&'static str, TriMesh); 5] {
    [
        ("block", TriMesh::cuboid(DVec3::ZERO, DVec3::new(34.0, 26.0, 21.0))),
        ("ball", TriMesh::sphere(17.0, 5)),
        ("plate", TriMesh::cuboid(DVec3::ZERO, DVec3::new(60.0, 40.0, 4.0))),
        ("rod", TriMesh::cuboid(DVec3::ZERO, DVec3::new(90.0, 9.0, 8.0))),
        ("egg", TriMesh::sphere(14.0, 5).mapped(|p| p * DVec3::new(1.6, 1.0, 0.7))),
    ]
}

/// The part of a name: a simple shape, or one of the Reedling parts.
pub(super) fn named(name: &str) -> Part {
    let shape = shapes().into_iter().find(|s| s.0 == name);
    shape.map(|(_, mesh)| Part::prepare(&mesh).unwrap()).unwrap_or_else(|| {
        Reedling::SHAPES
            .iter()
            .find(|r| format!("{r:?}") == name)
            .expect("a part of this name")
            .part()
            .0
    })
}
