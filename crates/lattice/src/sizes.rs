//! Cells whose size changes from place to place.

use glam::DVec3;
use ulmix_field::scalar::{Sampled, ScalarField};
use ulmix_recipe::grading::Given;
use ulmix_recipe::Structure;

/// The least size of a cell as a share of the largest.
const LEAST_SHARE: f64 = 0.02;

/// What a grading gives in a part's box, and what that is.
#[derive(Clone, Copy)]
pub struct GradedValues<'a> {
    /// The values, in the unit of the grading.
    pub values: &'a Sampled,
    /// What the values are.
    pub given: Given,
}

/// The size of cells by place, as a share of where they are largest.
pub struct CellSizes {
    shares: Sampled,
}

impl CellSizes {
    /// Sizes of a structure's cells, and the structure with the cell size of where cells are
    /// largest. No sizes where cells are of one size everywhere.
    pub fn of(
        sizes: Option<GradedValues>,
        structure: &Structure,
    ) -> (Option<CellSizes>, Structure) {
        let graded = sizes.filter(|_| structure.sizes_by_place());
        let Some(GradedValues { values, given }) = graded else {
            return (None, structure.clone());
        };
        let cell = structure.smallest();
        let share = |v: f64| given.applied(v, cell) / cell;
        let largest = share(values.range()[1]).max(LEAST_SHARE);
        let of_largest = |v: f32| (share(v as f64) / largest).max(LEAST_SHARE) as f32;
        let cell_mm = structure.cell_mm.map(|v| v * largest);
        let scaled = Structure { cell_mm, ..structure.clone() };
        (Some(CellSizes { shares: values.mapped(of_largest) }), scaled)
    }

    /// The smallest share.
    pub fn least(&self) -> f64 {
        self.shares.range()[0]
    }

    /// By how much the share changes over a mm at most.
    pub fn steepest(&self) -> f64 {
        self.shares.steepest()
    }

    /// Size at a place over that of the largest cells.
    #[inline]
    pub fn share(&self, p: DVec3) -> f64 {
        self.shares.value(p)
    }

    /// Memory that is held.
    pub fn bytes(&self) -> usize {
        self.shares.bytes()
    }
}
