//! Numbers at many places, as a measurement or a simulation gives them.

use super::ScalarField;
use glam::DVec3;
use ulmix_mesh::PointGrid;

/// Numbers at places, each met exactly and blended between by the nearest ones: inverse distances
/// that fall to nothing where the next farther place would come in (Franke and Little 1980), so that
/// there is no jump. A number is never below the least or above the greatest of those around it.
pub struct ScatteredNumbers {
    places: PointGrid,
    values: Vec<f64>,
}

/// Places among which a number is blended.
const NEAREST: usize = 12;

impl ScatteredNumbers {
    /// Numbers by their places, in mm.
    ///
    /// # Panics
    /// Without any, and where there are not as many numbers as places.
    pub fn new(places: &[DVec3], values: Vec<f64>) -> ScatteredNumbers {
        assert!(!places.is_empty() && places.len() == values.len());
        ScatteredNumbers { places: PointGrid::new(places), values }
    }
}

impl ScalarField for ScatteredNumbers {
    fn value(&self, p: DVec3) -> f64 {
        let near = self.places.nearest(p, NEAREST + 1, |_| false);
        // The farthest one says where the others have no weight any more.
        let (reach, near) = match near.split_last() {
            Some((last, others)) if near.len() > NEAREST => (last.0, others),
            _ => (f64::INFINITY, &near[..]),
        };
        let (mut sum, mut weights) = (0.0, 0.0);
        for &(d, n) in near {
            let value = self.values[n as usize];
            if d < 1e-9 {
                return value;
            }
            let share = if reach.is_finite() { (reach - d).max(0.0) / reach } else { 1.0 };
            let weight = (share / d).powi(2);
            sum += weight * value;
            weights += weight;
        }
        if weights > 0.0 {
            sum / weights
        } else {
            // All are equally far.
            near.iter().map(|n| self.values[n.1 as usize]).sum::<f64>() / near.len() as f64
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numeric::low_discrepancy;
    use proptest::prelude::*;

    fn scattered(count: u64, of: impl Fn(DVec3) -> f64) -> (Vec<DVec3>, ScatteredNumbers) {
        let places: Vec<DVec3> = (1..=count).map(|n| low_discrepancy(n) * 20.0).collect();
        let values = places.iter().map(|p| of(*p)).collect();
        (places.clone(), ScatteredNumbers::new(&places, values))
    }

    #[test]
    fn numbers_are_met_and_followed() {
        let of = |p: DVec3| 3.0 + 0.2 * p.x - 0.1 * p.y;
        let (places, field) = scattered(3000, of);
        assert!(places.iter().all(|p| (field.value(*p) - of(*p)).abs() < 1e-9));
        let off = (1..400).map(|n| 2.0 + low_discrepancy(n * 7) * 16.0);
        let worst = off.map(|p| (field.value(p) - of(p)).abs()).fold(0.0, f64::max);
        assert!(worst < 0.25, "{worst}");
        let (_, one) = scattered(1, of);
        assert_eq!(one.value(DVec3::ZERO), one.value(DVec3::splat(90.0)));
    }

    proptest! {
        #[test]
        fn there_is_no_jump_and_no_overshoot(
            seed in 1..500u64, count in 1..60u64, p in prop::array::uniform3(-5.0..25.0f64), way in prop::array::uniform3(-1.0..1.0f64)
        ) {
            let (_, field) = scattered(count, |p| (p.x * seed as f64).sin());
            let (p, way) = (DVec3::from(p), DVec3::from(way).normalize_or(DVec3::X));
            let mut last = field.value(p);
            for n in 1..200 {
                let value = field.value(p + way * (n as f64 * 1e-3));
                prop_assert!((-1.0..=1.0).contains(&value));
                prop_assert!((value - last).abs() < 0.05, "{} {}", last, value);
                last = value;
            }
        }
    }
}
