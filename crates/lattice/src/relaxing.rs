//! Relaxing: rounds in which every seed point goes to the middle of its cell (Lloyd 1982), until
//! nothing moves.
//!
//! Where cells are of different sizes the middle is that of a mass as dense as one over the size's
//! fifth power (Du, Faber & Gunzburger 1999).

use super::region::SeedRegion;
use super::voronoi::{CellFacts, DiagramBounds, VoronoiCells};
use glam::DVec3;
use std::sync::Arc;
use ulmix_mesh::parallel;

/// Of so many rounds points of the padding move in one: all that they do is to press on the others.
const PADDING_FOLLOWS: u32 = 3;

/// Points that are moved one after the other by one thread.
const RUN: usize = 256;

/// Points that move less than this share of a cell in `PADDING_FOLLOWS` rounds are at rest: nobody
/// sees it.
pub const AT_REST: f64 = 0.003;

/// Where points are relaxed.
pub struct Ground<'a> {
    /// Where points may be.
    pub region: &'a dyn SeedRegion,
    /// The box around it.
    pub bounds: DiagramBounds,
    /// Points inside the part come first, those on its surface end here.
    pub inside: usize,
    /// Points, from the first on, that stay where they are.
    pub kept: usize,
    /// Width of the padding around the part, and edge of a cell.
    pub pad: f64,
    /// Size of a cell. mm.
    pub cell: f64,
}

/// Points on their way to rest.
#[derive(Clone, Default)]
pub struct Relaxed {
    /// The points. mm.
    pub points: Vec<DVec3>,
    /// What is known of their cells.
    pub cells: VoronoiCells,
    /// Rounds done so far.
    pub rounds: u32,
    /// How far a point inside the part or on its surface went in one of the last rounds at most, in
    /// cells.
    pub moved: f64,
    /// How far every point may move before its distance from the surface must be asked for again.
    clear: Vec<f64>,
}

/// Where relaxing leaves off, so that other numbers of rounds need not begin again.
pub trait RelaxationCache: Sync {
    /// The state after the most rounds that are no more than these.
    fn last(&self, _rounds: u32) -> Option<Arc<Relaxed>> {
        None
    }
    /// Keeps a state to go on from.
    fn keep(&self, _state: Arc<Relaxed>) {}
    /// Told after every round; true when somebody looks at it, and may want to stop there.
    fn report_progress(&self, _done: u32, _of: u32) -> bool {
        false
    }
}

/// Remembers nothing.
pub struct NoCache;
impl RelaxationCache for NoCache {}

