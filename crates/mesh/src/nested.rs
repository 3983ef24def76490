//! Boxes within other boxes, found in a tree over their six sides (k-d tree, Bentley 1975).

use crate::Bounds;

/// Boxes, to be asked which of them lie in another one.
pub struct Boxes<'a> {
    all: &'a [Bounds],
    /// Numbers of boxes; each node's are halved at the middle by one of the six sides in turn.
    order: Vec<u32>,
    /// The box around the boxes of each node; the nodes are numbered from 1, those below `n` are
    /// `2n` and `2n + 1`.
    reach: Vec<Bounds>,
}

/// Boxes of a leaf.
const LEAF: usize = 8;

impl<'a> Boxes<'a> {
    /// Sorts boxes for asking which ones hold others.
    pub fn new(all: &'a [Bounds]) -> Boxes<'a> {
        let mut order: Vec<u32> = (0..all.len() as u32).collect();
        let leaves = all.len().div_ceil(LEAF).next_power_of_two();
        let mut boxes = Boxes { all, order: Vec::new(), reach: vec![Bounds::EMPTY; 2 * leaves] };
        boxes.split(&mut order, 1, 0);
        boxes.order = order;
        boxes
    }

    fn split(&mut self, order: &mut [u32], node: usize, side: usize) {
        let all = self.all;
        self.reach[node] =
            order.iter().fold(Bounds::EMPTY, |reach, &b| reach.union(all[b as usize]));
        if 2 * node >= self.reach.len() {
            return;
        }
        let value = |b: &u32| {
            let b = all[*b as usize];
            if side < 3 {
                b.min[side]
            } else {
                b.max[side - 3]
            }
        };
        let middle = order.len() / 2;
        if middle > 0 {
            order.select_nth_unstable_by(middle, |a, b| value(a).total_cmp(&value(b)));
        }
        let (low, high) = order.split_at_mut(middle);
        self.split(low, 2 * node, (side + 1) % 6);
        self.split(high, 2 * node + 1, (side + 1) % 6);
    }

    /// Does a box lie in one that is not the same?
    pub fn lies_in_another(&self, own: &Bounds) -> bool {
        let mut stack = vec![(1, 0, self.order.len())];
        while let Some((node, from, to)) = stack.pop() {
            // A box that holds this one reaches as far, and so does all that it is in.
            if from == to || !self.reach[node].contains(own) {
                continue;
            }
            if 2 * node >= self.reach.len() {
                let held = self.order[from..to].iter().map(|&b| &self.all[b as usize]);
                if { held }.any(|b| b != own && b.contains(own)) {
                    return true;
                }
                continue;
            }
            let middle = from + (to - from) / 2;
            stack.push((2 * node, from, middle));
            stack.push((2 * node + 1, middle, to));
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn boxes_in_boxes_are_found_as_by_looking_at_all(
            corners in prop::collection::vec((0i32..8, 0i32..8, 0i32..8, 1i32..5, 1i32..5, 1i32..5), 0..80)
        ) {
            let all: Vec<Bounds> = corners
                .iter()
                .map(|&(x, y, z, a, b, c)| {
                    let min = DVec3::new(x as f64, y as f64, z as f64);
                    Bounds { min, max: min + DVec3::new(a as f64, b as f64, c as f64) }
                })
                .collect();
            let boxes = Boxes::new(&all);
            for own in &all {
                prop_assert_eq!(boxes.lies_in_another(own), all.iter().any(|b| b != own && b.contains(own)));
            }
        }
    }

    #[test]
    fn many_boxes_beside_each_other_take_no_square_of_their_number() {
        let all: Vec<Bounds> = (0..200_000)
            .map(|n| {
                let min =
                    DVec3::new(n as f64 * 1e-4, (n % 500) as f64 * 0.01, (n % 77) as f64 * 0.01);
                Bounds { min, max: min + 10.0 }
            })
            .collect();
        let boxes = Boxes::new(&all);
        assert!(!all.iter().any(|b| boxes.lies_in_another(b)));
    }
}
