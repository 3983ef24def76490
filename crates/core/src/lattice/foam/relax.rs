//! Relaxation of noise into a labyrinth of one spacing.
//!
//! The gradient flow of Swift & Hohenberg (1977) in the form u' = r·u − u³ − L²u, L = κ∇² + 1, whose
//! fastest growing wave has the length 2π√κ. Faces between a cell and the outside pass nothing in
//! either L: so u meets the part's surface without slope, and its zero surface at a right angle.
//! Time steps by damped Runge–Kutta–Chebyshev stages (Sommeijer, Shampine & Verwer 1997): explicit, no
//! sums over the grid, so the same bits on any number of threads.

use super::cells::{Cells, Layer};
use crate::random::Random;
use crate::trig::sin_cos;
use glam::{DMat3, DVec3};
use rayon::prelude::*;
use std::f64::consts::TAU;

/// Growth of the favoured wave.
const R: f32 = 1.0;
const STEP: f64 = 0.5;
const WAVES: usize = 64;
const DAMPING: f64 = 0.05;

/// Waves of one length in every direction, summed: the same pattern on any grid. `place` takes a cell's
/// centre to where the noise is read.
pub fn noise(cells: &Cells, random: u32, place: impl Fn(DVec3) -> DVec3 + Sync, turn: DMat3) -> Vec<f32> {
    let mut draw = Random::new(random, 40);
    let waves: Vec<(DVec3, f64)> = (0..WAVES)
        .map(|_| {
            // Even on the sphere (Archimedes): height and angle.
            let (z, (sin, cos)) = (2.0 * draw.unit() - 1.0, sin_cos(TAU * draw.unit()));
            let r = (1.0 - z * z).sqrt();
            (turn.transpose() * DVec3::new(r * cos, r * sin, z) * TAU, TAU * draw.unit())
        })
        .collect();
    let [nx, ny, _] = cells.grid.size.to_array().map(|n| n as usize);
    let height = (0.3 * (2.0 / WAVES as f64).sqrt()) as f32;
    let mut out = vec![0f32; cells.share.len()];
    out.par_chunks_mut(nx).enumerate().for_each(|(row, out)| {
        let (j, k) = (row % ny, row / ny);
        if !(0..nx).any(|i| cells.kept(i + nx * row)) {
            return;
        }
        let start = place(cells.grid.at(0, j as u32, k as u32));
        for (wave, phase) in &waves {
            // Turned on from cell to cell.
            let (mut s, mut c) = sin_cos((wave.dot(start) + phase) % TAU);
            let (ds, dc) = sin_cos(wave.x * cells.grid.step);
            for v in out.iter_mut() {
                *v += c as f32;
                (s, c) = (s * dc + c * ds, c * dc - s * ds);
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
    cells: &'a Cells,
    /// κ over the square of the cells' size.
    c: f32,
    strides: [usize; 2],
}

impl Flow<'_> {
    /// Calls `each(y, w, ∇²w, out)` with the values of every cell, layer by layer in parallel.
    fn sweep(&self, y: &[f32], w: &[f32], out: &mut [f32], each: impl Fn(f32, f32, f32, &mut f32) + Sync) {
        let [sy, sz] = self.strides;
        out.par_chunks_mut(sz).zip(&self.cells.layers).enumerate().for_each(|(k, (out, layer)): (_, (_, &Layer))| {
            let base = k * sz;
            for &[first, n] in &layer.runs {
                // Slices of one length: the loop over them needs no checks and becomes vector code.
                let at = |from: usize| &w[from..from + n];
                let (own, x0, x1) = (at(first), at(first - 1), at(first + 1));
                let (y0, y1, z0, z1) = (at(first - sy), at(first + sy), at(first - sz), at(first + sz));
                let (y, out) = (&y[first..first + n], &mut out[first - base..first - base + n]);
                for i in 0..n {
                    let around = (x0[i] + x1[i]) + (y0[i] + y1[i]) + (z0[i] + z1[i]);
                    each(y[i], own[i], around - 6.0 * own[i], &mut out[i]);
                }
            }
            for cut in &layer.cut {
                let (at, o) = (cut.at, cut.open);
                let flux = |from: usize, open: f32| open * (w[from] - w[at]);
                let laplace = (flux(at - 1, o[0]) + flux(at + 1, o[1]))
                    + (flux(at - sy, o[2]) + flux(at + sy, o[3]))
                    + (flux(at - sz, o[4]) + flux(at + sz, o[5]));
                each(y[at], w[at], laplace, &mut out[at - base]);
            }
        });
    }

    /// v = L u.
    fn half(&self, u: &[f32], v: &mut [f32]) {
        let c = self.c;
        self.sweep(u, u, v, |_, own, laplace, out| *out = c * laplace + own);
    }

    /// `out` = a·u + b·out + d·u', u' being the flow at u; `v` is room for L u.
    fn stage(&self, u: &[f32], v: &mut [f32], out: &mut [f32], [a, b, d]: [f32; 3]) {
        self.half(u, v);
        let c = self.c;
        self.sweep(u, v, out, |y, own, laplace, out| {
            *out = a * y + b * *out + d * (R * y - y * y * y - (c * laplace + own));
        });
    }

    /// Largest eigenvalue of L², from above: power iteration from the fastest wave of the grid.
    fn radius(&self) -> f64 {
        let [nx, ny, _] = self.cells.grid.size.to_array().map(|n| n as usize);
        let mut draw = Random::new(7, 41);
        let sign = |n: usize| if (n % nx + n / nx % ny + n / (nx * ny)) & 1 == 0 { 1.0 } else { -1.0 };
        let mut x: Vec<f32> = (0..self.cells.share.len())
            .map(|n| if self.cells.kept(n) { sign(n) * (1.0 + draw.unit() as f32) } else { 0.0 })
            .collect();
        let mut y = vec![0f32; x.len()];
        let mut ratio = 1.0;
        for _ in 0..16 {
            self.half(&x, &mut y);
            // Layer by layer, so that the sum does not depend on threads.
            let norm = |v: &[f32]| -> f64 {
                let layers: Vec<f64> =
                    v.par_chunks(self.strides[1]).map(|l| l.iter().map(|&a| a as f64 * a as f64).sum()).collect();
                layers.iter().sum::<f64>().sqrt()
            };
            let length = norm(&y);
            ratio = length / norm(&x).max(1e-30);
            let scale = (1.0 / length.max(1e-30)) as f32;
            y.par_iter_mut().for_each(|v| *v *= scale);
            std::mem::swap(&mut x, &mut y);
        }
        1.2 * ratio * ratio
    }
}

/// Relaxes a field in the part's cells by steps of time. `None` when cancelled.
pub fn relax(cells: &Cells, mut u: Vec<f32>, steps: usize, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Vec<f32>> {
    let [nx, ny, _] = cells.grid.size.to_array().map(|n| n as usize);
    let k0 = TAU * cells.grid.step;
    // The seven-point Laplacian sees waves as a little longer than they are.
    let c = 1.0 / (k0 * k0) / (1.0 - k0 * k0 / 20.0);
    let flow = Flow { cells, c: c as f32, strides: [nx, nx * ny] };
    let stages = (STEP * flow.radius() / 1.93).sqrt().ceil().max(2.0) as usize;
    let (b, w0, w1) = chebyshev(stages);
    let (mut v, mut next) = (vec![0f32; u.len()], vec![0f32; u.len()]);
    for _ in 0..steps {
        if cancelled() {
            return None;
        }
        // The first stage is a short step from the start; each further one extrapolates.
        flow.stage(&u, &mut v, &mut next, [1.0, 0.0, (w1 / w0 * STEP) as f32]);
        for j in 2..=stages {
            let by = 2.0 * b[j] / b[j - 1];
            flow.stage(&next, &mut v, &mut u, [(w0 * by) as f32, (-b[j] / b[j - 2]) as f32, (w1 * by * STEP) as f32]);
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