/// Points after so many rounds, or when they are at rest. `None` when cancelled; what was reached
/// is kept.
pub fn relaxed(
    points: Vec<DVec3>,
    rounds: u32,
    ground: &Ground,
    rest: &dyn RelaxationCache,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Arc<Relaxed>> {
    let last = rest.last(rounds).filter(|state| state.points.len() == points.len());
    // Nothing is known yet of how far new points are from the part's surface.
    let begin =
        || Arc::new(Relaxed { clear: vec![0.0; points.len()], points, ..Relaxed::default() });
    let mut state = last.unwrap_or_else(begin);
    while state.rounds < rounds && !state.is_at_rest() {
        if cancelled() {
            rest.keep(state);
            return None;
        }
        Arc::make_mut(&mut state).round(ground);
        if rest.report_progress(state.rounds, rounds) {
            rest.keep(state.clone());
        }
    }
    if rounds > 0 {
        rest.keep(state.clone());
    }
    Some(state)
}

impl Relaxed {
    /// Would more rounds move nothing?
    pub fn is_at_rest(&self) -> bool {
        self.rounds > 0 && self.rounds.is_multiple_of(PADDING_FOLLOWS) && self.moved < AT_REST
    }

    /// Memory that the state takes.
    pub fn bytes(&self) -> usize {
        self.points.len() * 32 + self.cells.bytes()
    }

    /// Every point goes to the middle of its cell, unless that changes the side of the part that it
    /// lies on; those on the surface stay on it, those at the rim of the padding, whose cells are
    /// cut by the box, where they are.
    fn round(&mut self, ground: &Ground) {
        let Ground { region, inside, kept, pad, cell, .. } = *ground;
        let first = self.rounds.is_multiple_of(PADDING_FOLLOWS);
        let count = if first { self.points.len() } else { kept };
        let facts = self.cells.facts(&self.points, count, &ground.bounds);
        let narrowing = pad * region.steepest();
        let follow = |n: usize, p: &mut DVec3, clear: &mut f64| {
            let (from, f) = (*p, &facts[n]);
            if n >= inside && n < kept {
                *p = region.onto_surface(f.middle);
                return p.distance(from);
            }
            let to = if region.flat() { f.middle.with_z(0.0) } else { heavier(region, f) };
            *clear -= from.distance(to);
            if *clear > 0.0 || n < inside && region.clearly_inside(to) == Some(true) {
                *p = to;
            } else {
                let d = region.distance(to, pad);
                let pad = pad * region.size(to);
                if (n < inside && d < 0.0) || (n >= inside && d >= 0.0 && d < pad) {
                    *p = to;
                    // The padding is narrower where cells are smaller.
                    let rim = (pad - d) / (1.0 + region.slack() * narrowing);
                    *clear = region.slack() * if n < inside { -d } else { d.min(rim) };
                }
            }
            if n < kept {
                p.distance(from)
            } else {
                0.0
            }
        };
        let runs = self.points[..count].chunks_mut(RUN).zip(self.clear.chunks_mut(RUN));
        let moved = parallel::map_mut(&mut runs.collect::<Vec<_>>(), |run, (points, clear)| {
            let each = points.iter_mut().zip(clear.iter_mut()).zip(run * RUN..);
            each.map(|((p, clear), n)| follow(n, p, clear)).fold(0.0, f64::max)
        });
        let most = moved.into_iter().fold(0.0, f64::max) / cell;
        self.moved = if first { most } else { self.moved.max(most) };
        self.rounds += 1;
    }
}

/// Middle of a cell's mass, which is denser where cells are to be smaller.
fn heavier(region: &dyn SeedRegion, cell: &CellFacts) -> DVec3 {
    let edge = cell.volume.cbrt();
    if edge <= 0.0 {
        return cell.middle;
    }
    let h = 0.1 * edge;
    let along = |d: DVec3| {
        (region.size(cell.middle + d * h) - region.size(cell.middle - d * h)) / (2.0 * h)
    };
    let slope = DVec3::new(along(DVec3::X), along(DVec3::Y), along(DVec3::Z));
    // The second moment of a cell about its middle is about that of a cube.
    let shift = slope * (-5.0 / 12.0 * edge * edge / region.size(cell.middle));
    cell.middle + shift.clamp_length_max(0.3 * edge)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::region::Shadow;
    use crate::seeds::scatter;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::sync::Mutex;
    use ulmix_recipe::{Seeds, Spread};

    /// Keeps every state, and is looked at after every `often`th round.
    struct Notes {
        often: u32,
        kept: Mutex<Vec<Arc<Relaxed>>>,
    }

    impl RelaxationCache for Notes {
        fn last(&self, rounds: u32) -> Option<Arc<Relaxed>> {
            let kept = self.kept.lock().unwrap();
            kept.iter().filter(|s| s.rounds <= rounds).max_by_key(|s| s.rounds).cloned()
        }
        fn keep(&self, state: Arc<Relaxed>) {
            self.kept.lock().unwrap().push(state);
        }
        fn report_progress(&self, done: u32, _: u32) -> bool {
            done.is_multiple_of(self.often)
        }
    }

    fn notes(often: u32) -> Notes {
        Notes { often, kept: Mutex::default() }
    }

    const PLANE: Shadow = Shadow { low: DVec3::ZERO, high: DVec3::new(12.0, 9.0, 0.0) };

    fn seeds(rounds: u32) -> Seeds {
        Seeds { rounds, spread: Spread::Loose, ..Seeds::default() }
    }

    fn after(rounds: u32, rest: &dyn RelaxationCache) -> Vec<DVec3> {
        scatter(&PLANE, &seeds(rounds), None, rest, &|| false).unwrap().points().to_vec()
    }

    #[test]
    fn going_on_from_what_was_kept_ends_in_the_same_places() {
        let kept = notes(4);
        for rounds in [3, 11, 7, 30, 30] {
            assert_eq!(after(rounds, &kept), after(rounds, &NoCache), "{rounds}");
        }
        let rounds: Vec<u32> = kept.kept.lock().unwrap().iter().map(|s| s.rounds).collect();
        // Eleven go on from three, seven from four, thirty from eleven; the last has nothing to do.
        assert_eq!(rounds, [3, 4, 8, 11, 7, 12, 16, 20, 24, 28, 30, 30]);
    }

    #[test]
    fn what_is_cancelled_is_kept_and_can_be_stopped_where_it_was_told() {
        let (kept, asked) = (notes(2), AtomicUsize::new(0));
        // Stopped when it asks for the tenth time: before it begins it asks as well.
        let cancelled = || asked.fetch_add(1, Ordering::Relaxed) == 9;
        assert!(scatter(&PLANE, &seeds(1000), None, &kept, &cancelled).is_none());
        let rounds: Vec<u32> = kept.kept.lock().unwrap().iter().map(|s| s.rounds).collect();
        let last = *rounds.last().unwrap();
        assert!(last > 2 && last < 10, "{rounds:?}");
        for stop in [2, last] {
            assert_eq!(after(stop, &kept), after(stop, &NoCache));
        }
    }

    #[test]
    fn points_come_to_rest_and_then_no_round_changes_anything_that_matters() {
        let s = scatter(&PLANE, &seeds(2000), None, &NoCache, &|| false).unwrap();
        assert!(
            s.rounds() > 10 && s.rounds() < 2000 && s.moved() < AT_REST,
            "{} {}",
            s.rounds(),
            s.moved()
        );
        let more = after(s.rounds() + 1, &NoCache);
        assert_eq!(more, s.points());
        let before = after(s.rounds() - 3, &NoCache);
        let inner = before[..s.inside].iter().zip(s.points());
        assert!(inner.map(|(p, q)| p.distance(*q)).fold(0.0, f64::max) < 3.0 * AT_REST * s.cell);
    }
}
