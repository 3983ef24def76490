//! A periodic surface in bulk, eight at a time in 32 bits: signs of samples, and points moved onto
//! its border.

use super::level::{expansion, Expansion};
use super::surface::ThickSurface;
use super::{GridField, Lattice, Met, Segment};
use glam::{DVec3, Mat3, Vec3};
use std::f64::consts::TAU;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::numeric::trig::sin_cos;
use ulmix_field::polygonise::RowPoints;
use ulmix_recipe::{Form, SurfaceKind};
use wide::f32x8;

/// A thickened surface on a grid.
pub struct Kernel<'a> {
    exact: &'a ThickSurface,
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
    /// A level value above the first is sure to lie beyond the border on the positive side, and one
    /// below minus the second on the other: where a wall ends, and where a network begins and ends.
    sure: (f32, f32),
    /// Sines and cosines by sample index when the cell's axes are the grid's.
    tables: Option<[(Vec<f32>, Vec<f32>); 3]>,
}

const LANES: usize = RowPoints::LANES;

/// Where an edge meets the border is found to this share of a step, in at most so many rounds.
const MET: f32 = 3e-5;
const MOST_ROUNDS: usize = 10;
/// Newton steps onto the border, after the first.
const MOST_STEPS: usize = 3;
/// A last step is shorter than this, in radians of the shortest wave.
const SMALL: f32 = 0.04;

