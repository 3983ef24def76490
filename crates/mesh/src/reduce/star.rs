//! The star of a point and what becomes of it when the point moves onto a neighbour, eight
//! triangles at a time. Places are told from the point, so that 32 bits hold them well.

use glam::Vec3;
use wide::f32x8;

/// Most triangles around a point that may be removed.
pub(super) const MOST: usize = 24;
const LANES: usize = 8;

const NEEDLE_SIN: f32 = 0.035;

/// A number for every triangle.
#[derive(Clone, Copy)]
#[repr(align(32))]
struct Row([f32; MOST]);

impl Row {
    const ZERO: Row = Row([0.0; MOST]);

    #[inline(always)]
    fn lanes(&self, from: usize) -> f32x8 {
        let lanes: [f32; LANES] = self.0[from..from + LANES].try_into().expect("a slice of LANES");
        f32x8::from(lanes)
    }

    #[inline(always)]
    fn put(&mut self, from: usize, lanes: f32x8) {
        self.0[from..from + LANES].copy_from_slice(&lanes.to_array());
    }
}

/// A place or direction for every triangle.
#[derive(Clone, Copy)]
struct QuadricRows([Row; 3]);

impl QuadricRows {
    const ZERO: QuadricRows = QuadricRows([Row::ZERO; 3]);

    #[inline(always)]
    fn lanes(&self, from: usize) -> [f32x8; 3] {
        [self.0[0].lanes(from), self.0[1].lanes(from), self.0[2].lanes(from)]
    }

    #[inline(always)]
    fn put(&mut self, from: usize, lanes: [f32x8; 3]) {
        (0..3).for_each(|axis| self.0[axis].put(from, lanes[axis]));
    }

    #[inline(always)]
    fn set(&mut self, n: usize, v: Vec3) {
        (0..3).for_each(|axis| self.0[axis].0[n] = v[axis]);
    }

    #[inline(always)]
    fn get(&self, n: usize) -> Vec3 {
        Vec3::new(self.0[0].0[n], self.0[1].0[n], self.0[2].0[n])
    }
}

/// Triangles `(v, next, last)` around a point v.
pub(super) struct Star {
    /// `4 · triangle + corner` of v in each.
    pub corners: [u32; MOST],
    pub next: [u32; MOST],
    pub last: [u32; MOST],
    pub len: usize,
    to_next: QuadricRows,
    to_last: QuadricRows,
    normal: QuadricRows,
    /// The triangles after the collapse under test: one bit for each that is left.
    live: u32,
    new_normal: QuadricRows,
    /// How far the plane of each lies along its normal.
    height: Row,
    /// Of its three edges, the normal inward in the plane, and what it gives on the edge.
    inward: [QuadricRows; 3],
    edge: [Row; 3],
    /// Where v goes.
    goal: Vec3,
}

impl Star {
    pub(super) fn new() -> Star {
        Star {
            corners: [0; MOST],
            next: [0; MOST],
            last: [0; MOST],
            len: 0,
            to_next: QuadricRows::ZERO,
            to_last: QuadricRows::ZERO,
            normal: QuadricRows::ZERO,
            live: 0,
            new_normal: QuadricRows::ZERO,
            height: Row::ZERO,
            inward: [QuadricRows::ZERO; 3],
            edge: [Row::ZERO; 3],
            goal: Vec3::ZERO,
        }
    }

    #[inline(always)]
    pub(super) fn push(
        &mut self,
        corner: u32,
        [next, last]: [u32; 2],
        to: [Vec3; 2],
        normal: Vec3,
    ) {
        let n = self.len;
        (self.corners[n], self.next[n], self.last[n]) = (corner, next, last);
        self.to_next.set(n, to[0]);
        self.to_last.set(n, to[1]);
        self.normal.set(n, normal);
        self.len += 1;
    }

    /// To be called when the last triangle is in: what lies past it takes no part.
    pub(super) fn close(&mut self) {
        for n in self.len..self.len.next_multiple_of(LANES) {
            self.to_next.set(n, Vec3::ZERO);
            self.to_last.set(n, Vec3::ZERO);
            self.normal.set(n, Vec3::ZERO);
        }
    }

    fn chunks(&self) -> impl Iterator<Item = usize> {
        (0..self.len).step_by(LANES)
    }

    /// How far the next point of each triangle lies off the planes around v at most.
    pub(super) fn heights(&self) -> [f32; MOST] {
        let mut out = Row::ZERO;
        for from in self.chunks() {
            let to = self.to_next.lanes(from);
            let mut most = f32x8::ZERO;
            for n in 0..self.len {
                most = most.max(dot(&to, &splat(self.normal.get(n))).abs());
            }
            out.put(from, most);
        }
        out.0
    }

