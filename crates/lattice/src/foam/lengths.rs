//! The length of a wave by place, as a share of the longest one.

use crate::sizes::CellSizes;
use glam::DVec3;

/// Sizes of cells at places that are divided by the size of the largest, as those of the field are.
pub(super) struct Lengths {
    pub sizes: CellSizes,
    /// Size of the largest cells along each axis. mm.
    pub scale: DVec3,
}

impl Lengths {
    /// The shortest wave.
    pub(super) fn least(&self) -> f64 {
        self.sizes.least()
    }

    /// The wave at a place of the field.
    #[inline]
    pub(super) fn at(&self, q: DVec3) -> f32 {
        self.sizes.share(q * self.scale) as f32
    }

    pub(super) fn bytes(&self) -> usize {
        self.sizes.bytes()
    }
}
