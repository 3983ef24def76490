//! Relaxation of noise into a labyrinth of one spacing, or of one that changes from place to place.
//!
//! The gradient flow of Swift & Hohenberg (1977) in the form u' = r·u − u³ − L²u, L = κ∇² + 1,
//! whose fastest growing wave has the length 2π√κ. Where κ changes with place the flow stays that
//! of an energy: L is normalised by it, and its mirror image is ∇²κ + 1, so that every wave grows
//! alike whatever its length. Faces between a cell and the outside pass nothing in either L: so u
//! meets the part's surface without slope, and its zero surface at a right angle. Time steps by
//! damped Runge–Kutta–Chebyshev stages (Sommeijer, Shampine & Verwer 1997): explicit, no sums over
//! the grid, so the same bits on any number of threads.

use super::cells::FoamCells;
use super::lengths::Lengths;
use glam::{DMat3, DVec3};
use std::f64::consts::TAU;
use std::ops::Range;
use ulmix_field::numeric::trig::sin_cos;
use ulmix_field::numeric::Random;
use ulmix_mesh::parallel;

/// Growth of the favoured wave.
const R: f32 = 1.0;
const WAVES: usize = 64;
/// Waves of neighbouring bands differ in length by this factor at most.
const BAND: f64 = 1.275;
const DAMPING: f64 = 0.05;

/// Waves of one length in every direction, summed: the same pattern on any grid. `place` takes a
/// cell's centre to where the noise is read. Where lengths change from place to place every band of
/// lengths has waves of its own, and cells between two bands have a share of both: waves that are
/// stretched would be distorted.
pub(super) fn noise(
    cells: &FoamCells,
    random: u32,
    lengths: Option<&Lengths>,
    place: impl Fn(DVec3) -> DVec3 + Sync,
    turn: DMat3,
) -> Vec<f32> {
    let least = lengths.map_or(1.0, Lengths::least);
    let bands = (-least.ln() / BAND.ln()).ceil() as u32;
    let band_waves = |band: u32| -> Vec<(DVec3, f64)> {
        let mut draw = Random::new(random, if band == 0 { 40 } else { 100 + band });
        let number = TAU * least.powf(-(band as f64) / bands.max(1) as f64);
        (0..WAVES)
            .map(|_| {
                // Even on the sphere (Archimedes): height and angle.
                let (z, (sin, cos)) = (2.0 * draw.unit() - 1.0, sin_cos(TAU * draw.unit()));
                let r = (1.0 - z * z).sqrt();
                (turn.transpose() * DVec3::new(r * cos, r * sin, z) * number, TAU * draw.unit())
            })
            .collect()
    };
    let waves: Vec<_> = (0..=bands).map(band_waves).collect();
    // Of a band at a cell: its weight, so that the height is the same everywhere.
    let weight = |band: usize, length: f32| {
        if bands == 0 {
            return 1.0;
        }
        let at = (length as f64).ln() / least.ln() * bands as f64;
        (1.0 - (at - band as f64).abs()).max(0.0).sqrt() as f32
    };
    let [nx, ny, _] = cells.grid.size.to_array().map(|n| n as usize);
    let height = (0.3 * (2.0 / WAVES as f64).sqrt()) as f32;
    let mut out = vec![0f32; cells.share.len()];
    parallel::chunks_mut(&mut out, nx, |row, out| {
        let (j, k) = (row % ny, row / ny);
        let Some(first) = (0..nx).find(|i| cells.kept(i + nx * row)) else { return };
        let last = (first..nx).rev().find(|i| cells.kept(i + nx * row)).unwrap_or(first);
        let start = place(cells.grid.at(first as u32, j as u32, k as u32));
        let of_row = lengths.map(|l| {
            (first..=last)
                .map(|i| l.at(cells.grid.at(i as u32, j as u32, k as u32)))
                .collect::<Vec<f32>>()
        });
        for (band, waves) in waves.iter().enumerate() {
            let weights: Vec<f32> = of_row.as_ref().map_or_else(
                || vec![1.0; last - first + 1],
                |l| l.iter().map(|&l| weight(band, l)).collect(),
            );
            if weights.iter().all(|w| *w == 0.0) {
                continue;
            }
            for (wave, phase) in waves {
                // Turned on from cell to cell.
                let (mut s, mut c) = sin_cos((wave.dot(start) + phase) % TAU);
                let (ds, dc) = sin_cos(wave.x * cells.grid.step);
                for (v, weight) in out[first..=last].iter_mut().zip(&weights) {
                    *v += c as f32 * weight;
                    (s, c) = (s * dc + c * ds, c * dc - s * ds);
                }
            }
        }
        for (i, v) in out.iter_mut().enumerate() {
            *v = if cells.kept(i + nx * row) { *v * height } else { 0.0 };
        }
    });
    out
}

