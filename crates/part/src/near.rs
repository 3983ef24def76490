//! Parts that lie far from the origin of their file.

use glam::DVec3;
use ulmix_mesh::{Bounds, TriMesh};

/// A part farther from the origin than this many times its size is brought near: pictures and most
/// files hold coordinates in single precision, of which 1000 sizes away a ten-thousandth of the
/// part would be left.
const FAR: f64 = 1000.0;

/// Moves all bodies so that the first lies at the origin if the part lies far away, and says from
/// where it came.
pub(crate) fn brought_near(raw: &mut [(String, TriMesh)]) -> Option<String> {
    let bounds = raw.iter().map(|b| b.1.bounds()).reduce(Bounds::union)?;
    let away = bounds.distance_squared(DVec3::ZERO).sqrt();
    // A body far from the others is another matter, and refused elsewhere.
    if away <= FAR * bounds.size().max_element() {
        return None;
    }
    let from = raw[0].1.bounds().min.floor();
    for (_, mesh) in raw {
        mesh.points.iter_mut().for_each(|p| *p -= from);
    }
    let [x, y, z] = from.to_array();
    Some(format!(
        "The part lay {:.0} m from the origin, too far for exact pictures and \
             files: it was moved by {}, {}, {} mm",
        away / 1000.0,
        0.0 - x,
        0.0 - y,
        0.0 - z
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_far_away_is_brought_near_with_its_bodies_in_place() {
        let block =
            |from: DVec3| ("Block".to_owned(), TriMesh::cuboid(from, from + DVec3::splat(10.0)));
        let far = DVec3::new(-5e8, 0.25, 3.0);
        let mut raw = [block(far), block(far + DVec3::X * 20.0)];
        let said = brought_near(&mut raw).unwrap();
        assert!(said.contains("500000 m") && said.ends_with("500000000, 0, -3 mm"), "{said}");
        assert_eq!(raw[0].1.bounds().min, DVec3::Y * 0.25);
        assert_eq!(raw[1].1.bounds().min, DVec3::new(20.0, 0.25, 0.0));
        assert_eq!(brought_near(&mut raw), None);
        // A part beside its origin stays where it is.
        assert_eq!(brought_near(&mut [block(DVec3::splat(2000.0))]), None);
    }
}
