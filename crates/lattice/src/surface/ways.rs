//! Ways through the channels of a surface, and where they are narrowest.

use super::Surface;
use crate::passage::narrowest;
use glam::{DMat3, DVec3};
use std::f64::consts::TAU;
use std::sync::{Arc, OnceLock};
use ulmix_field::numeric::low_discrepancy;
use ulmix_field::numeric::root;
use ulmix_mesh::parallel::found_once;
use ulmix_mesh::PointGrid;
use ulmix_recipe::SurfaceKind;

impl Surface {
    /// The narrowest place on the way through the positive side: its middle, and the nearest point
    /// of the surface. A network that fills that side to the surface is thinnest there.
    pub fn neck(&self) -> Neck {
        self.neck_at(self.neck_middle())
    }

    /// What is found once for each kind and side. In phases every cell is the same.
    fn known(&self, list: &'static OfSides, find: impl FnOnce() -> DVec3) -> DVec3 {
        *found_once(&list[2 * self.kind as usize + (self.sense < 0.0) as usize], find)
    }

    fn neck_middle(&self) -> DVec3 {
        static KNOWN: OfSides = of_sides();
        self.at_phases(self.known(&KNOWN, || self.neck_phases()))
    }

    /// The middle of [`neck`](Self::neck): where the side still connects through the cell at the
    /// highest value.
    fn neck_phases(&self) -> DVec3 {
        narrowest(|p| self.expand(p * TAU).0).map_or(DVec3::ZERO, |n| n.1 * TAU)
    }

    fn neck_at(&self, middle: DVec3) -> Neck {
        Neck { middle, border: self.nearest(middle, 0.0).unwrap_or(middle) }
    }

    /// The nearest place to a middle at which [`distance`](Self::distance) is so much, if it is so
    /// anywhere.
    fn nearest(&self, middle: DVec3, at: f64) -> Option<DVec3> {
        /// Places from which it is looked for.
        const TRIED: usize = 4;
        let cell = TAU / self.wave;
        let copy = |p: DVec3| {
            let local = self.turn * (p - middle) / cell;
            middle + self.turn.transpose() * ((local - local.round()) * cell)
        };
        let far = |p: &DVec3| p.distance_squared(middle);
        let placed = |foot: DVec3| Some((foot, self.off(foot, at)?));
        let mut feet: Vec<(DVec3, DVec3)> =
            self.samples().iter().copied().map(copy).filter_map(placed).collect();
        feet.sort_by(|a, b| far(&a.1).total_cmp(&far(&b.1)));
        // Slide along the surface toward the middle.
        let slid = |&(foot, place): &(DVec3, DVec3)| {
            let (mut foot, mut last, mut best) = (foot, place, place);
            for _ in 0..30 {
                let n = self.normal(foot);
                let slide = (middle - last) - n * n.dot(middle - last);
                foot = self.foot(foot + slide * 0.5).unwrap_or(foot);
                let Some(next) = self.off(foot, at) else { break };
                last = next;
                if far(&next) < far(&best) {
                    best = next;
                }
            }
            best
        };
        feet.iter().take(TRIED).map(slid).min_by(|a, b| far(a).total_cmp(&far(b)))
    }

    /// The first place off the surface's `foot` along its normal at which
    /// [`distance`](Self::distance) is so much; `None` where it is so nowhere on that side within
    /// half a cell.
    fn off(&self, foot: DVec3, at: f64) -> Option<DVec3> {
        const STEPS: usize = 24;
        if at == 0.0 {
            return Some(foot);
        }
        let along = self.normal(foot) * at.signum();
        let past = |way: f64| self.distance(foot + along * way) * at.signum() - at.abs();
        let most = 0.5 * self.cell();
        let mut from = (0.0, -at.abs());
        for n in 1..=STEPS {
            let next = most * n as f64 / STEPS as f64;
            let value = past(next);
            if value >= 0.0 {
                let (low, high) = (from.0, next);
                let t = root(|t| past(low + t * (high - low)), from.1, value);
                return Some(foot + along * (low + t * (high - low)));
            }
            from = (next, value);
        }
        None
    }