/// The operator on a grid.
struct Flow<'a> {
    cells: &'a FoamCells,
    /// κ over the square of the cells' size, where it is the same everywhere.
    c: f32,
    /// By cell, where it is not; else empty.
    local: Vec<f32>,
    strides: [usize; 2],
}

/// κ over the square of a cell's size, for waves of so many cells.
fn stiffness(cells_to_a_wave: f64) -> f64 {
    let k0 = TAU / cells_to_a_wave;
    // The seven-point Laplacian sees waves as a little longer than they are.
    1.0 / (k0 * k0) / (1.0 - k0 * k0 / 20.0)
}

impl Flow<'_> {
    /// Calls `each(y, w, ∇²w, κ, out)` with the values of every cell, layer by layer in parallel. κ
    /// is told where it is `LOCAL`.
    fn sweep<const LOCAL: bool>(
        &self,
        y: &[f32],
        w: &[f32],
        out: &mut [f32],
        each: impl Fn(f32, f32, f32, f32, &mut f32) + Sync,
    ) {
        let [sy, sz] = self.strides;
        parallel::chunks_mut(out, sz, |k, out| {
            let (base, layer) = (k * sz, &self.cells.layers[k]);
            for &[first, n] in &layer.runs {
                // Slices of one length: the loop over them needs no checks and becomes vector
                // code.
                let at = |from: usize| &w[from..from + n];
                let (own, x0, x1) = (at(first), at(first - 1), at(first + 1));
                let (y0, y1, z0, z1) =
                    (at(first - sy), at(first + sy), at(first - sz), at(first + sz));
                let (y, out) = (&y[first..first + n], &mut out[first - base..first - base + n]);
                let c = if LOCAL { &self.local[first..first + n] } else { own };
                for i in 0..n {
                    let around = (x0[i] + x1[i]) + (y0[i] + y1[i]) + (z0[i] + z1[i]);
                    each(y[i], own[i], around - 6.0 * own[i], c[i], &mut out[i]);
                }
            }
            for cut in &layer.cut {
                let (at, o) = (cut.at, cut.open);
                let flux = |from: usize, open: f32| open * (w[from] - w[at]);
                let laplace = (flux(at - 1, o[0]) + flux(at + 1, o[1]))
                    + (flux(at - sy, o[2]) + flux(at + sy, o[3]))
                    + (flux(at - sz, o[4]) + flux(at + sz, o[5]));
                each(
                    y[at],
                    w[at],
                    laplace,
                    if LOCAL { self.local[at] } else { 0.0 },
                    &mut out[at - base],
                );
            }
        });
    }

    /// L u; where κ changes, κ·L u.
    fn half(&self, u: &[f32], v: &mut [f32]) {
        if self.local.is_empty() {
            let c = self.c;
            self.sweep::<false>(u, u, v, |_, own, laplace, _, out| *out = c * laplace + own);
        } else {
            self.sweep::<true>(u, u, v, |_, own, laplace, c, out| *out = c * (c * laplace + own));
        }
    }

    /// `out` = a·u + b·out + d·u', u' being the flow at u; `v` is room for L u. The flow without
    /// `growth` is −L'L u alone, L' being the mirror image of L.
    fn stage(&self, u: &[f32], v: &mut [f32], out: &mut [f32], [a, b, d]: [f32; 3], growth: f32) {
        self.half(u, v);
        let flow = |y: f32, twice: f32| growth * (R * y - y * y * y) - twice;
        if self.local.is_empty() {
            let c = self.c;
            self.sweep::<false>(u, v, out, |y, own, laplace, _, out| {
                *out = a * y + b * *out + d * flow(y, c * laplace + own);
            });
        } else {
            self.sweep::<true>(u, v, out, |y, own, laplace, c, out| {
                *out = a * y + b * *out + d * flow(y, laplace + own / c);
            });
        }
    }

    /// Largest eigenvalue of L'L, from above: power iteration from the fastest wave of the grid.
    fn radius(&self) -> f64 {
        let [nx, ny, _] = self.cells.grid.size.to_array().map(|n| n as usize);
        let mut draw = Random::new(7, 41);
        let sign =
            |n: usize| if (n % nx + n / nx % ny + n / (nx * ny)) & 1 == 0 { 1.0 } else { -1.0 };
        let mut x: Vec<f32> = (0..self.cells.share.len())
            .map(|n| if self.cells.kept(n) { sign(n) * (1.0 + draw.unit() as f32) } else { 0.0 })
            .collect();
        let (mut y, mut v) = (vec![0f32; x.len()], vec![0f32; x.len()]);
        let mut ratio = 1.0;
        for _ in 0..16 {
            self.stage(&x, &mut v, &mut y, [0.0, 0.0, -1.0], 0.0);
            // Layer by layer, so that the sum does not depend on threads.
            let norm = |v: &[f32]| -> f64 {
                let of_layer = |l: Range<usize>| v[l].iter().map(|&a| a as f64 * a as f64).sum();
                let layers: Vec<f64> = parallel::runs(v.len(), self.strides[1], of_layer);
                layers.iter().sum::<f64>().sqrt()
            };
            let length = norm(&y);
            ratio = length / norm(&x).max(1e-30);
            let scale = (1.0 / length.max(1e-30)) as f32;
            y.iter_mut().for_each(|v| *v *= scale);
            std::mem::swap(&mut x, &mut y);
        }
        1.25 * ratio
    }
}

