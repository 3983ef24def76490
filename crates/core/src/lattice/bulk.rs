//! A periodic surface in bulk, eight at a time in 32 bits: signs of samples, and points moved onto its border.

use super::level::{expansion, Expansion};
use super::surface::Thick;
use super::{Bulk, Lattice};
use crate::grid::{Bits, Grid};
use crate::polygonise::RowPoints;
use crate::recipe::{Form, SurfaceKind};
use crate::trig::sin_cos;
use glam::{DVec3, Mat3, Vec3};
use std::f64::consts::TAU;
use wide::{f32x8, CmpLt};

/// A thickened surface on a grid.
pub struct Kernel<'a> {
    exact: &'a Thick,
    kind: SurfaceKind,
    walls: bool,
    /// See [`super::surface::Surface::sense`].
    sense: f32,
    level: f32,
    /// Signs are taken as if the lattice reached this much further. mm.
    reach: f32,
    step: f32,
    /// [`SMALL`] in mm.
    small: f32,
    /// 2π over the cell size, 1/mm.
    wave: Vec3,
    /// Part to cell axes.
    turn: Mat3,
    /// Phases at the grid's origin, and their change per grid step along x, y and z.
    first: DVec3,
    along: [DVec3; 3],
    /// Sines and cosines by sample index when the cell's axes are the grid's.
    tables: Option<[(Vec<f32>, Vec<f32>); 3]>,
}

/// Newton steps onto the border, after the first.
const MOST_STEPS: usize = 3;
/// A last step is shorter than this, in radians of the shortest wave.
const SMALL: f32 = 0.04;

impl<'a> Kernel<'a> {
    pub fn new(lattice: &'a Thick, reach: f64, grid: &Grid) -> Kernel<'a> {
        let s = &lattice.surface;
        let first = s.phases(grid.origin);
        let along = [DVec3::X, DVec3::Y, DVec3::Z].map(|a| s.turn * (a * grid.step) * s.wave);
        let straight = (0..3).all(|a| (0..3).all(|b| a == b || along[a][b].abs() < 1e-12));
        let tables = straight.then(|| {
            let size = [grid.words() as u32 * 64, grid.size.y, grid.size.z];
            [0, 1, 2].map(|a| {
                (0..size[a]).map(|i| sin_cos(first[a] + along[a][a] * i as f64)).map(|(s, c)| (s as f32, c as f32)).unzip()
            })
        });
        Kernel {
            exact: lattice,
            kind: s.kind,
            walls: lattice.form == Form::Walls,
            sense: s.sense as f32,
            level: lattice.level as f32,
            reach: reach as f32,
            step: grid.step as f32,
            small: SMALL / s.wave.as_vec3().max_element(),
            wave: s.wave.as_vec3(),
            turn: s.turn.as_mat3(),
            first,
            along,
            tables,
        }
    }

    /// Bit i set when sample `64 w + i` of the row lies in the lattice.
    fn word(&self, w: usize, j: usize, k: usize) -> u64 {
        let phase = self.first + self.along[1] * j as f64 + self.along[2] * k as f64;
        (0..8).fold(0, |out, eighth| {
            let i0 = 64 * w + 8 * eighth;
            let [x, y, z] = match &self.tables {
                Some([x, y, z]) => [
                    (f32x8::from(&x.0[i0..i0 + 8]), f32x8::from(&x.1[i0..i0 + 8])),
                    (f32x8::splat(y.0[j]), f32x8::splat(y.1[j])),
                    (f32x8::splat(z.0[k]), f32x8::splat(z.1[k])),
                ],
                None => [0, 1, 2].map(|axis| {
                    let from = reduced(phase[axis] + self.along[0][axis] * i0 as f64);
                    (COUNT * f32x8::splat(self.along[0][axis] as f32) + from).sin_cos()
                }),
            };
            let (d, _, _) = self.distance(expansion(self.kind, [x.0, y.0, z.0], [x.1, y.1, z.1]));
            let inside = if self.walls { d.abs() - self.level } else { f32x8::splat(self.level) - d };
            out | (inside.cmp_lt(f32x8::splat(self.reach)).move_mask() as u64) << (8 * eighth)
        })
    }

    /// The same distance as [`super::surface::Surface::distance`], with the gradient of the level
    /// value in cell axes and its length.
    #[inline(always)]
    fn distance(&self, (f, g, h): Expansion<f32x8>) -> (f32x8, [f32x8; 3], f32x8) {
        let (f, g, h) = (f * self.sense, g.map(|v| v * self.sense), h.map(|v| v * self.sense));
        let k = self.wave.to_array();
        let (gx, gy, gz) = (g[0] * k[0], g[1] * k[1], g[2] * k[2]);
        let gg = (gx * gx + gy * gy + gz * gz).max(f32x8::splat(1e-30));
        let (ax, ay, az) = (gx * k[0], gy * k[1], gz * k[2]);
        let mixed = ax * ay * h[3] + ay * az * h[4] + az * ax * h[5];
        let bend = ax * ax * h[0] + ay * ay * h[1] + az * az * h[2] + mixed + mixed;
        let under = (gg - (f + f) * bend / gg).max(f32x8::ZERO);
        let length = gg.sqrt();
        ((f + f) / (length + under.sqrt()).max(f32x8::splat(1e-12)), [gx, gy, gz], length)
    }
}

impl Bulk for Kernel<'_> {
    fn value(&self, p: DVec3) -> f64 {
        self.exact.value(p)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.exact.normal(p)
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let mut out = wanted.clone();
        out.par_words_mut(|w, j, k, word| {
            if *word != 0 {
                *word &= self.word(w, j, k);
            }
        });
        out
    }

