//! A beam of a 3MF beam lattice as a closed mesh.

use glam::DVec3;
use std::f64::consts::{FRAC_PI_4, TAU};
use ulmix_mesh::TriMesh;

/// Sides around a strut of so many: where there are very many, all of them are no more than shown
/// and counted.
pub fn sides(struts: usize) -> usize {
    match struts {
        0..=10_000 => 12,
        10_001..=30_000 => 6,
        _ => 4,
    }
}

/// Triangles of a strut of so many sides.
pub const fn triangles(sides: usize) -> usize {
    8 * sides
}

/// Round, from one radius to the other, with round ends, as a polygon of so many sides and of the
/// same area. Nothing when the ends are one.
pub fn strut(from: DVec3, to: DVec3, radii: [f64; 2], sides: usize) -> TriMesh {
    let mut mesh = TriMesh::default();
    let Some(along) = (to - from).try_normalize() else { return mesh };
    let (u, v) = along.any_orthonormal_pair();
    let turn = TAU / sides as f64;
    let radii = radii.map(|r| r * (turn / turn.sin()).sqrt());
    // From pole to pole: how far beyond an end, and how wide.
    let (sin, cos) = FRAC_PI_4.sin_cos();
    let rings = [
        (from, -sin * radii[0], cos * radii[0]),
        (from, 0.0, radii[0]),
        (to, 0.0, radii[1]),
        (to, sin * radii[1], cos * radii[1]),
    ];
    mesh.points.extend([from - along * radii[0], to + along * radii[1]]);
    for (end, beyond, radius) in rings {
        mesh.points.extend((0..sides).map(|i| {
            let (y, x) = (turn * i as f64).sin_cos();
            end + along * beyond + (u * x + v * y) * radius
        }));
    }
    let at = |ring: usize, i: usize| (2 + ring * sides + i % sides) as u32;
    for i in 0..sides {
        mesh.triangles.push([0, at(0, i + 1), at(0, i)]);
        mesh.triangles.push([1, at(3, i), at(3, i + 1)]);
        for ring in 0..3 {
            let [a, b, c, d] = [at(ring, i), at(ring, i + 1), at(ring + 1, i + 1), at(ring + 1, i)];
            mesh.triangles.extend([[a, b, c], [a, c, d]]);
        }
    }
    mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::Topology;

    #[test]
    fn struts_are_closed_face_outward_and_weigh_what_they_should() {
        let (from, to) = (DVec3::new(1.0, -2.0, 3.0), DVec3::new(11.0, 4.0, 5.0));
        for (radii, sides) in [([0.5, 0.5], 12), ([0.5, 1.0], 12), ([0.5, 0.5], 4)] {
            let m = strut(from, to, radii, sides);
            assert!(Topology::of(&m).sound() && m.triangles.len() == triangles(sides));
            let [a, b] = radii;
            // A frustum of a cone and two halves of balls, which come as coarse as they are small.
            let length = from.distance(to);
            let body = std::f64::consts::PI / 3.0 * length * (a * a + a * b + b * b);
            let ends = 2.0 / 3.0 * std::f64::consts::PI * (a.powi(3) + b.powi(3));
            assert!(
                (m.volume() - body - ends).abs() < 0.3 * ends,
                "{} for {}",
                m.volume(),
                body + ends
            );
        }
        assert!(strut(from, from, [1.0, 1.0], 12).triangles.is_empty());
    }
}