/// Relaxes a field in the part's cells by so many steps of a time. `None` when cancelled.
pub(super) fn relax(
    cells: &FoamCells,
    lengths: Option<&Lengths>,
    mut u: Vec<f32>,
    (steps, time): (usize, f64),
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<f32>> {
    let [nx, ny, _] = cells.grid.size.to_array().map(|n| n as usize);
    let per_unit = 1.0 / cells.grid.step;
    let local = |l: &Lengths| {
        let of = |n: usize| {
            if cells.kept(n) {
                stiffness(l.at(cells.place(n)) as f64 * per_unit) as f32
            } else {
                1.0
            }
        };
        parallel::map(u.len(), of)
    };
    let local: Vec<f32> = lengths.map(local).unwrap_or_default();
    let flow = Flow { cells, c: stiffness(per_unit) as f32, local, strides: [nx, nx * ny] };
    let stages = (time * flow.radius() / 1.93).sqrt().ceil().max(2.0) as usize;
    let (b, w0, w1) = chebyshev(stages);
    let (mut v, mut next) = (vec![0f32; u.len()], vec![0f32; u.len()]);
    for _ in 0..steps {
        if cancelled() {
            return None;
        }
        // The first stage is a short step from the start; each further one extrapolates.
        flow.stage(&u, &mut v, &mut next, [1.0, 0.0, (w1 / w0 * time) as f32], 1.0);
        for j in 2..=stages {
            let by = 2.0 * b[j] / b[j - 1];
            flow.stage(
                &next,
                &mut v,
                &mut u,
                [(w0 * by) as f32, (-b[j] / b[j - 2]) as f32, (w1 * by * time) as f32],
                1.0,
            );
            std::mem::swap(&mut u, &mut next);
        }
        std::mem::swap(&mut u, &mut next);
    }
    Some(u)
}

/// 1/T_j(w0) for j up to `s`, w0 and w1 of the damped method.
fn chebyshev(s: usize) -> (Vec<f64>, f64, f64) {
    let w0 = 1.0 + DAMPING / (s * s) as f64;
    let (mut t, mut d) = (vec![1.0, w0], vec![0.0, 1.0]);
    for j in 2..=s {
        t.push(2.0 * w0 * t[j - 1] - t[j - 2]);
        d.push(2.0 * t[j - 1] + 2.0 * w0 * d[j - 1] - d[j - 2]);
    }
    let w1 = t[s] / d[s];
    (t.iter().map(|t| 1.0 / t).collect(), w0, w1)
}
