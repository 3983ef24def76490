//! The triangles of a leaf, with their boxes beside each other.

use crate::Bounds;
use glam::DVec3;
use wide::f64x4;

/// Triangles of a leaf at most.
pub(super) const FEW: usize = 4;

/// Corners and boxes of a leaf's triangles.
#[derive(Clone, Copy)]
pub(super) struct Few {
    pub corners: [[DVec3; 3]; FEW],
    /// Limits of their boxes by axis.
    min: [[f64; FEW]; 3],
    max: [[f64; FEW]; 3],
}

impl Few {
    /// Lays up to [`FEW`] triangles beside each other; boxes of missing ones overlap nothing.
    pub(super) fn of(triangles: impl Iterator<Item = [DVec3; 3]>) -> Few {
        let (min, max) = ([[f64::INFINITY; FEW]; 3], [[f64::NEG_INFINITY; FEW]; 3]);
        let mut out = Few { corners: [[DVec3::ZERO; 3]; FEW], min, max };
        for (n, corners) in triangles.enumerate() {
            let around = Bounds::of(corners);
            out.corners[n] = corners;
            (0..3).for_each(|axis| {
                (out.min[axis][n], out.max[axis][n]) = (around.min[axis], around.max[axis])
            });
        }
        out
    }

    /// One bit for each triangle whose box overlaps that of triangle `m` of `other`, borders
    /// included.
    #[inline(always)]
    pub(super) fn overlapping(&self, other: &Few, m: usize) -> u32 {
        let axis = |n: usize| {
            f64x4::from(self.min[n]).simd_le(f64x4::splat(other.max[n][m]))
                & f64x4::splat(other.min[n][m]).simd_le(f64x4::from(self.max[n]))
        };
        (axis(0) & axis(1) & axis(2)).to_bitmask()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn triangle() -> impl Strategy<Value = [DVec3; 3]> {
        prop::array::uniform3((-3.0..3.0f64, -3.0..3.0f64, -3.0..3.0f64))
            .prop_map(|t| t.map(|(x, y, z)| DVec3::new(x, y, z)))
    }

    proptest! {
        #[test]
        fn boxes_of_a_leaf_overlap_as_each_alone(
            a in prop::collection::vec(triangle(), 0..=FEW),
            b in prop::collection::vec(triangle(), 1..=FEW),
        ) {
            let [few, others] = [&a, &b].map(|all| Few::of(all.iter().copied()));
            for (m, other) in b.iter().enumerate() {
                let overlaps = |t: &[DVec3; 3]| Bounds::of(*t).overlaps(&Bounds::of(*other));
                let wanted = a.iter().enumerate().map(|(n, t)| (overlaps(t) as u32) << n).sum::<u32>();
                prop_assert_eq!(few.overlapping(&others, m), wanted);
            }
        }
    }
}
