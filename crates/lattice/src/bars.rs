//! Struts with flat sides, as fields.

use super::members::{Across, StrutSegment};
use glam::DVec3;
use ulmix_field::numeric::trig::sin_cos;
use wide::f32x8;

/// The places whose greatest coordinate, across, upward beyond the ribbon that is as high as struts
/// are taller than wide, or along beyond the ends, is below half the thickness. By this measure the
/// faces are exact at any thickness.
pub struct Bar {
    a: DVec3,
    /// Unit; without a length it is a round node.
    along: DVec3,
    up: DVec3,
    across: DVec3,
    length: f64,
    /// Half of what it is taller than wide.
    taller: f64,
    /// See [`StrutSegment`].
    extra: f64,
    more: f64,
}

/// A bar in 32 bits: first end, the three directions, length, half of what the bar is taller than
/// wide, extra and more.
pub(crate) type Quick = [f32; 16];

impl Bar {
    pub fn new(s: &StrutSegment, taller_mm: f64, turn_deg: f64) -> Bar {
        let along = (s.b - s.a).normalize_or_zero();
        let first = if along.z.abs() > 0.999 { DVec3::X } else { DVec3::Z };
        let up = (first - along * first.dot(along)).normalize_or_zero();
        let (sin, cos) = sin_cos(turn_deg.to_radians());
        let up = up * cos + along.cross(up) * sin;
        let (across, length) = (along.cross(up), s.a.distance(s.b));
        Bar {
            a: s.a,
            along,
            up,
            across,
            length,
            taller: 0.5 * taller_mm,
            extra: s.extra,
            more: s.more,
        }
    }

    pub fn distance(&self, q: DVec3) -> f64 {
        let (beyond, extra) = self.beyond(q);
        beyond.max_element() - extra
    }

    /// How far a place lies across, above or below, and past the ends of the ribbon in the bar's
    /// middle, and half of how much thicker the bar is there. Of a node it is the distance alone.
    fn beyond(&self, q: DVec3) -> (DVec3, f64) {
        let p = q - self.a;
        if self.length == 0.0 {
            return (DVec3::new(p.length(), f64::NEG_INFINITY, f64::NEG_INFINITY), self.extra);
        }
        let along = p.dot(self.along);
        let end = (along - self.length).max(-along);
        let extra = self.extra + self.more * (along / self.length).clamp(0.0, 1.0);
        (DVec3::new(p.dot(self.across).abs(), p.dot(self.up).abs() - self.taller, end), extra)
    }

    /// How much of an opening between bars their thickness takes, over that thickness: more than
    /// all of it, because edges stand out farther than sides do.
    pub const EDGED: f64 = 1.2;

    /// Distance from the ribbon in its middle, or from its border where it is a node.
    pub fn clearance(&self, q: DVec3) -> f64 {
        let (beyond, extra) = self.beyond(q);
        beyond.max(DVec3::ZERO).length() - extra
    }

    /// The section at the foot of the perpendicular from `q`; `None` of a round node.
    pub fn section(&self, q: DVec3) -> Option<Across> {
        if self.length == 0.0 {
            return None;
        }
        let along = (q - self.a).dot(self.along).clamp(0.0, self.length);
        let extra = self.extra + self.more * along / self.length;
        let sides = [(self.across, extra), (self.up, extra + self.taller)];
        let rays = sides.into_iter().flat_map(|(d, beyond)| [(d, beyond), (-d, beyond)]).collect();
        Some(Across { foot: self.a + self.along * along, rays, wider: 1.0 })
    }

    pub fn quick(&self) -> Quick {
        let [a, l, u, c] = [self.a, self.along, self.up, self.across].map(|v| v.as_vec3());
        let [length, taller, extra, more] =
            [self.length, self.taller, self.extra, self.more].map(|v| v as f32);
        [a.x, a.y, a.z, l.x, l.y, l.z, u.x, u.y, u.z, c.x, c.y, c.z, length, taller, extra, more]
    }
}

