//! Triply periodic surfaces placed in the part: distance, and thickness made true.
//!
//! A level value is no distance, and f/|∇f| makes walls 5–20 % thin. The distance along the
//! gradient comes from f's quadratic expansion (Halley's step), and the offset that gives a wall of
//! the asked thickness in the median is found on the surface itself, for the very cell in use.
//!
//! | module | idea |
//! |---|---|
//! | `ways` | ways through the channels, and where they are narrowest |
//! | `thick` | walls around a surface, and the networks on its sides |
//! | `mapped` | the same among cells whose size changes from place to place |

mod mapped;
mod thick;
mod ways;

use super::level::{expansion, Expansion};
use glam::{DMat3, DVec3, EulerRot};
pub use mapped::MappedSurface;
use std::f64::consts::TAU;
use std::sync::{Arc, OnceLock};
pub use thick::{Periodic, ThickSurface};
use ulmix_field::numeric::low_discrepancy;
use ulmix_field::numeric::median;
use ulmix_field::numeric::trig::sin_cos;
use ulmix_recipe::{Form, Structure, SurfaceKind, SurfacePattern};

/// A surface placed in the part: cells of a size, shifted and turned.
#[derive(Clone, Debug)]
pub struct Surface {
    /// The surface that repeats.
    pub kind: SurfaceKind,
    /// −1 where the other side counts as positive, else 1.
    pub sense: f64,
    /// 2π over the cell size, 1/mm.
    pub wave: DVec3,
    /// Part to cell axes.
    pub turn: DMat3,
    /// Shift of its origin. mm.
    pub shift: DVec3,
    /// Points spread over the surface, once they have been asked for; both sides share them.
    feet: Arc<OnceLock<Vec<DVec3>>>,
}

impl Surface {
    /// `anchor` is the point of the part where a cell's corner lies before the shift.
    pub fn new(pattern: &SurfacePattern, structure: &Structure, anchor: DVec3) -> Surface {
        let turn = turn(structure);
        let cell = DVec3::from(structure.cell_mm);
        let sense = if pattern.form == Form::OtherNetwork { -1.0 } else { 1.0 };
        let shift = anchor + DVec3::from(structure.shift_mm);
        Surface {
            kind: pattern.surface,
            sense,
            wave: TAU / cell,
            turn,
            shift,
            feet: Arc::default(),
        }
    }

    /// Phases along its axes at a place of these axes, in radians.
    pub fn phases(&self, p: DVec3) -> DVec3 {
        self.turn * (p - self.shift) * self.wave
    }

    /// A point of the part with these phases.
    fn at_phases(&self, phases: DVec3) -> DVec3 {
        self.shift + self.turn.transpose() * (phases / self.wave)
    }

    fn expand(&self, phases: DVec3) -> Expansion<f64> {
        let (sx, cx) = sin_cos(phases.x);
        let (sy, cy) = sin_cos(phases.y);
        let (sz, cz) = sin_cos(phases.z);
        let (s, c) = ([sx, sy, sz], [cx, cy, cz]);
        let (f, g, h) = expansion(self.kind, s, c);
        (self.sense * f, g.map(|v| self.sense * v), h.map(|v| self.sense * v))
    }

    /// Signed distance to the surface in mm, third-order accurate near it, and the gradient of the
    /// level value in cell axes.
    fn distance_and_gradient(&self, p: DVec3) -> (f64, DVec3) {
        self.distance_at_phases(self.phases(p))
    }

    /// The same by phases.
    fn distance_at_phases(&self, phases: DVec3) -> (f64, DVec3) {
        let (f, g, h) = self.expand(phases);
        let g = DVec3::from(g) * self.wave;
        (halley(f, g, h, self.wave), g)
    }

    /// Distance from the surface by its quadratic expansion. mm.
    pub fn distance(&self, p: DVec3) -> f64 {
        self.distance_and_gradient(p).0
    }

    /// Direction in which the level value grows, unit, in the part's axes.
    pub fn normal(&self, p: DVec3) -> DVec3 {
        self.turn.transpose() * self.distance_and_gradient(p).1.normalize_or(DVec3::Z)
    }

    /// Direction in which [`distance`](Self::distance) grows at `p`: the surface's normal at the
    /// nearest point of the surface, as for any distance.
    pub fn distance_gradient(&self, p: DVec3) -> DVec3 {
        let (d, g) = self.distance_and_gradient(p);
        let n = self.turn.transpose() * g.normalize_or_zero();
        self.normal(p - n * d)
    }

