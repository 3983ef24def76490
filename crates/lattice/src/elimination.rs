//! Even points, chosen from a crowd by taking away the most crowded ones (Yuksel 2015).

use glam::DVec3;
use std::cmp::Ordering;
use std::collections::BinaryHeap;
use ulmix_mesh::parallel;
use ulmix_mesh::PointGrid;

/// Twice the radius of the densest packing of as many discs and balls (Yuksel 2015, eqs. 2 and 3),
/// in cells.
pub(crate) const PLANAR: f64 = 1.074_569_931_823_542;
pub(crate) const SPATIAL: f64 = 1.122_462_048_309_373;

/// A candidate by how crowded it is.
#[derive(PartialEq)]
struct Crowded(f64, u32);
impl Eq for Crowded {}
impl PartialOrd for Crowded {
    fn partial_cmp(&self, o: &Crowded) -> Option<Ordering> {
        Some(self.cmp(o))
    }
}
impl Ord for Crowded {
    fn cmp(&self, o: &Crowded) -> Ordering {
        self.0.total_cmp(&o.0).then(o.1.cmp(&self.1))
    }
}

/// Takes away the most crowded candidates; gives the numbers of those that stay. Candidates come in
/// two lots, each with how many there are and how many are to be left. Candidates farther apart
/// than `reach`, where cells are of full `size`, do not crowd each other. `None` when cancelled.
pub(crate) fn eliminated(
    all: &[DVec3],
    size: &[f64],
    lots: [(usize, usize); 2],
    reach: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<usize>> {
    let weight = |n: usize, m: u32| {
        let (m, d) = (m as usize, all[n].distance(all[m as usize]));
        (1.0 - (d / (reach * size[n].min(size[m]))).min(1.0)).powi(8)
    };
    let grid = PointGrid::new(all);
    let near: Vec<Vec<u32>> = parallel::map_list(all, |n, p| {
        let near =
            || grid.within(*p, reach * size[n]).into_iter().filter(|m| *m as usize != n).collect();
        (n % LOOK_EVERY != 0 || !cancelled()).then(near)
    })
    .into_iter()
    .collect::<Option<_>>()?;
    let mut crowding: Vec<f64> =
        parallel::map(all.len(), |n| near[n].iter().map(|m| weight(n, *m)).sum());
    let mut heap: BinaryHeap<Crowded> =
        crowding.iter().enumerate().map(|(n, w)| Crowded(*w, n as u32)).collect();
    let mut here = vec![true; all.len()];
    let mut left = lots.map(|lot| lot.0);
    let keep = lots.map(|lot| lot.1);
    let mut step = 0;
    while let Some(Crowded(w, n)) = heap.pop() {
        step += 1;
        if step % LOOK_EVERY == 0 && cancelled() {
            return None;
        }
        let n = n as usize;
        let side = (n >= lots[0].0) as usize;
        // Entries of before a neighbour went are out of date.
        if !here[n] || w != crowding[n] || left[side] <= keep[side] {
            continue;
        }
        here[n] = false;
        left[side] -= 1;
        for &m in &near[n] {
            if here[m as usize] {
                crowding[m as usize] -= weight(n, m);
                heap.push(Crowded(crowding[m as usize], m));
            }
        }
    }
    Some((0..all.len()).filter(|n| here[*n]).collect())
}

/// Steps between two looks at whether to go on.
const LOOK_EVERY: usize = 1 << 10;

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_field::numeric::Random;

    #[test]
    fn those_left_are_as_many_as_asked_of_each_lot_and_farther_apart() {
        let mut random = Random::new(7, 0);
        let mut place = || DVec3::new(random.unit(), random.unit(), random.unit()) * 10.0;
        let all: Vec<DVec3> = (0..3000).map(|_| place()).collect();
        // The cube holds a thousand cells of size 1.
        let left =
            eliminated(&all, &vec![1.0; 3000], [(2000, 700), (1000, 300)], SPATIAL, &|| false)
                .unwrap();
        assert_eq!((left.iter().filter(|n| **n < 2000).count(), left.len()), (700, 1000));
        let closest = |of: &[DVec3]| {
            let grid = PointGrid::new(of);
            let near = |(n, p): (usize, &DVec3)| grid.nearest(*p, 1, |m| m as usize == n)[0].0;
            of.iter().enumerate().map(near).fold(f64::INFINITY, f64::min)
        };
        let chosen: Vec<DVec3> = left.iter().map(|n| all[*n]).collect();
        assert!(
            closest(&chosen) > 0.6 && closest(&chosen) > 3.0 * closest(&all),
            "{} {}",
            closest(&chosen),
            closest(&all)
        );
    }

    #[test]
    fn it_ends_when_cancelled() {
        use std::sync::atomic::{AtomicUsize, Ordering};
        let mut random = Random::new(7, 0);
        let all: Vec<DVec3> = (0..6000)
            .map(|_| DVec3::new(random.unit(), random.unit(), random.unit()) * 10.0)
            .collect();
        let asked = AtomicUsize::new(0);
        // Before the neighbours are known, among them, and while points go.
        for most in [0, 3, 7] {
            asked.store(0, Ordering::Relaxed);
            let cancelled = || asked.fetch_add(1, Ordering::Relaxed) >= most;
            assert!(
                eliminated(&all, &vec![1.0; 6000], [(6000, 1000), (0, 0)], SPATIAL, &cancelled)
                    .is_none(),
                "{most}"
            );
        }
    }
}