/// Distance and gradient at eight places.
#[inline(always)]
pub(crate) fn distance8(bar: &Quick, q: &[f32x8; 3]) -> (f32x8, [f32x8; 3]) {
    let [ax, ay, az, lx, ly, lz, ux, uy, uz, cx, cy, cz, length, taller, extra, more] = *bar;
    let p = [q[0] - ax, q[1] - ay, q[2] - az];
    let zero = f32x8::ZERO;
    if length == 0.0 {
        let far = (p[0] * p[0] + p[1] * p[1] + p[2] * p[2]).sqrt();
        let unit = f32x8::splat(1.0) / far.max(f32x8::splat(1e-12));
        return (far - extra, [p[0] * unit, p[1] * unit, p[2] * unit]);
    }
    let dot = |x: f32, y: f32, z: f32| p[0] * x + p[1] * y + p[2] * z;
    let (along, up, across) = (dot(lx, ly, lz), dot(ux, uy, uz), dot(cx, cy, cz));
    let sign = |v: f32x8| v.simd_lt(zero).select(f32x8::splat(-1.0), f32x8::splat(1.0));
    let (high, end) = (up.abs() - taller, (along - length).max(-along));
    let (mut f, s) = (across.abs(), sign(across));
    let mut g = [s * cx, s * cy, s * cz];
    let mut take = |v: f32x8, s: f32x8, n: [f32; 3]| {
        let more = v.simd_gt(f);
        f = f.max(v);
        g = [more.select(s * n[0], g[0]), more.select(s * n[1], g[1]), more.select(s * n[2], g[2])];
    };
    take(high, sign(up), [ux, uy, uz]);
    take(end, sign(along - 0.5 * length), [lx, ly, lz]);
    let share = (along * (1.0 / length)).max(zero).min(f32x8::splat(1.0));
    (f - extra - share * more, g)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The nearest place of a bar's ribbon, from many of them.
    fn by_sampling(bar: &Bar, q: DVec3) -> f64 {
        const N: usize = 60;
        let share = |n: usize| n as f64 / N as f64;
        let place = |n: usize| {
            let (along, up) = (share(n % (N + 1)), 2.0 * share(n / (N + 1)) - 1.0);
            bar.a + bar.along * (along * bar.length) + bar.up * (up * bar.taller)
        };
        (0..(N + 1) * (N + 1)).map(|n| place(n).distance(q)).fold(f64::MAX, f64::min)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn clearance_is_the_distance_from_the_ribbon_and_no_less_than_what_keeps_edges(
            a in proptest::array::uniform3(-3.0..3.0f64), b in proptest::array::uniform3(-3.0..3.0f64),
            q in proptest::array::uniform3(-6.0..6.0f64), taller in 0.0..2.0f64, turn in -90.0..90.0f64,
        ) {
            let (a, b, q) = (DVec3::from(a), DVec3::from(b), DVec3::from(q));
            prop_assume!(a.distance(b) > 0.5);
            let bar = Bar::new(&StrutSegment { a, b, extra: 0.0, more: 0.0 }, taller, turn);
            let clearance = bar.clearance(q);
            prop_assert!((clearance - by_sampling(&bar, q)).abs() < 0.08, "{} {}", clearance, by_sampling(&bar, q));
            // The greatest of three coordinates is no more than their length, and no less than that
            // over √3.
            let distance = bar.distance(q);
            prop_assert!(distance <= clearance + 1e-9 && distance >= clearance / 3f64.sqrt() - 1e-9);
        }
    }

    #[test]
    fn a_node_is_round_and_both_distances_agree_there() {
        let at = DVec3::new(1.0, 2.0, 3.0);
        let node = Bar::new(&StrutSegment { a: at, b: at, extra: 0.4, more: 0.0 }, 2.0, 15.0);
        for q in [at + DVec3::X, at - DVec3::new(0.0, 3.0, 4.0)] {
            assert!((node.distance(q) - (q.distance(at) - 0.4)).abs() < 1e-12);
            assert_eq!(node.distance(q), node.clearance(q));
        }
    }
}
