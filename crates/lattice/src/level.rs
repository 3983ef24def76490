//! Level functions of periodic surfaces with their first and second derivatives.
//!
//! Forms after von Schnering & Nesper (1991), with X = 2πx/L; I-WP and F-RD after Schoen (1970) in
//! the trigonometric forms of Wohlgemuth et al. (2001); Lidinoid after Lidin & Larsson (1990).

use std::ops::{Add, Mul, Neg, Sub};
use ulmix_recipe::SurfaceKind;

/// Numbers the surfaces are computed with: `f64` for exact places, eight `f32` in bulk.
pub trait Real:
    Copy + Add<Output = Self> + Sub<Output = Self> + Mul<Output = Self> + Neg<Output = Self>
{
    /// The number in this kind of arithmetic.
    fn of(v: f64) -> Self;
}
impl Real for f64 {
    #[inline(always)]
    fn of(v: f64) -> f64 {
        v
    }
}
impl Real for wide::f32x8 {
    #[inline(always)]
    fn of(v: f64) -> Self {
        wide::f32x8::splat(v as f32)
    }
}

/// Value, gradient and second derivatives (xx, yy, zz, xy, yz, zx) by phase.
pub type Expansion<T> = (T, [T; 3], [T; 6]);

/// From the sines and cosines of the three phases.
#[inline(always)]
pub fn expansion<T: Real>(kind: SurfaceKind, s: [T; 3], c: [T; 3]) -> Expansion<T> {
    match kind {
        SurfaceKind::Gyroid => gyroid(s, c),
        SurfaceKind::SchwarzP => schwarz_p(s, c),
        SurfaceKind::SchwarzD => schwarz_d(s, c),
        SurfaceKind::Iwp => sum(&IWP, 0.0, s, c),
        SurfaceKind::Neovius => sum(&NEOVIUS, 0.0, s, c),
        SurfaceKind::Frd => sum(&FRD, 0.0, s, c),
        SurfaceKind::SplitP => sum(&SPLIT_P, 0.0, s, c),
        SurfaceKind::Lidinoid => sum(&LIDINOID, 0.15, s, c),
    }
}

#[inline(always)]
fn gyroid<T: Real>(s: [T; 3], c: [T; 3]) -> Expansion<T> {
    let [sx, sy, sz] = s;
    let [cx, cy, cz] = c;
    (
        sx * cy + sy * cz + sz * cx,
        [cx * cy - sz * sx, cy * cz - sx * sy, cz * cx - sy * sz],
        [
            -(sx * cy + sz * cx),
            -(sy * cz + sx * cy),
            -(sz * cx + sy * cz),
            -(cx * sy),
            -(cy * sz),
            -(cz * sx),
        ],
    )
}

#[inline(always)]
fn schwarz_p<T: Real>(s: [T; 3], c: [T; 3]) -> Expansion<T> {
    let none = T::of(0.0);
    (c[0] + c[1] + c[2], [-s[0], -s[1], -s[2]], [-c[0], -c[1], -c[2], none, none, none])
}

#[inline(always)]
fn schwarz_d<T: Real>(s: [T; 3], c: [T; 3]) -> Expansion<T> {
    let [sx, sy, sz] = s;
    let [cx, cy, cz] = c;
    let f = cx * cy * cz - sx * sy * sz;
    (
        f,
        [
            -(sx * cy * cz + cx * sy * sz),
            -(cx * sy * cz + sx * cy * sz),
            -(cx * cy * sz + sx * sy * cz),
        ],
        [
            -f,
            -f,
            -f,
            sx * sy * cz - cx * cy * sz,
            cx * sy * sz - sx * cy * cz,
            sx * cy * sz - cx * sy * cz,
        ],
    )
}

/// A factor of a term, along one axis.
#[derive(Clone, Copy)]
enum F {
    One,
    C,
    S,
    C2,
    S2,
}
use F::*;

type Term = (f64, [F; 3]);

const IWP: [Term; 6] = [
    (2.0, [C, C, One]),
    (2.0, [One, C, C]),
    (2.0, [C, One, C]),
    (-1.0, [C2, One, One]),
    (-1.0, [One, C2, One]),
    (-1.0, [One, One, C2]),
];
const NEOVIUS: [Term; 4] =
    [(3.0, [C, One, One]), (3.0, [One, C, One]), (3.0, [One, One, C]), (4.0, [C, C, C])];