impl<'a> Kernel<'a> {
    /// The field of a structure on a grid, as if it reached `reach` mm further.
    pub fn new(lattice: &'a ThickSurface, reach: f64, grid: &Grid) -> Kernel<'a> {
        let s = &lattice.surface;
        let first = s.phases(grid.origin);
        let along = [DVec3::X, DVec3::Y, DVec3::Z].map(|a| s.turn * (a * grid.step) * s.wave);
        let straight = (0..3).all(|a| (0..3).all(|b| a == b || along[a][b].abs() < 1e-12));
        let tables = straight.then(|| {
            let size = [grid.words() as u32 * 64, grid.size.y, grid.size.z];
            [0, 1, 2].map(|a| {
                (0..size[a])
                    .map(|i| sin_cos(first[a] + along[a][a] * i as f64))
                    .map(|(s, c)| (s as f32, c as f32))
                    .unzip()
            })
        });
        let walls = lattice.form == Form::Walls;
        // Of the quadratic expansion d = 2f/(|g| + √(g² − 2f·bend)): a value of at least d·|g| +
        // d²·bend/2.
        let (steepest, most_bent) = most(s.kind);
        let k = s.wave.max_element();
        let sure = |d: f64| d.max(0.0) * (steepest * k + 0.5 * d.max(0.0) * most_bent * k * k);
        let sure = if walls {
            (sure(lattice.level + reach), sure(lattice.level + reach))
        } else {
            (sure(lattice.level - reach), sure(reach - lattice.level))
        };
        Kernel {
            exact: lattice,
            kind: s.kind,
            walls,
            sure: (sure.0 as f32, sure.1 as f32),
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
        let turning = |axis: usize, i: usize| {
            let from = reduced(phase[axis] + self.along[0][axis] * i as f64);
            (COUNT * f32x8::splat(self.along[0][axis] as f32) + from).sin_cos()
        };
        (0..8).fold(0, |out, eighth| {
            let i0 = 64 * w + 8 * eighth;
            let (x, y, z) = match &self.tables {
                Some([x, y, z]) => (
                    (f32x8::from(&x.0[i0..i0 + 8]), f32x8::from(&x.1[i0..i0 + 8])),
                    (f32x8::splat(y.0[j]), f32x8::splat(y.1[j])),
                    (f32x8::splat(z.0[k]), f32x8::splat(z.1[k])),
                ),
                None => (turning(0, i0), turning(1, i0), turning(2, i0)),
            };
            let (s, c) = ([x.0, y.0, z.0], [x.1, y.1, z.1]);
            // Far from the border the level value alone tells, at a quarter of the cost.
            let f = expansion(self.kind, s, c).0 * self.sense;
            if f.simd_gt(f32x8::splat(self.sure.0)).all() {
                return if self.walls { out } else { out | 255 << (8 * eighth) };
            }
            if f.simd_lt(f32x8::splat(-self.sure.1)).all() {
                return out;
            }
            let (d, _, _) = self.distance(expansion(self.kind, s, c));
            out | (self.thick(d).simd_lt(f32x8::splat(self.reach)).to_bitmask() as u64)
                << (8 * eighth)
        })
    }

    /// Phases of up to eight points, the last one repeated, each within half a turn of zero.
    #[inline(always)]
    fn phases(&self, point: impl Fn(usize) -> DVec3) -> [f32x8; 3] {
        let mut out = [[0.0; LANES]; 3];
        for lane in 0..LANES {
            let phases = self.exact.surface.phases(point(lane));
            (0..3).for_each(|axis| out[axis][lane] = reduced(phases[axis]));
        }
        out.map(f32x8::from)
    }

    /// Distance, gradient and its length at phases.
    #[inline(always)]
    fn at(&self, [x, y, z]: [f32x8; 3]) -> (f32x8, [f32x8; 3], f32x8) {
        let (x, y, z) = (x.sin_cos(), y.sin_cos(), z.sin_cos());
        self.distance(expansion(self.kind, [x.0, y.0, z.0], [x.1, y.1, z.1]))
    }

    /// [`Lattice::value`] where the distance from the surface is `d`.
    #[inline(always)]
    fn thick(&self, d: f32x8) -> f32x8 {
        let level = f32x8::splat(self.level);
        if self.walls {
            d.abs() - level
        } else {
            level - d
        }
    }

    #[inline(always)]
    fn distance(&self, expansion: Expansion<f32x8>) -> (f32x8, [f32x8; 3], f32x8) {
        distance(self.wave.to_array(), self.sense, expansion)
    }
}

impl GridField for Kernel<'_> {
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

    fn values(&self, points: &[DVec3], out: &mut Vec<f64>) {
        out.clear();
        for points in points.chunks(LANES) {
            let (d, _, _) = self.at(self.phases(|lane| points[lane.min(points.len() - 1)]));
            out.extend(self.thick(d).to_array()[..points.len()].iter().map(|v| *v as f64));
        }
    }

    fn slopes(&self, points: &[DVec3], out: &mut Vec<(f64, DVec3)>) {
        out.clear();
        let turn = self.turn.to_cols_array_2d();
        for points in points.chunks(LANES) {
            let (d, g, length) = self.at(self.phases(|lane| points[lane.min(points.len() - 1)]));
            let inverse = f32x8::ONE / length.max(f32x8::splat(1e-12));
            // Outward is up on the upper side of a wall.
            let inverse = if self.walls {
                d.simd_gt(f32x8::ZERO).select(inverse, -inverse)
            } else {
                -inverse
            };
            let slope = [0, 1, 2].map(|axis| (weighted(turn[axis], &g) * inverse).to_array());
            let value = self.thick(d).to_array();
            out.extend((0..points.len()).map(|n| {
                let slope = [0, 1, 2].map(|axis| slope[axis][n] as f64);
                (value[n] as f64, DVec3::from(slope))
            }));
        }
    }

    fn met(&self, segments: &[Segment], out: &mut Vec<Met>) {
        out.clear();
        let wave = self.wave.to_array();
        let enough = f32x8::splat(MET * self.step);
        for segments in segments.chunks(LANES) {
            let of = |lane: usize| &segments[lane.min(segments.len() - 1)];
            let lanes = |f: &dyn Fn(&Segment) -> f64| {
                f32x8::from(std::array::from_fn::<f32, LANES, _>(|n| f(of(n)) as f32))
            };
            let phase = self.phases(|lane| of(lane).a);
            let along = [0, 1, 2].map(|axis| {
                lanes(&|s| (self.exact.surface.turn * (s.b - s.a) * self.exact.surface.wave)[axis])
            });
            let at = |t: f32x8| {
                self.at([phase[0] + along[0] * t, phase[1] + along[1] * t, phase[2] + along[2] * t])
            };
            // The Illinois method, as for one; ways whose ends have one sign stay where they begin.
            let (mut a, mut b) = (f32x8::ZERO, f32x8::ONE);
            let (mut fa, mut fb) = (lanes(&|s| s.ends[0]), lanes(&|s| s.ends[1]));
            let beyond = lanes(&|s| s.start().map_or(0.0, |_| 1.0)).simd_gt(f32x8::ZERO);
            let start = lanes(&|s| s.start().unwrap_or(0.0));
            let mut t = start;
            for _ in 0..MOST_ROUNDS {
                let next = (a * fb - b * fa) / (fb - fa);
                t = beyond.select(start, next);
                let v = self.thick(at(t).0);
                if (v.abs().simd_lt(enough) | beyond).all() {
                    break;
                }
                let like_b = (v * fb).simd_gt(f32x8::ZERO);
                (a, b) = (like_b.select(a, t), like_b.select(t, b));
                (fa, fb) = (like_b.select(fa * 0.5, v), like_b.select(v, fb * 0.5));
            }
            // The normal is that of the surface's nearest point.
            let (d, g, length) = at(t);
            let inverse = f32x8::ONE / length.max(f32x8::splat(1e-12));
            let foot =
                |axis: usize| phase[axis] + along[axis] * t - g[axis] * inverse * d * wave[axis];
            let (_, g, length) = self.at([foot(0), foot(1), foot(2)]);
            let inverse = f32x8::ONE / length.max(f32x8::splat(1e-12));
            // Outward is up on the upper side of a wall.
            let inverse = if self.walls {
                d.simd_gt(f32x8::ZERO).select(inverse, -inverse)
            } else {
                -inverse
            };
            let turn = self.turn.to_cols_array_2d();
            let normal = [0, 1, 2].map(|axis| (weighted(turn[axis], &g) * inverse).to_array());
            let t = t.to_array();
            out.extend((0..segments.len()).map(|n| Met {
                t: t[n] as f64,
                normal: DVec3::new(normal[0][n] as f64, normal[1][n] as f64, normal[2][n] as f64),
            }));
        }
    }

    /// Moves points onto the border of the lattice. Of a wall's two sides it is the one whose outer
    /// corner is given.
    fn project(&self, row: &mut RowPoints) {
        let start = self.first + self.along[1] * row.j as f64 + self.along[2] * row.k as f64;
        let turn = (self.turn * self.step).transpose().to_cols_array_2d();
        let back = (self.turn * (1.0 / self.step)).to_cols_array_2d();
        let wave = self.wave.to_array();
        for from in (0..row.i.len()).step_by(LANES) {
            let lanes = from..from + LANES;
            let corner = |axis: usize| {
                let (start, along) = (start[axis], self.along[0][axis]);
                if self.tables.is_some() && axis > 0 {
                    return f32x8::splat(reduced(start));
                }
                let mut out = [0.0; LANES];
                for (out, &i) in out.iter_mut().zip(&row.i[lanes.clone()]) {
                    *out = reduced(start + along * i as f64);
                }
                f32x8::from(out)
            };
            let phase = [corner(0), corner(1), corner(2)];
            let at = |u: &[f32x8; 3]| {
                self.at([
                    phase[0] + u[0] * wave[0],
                    phase[1] + u[1] * wave[1],
                    phase[2] + u[2] * wave[2],
                ])
            };
            // Steps from the cell's corner to mm in the lattice's axes.
            let turned = |v: [f32x8; 3]| {
                [weighted(turn[0], &v), weighted(turn[1], &v), weighted(turn[2], &v)]
            };
            let local = |axis: usize| f32x8::from(&row.local[axis][lanes.clone()]);

            let mut u = turned([local(0), local(1), local(2)]);
            let mut here = at(&u);
            // The side of a wall meant: plain, or so near the middle that the outer corner must
            // tell.
            let mut side = here.0;
            if self.walls
                && side.abs().simd_lt(f32x8::splat(0.5 * self.level.max(self.reach))).any()
            {
                let bit = |axis: u8| {
                    let mut out = [0.0; LANES];
                    for (out, &corner) in out.iter_mut().zip(&row.outside[lanes.clone()]) {
                        *out = (corner >> axis & 1) as f32;
                    }
                    f32x8::from(out)
                };
                side = at(&turned([bit(0), bit(1), bit(2)])).0;
            }
            let level = f32x8::splat(self.level);
            let level =
                if self.walls { side.simd_lt(f32x8::ZERO).select(-level, level) } else { level };
            for round in 0.. {
                let (d, g, length) = here;
                let step = (d - level) / length.max(f32x8::splat(1e-12));
                u = [u[0] - g[0] * step, u[1] - g[1] * step, u[2] - g[2] * step];
                // What is left after a step is of its square.
                let small = (d - level).abs().simd_lt(f32x8::splat(self.small)).all();
                if round == MOST_STEPS || small {
                    break;
                }
                here = at(&u);
            }
            for axis in 0..3 {
                let local = weighted(back[axis], &u).to_array();
                row.local[axis][lanes.clone()].copy_from_slice(&local);
            }
        }
    }
}

/// The distance of [`super::surface::Surface::distance`], with the gradient of the level value in
/// cell axes and the gradient's length.
#[inline(always)]
pub(crate) fn distance(
    k: [f32; 3],
    sense: f32,
    (f, g, h): Expansion<f32x8>,
) -> (f32x8, [f32x8; 3], f32x8) {
    let f = f * sense;
    let (gx, gy, gz) = (g[0] * (k[0] * sense), g[1] * (k[1] * sense), g[2] * (k[2] * sense));
    let gg = (gx * gx + gy * gy + gz * gz).max(f32x8::splat(1e-30));
    let (ax, ay, az) = (gx * k[0], gy * k[1], gz * k[2]);
    let mixed = ax * ay * h[3] + ay * az * h[4] + az * ax * h[5];
    let bend = (ax * ax * h[0] + ay * ay * h[1] + az * az * h[2] + mixed + mixed) * sense;
    let under = (gg - (f + f) * bend / gg).max(f32x8::ZERO);
    let length = gg.sqrt();
    ((f + f) / (length + under.sqrt()).max(f32x8::splat(1e-12)), [gx, gy, gz], length)
}

/// Greatest length of the gradient and greatest size of the second derivatives by phase, from
/// above.
fn most(kind: SurfaceKind) -> (f64, f64) {
    const N: u32 = 16;
    let angle = |n: u32| sin_cos(TAU / N as f64 * n as f64);
    let (g, h) = (0..N * N * N).fold((0f64, 0f64), |most, n| {
        let (x, y, z) = (angle(n % N), angle(n / N % N), angle(n / (N * N)));
        let (_, g, h) = expansion(kind, [x.0, y.0, z.0], [x.1, y.1, z.1]);
        let bent = h[..3].iter().map(|v| v * v).sum::<f64>()
            + 2.0 * h[3..].iter().map(|v| v * v).sum::<f64>();
        (most.0.max(DVec3::from(g).length_squared()), most.1.max(bent))
    });
    // Between the samples it may be a little more.
    (1.1 * g.sqrt(), 1.1 * h.sqrt())
}

// Spelled out: `array::map` over vectors this wide is left as calls through memory.
#[inline(always)]
pub(crate) fn weighted(m: [f32; 3], v: &[f32x8; 3]) -> f32x8 {
    v[0] * m[0] + v[1] * m[1] + v[2] * m[2]
}

/// Lane numbers.
pub(crate) const COUNT: f32x8 = f32x8::new([0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]);

/// A phase within half a turn of zero, so that 32 bits hold it well.
#[inline(always)]
pub(crate) fn reduced(phase: f64) -> f32 {
    (phase - TAU * (phase * (1.0 / TAU)).round_ties_even()) as f32
}

#[cfg(test)]
mod tests {
    use super::super::BareStructure;
    use super::*;
    use crate::surface::Periodic;
    use ulmix_field::numeric::low_discrepancy;
    use ulmix_field::numeric::root;
    use ulmix_recipe::{Structure, SurfacePattern};

