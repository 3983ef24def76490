//! Values at chosen places, met exactly and blended between.

use super::{range, ScalarField};
use glam::DVec3;

/// Values at places: each is met exactly at its place, and anywhere else the value is a mean of all,
/// weighted by the inverse square of the distances (Shepard 1968). The mean has no jump, and it is
/// never less than the least value or more than the greatest. One place makes its value hold
/// everywhere.
#[derive(Clone, Debug, PartialEq)]
pub struct PointValues {
    points: Vec<(DVec3, f64)>,
}

impl PointValues {
    /// Values at places in mm. Of several values at one place the mean holds; without any, 0 does.
    pub fn new(points: &[(DVec3, f64)]) -> PointValues {
        PointValues { points: points.to_vec() }
    }

    /// Least and greatest value.
    pub fn range(&self) -> [f64; 2] {
        range(self.points.iter().map(|p| p.1))
    }
}

/// Square of a distance below which a place counts as met. mm².
const MET: f64 = 1e-18;

impl ScalarField for PointValues {
    fn value(&self, p: DVec3) -> f64 {
        // All weights are multiplied by the least squared distance, so that none overflows.
        let nearest =
            self.points.iter().map(|q| q.0.distance_squared(p)).fold(f64::INFINITY, f64::min);
        let weight = |q: DVec3| match q.distance_squared(p) {
            d if nearest <= MET => f64::from(d <= MET),
            d => nearest / d,
        };
        let (sum, weights) = self.points.iter().fold((0.0, 0.0), |(sum, weights), (q, value)| {
            let w = weight(*q);
            (sum + w * value, weights + w)
        });
        if weights > 0.0 {
            sum / weights
        } else {
            0.0
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn one_place_holds_everywhere_and_two_share_their_middle() {
        let one = PointValues::new(&[(DVec3::ONE, 3.5)]);
        assert_eq!([DVec3::ONE, DVec3::ZERO, DVec3::splat(1e9)].map(|p| one.value(p)), [3.5; 3]);
        let two = PointValues::new(&[(DVec3::ZERO, 1.0), (DVec3::X * 10.0, 5.0)]);
        assert!((two.value(DVec3::new(5.0, 3.0, -8.0)) - 3.0).abs() < 1e-12);
        // On the line between, as t²/(t² + (1 − t)²).
        assert!((two.value(DVec3::X * 2.5) - (1.0 + 4.0 * 0.0625 / 0.625)).abs() < 1e-12);
        let twice = PointValues::new(&[(DVec3::X, 1.0), (DVec3::X, 2.0), (DVec3::Y, 9.0)]);
        assert_eq!((twice.value(DVec3::X), PointValues::new(&[]).value(DVec3::X)), (1.5, 0.0));
    }

    fn places() -> impl Strategy<Value = Vec<(DVec3, f64)>> {
        let place = prop::array::uniform3(-40.0..40.0f64).prop_map(DVec3::from);
        prop::collection::vec((place, 0.2..9.0f64), 1..12)
    }

    proptest! {
        #[test]
        fn points_are_met_exactly_without_a_jump_or_an_overshoot(
            points in places(),
            at in prop::array::uniform3(-60.0..60.0f64),
        ) {
            let field = PointValues::new(&points);
            let [least, most] = field.range();
            for (p, v) in &points {
                // Places a rounding apart count as one; here none are so near.
                prop_assert!((field.value(*p) - v).abs() < 1e-9);
                prop_assert!((field.value(*p + DVec3::splat(1e-7)) - v).abs() < 1e-3);
            }
            let p = DVec3::from(at);
            let v = field.value(p);
            prop_assert!(v >= least - 1e-12 && v <= most + 1e-12);
            // A value changes by no more than its spread over the distance of the two nearest.
            let gaps = points.iter().enumerate().flat_map(|(n, a)| {
                points[n + 1..].iter().map(|b| a.0.distance(b.0))
            });
            let gap = gaps.fold(80.0, f64::min);
            let change = (field.value(p + DVec3::X * 1e-3) - v).abs();
            prop_assert!(change <= 20.0 * (most - least) * 1e-3 / gap + 1e-12, "{change} {gap}");
        }
    }
}
