//! Parts in memory: those used last, each made once however many ask for it.

use crate::problem::Answer;
use crate::waiting::Waiting;
use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Duration;
use ulmix_part::Part;
use ulmix_runner::locked::lock;

/// Bytes of parts that are kept.
const BYTES: usize = 1 << 30;
/// Parts that are kept in any case.
const LEAST: usize = 2;
/// How often who waits for another's part looks whether anybody waits for them.
const LOOK: Duration = Duration::from_millis(50);

/// Parts that were made ready, within a bound of bytes.
#[derive(Default)]
pub struct Parts {
    kept: Mutex<VecDeque<(String, Arc<Part>)>>,
    /// Keys of parts that are being made.
    making: Mutex<Vec<String>>,
    made: Condvar,
}

/// A part being made; the next one may try when it is dropped.
struct Making<'a> {
    parts: &'a Parts,
    key: &'a str,
}

impl Drop for Making<'_> {
    fn drop(&mut self) {
        lock(&self.parts.making).retain(|key| key != self.key);
        self.parts.made.notify_all();
    }
}

impl Parts {
    /// Keeps a part under a key.
    pub fn keep(&self, key: String, part: Arc<Part>) {
        let mut kept = lock(&self.kept);
        kept.retain(|k| k.0 != key);
        kept.push_front((key, part));
        drop(kept);
        self.shrink(BYTES);
    }

    /// Lets go of parts until no more than so many bytes are held: those used last stay.
    pub fn shrink(&self, most: usize) {
        let mut kept = lock(&self.kept);
        let mut bytes = 0;
        let held = kept.iter().take_while(|(_, part)| {
            bytes += part.bytes();
            bytes <= most
        });
        let held = held.count().max(LEAST);
        kept.truncate(held);
    }

    fn kept(&self, key: &str) -> Option<Arc<Part>> {
        let mut kept = lock(&self.kept);
        let at = kept.iter().position(|k| k.0 == key)?;
        let found = kept.remove(at)?;
        let part = found.1.clone();
        kept.push_front(found);
        Some(part)
    }

    /// The part of a key: kept, being made by somebody else, or made now.
    pub fn get(
        &self,
        key: &str,
        waiting: &Waiting,
        make: impl FnOnce() -> Answer<Part>,
    ) -> Answer<Arc<Part>> {
        let mut making = lock(&self.making);
        loop {
            if let Some(part) = self.kept(key) {
                return Ok(part);
            }
            if !making.iter().any(|k| k == key) {
                break;
            }
            waiting.go_on()?;
            making = self.made.wait_timeout(making, LOOK).unwrap_or_else(PoisonError::into_inner).0;
        }
        making.push(key.to_owned());
        drop(making);
        let _making = Making { parts: self, key };
        let part = Arc::new(make()?);
        self.keep(key.to_owned(), part.clone());
        Ok(part)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use ulmix_mesh::TriMesh;

    #[test]
    fn a_part_is_made_once_for_all_who_ask_and_again_after_a_failure() {
        let parts = Parts::default();
        let made = AtomicUsize::new(0);
        let waiting = Waiting::patient();
        let make = || {
            made.fetch_add(1, Ordering::Relaxed);
            Ok(Part::prepare(&TriMesh::sphere(5.0, 4))?)
        };
        std::thread::scope(|s| {
            (0..8).for_each(|_| drop(s.spawn(|| parts.get("ball", &waiting, make).unwrap())));
        });
        assert_eq!(made.load(Ordering::Relaxed), 1);
        let failed =
            parts.get("other", &waiting, || Err(crate::problem::Problem::not_found("The part")));
        assert_eq!(failed.err().unwrap().code, "not_found");
        assert!(parts.get("other", &waiting, make).is_ok());
    }

    #[test]
    fn who_waits_for_a_part_of_another_may_leave() {
        let parts = Parts::default();
        let begun = std::sync::Barrier::new(2);
        std::thread::scope(|s| {
            let (go, wait) = std::sync::mpsc::channel::<()>();
            let (parts, begun) = (&parts, &begun);
            s.spawn(move || {
                parts.get("ball", &Waiting::patient(), || {
                    begun.wait();
                    wait.recv().unwrap();
                    Ok(Part::prepare(&TriMesh::sphere(5.0, 2))?)
                })
            });
            begun.wait();
            let left = Waiting::patient();
            left.end();
            assert_eq!(
                parts.get("ball", &left, || unreachable!()).err().unwrap().code,
                "cancelled"
            );
            go.send(()).unwrap();
        });
        assert!(parts.get("ball", &Waiting::patient(), || unreachable!()).is_ok());
    }
}
