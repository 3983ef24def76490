//! Eight boxes beside each other in 32 bits, asked all at once.

use crate::Bounds;
use glam::{DVec3, Vec3};
use wide::f32x8;

/// Boxes in an [`Eight`].
pub(super) const EIGHT: usize = 8;

/// A box in 32 bits, no smaller than what it is around.
#[derive(Clone, Copy)]
pub(super) struct NodeBox {
    pub min: Vec3,
    pub max: Vec3,
}

impl NodeBox {
    pub(super) fn around(b: &Bounds) -> NodeBox {
        let (mut min, mut max) = (b.min.as_vec3(), b.max.as_vec3());
        for axis in 0..3 {
            if min[axis] as f64 > b.min[axis] {
                min[axis] = min[axis].next_down();
            }
            if (max[axis] as f64) < b.max[axis] {
                max[axis] = max[axis].next_up();
            }
        }
        NodeBox { min, max }
    }

    pub(super) fn union(&self, other: &NodeBox) -> NodeBox {
        NodeBox { min: self.min.min(other.min), max: self.max.max(other.max) }
    }
}

/// A place, as eight boxes are asked how far they lie from it.
pub(super) struct FromPlace {
    place: [f32x8; 3],
    /// Rounding the place to 32 bits moves it by less along any axis.
    slack: f32x8,
}

impl FromPlace {
    pub(super) fn new(p: DVec3) -> FromPlace {
        let single = p.as_vec3();
        let slack = single.abs().max_element() * f32::EPSILON;
        FromPlace { place: single.to_array().map(f32x8::splat), slack: f32x8::splat(slack) }
    }
}

/// Lower limits and upper limits of eight boxes by axis.
#[derive(Clone, Copy)]
pub(super) struct Eight {
    min: [f32x8; 3],
    max: [f32x8; 3],
}

impl Eight {
    pub(super) fn of(boxes: &[NodeBox; EIGHT]) -> Eight {
        let by_axis = |of: fn(&NodeBox) -> Vec3| {
            [0, 1, 2].map(|axis| f32x8::from(boxes.map(|b| of(&b)[axis])))
        };
        Eight { min: by_axis(|b| b.min), max: by_axis(|b| b.max) }
    }

    /// One of the boxes.
    pub(super) fn get(&self, n: usize) -> NodeBox {
        let of = |all: &[f32x8; 3]| Vec3::from_array(all.map(|lanes| lanes.to_array()[n]));
        NodeBox { min: of(&self.min), max: of(&self.max) }
    }

    /// One bit for each box that overlaps this one, borders included.
    #[inline(always)]
    pub(super) fn overlapping(&self, b: &NodeBox) -> u32 {
        let axis = |n: usize| {
            self.min[n].simd_le(f32x8::splat(b.max[n]))
                & f32x8::splat(b.min[n]).simd_le(self.max[n])
        };
        (axis(0) & axis(1) & axis(2)).to_bitmask()
    }

    /// Squares of the distances to the boxes. None is larger than the true one, as far as 32 bits
    /// reach: what is larger than they hold is infinite.
    #[inline(always)]
    pub(super) fn distances_squared(&self, from: &FromPlace) -> f32x8 {
        // Relative errors of three roundings of squares.
        const LESS: f32 = 1.0 - 1e-6;
        let mut sum = f32x8::ZERO;
        for n in 0..3 {
            let gap = (self.min[n] - from.place[n]).max(from.place[n] - self.max[n]) - from.slack;
            // What is not a number, far out, counts as no distance: `max` keeps the first then.
            let gap = f32x8::ZERO.max(gap);
            sum += gap * gap;
        }
        sum * LESS
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn boxes_in_32_bits_hold_what_they_are_around() {
        for (n, scale) in [1e-30, 1e-3, 1.0, 1e7, 1e30, 1e300].into_iter().enumerate() {
            let p = DVec3::new(0.1, -1.0 / 3.0, 0.7) * scale * (1.0 + n as f64);
            let b = Bounds { min: p.min(-p), max: p.max(-p) };
            let held = NodeBox::around(&b);
            let (min, max) = (held.min.as_dvec3(), held.max.as_dvec3());
            assert!(
                min.cmple(b.min).all() && max.cmpge(b.max).all(),
                "{scale}: {min} {max} around {b:?}"
            );
        }
    }

    fn place(scale: f64) -> impl Strategy<Value = DVec3> {
        (-scale..scale, -scale..scale, -scale..scale).prop_map(|(x, y, z)| DVec3::new(x, y, z))
    }

    proptest! {
        #[test]
        fn eight_boxes_answer_as_each_alone(
            ends in prop::collection::vec((place(9.0), place(9.0)), EIGHT),
            asked in (place(9.0), place(9.0)),
            p in place(30.0),
            away in prop_oneof![Just(0.0), Just(1e3), Just(1e7), Just(1e25), Just(1e200)],
        ) {
            let p = p + DVec3::splat(away);
            let bounds = |(a, b): &(DVec3, DVec3)| Bounds::of([*a, *b]);
            let mut boxes: Vec<Bounds> = ends.iter().map(bounds).collect();
            boxes[5] = Bounds::EMPTY;
            let held: Vec<NodeBox> = boxes.iter().map(NodeBox::around).collect();
            let eight = Eight::of(held[..].try_into().unwrap());
            let asked = NodeBox::around(&bounds(&asked));
            let mask = eight.overlapping(&asked);
            let distances = eight.distances_squared(&FromPlace::new(p)).to_array();
            for n in 0..EIGHT {
                prop_assert_eq!((eight.get(n).min, eight.get(n).max), (held[n].min, held[n].max));
                let overlaps = held[n].min.cmple(asked.max).all() && asked.min.cmple(held[n].max).all();
                prop_assert_eq!(mask >> n & 1 == 1, overlaps);
                let of = Bounds { min: held[n].min.as_dvec3(), max: held[n].max.as_dvec3() };
                let (told, exact) = (distances[n] as f64, of.distance_squared(p));
                if told.is_infinite() {
                    prop_assert!(exact > 3e38, "{} of {}", told, exact);
                } else {
                    prop_assert!(told <= exact, "{} of {}", told, exact);
                    prop_assert!(away > 0.0 || told.sqrt() > exact.sqrt() - 1e-4, "{} of {}", told, exact);
                }
            }
        }
    }
}