const FRD: [Term; 4] =
    [(4.0, [C, C, C]), (-1.0, [C2, C2, One]), (-1.0, [One, C2, C2]), (-1.0, [C2, One, C2])];
const SPLIT_P: [Term; 9] = [
    (1.1, [S2, C, S]),
    (1.1, [S, S2, C]),
    (1.1, [C, S, S2]),
    (-0.2, [C2, C2, One]),
    (-0.2, [One, C2, C2]),
    (-0.2, [C2, One, C2]),
    (-0.4, [C2, One, One]),
    (-0.4, [One, C2, One]),
    (-0.4, [One, One, C2]),
];
const LIDINOID: [Term; 6] = [
    (0.5, [S2, C, S]),
    (0.5, [S, S2, C]),
    (0.5, [C, S, S2]),
    (-0.5, [C2, C2, One]),
    (-0.5, [One, C2, C2]),
    (-0.5, [C2, One, C2]),
];

/// A sum of products of one factor along each axis, and a constant.
#[inline(always)]
fn sum<T: Real, const N: usize>(
    terms: &[Term; N],
    constant: f64,
    s: [T; 3],
    c: [T; 3],
) -> Expansion<T> {
    let zero = T::of(0.0);
    let (mut f, mut g, mut h) = (T::of(constant), [zero; 3], [zero; 6]);
    for (k, factors) in terms {
        let k = T::of(*k);
        let [x, y, z] =
            [jet(factors[0], s[0], c[0]), jet(factors[1], s[1], c[1]), jet(factors[2], s[2], c[2])];
        let (kx, yz) = (k * x[0], y[0] * z[0]);
        f = f + kx * yz;
        g[0] = g[0] + k * x[1] * yz;
        g[1] = g[1] + kx * y[1] * z[0];
        g[2] = g[2] + kx * y[0] * z[1];
        h[0] = h[0] + k * x[2] * yz;
        h[1] = h[1] + kx * y[2] * z[0];
        h[2] = h[2] + kx * y[0] * z[2];
        h[3] = h[3] + k * x[1] * y[1] * z[0];
        h[4] = h[4] + kx * y[1] * z[1];
        h[5] = h[5] + k * x[1] * y[0] * z[1];
    }
    (f, g, h)
}

/// A factor with its first and second derivative.
#[inline(always)]
fn jet<T: Real>(factor: F, s: T, c: T) -> [T; 3] {
    let (zero, two, four) = (T::of(0.0), T::of(2.0), T::of(4.0));
    match factor {
        One => [T::of(1.0), zero, zero],
        C => [c, -s, -c],
        S => [s, c, -s],
        C2 => {
            let (s2, c2) = (two * s * c, c * c - s * s);
            [c2, -(two * s2), -(four * c2)]
        }
        S2 => {
            let (s2, c2) = (two * s * c, c * c - s * s);
            [s2, two * c2, -(four * s2)]
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use SurfaceKind::*;

    proptest! {
        #[test]
        fn derivatives_are_those_of_the_value(p in proptest::array::uniform3(-4.0..4.0f64)) {
            let at = |kind, p: [f64; 3]| expansion(kind, p.map(f64::sin), p.map(f64::cos));
            for kind in [Gyroid, SchwarzP, SchwarzD, Iwp, Neovius, Frd, SplitP, Lidinoid] {
                let (_, g, h) = at(kind, p);
                let e = 1e-5;
                let near = |axis: usize| {
                    let step = |d: f64| { let mut q = p; q[axis] += d; at(kind, q) };
                    (step(e), step(-e))
                };
                for axis in 0..3 {
                    let (up, down) = near(axis);
                    prop_assert!(((up.0 - down.0) / (2.0 * e) - g[axis]).abs() < 1e-7);
                    prop_assert!(((up.1[axis] - down.1[axis]) / (2.0 * e) - h[axis]).abs() < 1e-6);
                    let next = (axis + 1) % 3;
                    prop_assert!(((up.1[next] - down.1[next]) / (2.0 * e) - h[3 + axis]).abs() < 1e-6);
                }
            }
        }
    }
}
