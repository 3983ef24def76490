//! Meshes made face by face: flat faces with holes, strips around outlines, revolved profiles.

use glam::{DVec2, DVec3};
use std::f64::consts::{FRAC_PI_2, PI, TAU};
use ulmix_mesh::TriMesh;
use ulmix_recipe::profile::arc;

/// Points of a circle, counter-clockwise.
pub fn circle(centre: DVec2, radius: f64, steps: usize) -> Vec<DVec2> {
    arc(centre, radius, 0.0, TAU, steps).take(steps).collect()
}

/// The quarters of a turn from the right lower corner on, counter-clockwise: the corner's side and
/// where an arc there begins.
pub const QUARTERS: [(DVec2, f64); 4] = [
    (DVec2::new(1.0, -1.0), -FRAC_PI_2),
    (DVec2::new(1.0, 1.0), 0.0),
    (DVec2::new(-1.0, 1.0), FRAC_PI_2),
    (DVec2::new(-1.0, -1.0), PI),
];

/// A rectangle around `middle`, its corners rounded in so many steps.
pub fn rounded_rectangle(middle: DVec2, half: DVec2, corner: f64, steps: usize) -> Vec<DVec2> {
    let inner = half - corner;
    let of = |(side, from): (DVec2, f64)| {
        arc(middle + side * inner, corner, from, from + FRAC_PI_2, steps)
    };
    QUARTERS.into_iter().flat_map(of).collect()
}

/// Places of the plane at a height.
pub fn flat(z: f64) -> impl Fn(DVec2) -> DVec3 + Copy {
    move |p| p.extend(z)
}

/// Collects triangles of a shape.
#[derive(Default)]
pub struct Builder {
    /// What there is so far.
    pub mesh: TriMesh,
}

impl Builder {
    /// Adds a triangle.
    pub fn add(&mut self, tri: [DVec3; 3]) {
        let n = self.mesh.points.len() as u32;
        self.mesh.points.extend(tri);
        self.mesh.triangles.push([n, n + 1, n + 2]);
    }

    /// A flat face with holes; `front` keeps the winding of the plane's own axes.
    pub fn face(
        &mut self,
        outline: &[DVec2],
        holes: &[&[DVec2]],
        front: bool,
        place: impl Fn(DVec2) -> DVec3,
    ) where
        DVec2: Copy,
    {
        let mut points: Vec<DVec2> = outline.to_vec();
        let mut starts = Vec::new();
        for h in holes {
            starts.push(points.len());
            points.extend_from_slice(h);
        }
        let flat: Vec<f64> = points.iter().flat_map(|p| [p.x, p.y]).collect();
        let order = earcutr::earcut(&flat, &starts, 2).expect("outlines of our own are simple");
        for t in order.chunks_exact(3) {
            let [a, b, c] = [points[t[0]], points[t[1]], points[t[2]]];
            let ccw = (b - a).perp_dot(c - a) > 0.0;
            let tri = [place(a), place(b), place(c)];
            self.add(if ccw == front { tri } else { [tri[0], tri[2], tri[1]] });
        }
    }

    /// A strip around a closed counter-clockwise outline; `outward` or, for a bore, inward.
    pub fn wall(
        &mut self,
        outline: &[DVec2],
        outward: bool,
        low: impl Fn(DVec2) -> DVec3,
        high: impl Fn(DVec2) -> DVec3,
    ) {
        for (i, &p) in outline.iter().enumerate() {
            let q = outline[(i + 1) % outline.len()];
            let (p, q) = if outward { (p, q) } else { (q, p) };
            self.quad(p, q, &low, &high);
        }
    }

    /// Between two closed rings of as many points, the second in the direction that is up when they
    /// run counter-clockwise.
    pub fn between(&mut self, low: &[DVec3], high: &[DVec3]) {
        for i in 0..low.len() {
            let j = (i + 1) % low.len();
            self.add([low[i], low[j], high[j]]);
            self.add([low[i], high[j], high[i]]);
        }
    }

    /// Adds the upright rectangle over the way from `p` to `q`, between a low and a high surface,
    /// as two triangles.
    pub fn quad(
        &mut self,
        p: DVec2,
        q: DVec2,
        low: impl Fn(DVec2) -> DVec3,
        high: impl Fn(DVec2) -> DVec3,
    ) {
        let [a, b, c, d] = [low(p), low(q), high(q), high(p)];
        self.add([a, b, c]);
        self.add([a, c, d]);
    }
}

