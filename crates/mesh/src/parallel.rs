//! Lists worked on side by side, with the results in their order whatever the number of threads.
//!
//! Parallel iterators compile a scheduler of their own for every closure; the one here exists
//! once, behind `dyn`, and is called for whole stretches of a list.
//!
//! ```
//! use ulmix_mesh::parallel;
//!
//! let squares = parallel::map(4, |n| n * n);
//! assert_eq!(squares, [0, 1, 4, 9]);
//! ```
//!
//! A thread that waits for others works on whatever else is to be done, so that it may come by the
//! place that it waits at again: nothing may be locked or borrowed there ([`found_once`]).

use std::ops::Range;
use std::sync::{Mutex, OnceLock};

/// Stretches per thread: enough that one slow stretch does not keep the other threads waiting.
const STRETCHES: usize = 64;

/// Calls `work` once with every number of a range, from several threads.
fn spread(numbers: Range<usize>, work: &(dyn Fn(usize) + Sync)) {
    let middle = numbers.start + numbers.len() / 2;
    if numbers.len() <= 1 {
        numbers.for_each(work);
    } else {
        rayon::join(|| spread(numbers.start..middle, work), || spread(middle..numbers.end, work));
    }
}

/// Length of the stretches in which a list is worked on; at least 1.
fn stretch(count: usize) -> usize {
    count.div_ceil(STRETCHES * rayon::current_num_threads()).max(1)
}

/// What a cell holds; found where it holds nothing yet. Threads that come at the same time each
/// find it: were the cell locked meanwhile, one of them might wait for itself.
pub fn found_once<T>(cell: &OnceLock<T>, find: impl FnOnce() -> T) -> &T {
    match cell.get() {
        Some(found) => found,
        None => {
            let found = find();
            cell.get_or_init(|| found)
        }
    }
}

/// What `fill` puts into the lists of consecutive stretches of `0..count`, one list after the
/// other.
pub fn gather<R: Send>(count: usize, fill: impl Fn(Range<usize>, &mut Vec<R>) + Sync) -> Vec<R> {
    of_stretches(count, stretch(count), &fill)
}

fn of_stretches<R: Send>(
    count: usize,
    length: usize,
    fill: &(dyn Fn(Range<usize>, &mut Vec<R>) + Sync),
) -> Vec<R> {
    let lists: Vec<Mutex<Vec<R>>> =
        (0..count.div_ceil(length)).map(|_| Mutex::new(Vec::new())).collect();
    spread(0..lists.len(), &|n| {
        let mut list = Vec::new();
        fill(n * length..count.min((n + 1) * length), &mut list);
        *lists[n].lock().expect(UNPOISONED) = list;
    });
    let mut lists = lists.into_iter().map(|list| list.into_inner().expect(UNPOISONED));
    let mut all = lists.next().unwrap_or_default();
    let others: Vec<Vec<R>> = lists.collect();
    all.reserve_exact(others.iter().map(Vec::len).sum());
    others.into_iter().for_each(|list| all.extend(list));
    all
}

/// A panic of a stretch is passed on before its list is asked for.
const UNPOISONED: &str = "no stretch has panicked";

/// `f` of every number below `count`.
pub fn map<R: Send>(count: usize, f: impl Fn(usize) -> R + Sync) -> Vec<R> {
    gather(count, |stretch, out| out.extend(stretch.map(&f)))
}

/// `f` of every item, with its number.
pub fn map_list<T: Sync, R: Send>(items: &[T], f: impl Fn(usize, &T) -> R + Sync) -> Vec<R> {
    map(items.len(), |n| f(n, &items[n]))
}

/// As [`map`] for an `f` that takes less time than handing work to a thread: lists below
/// [`CHEAP`] are worked on by one.
pub fn map_cheap<R: Send>(count: usize, f: impl Fn(usize) -> R + Sync) -> Vec<R> {
    of_stretches(count, stretch(count).max(CHEAP), &|stretch, out| out.extend(stretch.map(&f)))
}

/// As [`map_cheap`] for the items of a list.
pub fn map_list_cheap<T: Sync, R: Send>(items: &[T], f: impl Fn(&T) -> R + Sync) -> Vec<R> {
    map_cheap(items.len(), |n| f(&items[n]))
}

/// Least length of the stretches in which cheap work is done.
pub const CHEAP: usize = 4096;

/// What `f` gives for the numbers below `count`.
pub fn filter_map<R: Send>(count: usize, f: impl Fn(usize) -> Option<R> + Sync) -> Vec<R> {
    gather(count, |stretch, out| out.extend(stretch.filter_map(&f)))
}

/// The items that are wanted.
pub fn filter<T: Copy + Send + Sync>(items: &[T], wanted: impl Fn(&T) -> bool + Sync) -> Vec<T> {
    gather(items.len(), |stretch, out| out.extend(items[stretch].iter().filter(|t| wanted(t))))
}

/// All that `f` gives for the numbers below `count`.
pub fn flat_map<R: Send, I: IntoIterator<Item = R>>(
    count: usize,
    f: impl Fn(usize) -> I + Sync,
) -> Vec<R> {
    gather(count, |stretch, out| out.extend(stretch.flat_map(&f)))
}

