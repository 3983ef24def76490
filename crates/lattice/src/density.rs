//! Thickness and relative density, one from the other, without trying meshes.

use super::bending::bends;
use super::BareStructure;
use glam::DVec3;
use rayon::prelude::*;
use std::sync::Arc;
use ulmix_mesh::parallel;

/// Distances to a structure over a zone, sorted.
pub struct DensityCurve {
    bare: Arc<dyn BareStructure>,
    sorted: Vec<f64>,
    /// Some of the points with their distances, in the order of those.
    places: Vec<(f64, DVec3)>,
    /// Values over one whole cell, whatever share of the cell the zone holds; empty when no two
    /// cells are alike.
    cell: Vec<f64>,
}

impl DensityCurve {
    /// `points` spread evenly over the fill zone.
    pub fn new(bare: Arc<dyn BareStructure>, points: &[DVec3]) -> DensityCurve {
        let measured =
            |points: &[DVec3]| -> Vec<f64> { parallel::map_list(points, |_, &p| bare.measure(p)) };
        let (mut sorted, mut cell) = (measured(points), measured(&bare.cell_points()));
        let every = points.len().div_ceil(PLACES).max(1);
        let mut places: Vec<(f64, DVec3)> =
            sorted.iter().copied().zip(points.iter().copied()).step_by(every).collect();
        places.par_sort_by(|a, b| a.0.total_cmp(&b.0));
        sorted.par_sort_unstable_by(f64::total_cmp);
        cell.par_sort_unstable_by(f64::total_cmp);
        DensityCurve { bare, sorted, places, cell }
    }

    /// Memory that it takes, about.
    pub fn bytes(&self) -> usize {
        (self.sorted.len() + self.cell.len() + 4 * self.places.len()) * 8
    }

    /// The structure that was measured.
    pub fn bare(&self) -> &dyn BareStructure {
        &*self.bare
    }

    /// Surface of the lattice per volume that it fills, 1/mm: how fast it grows with the offset.
    pub fn area_per_volume(&self, thickness: f64) -> f64 {
        // Wide enough that the points' grain does not show.
        let d = 0.15 * thickness;
        let values = if self.cell.is_empty() { &self.sorted } else { &self.cell };
        let below = |t: f64| share_below(values, self.bare.level(t));
        // The offset is half the thickness.
        2.0 * (below(thickness + d) - below(thickness - d)) / (2.0 * d)
    }

    /// How the lattice's surface bends at a thickness in mm, see `bends`.
    pub fn bends(&self, thickness: f64) -> Vec<f64> {
        bends(&*self.bare, thickness, &self.places)
    }

    /// Solid share (0 to 1) of the zone at a thickness in mm.
    pub fn density(&self, thickness: f64) -> f64 {
        share_below(&self.sorted, self.bare.level(thickness))
    }

    /// Thickness in mm that gives a solid share, within (0, `limit`].
    pub fn thickness(&self, density: f64, limit: f64) -> f64 {
        let at = (density.clamp(0.0, 1.0) * self.sorted.len() as f64) as usize;
        let Some(&wanted) = self.sorted.get(at.min(self.sorted.len().saturating_sub(1))) else {
            return limit;
        };
        let (mut low, mut high) = (0.0, limit);
        for _ in 0..40 {
            let mid = 0.5 * (low + high);
            *(if self.bare.level(mid) < wanted { &mut low } else { &mut high }) = mid;
        }
        0.5 * (low + high)
    }
}

/// Places that are kept of those that a curve is made from.
const PLACES: usize = 12_000;

fn share_below(sorted: &[f64], level: f64) -> f64 {
    sorted.partition_point(|&d| d < level) as f64 / sorted.len().max(1) as f64
}
