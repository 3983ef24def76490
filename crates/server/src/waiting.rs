//! Who waits for a piece of work, so that it ends when nobody does any more.

use crate::problem::{Answer, Problem};
use axum::http::StatusCode;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Somebody who waits: until they leave, until something newer takes over, or for so long.
#[derive(Clone)]
pub struct Waiting {
    ended: Arc<AtomicBool>,
    most: Option<(Instant, Duration)>,
}

/// Ends the waiting when dropped: the server drops what answers a client who has left.
pub struct Leaving(Waiting);

impl Drop for Leaving {
    fn drop(&mut self) {
        self.0.end();
    }
}

impl Waiting {
    /// For as long as it takes.
    pub fn patient() -> Waiting {
        Waiting { ended: Arc::default(), most: None }
    }

    /// Until a flag is set.
    pub fn of(ended: Arc<AtomicBool>) -> Waiting {
        Waiting { ended, most: None }
    }

    /// For so long at most.
    pub fn at_most(time: Duration) -> Waiting {
        Waiting { ended: Arc::default(), most: Some((Instant::now(), time)) }
    }

    /// Held by whoever waits; work ends when it is dropped.
    pub fn leaving(&self) -> Leaving {
        Leaving(self.clone())
    }

    /// Nobody waits any longer.
    pub fn end(&self) {
        self.ended.store(true, Ordering::Relaxed);
    }

    /// Are they one and the same?
    pub fn is(&self, other: &Waiting) -> bool {
        Arc::ptr_eq(&self.ended, &other.ended)
    }

    /// The flag that ends it.
    pub fn flag(&self) -> &Arc<AtomicBool> {
        &self.ended
    }

    fn too_long(&self) -> bool {
        self.most.is_some_and(|(since, time)| since.elapsed() > time)
    }

    /// Has everybody left?
    pub fn stopped(&self) -> bool {
        self.ended.load(Ordering::Relaxed) || self.too_long()
    }

    /// Refuses to go on when nobody waits any more.
    pub fn go_on(&self) -> Answer<()> {
        if self.stopped() {
            return self.tell(Err(Problem::cancelled()));
        }
        Ok(())
    }

    /// An answer as the person who waited is to see it: work that was stopped after its time says
    /// so.
    pub fn tell<T>(&self, answer: Answer<T>) -> Answer<T> {
        answer.map_err(|p| match self.most {
            Some((_, time)) if p.code == "cancelled" && self.too_long() => Problem::new(
                StatusCode::UNPROCESSABLE_ENTITY,
                "too_long",
                format!("This took longer than {} s and was stopped.", time.as_secs()),
                "Reduce the part, or split it, before bringing it in.",
            ),
            _ => p,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_ends_when_nobody_waits_or_time_is_up_and_tells_which() {
        let waiting = Waiting::patient();
        let leaving = waiting.leaving();
        assert!(!waiting.stopped() && waiting.go_on().is_ok());
        drop(leaving);
        assert_eq!(waiting.go_on().unwrap_err().code, "cancelled");
        let hurried = Waiting::at_most(Duration::ZERO);
        while !hurried.stopped() {}
        assert_eq!(hurried.go_on().unwrap_err().code, "too_long");
        // Another fault stays what it is.
        assert_eq!(
            hurried.tell::<()>(Err(Problem::not_found("The part"))).unwrap_err().code,
            "not_found"
        );
    }
}
