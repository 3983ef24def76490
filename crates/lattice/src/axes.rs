//! Axes that a structure takes from a face of the part.

use glam::{DMat2, DVec2, DVec3};
use ulmix_mesh::faces::{Face, FaceForm};
use ulmix_part::Part;

/// Three axes at right angles, the last as given.
pub fn across(axis: DVec3) -> [DVec3; 3] {
    // A coordinate axis that lies well across keeps rows where they are expected.
    let first =
        [DVec3::X, DVec3::Y].into_iter().find(|a| a.dot(axis).abs() < 0.8).unwrap_or(DVec3::X);
    let first = (first - axis * first.dot(axis)).normalize();
    [first, axis.cross(first), axis]
}

/// The axis of a face: a place on it and its direction. Of a surface of revolution the normals all
/// meet it (least squares over the lines along them); of another it stands upright on the face's
/// middle.
pub fn axis_of(part: &Part, face: &Face) -> (DVec3, DVec3) {
    if !matches!(face.kind, FaceForm::Cylinder { .. } | FaceForm::Cone { .. }) {
        return (face.place, face.direction);
    }
    let [x, y, axis] = across(face.direction);
    let flat = |p: DVec3| DVec2::new((p - face.place).dot(x), (p - face.place).dot(y));
    let (mut a, mut b) = (DMat2::ZERO, DVec2::ZERO);
    for &t in &face.triangles {
        let (area, middle) =
            (part.faced().area_vector(t as usize), part.faced().middle(t as usize));
        let Some(n) = DVec2::new(area.dot(x), area.dot(y)).try_normalize() else { continue };
        let m = (DMat2::IDENTITY - DMat2::from_cols(n * n.x, n * n.y)) * area.length();
        a += m;
        b += m * flat(middle);
    }
    let place = if a.determinant().abs() > 1e-9 * face.area.powi(2) {
        a.inverse() * b
    } else {
        DVec2::ZERO
    };
    (face.place + x * place.x + y * place.y, axis)
}
