//! A field that is dear to ask, held on a coarse grid.

use super::{range, ScalarField};
use crate::grid::Grid;
use glam::{DVec3, UVec3};
use ulmix_mesh::{parallel, Bounds};
use wide::f32x8;

/// Samples of a field at the places of a grid, with three linear interpolations between. Places
/// outside the grid have the value of its border.
#[derive(Clone, Debug)]
pub struct Sampled {
    origin: DVec3,
    per_mm: f64,
    size: [usize; 3],
    values: Vec<f32>,
    range: [f64; 2],
}

impl Sampled {
    /// Samples within a box, `step` mm apart and at least two along each axis. `None` when
    /// cancelled.
    pub fn of(
        field: &dyn ScalarField,
        bounds: &Bounds,
        step: f64,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<Sampled> {
        let size = (bounds.size() / step).ceil().max(DVec3::ONE).as_uvec3() + 1;
        let grid = Grid { origin: bounds.min, step, size };
        let [nx, ny, nz] = size.to_array().map(|n| n as usize);
        let row = |n: usize| -> Vec<f32> {
            if cancelled() {
                return Vec::new();
            }
            let (j, k) = ((n % ny) as u32, (n / ny) as u32);
            (0..nx as u32).map(|i| field.value(grid.at(i, j, k)) as f32).collect()
        };
        let values = parallel::map(ny * nz, row).concat();
        (values.len() == nx * ny * nz).then(|| Sampled::new(&grid, values))
    }

    /// Values of the samples of a grid, x first.
    ///
    /// # Panics
    /// When there are not as many values as samples, or fewer than two along an axis.
    pub fn new(grid: &Grid, values: Vec<f32>) -> Sampled {
        assert_eq!(values.len() as u64, grid.samples());
        assert!(grid.size.cmpge(UVec3::splat(2)).all());
        Sampled {
            origin: grid.origin,
            per_mm: 1.0 / grid.step,
            size: grid.size.to_array().map(|n| n as usize),
            range: range_of(&values),
            values,
        }
    }

    /// The samples with another value for each.
    pub fn mapped(&self, value: impl Fn(f32) -> f32) -> Sampled {
        let values: Vec<f32> = self.values.iter().map(|v| value(*v)).collect();
        let Sampled { origin, per_mm, size, .. } = *self;
        Sampled { origin, per_mm, size, range: range_of(&values), values }
    }

    /// The samples with another value for each, by its place.
    pub fn placed(&self, value: impl Fn(DVec3, f32) -> f32 + Sync) -> Sampled {
        let (origin, step) = self.origin();
        let grid = Grid { origin, step, size: self.size.map(|n| n as u32).into() };
        let values = parallel::map_list(&self.values, |n, v| value(grid.nth(n), *v));
        Sampled::new(&grid, values)
    }

    /// Greatest change of the value over a mm.
    pub fn steepest(&self) -> f64 {
        let [nx, ny, nz] = self.size;
        let cells = (nx - 1) * (ny - 1) * (nz - 1);
        let along = |n: usize| {
            let [i, j, k] = [n % (nx - 1), n / (nx - 1) % (ny - 1), n / ((nx - 1) * (ny - 1))];
            let [a, b, c, d, e, f, g, h] = self.corners(i + nx * (j + ny * k));
            // The gradient's components are mixtures of the differences along the cell's edges.
            let most = |pairs: [f32; 4]| pairs.into_iter().map(f32::abs).fold(0.0, f32::max) as f64;
            let x = most([b - a, d - c, f - e, h - g]);
            let y = most([c - a, d - b, g - e, h - f]);
            let z = most([e - a, f - b, g - c, h - d]);
            DVec3::new(x, y, z).length()
        };
        let runs = parallel::runs(cells, 1 << 14, |run| run.map(along).fold(0.0, f64::max));
        runs.into_iter().fold(0.0, f64::max) * self.per_mm
    }

    /// Place of the first sample, in mm, and the distance of neighbouring ones.
    pub fn origin(&self) -> (DVec3, f64) {
        (self.origin, 1.0 / self.per_mm)
    }

    /// Samples along each axis.
    pub fn size(&self) -> [usize; 3] {
        self.size
    }

    /// The samples, x first.
    pub fn samples(&self) -> &[f32] {
        &self.values
    }

    /// Least and greatest value.
    pub fn range(&self) -> [f64; 2] {
        self.range
    }

    /// Memory that is held.
    pub fn bytes(&self) -> usize {
        4 * self.values.len()
    }

    /// Number of the low corner of the cell of the grid around a place, and where in the cell it
    /// lies, each from 0 to 1.
    #[inline(always)]
    fn cell(&self, p: DVec3) -> (usize, [f32; 3]) {
        let [nx, ny, nz] = self.size;
        let local = (p - self.origin) * self.per_mm;
        // Rounding down by a call would take longer than all the rest.
        let along = |v: f64, n: usize| {
            let v = v.max(0.0).min((n - 1) as f64);
            let low = (v as usize).min(n - 2);
            (low, (v - low as f64) as f32)
        };
        let ((i, x), (j, y), (k, z)) = (along(local.x, nx), along(local.y, ny), along(local.z, nz));
        (i + nx * (j + ny * k), [x, y, z])
    }

    /// Values at the eight corners of a cell, by bits of x, y and z.
    #[inline(always)]
    fn corners(&self, at: usize) -> [f32; 8] {
        let [nx, ny, _] = self.size;
        let v = |at: usize| [self.values[at], self.values[at + 1]];
        let ([a, b], [c, d]) = (v(at), v(at + nx));
        let ([e, f], [g, h]) = (v(at + nx * ny), v(at + nx * ny + nx));
        [a, b, c, d, e, f, g, h]
    }

    /// Values at eight places.
    #[inline]
    pub fn eight(&self, p: impl Fn(usize) -> DVec3) -> f32x8 {
        let (mut low, mut high) = ([[0f32; 8]; 2], [[0f32; 8]; 2]);
        let (mut y, mut z) = ([0f32; 8], [0f32; 8]);
        for lane in 0..8 {
            let (at, t) = self.cell(p(lane));
            let [a, b, c, d, e, f, g, h] = self.corners(at);
            // The first mixture is that along x.
            let mix = |a: f32, b: f32| a + (b - a) * t[0];
            low[0][lane] = mix(a, b);
            low[1][lane] = mix(c, d);
            high[0][lane] = mix(e, f);
            high[1][lane] = mix(g, h);
            (y[lane], z[lane]) = (t[1], t[2]);
        }
        let (y, z) = (f32x8::from(y), f32x8::from(z));
        let (a, b) = (f32x8::from(low[0]), f32x8::from(low[1]));
        let (c, d) = (f32x8::from(high[0]), f32x8::from(high[1]));
        let (below, above) = (a + (b - a) * y, c + (d - c) * y);
        below + (above - below) * z
    }

    /// Gradient at a place, per mm: 0 outside the grid.
    pub fn gradient(&self, p: DVec3) -> DVec3 {
        let (at, [x, y, z]) = self.cell(p);
        let [a, b, c, d, e, f, g, h] = self.corners(at);
        let mix = |a: f32, b: f32, t: f32| a + (b - a) * t;
        let dx = mix(mix(b - a, d - c, y), mix(f - e, h - g, y), z);
        let dy = mix(mix(c - a, d - b, x), mix(g - e, h - f, x), z);
        let dz = mix(mix(e - a, f - b, x), mix(g - c, h - d, x), y);
        DVec3::new(dx as f64, dy as f64, dz as f64) * self.per_mm
    }
}

fn range_of(values: &[f32]) -> [f64; 2] {
    range(values.iter().map(|v| *v as f64))
}

impl ScalarField for Sampled {
    fn value(&self, p: DVec3) -> f64 {
        let (at, [x, y, z]) = self.cell(p);
        let [a, b, c, d, e, f, g, h] = self.corners(at);
        let mix = |a: f32, b: f32, t: f32| a + (b - a) * t;
        let low = mix(mix(a, b, x), mix(c, d, x), y);
        let high = mix(mix(e, f, x), mix(g, h, x), y);
        mix(low, high, z) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numeric::low_discrepancy;

    fn ball() -> Bounds {
        Bounds { min: DVec3::splat(-6.0), max: DVec3::new(6.0, 7.0, 8.0) }
    }

    #[test]
    fn a_linear_field_is_met_everywhere_and_held_outside() {
        let slope = DVec3::new(0.3, -0.2, 0.5);
        let field = move |p: DVec3| 4.0 + p.dot(slope);
        let sampled = Sampled::of(&field, &ball(), 0.9, &|| false).unwrap();
        for i in 1..300 {
            let p = ball().min + low_discrepancy(i) * ball().size();
            assert!((sampled.value(p) - field(p)).abs() < 1e-5);
            assert!((sampled.gradient(p) - slope).length() < 1e-4);
            let lanes = sampled.eight(|lane| p * (lane as f64 / 8.0)).to_array();
            for (lane, v) in lanes.into_iter().enumerate() {
                assert!((v as f64 - sampled.value(p * (lane as f64 / 8.0))).abs() < 1e-5);
            }
        }
        let (inside, beyond) = (DVec3::new(1.0, 2.0, -6.0), DVec3::new(1.0, 2.0, -60.0));
        assert_eq!(sampled.value(inside), sampled.value(beyond));
        let [least, most] = sampled.range();
        assert!(least < 0.0 && most > 8.0 && sampled.bytes() > 4000);
        assert!((sampled.steepest() - slope.length()).abs() < 1e-4);
        let moved = sampled.placed(|p, v| v + p.x as f32);
        assert!((moved.value(inside) - sampled.value(inside) - inside.x).abs() < 1e-5);
        let turned = sampled.mapped(|v| -2.0 * v);
        assert_eq!(turned.range(), [-2.0 * most, -2.0 * least]);
        assert_eq!(turned.value(inside), -2.0 * sampled.value(inside));
    }

    #[test]
    fn curved_fields_are_off_by_the_square_of_the_step_and_work_can_be_ended() {
        let field = |p: DVec3| (p * 0.4).length_squared();
        let worst = |step: f64| {
            let sampled = Sampled::of(&field, &ball(), step, &|| false).unwrap();
            let places = (1..500).map(|i| ball().min + low_discrepancy(i) * ball().size());
            places.map(|p| (sampled.value(p) - field(p)).abs()).fold(0.0, f64::max)
        };
        // Three axes, each by at most step² · f″ / 8.
        assert!(worst(1.0) <= 3.0 * 0.32 / 8.0 + 1e-5 && worst(0.5) < 0.3 * worst(1.0));
        assert!(Sampled::of(&field, &ball(), 0.5, &|| true).is_none());
    }
}