    /// Would the triangles be sound with v at the next point of triangle `onto`? None turns over or
    /// becomes a needle, and no plane passes farther than `off` from v even where its triangle does
    /// not lie under v.
    pub(super) fn move_onto(&mut self, onto: usize, off: f32) -> bool {
        let u = self.next[onto];
        self.live = (0..self.len)
            .fold(0, |m, n| m | ((self.next[n] != u && self.last[n] != u) as u32) << n);
        self.goal = self.to_next.get(onto);
        let q = splat(self.goal);
        for from in self.chunks() {
            let (b, c, old) =
                (self.to_next.lanes(from), self.to_last.lanes(from), self.normal.lanes(from));
            let (e0, e1, e2) = (minus(&b, &q), minus(&c, &b), minus(&q, &c));
            let n = cross(&e2, &e0);
            let longest = dot(&e0, &e0).max(dot(&e1, &e1)).max(dot(&e2, &e2));
            let double_area = dot(&n, &n).sqrt();
            let needle = double_area.simd_le(longest * (0.5 * NEEDLE_SIN));
            let one = f32x8::ONE / double_area;
            let normal = [n[0] * one, n[1] * one, n[2] * one];
            let height = dot(&normal, &q);
            let bad = needle
                | dot(&normal, &old).simd_lt(f32x8::splat(0.5))
                | height.abs().simd_gt(f32x8::splat(off));
            if bad.to_bitmask() & self.live >> from != 0 {
                return false;
            }
            self.new_normal.put(from, normal);
            self.height.put(from, height);
            for (k, (edge, start)) in [(e0, q), (e1, b), (e2, c)].iter().enumerate() {
                let inward = cross(&normal, edge);
                self.edge[k].put(from, dot(&inward, start));
                self.inward[k].put(from, inward);
            }
        }
        true
    }

    /// Triangles that are left after the move under test, with their normals.
    pub(super) fn moved(&self) -> impl Iterator<Item = (usize, Vec3)> + '_ {
        (0..self.len).filter(|n| self.live >> n & 1 == 1).map(|n| (n, self.new_normal.get(n)))
    }

    /// A triangle after the move within `limit` of a place, and the distance to it. Any within the
    /// limit will do; the nearest of all is not needed.
    pub(super) fn under(&self, place: Vec3, limit: f32) -> Option<(usize, f32)> {
        let p = splat(place);
        for from in self.chunks() {
            let over =
                |k: usize| dot(&self.inward[k].lanes(from), &p).simd_ge(self.edge[k].lanes(from));
            let d = (dot(&self.new_normal.lanes(from), &p) - self.height.lanes(from)).abs();
            let held = over(0) & over(1) & over(2) & d.simd_le(f32x8::splat(limit));
            let held = held.to_bitmask() & self.live >> from;
            if held != 0 {
                let lane = held.trailing_zeros() as usize;
                return Some((from + lane, d.to_array()[lane]));
            }
        }
        // Over none of them the nearest place is on an edge.
        let q = splat(self.goal);
        let mut best = (limit * limit, None);
        for from in self.chunks() {
            let corners = [q, self.to_next.lanes(from), self.to_last.lanes(from)];
            let mut least = f32x8::splat(f32::INFINITY);
            for k in 0..3 {
                let (off, along) =
                    (minus(&p, &corners[k]), minus(&corners[(k + 1) % 3], &corners[k]));
                let share =
                    (dot(&off, &along) / dot(&along, &along)).max(f32x8::ZERO).min(f32x8::ONE);
                let rest = [
                    off[0] - along[0] * share,
                    off[1] - along[1] * share,
                    off[2] - along[2] * share,
                ];
                least = least.min(dot(&rest, &rest));
            }
            for (lane, &d) in least.to_array().iter().enumerate() {
                if self.live >> (from + lane) & 1 == 1 && d <= best.0 {
                    best = (d, Some(from + lane));
                }
            }
        }
        best.1.map(|n| (n, best.0.sqrt()))
    }
}

#[inline(always)]
fn splat(v: Vec3) -> [f32x8; 3] {
    [f32x8::splat(v.x), f32x8::splat(v.y), f32x8::splat(v.z)]
}

#[inline(always)]
fn dot(a: &[f32x8; 3], b: &[f32x8; 3]) -> f32x8 {
    a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
}

#[inline(always)]
fn minus(a: &[f32x8; 3], b: &[f32x8; 3]) -> [f32x8; 3] {
    [a[0] - b[0], a[1] - b[1], a[2] - b[2]]
}