/// `f` of consecutive runs of `length` numbers below `count`; the last run may be shorter.
///
/// # Panics
/// When `length` is 0.
pub fn runs<R: Send>(count: usize, length: usize, f: impl Fn(Range<usize>) -> R + Sync) -> Vec<R> {
    of_stretches(count, length, &|run, out| out.push(f(run)))
}

/// The greatest of what `f` gives, and the lowest number that it belongs to. `None` without any.
pub fn greatest(count: usize, f: impl Fn(usize) -> Option<f64> + Sync) -> Option<(f64, usize)> {
    let better = |a: (f64, usize), b: (f64, usize)| if b.0 > a.0 { b } else { a };
    let of_run = |run: Range<usize>| run.filter_map(|n| Some((f(n)?, n))).reduce(better);
    runs(count, stretch(count), of_run).into_iter().flatten().reduce(better)
}

/// How many numbers below `count` are wanted.
pub fn count(count: usize, wanted: impl Fn(usize) -> bool + Sync) -> usize {
    runs(count, stretch(count), |run| run.filter(|n| wanted(*n)).count()).into_iter().sum()
}

/// `f` of every item, which it may change, with its number.
pub fn map_mut<T: Send, R: Send>(items: &mut [T], f: impl Fn(usize, &mut T) -> R + Sync) -> Vec<R> {
    let (count, length) = (items.len(), stretch(items.len()));
    let stretches: Vec<Mutex<&mut [T]>> = items.chunks_mut(length).map(Mutex::new).collect();
    of_stretches(count, length, &|run, out| {
        let mut own = stretches[run.start / length].lock().expect(UNPOISONED);
        out.extend(own.iter_mut().zip(run).map(|(item, n)| f(n, item)));
    })
}

/// Hands consecutive chunks of `length` items to `f`, with the chunk's number; the last chunk may be
/// shorter.
///
/// # Panics
/// When `length` is 0.
pub fn chunks_mut<T: Send>(items: &mut [T], length: usize, f: impl Fn(usize, &mut [T]) + Sync) {
    let mut chunks: Vec<&mut [T]> = items.chunks_mut(length).collect();
    map_mut(&mut chunks, |n, chunk| f(n, chunk));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn results_are_those_of_one_thread(
            items in prop::collection::vec(-100i32..100, 0..3000),
            length in 1usize..700,
            threads in 1usize..5,
        ) {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                let count = items.len();
                let doubled: Vec<i32> = items.iter().map(|t| 2 * t).collect();
                prop_assert_eq!(&map(count, |n| 2 * items[n]), &doubled);
                prop_assert_eq!(&map_list(&items, |n, t| t + items[n]), &doubled);
                prop_assert_eq!(&map_cheap(count, |n| 2 * items[n]), &doubled);
                prop_assert_eq!(&map_list_cheap(&items, |t| 2 * t), &doubled);
                let positive: Vec<i32> = items.iter().copied().filter(|t| *t > 0).collect();
                prop_assert_eq!(&filter(&items, |t| *t > 0), &positive);
                let some = filter_map(count, |n| (items[n] > 0).then_some(items[n]));
                prop_assert_eq!(&some, &positive);
                let repeated: Vec<i32> = items.iter().flat_map(|t| vec![*t; 2]).collect();
                prop_assert_eq!(&flat_map(count, |n| vec![items[n]; 2]), &repeated);
                let sums: Vec<i32> = items.chunks(length).map(|c| c.iter().sum()).collect();
                prop_assert_eq!(&runs(count, length, |r| items[r].iter().sum::<i32>()), &sums);
                prop_assert_eq!(super::count(count, |n| items[n] > 0), positive.len());
                let most = items.iter().max().map(|most| {
                    (*most as f64, items.iter().position(|t| t == most).unwrap())
                });
                prop_assert_eq!(greatest(count, |n| Some(items[n] as f64)), most);
                let mut own = items.clone();
                map_mut(&mut own, |n, t| *t += items[n]);
                prop_assert_eq!(&own, &doubled);
                chunks_mut(&mut own, length, |n, chunk| {
                    chunk.iter_mut().zip(n * length..).for_each(|(t, n)| *t -= items[n]);
                });
                prop_assert_eq!(&own, &items);
                Ok(())
            })?;
        }
    }

    #[test]
    fn a_thread_that_waits_for_others_may_come_by_what_it_finds_again() {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(2).build().unwrap();
        pool.install(|| {
            for _ in 0..50 {
                let cell = OnceLock::new();
                let find = || map(200, |n| n * n).into_iter().sum::<usize>();
                let all = map(200, |_| *found_once(&cell, find));
                assert!(all.iter().all(|sum| *sum == 2_646_700));
            }
        });
    }

    #[test]
    fn a_panic_of_one_item_reaches_the_caller() {
        let outcome = std::panic::catch_unwind(|| map(1000, |n| assert_ne!(n, 517)));
        assert!(outcome.is_err());
    }
}
