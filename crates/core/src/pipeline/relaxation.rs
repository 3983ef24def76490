//! How far seed points are relaxed, kept from run to run: more rounds go on from there, and so does
//! a run that takes the place of one that was stopped.

use super::cache::Cache;
use super::Watch;
use std::sync::Arc;
use ulmix_lattice::relaxing::{RelaxationCache, Relaxed};

/// States of the same points that are kept.
const STATES: usize = 4;

type States = Vec<Arc<Relaxed>>;

pub(super) struct KeptRelaxation<'a> {
    pub cache: &'a Cache,
    /// Of what the points follow from before they are relaxed.
    pub key: String,
    pub watch: &'a dyn Watch,
}

impl RelaxationCache for KeptRelaxation<'_> {
    fn last(&self, rounds: u32) -> Option<Arc<Relaxed>> {
        let states = self.cache.get::<States>(&self.key)?;
        let enough = |state: &&Arc<Relaxed>| state.rounds <= rounds;
        states.iter().filter(enough).max_by_key(|state| state.rounds).cloned()
    }

    fn keep(&self, state: Arc<Relaxed>) {
        let mut states =
            self.cache.get::<States>(&self.key).map_or_else(Vec::new, |known| (*known).clone());
        states.retain(|known| known.rounds != state.rounds);
        // The oldest goes.
        if states.len() == STATES {
            states.remove(0);
        }
        states.push(state);
        let bytes = states.iter().map(|state| state.bytes()).sum();
        self.cache.put(self.key.clone(), Arc::new(states), bytes);
    }

    fn report_progress(&self, done: u32, of: u32) -> bool {
        self.watch.relaxing(done, of)
    }
}
