//! Points by chance that keep a distance: each that comes is taken where no other lies too near
//! (random sequential addition).

use glam::DVec3;
use std::collections::HashMap;

/// Points taken so far.
pub(crate) struct Spaced {
    apart: f64,
    bins: HashMap<[i64; 3], Vec<DVec3>>,
}

impl Spaced {
    /// Keeping `apart`, where cells are of full size; 0 takes all.
    pub(crate) fn new(apart: f64) -> Spaced {
        Spaced { apart, bins: HashMap::new() }
    }

    /// Takes a point unless another lies too near, where cells are of `size`.
    pub(crate) fn take(&mut self, p: DVec3, size: f64) -> bool {
        if self.apart <= 0.0 {
            return true;
        }
        let bin = |p: DVec3| (p / self.apart).floor().to_array().map(|c| c as i64);
        let (apart, [x, y, z]) = (self.apart * size, bin(p));
        let around = (-1..=1)
            .flat_map(|k| (-1..=1).flat_map(move |j| (-1..=1).map(move |i| [x + i, y + j, z + k])));
        let near =
            around.filter_map(|bin| self.bins.get(&bin)).flatten().any(|q| q.distance(p) < apart);
        if !near {
            self.bins.entry([x, y, z]).or_default().push(p);
        }
        !near
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_field::numeric::low_discrepancy;

    #[test]
    fn points_keep_their_distance_and_no_place_is_left_out() {
        for (apart, size) in [(1.0, 1.0), (2.0, 0.4)] {
            let mut spaced = Spaced::new(apart);
            let places: Vec<DVec3> = (1..4000).map(|i| (low_discrepancy(i) - 0.5) * 8.0).collect();
            let taken: Vec<DVec3> =
                places.iter().copied().filter(|p| spaced.take(*p, size)).collect();
            let least = apart * size;
            for (n, p) in taken.iter().enumerate() {
                assert!(taken[..n].iter().all(|q| q.distance(*p) >= least));
            }
            assert!(places.iter().all(|p| taken.iter().any(|q| q.distance(*p) < least || q == p)));
            assert!(taken.len() < places.len());
        }
        let mut all = Spaced::new(0.0);
        assert!((0..3).all(|_| all.take(DVec3::ONE, 1.0)));
    }
}