    /// The place where the widest way through the positive side of cubic cells is narrowest. The
    /// level value tells only which side a place is on: far from the surface it orders places
    /// otherwise than their distance does.
    pub(super) fn way_phases(&self) -> DVec3 {
        static KNOWN: OfSides = of_sides();
        self.known(&KNOWN, || {
            const FEET: u64 = 6000;
            let cubic = Surface {
                wave: DVec3::ONE,
                turn: DMat3::IDENTITY,
                shift: DVec3::ZERO,
                feet: Arc::default(),
                ..self.clone()
            };
            let within = |p: DVec3| p - (p / TAU).floor() * TAU;
            let feet = (1..=FEET).filter_map(|i| cubic.foot(low_discrepancy(i) * TAU)).map(within);
            // Copies beside the cell are as near as those in it.
            let near = 0.25 * TAU;
            let beside = |p: DVec3| {
                (0..27).map(move |n| {
                    p + DVec3::from([n % 3, n / 3 % 3, n / 9].map(|c| (c as f64 - 1.0) * TAU))
                })
            };
            let reached = |p: &DVec3| (*p - 0.5 * TAU).abs().max_element() < 0.5 * TAU + near;
            let all: Vec<DVec3> = feet.flat_map(beside).filter(reached).collect();
            let grid = PointGrid::new(&all);
            let from_surface =
                |p: DVec3| grid.nearest(p, 1, |_| false).first().map_or(0.0, |n| n.0);
            let value = |p: DVec3| {
                if cubic.expand(p * TAU).0 > 0.0 {
                    from_surface(p * TAU)
                } else {
                    f64::NEG_INFINITY
                }
            };
            narrowest(value).map_or(DVec3::ZERO, |n| n.1 * TAU)
        })
    }

    /// A copy of the surface whose other side is positive.
    pub(super) fn other_side(&self) -> Surface {
        Surface { sense: -self.sense, ..self.clone() }
    }

    /// Radius of the largest ball on the way through the positive side, from the places where
    /// [`distance`](Self::distance) is `border`; 0 where nothing passes.
    pub(super) fn free(&self, border: f64) -> f64 {
        let middle = self.at_phases(self.way_phases());
        let ball = |at: f64| self.nearest(middle, at).map(|p| middle.distance(p));
        // On the way's axis the distance is told too large: what reaches as far as there closes it.
        if ball(0.0).is_none_or(|surface| border >= surface) {
            return 0.0;
        }
        // A network so thin that it has no border is as good as the thinnest that has one.
        let thicker = |at: &f64| (*at < -1e-3 * self.cell()).then_some(0.95 * at);
        std::iter::successors(Some(border), thicker).find_map(ball).unwrap_or(0.0)
    }
}

/// Phases of a place for each kind of surface and either of its sides.
type OfSides = [OnceLock<DVec3>; 2 * SurfaceKind::COUNT];

const fn of_sides() -> OfSides {
    [const { OnceLock::new() }; 2 * SurfaceKind::COUNT]
}

/// See [`Surface::neck`].
#[derive(Clone, Copy, Debug)]
pub struct Neck {
    pub middle: DVec3,
    pub border: DVec3,
}

impl Neck {
    pub fn depth(&self) -> f64 {
        self.middle.distance(self.border)
    }

    /// Value of [`Surface::distance`] at which a network is `thickness` thick here.
    pub(super) fn level(&self, surface: &Surface, thickness: f64) -> f64 {
        let out = (self.border - self.middle).normalize_or(DVec3::X);
        // Past the surface and well into the other side it goes on evenly.
        let measured = (0.5 * thickness).min(1.5 * self.depth());
        surface.distance(self.middle + out * measured) - (0.5 * thickness - measured)
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{surface, BALANCED};
    use super::*;

    #[test]
    fn alike_sides_are_as_wide_as_each_other() {
        for kind in BALANCED {
            let s = surface(kind, [10.0; 3]);
            let [one, other] = [s.free(0.1), s.other_side().free(0.1)];
            assert!((one / other - 1.0).abs() < 0.02, "{kind:?}: {one} {other}");
        }
    }

    #[test]
    fn schwarz_p_neck_is_where_geometry_puts_it() {
        let neck = surface(SurfaceKind::SchwarzP, [10.0; 3]).neck().depth();
        assert!((neck - 2.357).abs() < 0.02, "{neck}");
    }
}
