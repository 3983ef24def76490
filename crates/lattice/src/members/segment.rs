//! One strut or node: a straight axis with a radius at both ends.

use glam::DVec3;
use std::f64::consts::TAU;
use ulmix_field::numeric::trig::sin_cos;

/// A straight axis that is thicker than its fellows by `extra` on all sides, and by `more` beyond
/// that at its second end; a node when it has no length.
#[derive(Clone, Copy)]
pub struct StrutSegment {
    /// One end. mm.
    pub a: DVec3,
    /// The other end. mm.
    pub b: DVec3,
    /// By how much its radius is greater than that of others. mm.
    pub extra: f64,
    /// By how much its radius grows toward the other end. mm.
    pub more: f64,
}

impl StrutSegment {
    /// The greatest that its radius exceeds that of others by. mm.
    pub fn most(&self) -> f64 {
        self.extra + self.more.max(0.0)
    }

    /// Share of the axis, for each mm of distance from it, by which the place nearest to a tapered
    /// strut's border lies beyond the foot of the perpendicular, toward the thick end. 1/mm.
    fn lean(&self) -> f64 {
        let length = self.a.distance(self.b);
        // Steeper ones are hardly more than the ball at their thick end.
        let slope = if length > 0.0 { (self.more / length).clamp(-0.95, 0.95) } else { 0.0 };
        slope / (1.0 - slope * slope).sqrt() / length.max(1e-300)
    }

    /// Distance from a strut's border, were it of no thickness of its own.
    pub fn distance(&self, p: DVec3) -> f64 {
        let ab = self.b - self.a;
        let l = ab.length_squared();
        let mut t = if l > 0.0 { (p - self.a).dot(ab) / l } else { 0.0 };
        if self.more != 0.0 {
            t += p.distance(self.a + ab * t) * self.lean();
        }
        let t = t.clamp(0.0, 1.0);
        p.distance(self.a + ab * t) - self.extra - self.more * t
    }

    /// The section at the foot of the perpendicular from `q`.
    pub fn section(&self, q: DVec3) -> Option<Across> {
        /// Directions around the axis.
        const AROUND: usize = 12;
        let ab = self.b - self.a;
        let along = ab.try_normalize()?;
        let t = ((q - self.a).dot(ab) / ab.length_squared()).clamp(0.0, 1.0);
        let (u, v) = along.any_orthonormal_pair();
        // Across the axis a cone is wider than across its flank.
        let slope = (self.more / ab.length()).clamp(-0.95, 0.95);
        let wider = 1.0 / (1.0 - slope * slope).sqrt();
        let beyond = (self.extra + self.more * t) * wider;
        let ray = |n: usize| {
            let (sin, cos) = sin_cos(TAU * n as f64 / AROUND as f64);
            (u * cos + v * sin, beyond)
        };
        Some(Across { foot: self.a + ab * t, rays: (0..AROUND).map(ray).collect(), wider })
    }

    /// The strut in 32 bits, for vector code.
    pub fn quick(&self) -> ([f32; 8], [f32; 2]) {
        let (a, ab) = (self.a.as_vec3(), (self.b - self.a).as_vec3());
        let over = if ab.length_squared() > 0.0 { 1.0 / ab.length_squared() } else { 0.0 };
        (
            [a.x, a.y, a.z, ab.x, ab.y, ab.z, over, self.extra as f32],
            [self.more as f32, self.lean() as f32],
        )
    }
}

/// A section across a strut: a place of its axis, and directions with how far past half the
/// thickness, times `wider`, the border lies in each. mm.
pub struct Across {
    /// The place of the strut's axis that is nearest.
    pub foot: DVec3,
    /// Directions across, and how far past half the thickness, times `wider`, the border lies in
    /// each. mm.
    pub rays: Vec<(DVec3, f64)>,
    /// Width across the axis over that across the flank; 1 for a strut that is as thick at both
    /// ends.
    pub wider: f64,
}
