//! Walls between the cells of points, and round holes in them.

use glam::DVec3;
use wide::f32x8;

/// A round hole in a wall without thickness; of radius 0: none.
#[derive(Clone, Copy, Debug)]
pub struct WallOpening {
    /// Middle of the hole. mm.
    pub middle: DVec3,
    /// Radius of the hole. mm.
    pub radius: f64,
}

/// The walls of every point's cell.
pub struct WallsBeside {
    start: Vec<u32>,
    pub exact: Vec<Wall>,
    /// The walls in 32 bits: direction, distance, hole's middle and radius.
    pub quick: Vec<[f32; 8]>,
}

/// A wall of a cell.
#[derive(Clone, Copy)]
pub struct Wall {
    /// Toward the cell's point.
    direction: DVec3,
    /// Distance from the wall at zero.
    offset: f64,
    hole: WallOpening,
}

impl Wall {
    /// Distance of a place of the cell, past the rim of a hole from that.
    pub fn distance(&self, q: DVec3) -> f64 {
        let d = self.direction.dot(q) + self.offset;
        let inward = self.hole.radius - ((q - self.hole.middle) - self.direction * d).length();
        if inward > 0.0 {
            d.hypot(inward)
        } else {
            d
        }
    }
}

impl WallsBeside {
    pub fn new(points: &[DVec3], pairs: &[[u32; 2]], holes: &[WallOpening]) -> WallsBeside {
        let both = |n: usize| [(pairs[n], n), ([pairs[n][1], pairs[n][0]], n)];
        let mut both: Vec<([u32; 2], usize)> = (0..pairs.len()).flat_map(both).collect();
        both.sort_unstable();
        let mut start = vec![0; points.len() + 1];
        both.iter().for_each(|([a, _], _)| start[*a as usize + 1] += 1);
        (1..start.len()).for_each(|n| start[n] += start[n - 1]);
        let wall = |([a, b], n): &([u32; 2], usize)| {
            let (p, q) = (points[*a as usize], points[*b as usize]);
            let direction = (p - q).normalize_or(DVec3::X);
            Wall { direction, offset: -direction.dot((p + q) * 0.5), hole: holes[*n] }
        };
        let exact: Vec<Wall> = both.iter().map(wall).collect();
        let quick = |w: &Wall| {
            let ([x, y, z], [u, v, t]) = (w.direction.to_array(), w.hole.middle.to_array());
            [x, y, z, w.offset, u, v, t, w.hole.radius].map(|v| v as f32)
        };
        WallsBeside { start, quick: exact.iter().map(quick).collect(), exact }
    }

    pub fn of(&self, point: u32) -> std::ops::Range<usize> {
        self.start[point as usize] as usize..self.start[point as usize + 1] as usize
    }
}

/// Distance from a wall with a hole, and its gradient, from those of the whole wall and the ways
/// from the hole's middle.
#[inline(always)]
pub(super) fn past_rim(
    d: f32x8,
    n: [f32x8; 3],
    way: [f32x8; 3],
    radius: f32,
) -> (f32x8, [f32x8; 3]) {
    let flat = [0, 1, 2].map(|a| way[a] - n[a] * d);
    let out = (flat[0] * flat[0] + flat[1] * flat[1] + flat[2] * flat[2]).sqrt();
    let inward = (f32x8::splat(radius) - out).max(f32x8::ZERO);
    let f = (d * d + inward * inward).sqrt();
    let (over, wide) = (
        f32x8::splat(1.0) / f.max(f32x8::splat(1e-12)),
        f32x8::splat(1.0) / out.max(f32x8::splat(1e-12)),
    );
    let inside = inward.simd_gt(f32x8::ZERO);
    let pick = |a: usize| inside.select((n[a] * d - flat[a] * wide * inward) * over, n[a]);
    (inside.select(f, d), [pick(0), pick(1), pick(2)])
}
