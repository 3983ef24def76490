//! Locks that outlive a panic: what they hold is whole between statements, and a panic ends its run
//! alone.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks, also after a thread has panicked with the lock held.
pub fn lock<T>(m: &Mutex<T>) -> MutexGuard<'_, T> {
    m.lock().unwrap_or_else(PoisonError::into_inner)
}