    #[test]
    fn many_at_a_time_are_as_one_by_one() {
        let grid =
            Grid { origin: DVec3::new(-60.0, 40.0, 7.0), step: 0.4, size: glam::UVec3::splat(40) };
        for (kind, form, rotation_deg) in [
            (SurfaceKind::Gyroid, Form::Walls, [0.0; 3]),
            (SurfaceKind::SplitP, Form::Walls, [10.0, 20.0, 70.0]),
            (SurfaceKind::SchwarzD, Form::Network, [0.0, 45.0, 0.0]),
            (SurfaceKind::Iwp, Form::OtherNetwork, [5.0, 0.0, 0.0]),
        ] {
            let structure =
                Structure { cell_mm: [9.0, 8.0, 10.0], rotation_deg, ..Structure::default() };
            let pattern = SurfacePattern { surface: kind, form };
            let lattice = Periodic::new(&pattern, &structure, DVec3::ONE).thicken(1.1);
            let grid_field = lattice.on_grid(&grid, 0.0);
            // Eight and not a multiple of eight, and a list that is empty.
            for count in [0, 1, 8, 203u64] {
                let points: Vec<DVec3> =
                    (1..=count).map(|i| grid.origin + low_discrepancy(i) * 16.0).collect();
                let mut values = vec![7.0];
                grid_field.values(&points, &mut values);
                assert_eq!(values.len(), points.len());
                for (p, v) in points.iter().zip(&values) {
                    assert!(
                        (v - lattice.value(*p)).abs() < 2e-4,
                        "{kind:?} {v} {}",
                        lattice.value(*p)
                    );
                }
                let ends = |p: &DVec3| (*p, *p + DVec3::Y * 0.4);
                let segment = |(a, b): (DVec3, DVec3)| Segment {
                    a,
                    b,
                    ends: [lattice.value(a), lattice.value(b)],
                };
                let segments: Vec<Segment> = points
                    .iter()
                    .map(|p| segment(ends(p)))
                    .filter(|s| s.ends[0] * s.ends[1] < 0.0)
                    .collect();
                let mut met = Vec::new();
                grid_field.met(&segments, &mut met);
                assert!(met.len() == segments.len() && (count < 200 || met.len() > 5));
                for (s, m) in segments.iter().zip(met) {
                    let t = root(|t| lattice.value(s.a.lerp(s.b, t)), s.ends[0], s.ends[1]);
                    let p = s.a.lerp(s.b, m.t);
                    assert!((m.t - t).abs() < 1e-3, "{kind:?} {} {t}", m.t);
                    assert!(
                        (m.normal - lattice.normal(p)).length() < 1e-3,
                        "{kind:?} {} {}",
                        m.normal,
                        lattice.normal(p)
                    );
                }
            }
        }
    }
}