    /// Moves points onto the border of the lattice. Of a wall's two sides it is the one whose outer
    /// corner is given.
    fn project(&self, row: &mut RowPoints) {
        let start = self.first + self.along[1] * row.j as f64 + self.along[2] * row.k as f64;
        let turn = (self.turn * self.step).transpose().to_cols_array_2d();
        let back = (self.turn * (1.0 / self.step)).to_cols_array_2d();
        let sum = |m: [f32; 3], v: &[f32x8; 3]| v[0] * m[0] + v[1] * m[1] + v[2] * m[2];
        let wave = self.wave.to_array();
        for from in (0..row.i.len()).step_by(8) {
            let count = 8.min(row.i.len() - from);
            // Lanes without a point repeat the first.
            let point: [usize; 8] = std::array::from_fn(|l| from + if l < count { l } else { 0 });
            let corner = |axis: usize| f32x8::from(point.map(|n| reduced(start[axis] + self.along[0][axis] * row.i[n] as f64)));
            let phase = [corner(0), corner(1), corner(2)];
            let at = |u: &[f32x8; 3]| {
                let v = [0, 1, 2].map(|axis| (phase[axis] + u[axis] * wave[axis]).sin_cos());
                expansion(self.kind, v.map(|v| v.0), v.map(|v| v.1))
            };
            // Steps from the cell's corner to mm in the lattice's axes.
            let turned = |local: [f32x8; 3]| turn.map(|row| sum(row, &local));

            let mut u = turned([0, 1, 2].map(|axis| f32x8::from(point.map(|n| row.local[axis][n]))));
            let mut here = self.distance(at(&u));
            // The side of a wall meant: plain, or so near the middle that the outer corner must tell.
            let mut side = here.0;
            if self.walls && side.abs().cmp_lt(f32x8::splat(0.5 * self.level.max(self.reach))).any() {
                let bit = |axis: u8| f32x8::from(point.map(|n| (row.outside[n] >> axis & 1) as f32));
                side = at(&turned([bit(0), bit(1), bit(2)])).0;
            }
            let level = f32x8::splat(self.level);
            let level = if self.walls { side.cmp_lt(f32x8::ZERO).blend(-level, level) } else { level };
            for round in 0.. {
                let (d, g, length) = here;
                let step = (d - level) / length.max(f32x8::splat(1e-12));
                u = [0, 1, 2].map(|axis| u[axis] - g[axis] * step);
                // What is left after a step is of its square.
                let small = (d - level).abs().cmp_lt(f32x8::splat(self.small)).all();
                if round == MOST_STEPS || small {
                    break;
                }
                here = self.distance(at(&u));
            }
            for axis in 0..3 {
                let local = sum(back[axis], &u).to_array();
                row.local[axis][from..from + count].copy_from_slice(&local[..count]);
            }
        }
    }
}

/// Lane numbers.
const COUNT: f32x8 = f32x8::new([0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);

/// A phase within half a turn of zero, so that 32 bits hold it well.
#[inline(always)]
fn reduced(phase: f64) -> f32 {
    (phase - TAU * (phase * (1.0 / TAU)).round_ties_even()) as f32
}
