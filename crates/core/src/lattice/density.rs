//! Thickness and relative density, one from the other, without trying meshes; and how the surface bends.

use super::Bare;
use glam::DVec3;
use rayon::prelude::*;
use std::sync::Arc;

/// Distances to a structure over a zone, sorted.
pub struct DensityCurve {
    bare: Arc<dyn Bare>,
    sorted: Vec<f64>,
    /// The places of some of them, in the same order, with their distances.
    places: Vec<(f64, DVec3)>,
    /// The same over one whole cell, whatever part of it the zone holds; empty when no two are alike.
    cell: Vec<f64>,
}

impl DensityCurve {
    /// `points` spread evenly over the fill zone.
    pub fn new(bare: Arc<dyn Bare>, points: &[DVec3]) -> DensityCurve {
        let sorted = |points: &[DVec3]| {
            let mut out: Vec<f64> = points.par_iter().map(|&p| bare.measure(p)).collect();
            out.par_sort_unstable_by(f64::total_cmp);
            out
        };
        let every = points.len().div_ceil(PLACES).max(1);
        let mut places: Vec<(f64, DVec3)> = points.par_iter().step_by(every).map(|&p| (bare.measure(p), p)).collect();
        places.par_sort_by(|a, b| a.0.total_cmp(&b.0));
        let (sorted, cell) = (sorted(points), sorted(&bare.cell_points()));
        DensityCurve { bare, sorted, places, cell }
    }

    pub fn bytes(&self) -> usize {
        (self.sorted.len() + self.cell.len() + 4 * self.places.len()) * 8
    }

    pub fn bare(&self) -> &dyn Bare {
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

    /// Solid share (0 to 1) of the zone at a thickness in mm.
    pub fn density(&self, thickness: f64) -> f64 {
        share_below(&self.sorted, self.bare.level(thickness))
    }

    /// Thickness in mm that gives a solid share, within (0, `limit`].
    pub fn thickness(&self, density: f64, limit: f64) -> f64 {
        let at = (density.clamp(0.0, 1.0) * self.sorted.len() as f64) as usize;
        let Some(&wanted) = self.sorted.get(at.min(self.sorted.len().saturating_sub(1))) else { return limit };
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
/// Places of the surface at which it is asked how it bends.
const ASKED: usize = 240;
/// Normals are compared this far apart, as a share of the cell.
const APART: f64 = 0.02;
/// A triangle is at most so many times as long as wide.
const LONGEST: f64 = 8.0;

impl DensityCurve {
    /// How the lattice's surface bends at a thickness, in places spread over its area, sorted: the geometric mean of both
    /// principal curvatures, where the smaller one counts no less than long triangles can make use of. 1/mm.
    pub fn bends(&self, thickness: f64) -> Vec<f64> {
        let (lattice, level) = (self.bare.thicken(thickness), self.bare.level(thickness));
        let middle = self.places.partition_point(|p| p.0 < level);
        let from = middle.saturating_sub(ASKED / 2).min(self.places.len().saturating_sub(ASKED));
        let near = &self.places[from..(from + ASKED).min(self.places.len())];
        let onto = |mut p: DVec3| {
            for _ in 0..3 {
                p -= lattice.value(p) * lattice.normal(p);
            }
            p
        };
        let apart = APART * self.bare.cell();
        let bend = |&(_, p): &(f64, DVec3)| {
            let p = onto(p);
            let n = lattice.normal(p);
            let (u, v) = n.try_normalize()?.any_orthonormal_pair();
            let along = |d: DVec3| {
                let [a, b] = [-apart, apart].map(|by| lattice.normal(onto(p + by * d)));
                (b - a) / (2.0 * apart)
            };
            let (du, dv) = (along(u), along(v));
            // Of the symmetric part: the numbers by which it stretches.
            let (a, b, c) = (du.dot(u), 0.5 * (du.dot(v) + dv.dot(u)), dv.dot(v));
            let (mean, half) = (0.5 * (a + c), (0.25 * (a - c) * (a - c) + b * b).sqrt());
            let (k, l) = ((mean + half).abs(), (mean - half).abs());
            let (most, least) = (k.max(l), k.min(l));
            let bend = (most * least.max(most / (LONGEST * LONGEST))).sqrt();
            bend.is_finite().then_some(bend)
        };
        let mut out: Vec<f64> = near.par_iter().filter_map(bend).collect();
        out.sort_by(f64::total_cmp);
        out
    }
}

fn share_below(sorted: &[f64], level: f64) -> f64 {
    sorted.partition_point(|&d| d < level) as f64 / sorted.len().max(1) as f64
}
