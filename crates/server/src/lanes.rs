//! Lanes of work: of the same kind, for the same project and page only the newest piece is of use.

use crate::waiting::Waiting;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use ulmix_runner::locked::lock;

/// A kind of work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Lane {
    /// Drafts, and what is known instead of them.
    Draft,
    /// Nodes and struts.
    Skeleton,
    /// Cells of seed points.
    Cells,
    /// What a grading gives.
    Field,
    /// How the numbers of a grading's sources are spread.
    Spread,
    /// Faces of the part.
    Faces,
    /// What is wrong with the part.
    Health,
}

/// A page in a browser: what it asks for makes only its own older wishes useless. Empty for other
/// programs.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Tab(pub String);

/// A kind of work for a project, by its id, and a page.
pub type LaneOf = (Lane, String, Tab);

/// The newest work of each lane.
#[derive(Clone, Default)]
pub struct Lanes(Arc<Mutex<HashMap<LaneOf, Waiting>>>);

/// The newest work of a lane, as long as it goes on.
pub struct Newest {
    lanes: Lanes,
    lane: LaneOf,
    waiting: Waiting,
}

impl Drop for Newest {
    fn drop(&mut self) {
        let mut all = lock(&self.lanes.0);
        if all.get(&self.lane).is_some_and(|newest| newest.is(&self.waiting)) {
            all.remove(&self.lane);
        }
    }
}

impl Lanes {
    /// Makes `waiting` the newest of a lane: what went on there is of no use any more and ends.
    pub fn take_over(&self, lane: LaneOf, waiting: &Waiting) -> Newest {
        if let Some(older) = lock(&self.0).insert(lane.clone(), waiting.clone()) {
            older.end();
        }
        Newest { lanes: self.clone(), lane, waiting: waiting.clone() }
    }

    /// Ends the newest work of a lane, if any is under way.
    pub fn end(&self, lane: &LaneOf) {
        if let Some(newest) = lock(&self.0).get(lane) {
            newest.end();
        }
    }

    /// Ends all work.
    pub fn end_all(&self) {
        lock(&self.0).values().for_each(Waiting::end);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_of_a_lane_ends_the_older_one_and_no_other() {
        let lanes = Lanes::default();
        let lane = |lane: Lane, tab: &str| (lane, "keel".to_owned(), Tab(tab.into()));
        let begin = |of: LaneOf| {
            let waiting = Waiting::patient();
            (lanes.take_over(of, &waiting), waiting)
        };
        let (first, other_kind, other_tab) = (
            begin(lane(Lane::Draft, "a")),
            begin(lane(Lane::Cells, "a")),
            begin(lane(Lane::Draft, "b")),
        );
        let second = begin(lane(Lane::Draft, "a"));
        let stopped = |w: &(Newest, Waiting)| w.1.stopped();
        assert_eq!(
            [&first, &other_kind, &other_tab, &second].map(stopped),
            [true, false, false, false]
        );
        // The end of the older one leaves the newer one in its place.
        drop(first);
        lanes.end(&lane(Lane::Draft, "a"));
        assert!(second.1.stopped() && !other_tab.1.stopped());
        drop(second);
        lanes.end_all();
        assert!(other_kind.1.stopped() && other_tab.1.stopped());
        drop((other_kind, other_tab));
        assert!(lock(&lanes.0).is_empty());
    }
}
