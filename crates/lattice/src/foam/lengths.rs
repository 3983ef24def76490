//! Where cells are smaller in places: the length of a wave anywhere, as a share of the cell size.
//!
//! The length changes slowly, and asking for it takes the distance from faces. A coarse grid holds
//! it, with interpolation between the samples.

use crate::finer::CellSizes;
use glam::DVec3;
use ulmix_field::grid::Grid;
use ulmix_mesh::parallel;

/// Places are divided by the cell size, as those of the field are.
pub(super) struct Lengths {
    origin: DVec3,
    per_unit: f64,
    size: [usize; 3],
    shares: Vec<f32>,
    least: f64,
}

/// Cells of the field's grid to one of this one.
const COARSER: f64 = 4.0;

impl Lengths {
    /// As far as a grid reaches whose places are multiplied by `scale` in the part.
    pub(super) fn of(sizes: &CellSizes, grid: &Grid, scale: DVec3) -> Lengths {
        let step = COARSER * grid.step;
        let size = grid.size.to_array().map(|n| (n as f64 / COARSER).ceil() as usize + 2);
        let [nx, ny, nz] = size;
        let share = |n: usize| {
            let c = DVec3::new((n % nx) as f64, (n / nx % ny) as f64, (n / (nx * ny)) as f64);
            sizes.share((grid.origin + c * step) * scale) as f32
        };
        let shares = parallel::map(nx * ny * nz, share);
        Lengths { origin: grid.origin, per_unit: 1.0 / step, size, shares, least: sizes.least() }
    }

    pub(super) fn least(&self) -> f64 {
        self.least
    }

    /// By three linear interpolations.
    #[inline]
    pub(super) fn at(&self, q: DVec3) -> f32 {
        let local = (q - self.origin) * self.per_unit;
        let last = DVec3::from(self.size.map(|n| (n - 2) as f64));
        let low = local.floor().clamp(DVec3::ZERO, last);
        let t = (local - low).clamp(DVec3::ZERO, DVec3::ONE).as_vec3();
        let [nx, ny, _] = self.size;
        let at = low.x as usize + nx * (low.y as usize + ny * low.z as usize);
        let along = |at: usize| self.shares[at] + (self.shares[at + 1] - self.shares[at]) * t.x;
        let across = |at: usize| {
            let (a, b) = (along(at), along(at + nx));
            a + (b - a) * t.y
        };
        let (a, b) = (across(at), across(at + nx * ny));
        a + (b - a) * t.z
    }

    pub(super) fn bytes(&self) -> usize {
        4 * self.shares.len()
    }
}
