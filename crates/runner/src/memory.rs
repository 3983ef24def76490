//! Memory that a run has used is kept for the next one: fresh memory from the system costs a
//! quarter of a run's time. Whoever sees a pause gives the memory back.

use std::sync::atomic::{AtomicU64, Ordering};
use ulmix_formats::{Limits, Stopped};

/// Pieces of work done so far.
static WORK: AtomicU64 = AtomicU64::new(0);

/// From here on freed memory stays with the process. To be called before any other thread starts,
/// for a thread keeps the heap that it began with.
#[allow(unsafe_code, reason = "the allocator is set up by calls of C")]
pub fn keep() {
    #[cfg(target_env = "gnu")]
    // SAFETY: these only set numbers of the allocator, which checks them.
    unsafe {
        // One heap for all threads, and in it the large blocks, too: only what lies there is kept.
        libc::mallopt(libc::M_ARENA_MAX, 1);
        libc::mallopt(libc::M_MMAP_MAX, 0);
        libc::mallopt(libc::M_TRIM_THRESHOLD, i32::MAX);
        libc::mallopt(libc::M_TOP_PAD, 64 << 20);
    }
}

/// A piece of work is done.
pub fn used() {
    WORK.fetch_add(1, Ordering::Relaxed);
}

/// Pieces of work that are done so far.
pub fn work_done() -> u64 {
    WORK.load(Ordering::Relaxed)
}

/// Of the memory that is free a final run may use this share.
const SHARE: f64 = 0.75;

/// What a final run may use: `limit` MB, or a share of what is free and of what this process holds
/// already. MB.
pub fn for_runs(limit: Option<u64>) -> f64 {
    let free = || {
        Some(
            kilobytes("/proc/meminfo", "MemAvailable:")?
                + kilobytes("/proc/self/status", "VmRSS:")?,
        )
    };
    // Of a kernel that does not tell, as much as a small computer has.
    limit.map_or_else(|| free().map_or(4096.0, |kb| SHARE * kb / 1024.0), |mb| mb as f64)
}

/// Memory that a part of files takes at its most, for each triangle: measured on a ball of five
/// million (315 bytes while it is read and cleaned, 420 with its faces and a first draft). Bytes.
const OF_TRIANGLE: f64 = 450.0;

/// What reading a file may spend: no more triangles than the memory for runs holds.
pub fn for_files<'a>(limit: Option<u64>, stopped: Stopped<'a>) -> Limits<'a> {
    let usual = Limits::until(stopped);
    let held = for_runs(limit) * 1e6 / OF_TRIANGLE;
    Limits { triangles: usual.triangles.min(held as usize), ..usual }
}

/// A line of a file that the kernel writes, in kB.
fn kilobytes(path: &str, name: &str) -> Option<f64> {
    let text = std::fs::read_to_string(path).ok()?;
    text.lines().find_map(|line| line.strip_prefix(name))?.split_whitespace().next()?.parse().ok()
}

/// Freed memory goes back to the system.
#[allow(unsafe_code, reason = "the allocator is asked by a call of C")]
pub fn give_back() {
    #[cfg(target_env = "gnu")]
    // SAFETY: the allocator may be asked at any time.
    unsafe {
        libc::malloc_trim(0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_may_have_as_many_triangles_as_the_memory_holds_and_no_more_than_usual() {
        let never = || false;
        assert_eq!(for_files(Some(45), &never).triangles, 100_000);
        assert_eq!(for_files(Some(1 << 40), &never).triangles, Limits::default().triangles);
        assert!(for_runs(None) > 100.0, "of what is free there is a share");
    }
}
