//! Stage results by key, bounded by bytes, least recently used out.

use std::any::Any;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// Results of stages by their keys, within a bound of bytes.
pub struct Cache {
    budget: usize,
    inner: Mutex<CacheState>,
}

#[derive(Default)]
struct CacheState {
    entries: HashMap<String, CachedResult>,
    clock: u64,
    bytes: usize,
}

struct CachedResult {
    value: Arc<dyn Any + Send + Sync>,
    bytes: usize,
    used: u64,
}

impl Cache {
    /// Holds up to `budget` bytes of results. A result larger than that is not kept.
    pub fn new(budget: usize) -> Cache {
        Cache { budget, inner: Mutex::default() }
    }

    /// The value of a key, if it is held and of this type.
    pub fn get<T: Any + Send + Sync>(&self, key: &str) -> Option<Arc<T>> {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        inner.clock += 1;
        let now = inner.clock;
        let entry = inner.entries.get_mut(key)?;
        entry.used = now;
        entry.value.clone().downcast().ok()
    }

    /// Holds a value of so many bytes; the oldest ones make room.
    pub fn put<T: Any + Send + Sync>(&self, key: String, value: Arc<T>, bytes: usize) {
        if bytes > self.budget {
            return;
        }
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        inner.clock += 1;
        let used = inner.clock;
        if let Some(old) = inner.entries.insert(key, CachedResult { value, bytes, used }) {
            inner.bytes -= old.bytes;
        }
        inner.bytes += bytes;
        inner.shrink(self.budget);
    }

    /// Lets go of results until no more than so many bytes are held.
    pub fn shrink(&self, bytes: usize) {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).shrink(bytes);
    }
}

impl CacheState {
    /// The least recently used goes first.
    fn shrink(&mut self, budget: usize) {
        while self.bytes > budget {
            let oldest = self.entries.iter().min_by_key(|(_, e)| e.used).map(|(k, _)| k.clone());
            let Some(gone) = oldest.and_then(|k| self.entries.remove(&k)) else { break };
            self.bytes -= gone.bytes;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_least_recently_used_goes_first_and_the_budget_holds() {
        let c = Cache::new(100);
        c.put("a".into(), Arc::new(1u8), 40);
        c.put("b".into(), Arc::new(2u8), 40);
        assert_eq!(c.get::<u8>("a").as_deref(), Some(&1));
        c.put("c".into(), Arc::new(3u8), 40);
        assert_eq!(c.get::<u8>("b"), None);
        assert_eq!(c.get::<u8>("a").as_deref(), Some(&1));
        c.put("big".into(), Arc::new(4u8), 101);
        assert_eq!(c.get::<u8>("big"), None);
        assert_eq!(c.get::<u16>("c"), None, "another type is no answer");
    }

    #[test]
    fn shrinking_keeps_what_was_used_last() {
        let c = Cache::new(100);
        for (n, key) in ["a", "b", "c"].into_iter().enumerate() {
            c.put(key.into(), Arc::new(n), 30);
        }
        assert!(c.get::<usize>("a").is_some());
        c.shrink(60);
        assert!(
            c.get::<usize>("b").is_none()
                && c.get::<usize>("a").is_some()
                && c.get::<usize>("c").is_some()
        );
        c.shrink(0);
        assert!(c.get::<usize>("a").is_none());
    }
}
