//! Polygons to triangles.

use crate::FormatError;
use glam::{DVec2, DVec3};

/// Triangles of a polygon, as indices into its corners, with its own winding. Concave and slightly
/// bent polygons are cut by ear clipping in the plane of their mean normal (Newell's).
///
/// # Errors
/// A polygon that is not convex and has more than `most` corners: clipping takes up to the square
/// of their number.
pub fn triangles(corners: &[DVec3], most: usize) -> Result<Vec<[usize; 3]>, FormatError> {
    if corners.len() < 3 {
        return Ok(Vec::new());
    }
    if corners.len() == 3 {
        return Ok(vec![[0, 1, 2]]);
    }
    let normal: DVec3 = (0..corners.len())
        .map(|i| {
            let (a, b) = (corners[i] - corners[0], corners[(i + 1) % corners.len()] - corners[0]);
            a.cross(b)
        })
        .sum();
    let fan = || (1..corners.len() - 1).map(|i| [0, i, i + 1]).collect();
    let Some(normal) = normal.try_normalize() else { return Ok(fan()) };
    let u = normal.any_orthonormal_vector();
    let v = normal.cross(u);
    let flat: Vec<DVec2> = corners
        .iter()
        .map(|p| DVec2::new((*p - corners[0]).dot(u), (*p - corners[0]).dot(v)))
        .collect();
    let convex = (0..flat.len()).all(|i| {
        let [a, b, c] = [0, 1, 2].map(|k| flat[(i + k) % flat.len()]);
        (b - a).perp_dot(c - b) >= 0.0
    });
    if convex {
        return Ok(fan());
    }
    if corners.len() > most {
        return Err(FormatError::WideFace { corners: corners.len(), most });
    }
    let numbers: Vec<f64> = flat.iter().flat_map(|p| [p.x, p.y]).collect();
    Ok(match earcutr::earcut(&numbers, &[], 2) {
        Ok(order) if order.len() == 3 * (corners.len() - 2) => order
            .chunks_exact(3)
            .map(|t| {
                let turns = (flat[t[1]] - flat[t[0]]).perp_dot(flat[t[2]] - flat[t[0]]) < 0.0;
                if turns {
                    [t[0], t[2], t[1]]
                } else {
                    [t[0], t[1], t[2]]
                }
            })
            .collect(),
        _ => fan(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_concave_polygon_keeps_its_area_and_winding() {
        let l: Vec<DVec3> =
            [(0.0, 0.0), (3.0, 0.0), (3.0, 1.0), (1.0, 1.0), (1.0, 3.0), (0.0, 3.0)]
                .map(|(x, y)| DVec3::new(x, y, 0.5 * x))
                .to_vec();
        for turned in [false, true] {
            let mut p = l.clone();
            if turned {
                p.reverse();
            }
            let up: f64 = triangles(&p, 6)
                .unwrap()
                .iter()
                .map(|t| (p[t[1]] - p[t[0]]).cross(p[t[2]] - p[t[0]]).z * 0.5)
                .sum();
            assert!((up.abs() - 5.0).abs() < 1e-9 && (up < 0.0) == turned, "{up}");
        }
    }

    #[test]
    fn a_face_of_many_corners_is_refused_where_it_is_not_convex() {
        let ring = |wave: f64| -> Vec<DVec3> {
            let corner = |i: usize| {
                let (y, x) = (std::f64::consts::TAU * i as f64 / 50_000.0).sin_cos();
                DVec3::new(x, y, 0.0) * (1.0 + wave * (i % 2) as f64)
            };
            (0..50_000).map(corner).collect()
        };
        assert_eq!(triangles(&ring(0.0), 10_000).unwrap().len(), 49_998);
        let refused = triangles(&ring(0.1), 10_000).unwrap_err();
        assert!(
            refused.to_string().contains("50000 corners")
                && refused.to_string().contains("up to 10000"),
            "{refused}"
        );
    }
}
