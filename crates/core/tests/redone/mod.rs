//! A watch that lists the stages that a run computes and does not take from the cache.

use std::sync::Mutex;
use ulmix_core::pipeline::{Stage, Watch};

#[derive(Default)]
pub(crate) struct Redone(Mutex<Vec<Stage>>);

impl Redone {
    /// In the order in which they ended.
    pub(crate) fn stages(self) -> Vec<Stage> {
        self.0.into_inner().unwrap()
    }
}

impl Watch for Redone {
    fn end(&self, stage: Stage, cached: bool) {
        if !cached {
            self.0.lock().unwrap().push(stage);
        }
    }
}
