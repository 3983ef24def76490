//! Times the stages of a run and passes on what happens, and a wish to cancel.

use crate::locked::lock;
use crate::memory;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use ulmix_core::pipeline::{Stage, Watch};
use utoipa::ToSchema;

/// How long a stage took.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StageTime {
    /// The stage meant.
    pub stage: Stage,
    /// Seconds that it took.
    pub seconds: f64,
    /// Answered from an earlier run.
    pub cached: bool,
}

/// Takes the time of stages, and passes on that a run is to end.
pub struct Stopwatch {
    log: Mutex<(Option<Instant>, Vec<StageTime>)>,
    cancel: Arc<AtomicBool>,
    on_begin: Box<dyn Fn(Stage) + Sync + Send>,
    relaxing: Option<Relaxing>,
}

/// Passes on how far seed points are relaxed, not too often.
struct Relaxing {
    tell: Box<dyn Fn(u32, u32) + Sync + Send>,
    last: Mutex<Instant>,
}

/// As often as somebody can follow; short work is over before it is told of.
const TOLD_EVERY: Duration = Duration::from_millis(300);

/// After a stage of so many seconds memory is given back: that takes some hundredths of one.
const LONG: f64 = 1.0;

impl Stopwatch {
    /// A watch that tells `on_begin` of every stage.
    pub fn new(
        cancel: Arc<AtomicBool>,
        on_begin: impl Fn(Stage) + Sync + Send + 'static,
    ) -> Stopwatch {
        Stopwatch { log: Mutex::default(), cancel, on_begin: Box::new(on_begin), relaxing: None }
    }

    /// Tells of rounds done and asked for, too.
    pub fn telling(self, tell: impl Fn(u32, u32) + Sync + Send + 'static) -> Stopwatch {
        Stopwatch {
            relaxing: Some(Relaxing { tell: Box::new(tell), last: Mutex::new(Instant::now()) }),
            ..self
        }
    }

    /// Seconds by stage so far.
    pub fn log(&self) -> Vec<StageTime> {
        lock(&self.log).1.clone()
    }
}

impl Watch for Stopwatch {
    fn begin(&self, stage: Stage) {
        lock(&self.log).0 = Some(Instant::now());
        (self.on_begin)(stage);
    }

    fn end(&self, stage: Stage, cached: bool) {
        let mut log = lock(&self.log);
        let seconds = log.0.take().map_or(0.0, |t| t.elapsed().as_secs_f64());
        // What a long one needed only for itself is not needed by the next.
        if seconds > LONG {
            memory::give_back();
        }
        // A stage worked once for each of several bodies is one.
        match log.1.iter_mut().find(|s| s.stage == stage) {
            Some(s) => (s.seconds, s.cached) = (s.seconds + seconds, s.cached && cached),
            None => log.1.push(StageTime { stage, seconds, cached }),
        }
    }

    fn freed(&self) {
        memory::give_back();
    }

    fn cancelled(&self) -> bool {
        self.cancel.load(Ordering::Relaxed)
    }

    fn relaxing(&self, done: u32, of: u32) -> bool {
        let Some(relaxing) = &self.relaxing else { return false };
        let mut last = lock(&relaxing.last);
        let due = last.elapsed() >= TOLD_EVERY;
        if due {
            *last = Instant::now();
            (relaxing.tell)(done, of);
        }
        due
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stages_of_several_bodies_are_one_and_cached_only_if_all_are() {
        let begun = Arc::new(Mutex::new(Vec::new()));
        let told = Arc::clone(&begun);
        let watch = Stopwatch::new(Arc::default(), move |stage| told.lock().unwrap().push(stage));
        for (stage, cached) in [
            (Stage::Zones, true),
            (Stage::Surface, true),
            (Stage::Surface, false),
            (Stage::Surface, true),
        ] {
            watch.begin(stage);
            watch.end(stage, cached);
        }
        let log = watch.log();
        assert_eq!(
            log.iter().map(|s| (s.stage, s.cached)).collect::<Vec<_>>(),
            [(Stage::Zones, true), (Stage::Surface, false)]
        );
        assert!(log.iter().all(|s| s.seconds >= 0.0));
        assert_eq!(
            *begun.lock().unwrap(),
            [Stage::Zones, Stage::Surface, Stage::Surface, Stage::Surface]
        );
        // An end without a beginning takes no time.
        watch.end(Stage::Report, false);
        assert_eq!(watch.log()[2].seconds, 0.0);
    }

    #[test]
    fn a_wish_to_cancel_is_passed_on_and_rounds_are_told_to_whom_it_concerns() {
        let cancel = Arc::new(AtomicBool::new(false));
        let watch = Stopwatch::new(Arc::clone(&cancel), |_| ());
        assert!(!watch.cancelled() && !watch.relaxing(1, 9));
        cancel.store(true, Ordering::Relaxed);
        assert!(watch.cancelled());
        // The first rounds come too soon after the beginning; those later are told now and then,
        // and kept then.
        let rounds = Arc::new(Mutex::new(Vec::new()));
        let told = Arc::clone(&rounds);
        let watch = Stopwatch::new(cancel, |_| ())
            .telling(move |done, of| told.lock().unwrap().push((done, of)));
        let kept: Vec<(u32, u32)> = (1..)
            .map(|n| (n, watch.relaxing(n, 9)))
            .filter(|k| k.1)
            .take(2)
            .map(|k| (k.0, 9))
            .collect();
        assert_eq!(*rounds.lock().unwrap(), kept);
    }
}
