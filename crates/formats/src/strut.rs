//! A beam of a 3MF beam lattice as a closed mesh.

use glam::DVec3;
use std::f64::consts::{FRAC_PI_4, TAU};
use ulmix_mesh::TriMesh;

/// Sides around, and by how much a circle's radius grows to that of the polygon of the same area.
const AROUND: usize = 12;
const SAME_AREA: f64 = 1.023_326_7;

/// Triangles of one.
pub const TRIANGLES: usize = 8 * AROUND;

/// Round, from one radius to the other, with round ends. Nothing when the ends are one.
pub fn strut(from: DVec3, to: DVec3, radii: [f64; 2]) -> TriMesh {
    let mut mesh = TriMesh::default();
    let Some(along) = (to - from).try_normalize() else { return mesh };
    let (u, v) = along.any_orthonormal_pair();
    let radii = radii.map(|r| r * SAME_AREA);
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
        mesh.points.extend((0..AROUND).map(|i| {
            let (y, x) = (TAU * i as f64 / AROUND as f64).sin_cos();
            end + along * beyond + (u * x + v * y) * radius
        }));
    }
    let at = |ring: usize, i: usize| (2 + ring * AROUND + i % AROUND) as u32;
    for i in 0..AROUND {
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
        for radii in [[0.5, 0.5], [0.5, 1.0]] {
            let m = strut(from, to, radii);
            assert!(Topology::of(&m).sound() && m.triangles.len() == TRIANGLES);
            let [a, b] = radii;
            // A frustum of a cone and two halves of balls, which come as coarse as they are small.
            let length = from.distance(to);
            let body = std::f64::consts::PI / 3.0 * length * (a * a + a * b + b * b);
            let ends = 2.0 / 3.0 * std::f64::consts::PI * (a.powi(3) + b.powi(3));
            assert!((m.volume() - body - ends).abs() < 0.2 * ends, "{} for {}", m.volume(), body + ends);
        }
        assert!(strut(from, from, [1.0, 1.0]).triangles.is_empty());
    }
}