#[inline(always)]
fn cross(a: &[f32x8; 3], b: &[f32x8; 3]) -> [f32x8; 3] {
    [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::f32::consts::TAU;

    /// A point with so many triangles around it, its neighbours at these heights, and their places
    /// from it.
    fn fan(heights: &[f32]) -> (Star, Vec<Vec3>) {
        let len = heights.len();
        let place = |n: usize| {
            let (y, x) = (TAU * n as f32 / len as f32).sin_cos();
            Vec3::new(x, y, heights[n])
        };
        let places: Vec<Vec3> = (0..len).map(place).collect();
        let mut star = Star::new();
        for n in 0..len {
            let (next, last) = (n, (n + 1) % len);
            let normal = places[next].cross(places[last]).normalize();
            star.push(
                4 * n as u32,
                [next as u32, last as u32],
                [places[next], places[last]],
                normal,
            );
        }
        star.close();
        (star, places)
    }

    /// Distance from a triangle, by its plane where the place lies over it and by its edges
    /// elsewhere.
    fn distance(p: Vec3, [a, b, c]: [Vec3; 3]) -> f32 {
        let n = (b - a).cross(c - a).normalize();
        let over =
            [(a, b), (b, c), (c, a)].iter().all(|(s, e)| n.cross(*e - *s).dot(p - *s) >= 0.0);
        let to_edge = |s: Vec3, e: Vec3| {
            let along = e - s;
            p.distance(s + along * ((p - s).dot(along) / along.length_squared()).clamp(0.0, 1.0))
        };
        if over {
            n.dot(p - a).abs()
        } else {
            to_edge(a, b).min(to_edge(b, c)).min(to_edge(c, a))
        }
    }

    proptest! {
        #[test]
        fn heights_are_those_over_every_plane(heights in proptest::collection::vec(-0.3..0.3f32, 3..MOST)) {
            let (star, places) = fan(&heights);
            let told = star.heights();
            for (n, place) in places.iter().enumerate() {
                let normals = (0..star.len).map(|m| star.normal.get(m));
                let most = normals.map(|normal| normal.dot(*place).abs()).fold(0.0, f32::max);
                prop_assert!((told[n] - most).abs() < 1e-5, "{} {}", told[n], most);
            }
        }

        #[test]
        fn a_move_leaves_triangles_that_look_as_before_and_distances_from_them_are_true(
            heights in proptest::collection::vec(-0.1..0.1f32, 5..MOST), onto in 0usize..5,
            at in proptest::array::uniform3(-0.4..0.4f32)
        ) {
            let (mut star, places) = fan(&heights);
            prop_assume!(star.move_onto(onto, 10.0));
            let goal = places[onto];
            let left: Vec<(usize, Vec3)> = star.moved().collect();
            // The two at the edge along which the point goes are gone.
            prop_assert_eq!(left.len(), heights.len() - 2);
            let corners = |n: usize| [goal, places[star.next[n] as usize], places[star.last[n] as usize]];
            for (n, normal) in &left {
                let [a, b, c] = corners(*n);
                prop_assert!(normal.distance((b - a).cross(c - a).normalize()) < 1e-3);
                prop_assert!(normal.dot(star.normal.get(*n)) > 0.49);
            }
            let p = Vec3::from(at);
            let true_distance = left.iter().map(|(n, _)| distance(p, corners(*n))).fold(f32::INFINITY, f32::min);
            match star.under(p, 0.3) {
                Some((n, d)) => {
                    prop_assert!(d <= 0.3 + 1e-5 && (d - distance(p, corners(n))).abs() < 1e-3, "{} {}", d, distance(p, corners(n)));
                }
                None => prop_assert!(true_distance > 0.3 - 1e-4, "{}", true_distance),
            }
        }
    }

    #[test]
    fn moves_that_turn_triangles_over_leave_planes_or_make_needles_are_refused() {
        // A flat fan lets its point go anywhere, and a steep one not past its planes.
        let (mut flat, _) = fan(&[0.0; 8]);
        assert!((0..8).all(|onto| flat.move_onto(onto, 1e-3)));
        let (mut roof, _) = fan(&[0.0, -0.4, -0.8, -0.4, 0.0, -0.4, -0.8, -0.4]);
        assert!(!roof.move_onto(2, 0.05));
        // A dent in the rim: from its tip the triangles behind it would look down.
        let mut star = Star::new();
        let places = [Vec3::X, Vec3::new(0.05, 0.05, 0.0), Vec3::Y, Vec3::NEG_X, Vec3::NEG_Y];
        for n in 0..5 {
            let ends = [places[n], places[(n + 1) % 5]];
            star.push(n as u32, [n as u32, (n as u32 + 1) % 5], ends, Vec3::Z);
        }
        star.close();
        assert!(star.move_onto(1, 1.0) && !star.move_onto(0, 1.0));
        // Neighbours in a row with the goal: what is left between them has no width.
        let mut star = Star::new();
        let places =
            [Vec3::X, Vec3::new(1.0, 0.5, 0.0), Vec3::new(1.0, 1.0, 0.0), Vec3::NEG_X, Vec3::NEG_Y];
        for n in 0..5 {
            let ends = [places[n], places[(n + 1) % 5]];
            star.push(n as u32, [n as u32, (n as u32 + 1) % 5], ends, Vec3::Z);
        }
        star.close();
        assert!(!star.move_onto(0, 1.0));
    }
}
