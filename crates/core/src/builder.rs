//! Meshes made face by face: flat faces with holes, strips around outlines, revolved profiles.

use glam::{DVec2, DVec3};
use std::f64::consts::{FRAC_PI_2, PI, TAU};
use ulmix_mesh::TriMesh;

pub fn arc(centre: DVec2, radius: f64, from: f64, to: f64, steps: usize) -> impl Iterator<Item = DVec2> {
    (0..=steps).map(move |i| {
        let a = from + (to - from) * i as f64 / steps as f64;
        centre + radius * DVec2::new(a.cos(), a.sin())
    })
}

pub fn circle(centre: DVec2, radius: f64, steps: usize) -> Vec<DVec2> {
    arc(centre, radius, 0.0, TAU, steps).take(steps).collect()
}

/// The quarters of a turn from the right lower corner on, counter-clockwise: the corner's side and where an arc
/// there begins.
pub const QUARTERS: [(DVec2, f64); 4] = [
    (DVec2::new(1.0, -1.0), -FRAC_PI_2),
    (DVec2::new(1.0, 1.0), 0.0),
    (DVec2::new(-1.0, 1.0), FRAC_PI_2),
    (DVec2::new(-1.0, -1.0), PI),
];

/// A rectangle around `middle`, its corners rounded in so many steps.
pub fn rounded_rectangle(middle: DVec2, half: DVec2, corner: f64, steps: usize) -> Vec<DVec2> {
    let inner = half - corner;
    let of = |(side, from): (DVec2, f64)| arc(middle + side * inner, corner, from, from + FRAC_PI_2, steps);
    QUARTERS.into_iter().flat_map(of).collect()
}

/// Places of the plane at a height.
pub fn flat(z: f64) -> impl Fn(DVec2) -> DVec3 + Copy {
    move |p| p.extend(z)
}

#[derive(Default)]
pub struct Builder {
    pub mesh: TriMesh,
}

impl Builder {
    pub fn add(&mut self, tri: [DVec3; 3]) {
        let n = self.mesh.points.len() as u32;
        self.mesh.points.extend(tri);
        self.mesh.triangles.push([n, n + 1, n + 2]);
    }

    /// A flat face with holes; `front` keeps the winding of the plane's own axes.
    pub fn face(&mut self, outline: &[DVec2], holes: &[&[DVec2]], front: bool, place: impl Fn(DVec2) -> DVec3)
    where
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
    pub fn wall(&mut self, outline: &[DVec2], outward: bool, low: impl Fn(DVec2) -> DVec3, high: impl Fn(DVec2) -> DVec3) {
        for (i, &p) in outline.iter().enumerate() {
            let q = outline[(i + 1) % outline.len()];
            let (p, q) = if outward { (p, q) } else { (q, p) };
            self.quad(p, q, &low, &high);
        }
    }

    /// Between two closed rings of as many points, the second in the direction that is up when they run
    /// counter-clockwise.
    pub fn between(&mut self, low: &[DVec3], high: &[DVec3]) {
        for i in 0..low.len() {
            let j = (i + 1) % low.len();
            self.add([low[i], low[j], high[j]]);
            self.add([low[i], high[j], high[i]]);
        }
    }

    pub fn quad(&mut self, p: DVec2, q: DVec2, low: impl Fn(DVec2) -> DVec3, high: impl Fn(DVec2) -> DVec3) {
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
