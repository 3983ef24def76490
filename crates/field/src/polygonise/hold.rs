//! Points that are moved so that nothing crosses stay within the shape.

use super::Shape;
use glam::DVec3;

/// How far past the border a point may lie, in steps.
const PAST: f64 = 0.05;
/// Differences are taken over this share of a step.
const BESIDE: f64 = 0.02;
const ROUNDS: usize = 4;
/// How far a point is moved for it, in steps: what lies farther out is left to the part's own
/// surface.
const FARTHEST: f64 = 1.0;

/// A place of the shape: `p` itself where it lies in it or hardly past its border, else the nearest
/// place of the border about. On the part's own surface it is exact.
pub fn drawn_in(shape: &dyn Shape, p: DVec3, step: f64) -> DVec3 {
    let confined = shape.confine(p);
    let mut q = confined;
    for _ in 0..ROUNDS {
        let value = shape.value(q);
        if value <= PAST * step {
            return q;
        }
        if value > FARTHEST * step {
            break;
        }
        let h = BESIDE * step;
        let along =
            |axis: DVec3| (shape.value(q + axis * h) - shape.value(q - axis * h)) / (2.0 * h);
        let slope = DVec3::from(DVec3::AXES.map(along));
        // Where two borders meet the slope may vanish between them.
        if slope.length_squared() < 0.01 {
            break;
        }
        let next = shape.confine(q - slope * (value / slope.length_squared()));
        if next.distance(confined) > FARTHEST * step {
            break;
        }
        q = next;
    }
    q
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::polygonise::{Edge, EdgeCrossing, RowPoints};
    use proptest::prelude::*;

    /// A block that is kept clear of a ball.
    struct Bitten;
    impl Shape for Bitten {
        fn edge_crossings(&self, _: &[Edge], _: &mut [EdgeCrossing]) {}
        fn project(&self, _: &mut RowPoints) {}
        fn value(&self, p: DVec3) -> f64 {
            let block = (p.abs() - 3.0).max_element();
            block.max(1.5 - p.distance(DVec3::new(3.0, 0.0, 0.0)))
        }
    }

    proptest! {
        #[test]
        fn places_come_to_lie_in_the_shape_and_move_no_farther_than_they_must(p in proptest::array::uniform3(-3.4..3.4f64)) {
            let (p, step) = (DVec3::from(p), 0.5);
            let q = drawn_in(&Bitten, p, step);
            let (before, after) = (Bitten.value(p), Bitten.value(q));
            prop_assume!(before < 0.3 * step);
            if before <= PAST * step {
                prop_assert_eq!(q, p);
            } else {
                prop_assert!(after <= PAST * step + 1e-9, "{} from {}", after, before);
                prop_assert!(q.distance(p) <= FARTHEST * step);
            }
        }
    }
}