    /// Foot on the surface by Newton steps from `p`.
    fn foot(&self, mut p: DVec3) -> Option<DVec3> {
        for _ in 0..20 {
            let (f, g, _) = self.expand(self.phases(p));
            let g = self.turn.transpose() * (DVec3::from(g) * self.wave);
            if g.length_squared() < 1e-6 * self.wave.length_squared() {
                return None;
            }
            let step = g * (f / g.length_squared());
            p -= step;
            if step.length() * self.wave.max_element() < 1e-12 {
                return Some(p);
            }
        }
        None
    }

    /// Points spread over the surface of one cell, repeatable.
    fn samples(&self) -> &[DVec3] {
        let found = || {
            (1..=800).filter_map(|i| self.foot(self.at_phases(low_discrepancy(i) * TAU))).collect()
        };
        self.feet.get_or_init(found)
    }

    /// Value of [`distance`](Self::distance) that lies, in the median, `depth` mm from the surface
    /// on its positive side. Beyond a fifth of the cell, where walls from all sides meet, it goes
    /// on evenly, so that more depth is always more material.
    pub fn level_at(&self, depth: f64) -> f64 {
        let measured = depth.min(0.2 * self.cell());
        let values = self.samples().iter().map(|p| self.distance(*p + self.normal(*p) * measured));
        median(values.collect()).unwrap_or(measured) + (depth - measured)
    }

    /// Does the border where [`distance`](Self::distance) is `at` run along the surface? Deep in
    /// its channels it has edges, for there ways from several places of the surface meet.
    fn is_even_at(&self, at: f64) -> bool {
        const OFF: f64 = 0.15;
        const TURNED: f64 = 0.9;
        let runs_along = |&foot: &DVec3| {
            let n = self.normal(foot);
            let place = foot + n * at;
            (self.distance(place) - at).abs() <= OFF * at.abs()
                && self.normal(place).dot(n) > TURNED
        };
        self.samples().iter().all(runs_along)
    }

    /// Shortest side of a cell. mm.
    fn cell(&self) -> f64 {
        (TAU / self.wave).min_element()
    }
}

/// Distance along the gradient to the zero of the quadratic expansion.
fn halley(f: f64, g: DVec3, h: [f64; 6], k: DVec3) -> f64 {
    let gg = g.length_squared().max(1e-300);
    let bend = (g.x * g.x * k.x * k.x * h[0]
        + g.y * g.y * k.y * k.y * h[1]
        + g.z * g.z * k.z * k.z * h[2]
        + 2.0
            * (g.x * g.y * k.x * k.y * h[3]
                + g.y * g.z * k.y * k.z * h[4]
                + g.z * g.x * k.z * k.x * h[5]))
        / gg;
    2.0 * f / (gg.sqrt() + (gg - 2.0 * f * bend).max(0.0).sqrt()).max(1e-12)
}

/// Part to cell axes.
pub fn turn(structure: &Structure) -> DMat3 {
    let angles = DVec3::from(structure.rotation_deg).map(f64::to_radians);
    DMat3::from_euler(EulerRot::ZYX, angles.z, angles.y, angles.x).transpose()
}

#[cfg(test)]
mod tests {
    use super::*;
    use SurfaceKind::*;

    /// Surfaces that divide space into two congruent sides.
    pub(super) const BALANCED: [SurfaceKind; 3] = [Gyroid, SchwarzP, SchwarzD];
    pub(super) const KINDS: [SurfaceKind; 8] =
        [Gyroid, SchwarzP, SchwarzD, Iwp, Neovius, Frd, SplitP, Lidinoid];

    pub(super) fn placed(cell: [f64; 3]) -> Structure {
        Structure { cell_mm: cell, rotation_deg: [10.0, 20.0, 30.0], ..Default::default() }
    }

    pub(super) fn surface(kind: SurfaceKind, cell: [f64; 3]) -> Surface {
        Surface::new(
            &SurfacePattern { surface: kind, form: Form::Walls },
            &placed(cell),
            DVec3::ONE,
        )
    }

    #[test]
    fn derivatives_match_differences() {
        for kind in KINDS {
            let s = surface(kind, [10.0; 3]);
            for i in 1..200 {
                let x = low_discrepancy(i) * TAU;
                let (_, g, h) = s.expand(x);
                let e = 1e-5;
                for a in 0..3 {
                    let mut step = DVec3::ZERO;
                    step[a] = e;
                    let (up, gu, _) = s.expand(x + step);
                    let (down, gd, _) = s.expand(x - step);
                    assert!(((up - down) / (2.0 * e) - g[a]).abs() < 1e-8, "{kind:?} gradient");
                    assert!(((gu[a] - gd[a]) / (2.0 * e) - h[a]).abs() < 1e-8, "{kind:?} bend {a}");
                    let b = (a + 1) % 3;
                    assert!(
                        ((gu[b] - gd[b]) / (2.0 * e) - h[3 + a]).abs() < 1e-8,
                        "{kind:?} mixed {a}"
                    );
                }
            }
        }
    }
}