/// A closed profile of radius and height, counter-clockwise, turned about z. Points on the axis
/// become poles.
pub fn revolve(profile: &[DVec2], steps: usize) -> TriMesh {
    let mut b = Builder::default();
    let at = |p: DVec2, i: usize| {
        let a = TAU * (i % steps) as f64 / steps as f64;
        DVec3::new(p.x * a.cos(), p.x * a.sin(), p.y)
    };
    for (n, &p) in profile.iter().enumerate() {
        let q = profile[(n + 1) % profile.len()];
        for i in 0..steps {
            let [a, b0, c, d] = [at(p, i), at(p, i + 1), at(q, i + 1), at(q, i)];
            if p.x > 0.0 {
                b.add([a, b0, c]);
            }
            if q.x > 0.0 {
                b.add([a, c, d]);
            }
        }
    }
    b.mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use ulmix_mesh::weld::weld;
    use ulmix_mesh::Topology;

    fn area(outline: &[DVec2]) -> f64 {
        (0..outline.len())
            .map(|n| 0.5 * outline[n].perp_dot(outline[(n + 1) % outline.len()]))
            .sum()
    }

    proptest! {
        #[test]
        fn plates_with_bores_have_the_volume_of_their_outlines(
            corner in 0.5..4.0f64, bore in 0.5..3.0f64, off in -6.0..6.0f64, height in 0.1..20.0f64, steps in 2usize..9
        ) {
            let outer = rounded_rectangle(DVec2::ZERO, DVec2::new(14.0, 8.0), corner, steps);
            let inner = circle(DVec2::new(off, 0.5), bore, 6 * steps);
            let mut b = Builder::default();
            b.face(&outer, &[&inner], false, flat(0.0));
            b.face(&outer, &[&inner], true, flat(height));
            b.wall(&outer, true, flat(0.0), flat(height));
            b.wall(&inner, false, flat(0.0), flat(height));
            let mesh = weld(&b.mesh, 1e-9).mesh;
            prop_assert!(Topology::of(&mesh).sound());
            let volume = height * (area(&outer) - area(&inner));
            prop_assert!((mesh.volume() / volume - 1.0).abs() < 1e-9, "{} for {}", mesh.volume(), volume);
        }

        /// Pappus: area of the profile times the way of its middle, for a polygon of so many steps.
        #[test]
        fn a_turned_profile_has_the_volume_that_pappus_says(
            radius in 3.0..9.0f64, half in proptest::array::uniform2(0.2..2.5f64), steps in 3usize..90
        ) {
            let [wide, high] = half;
            let profile = [(-wide, -high), (wide, -high), (wide, high), (-wide, high)].map(|(r, z)| DVec2::new(radius + r, z));
            let mesh = weld(&revolve(&profile, steps), 1e-9).mesh;
            prop_assert!(Topology::of(&mesh).sound());
            let turn = TAU / steps as f64;
            let of_circle = steps as f64 * turn.sin() / TAU;
            let volume = 4.0 * wide * high * TAU * radius * of_circle;
            prop_assert!((mesh.volume() / volume - 1.0).abs() < 1e-9, "{} for {}", mesh.volume(), volume);
        }
    }

    #[test]
    fn a_profile_on_the_axis_ends_in_poles() {
        let cone =
            weld(&revolve(&[DVec2::ZERO, DVec2::new(3.0, 0.0), DVec2::new(0.0, 5.0)], 64), 1e-9)
                .mesh;
        assert!(Topology::of(&cone).sound());
        let of_circle = 64.0 * (TAU / 64.0).sin() / TAU;
        assert!((cone.volume() / (PI * 9.0 * 5.0 / 3.0 * of_circle) - 1.0).abs() < 1e-9);
    }

    #[test]
    fn strips_between_rings_face_outward() {
        let ring =
            |z: f64| circle(DVec2::ZERO, 4.0, 24).into_iter().map(flat(z)).collect::<Vec<_>>();
        let mut b = Builder::default();
        b.between(&ring(0.0), &ring(2.0));
        assert!((0..b.mesh.triangles.len()).all(|t| b
            .mesh
            .area_vector(t)
            .dot(b.mesh.middle(t).with_z(0.0))
            > 0.0));
    }
}
