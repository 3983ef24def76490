//! What gradings lead of a filling.

use super::{GradedValue, Grading};
use crate::{Filling, Thicken};

impl<'a> Filling<'a> {
    /// The grading that leads a value. `None` where nothing leads it, or where the structure makes
    /// no use of that.
    pub fn grading_of(&self, value: GradedValue) -> Option<&'a Grading> {
        let used = value != GradedValue::CellSize || self.structure.sizes_by_place();
        self.gradings.iter().find(|g| used && g.of == value && g.is_active())
    }

    /// Do cells change their size from place to place?
    pub fn sizes_by_place(&self) -> bool {
        self.grading_of(GradedValue::CellSize).is_some()
    }

    /// The relative density that thickness is to lead to, in percent. `None` where the thickness
    /// leads, or where a grading says how dense each place is.
    pub fn asked_density(&self) -> Option<f64> {
        match self.thicken {
            Thicken::RelativeDensity { percent } => {
                self.grading_of(GradedValue::Density).is_none().then_some(percent)
            }
            Thicken::Thickness { .. } => None,
        }
    }

    /// Size of the smallest cells that a grading names over the cell size.
    pub fn least_cell_share(&self) -> f64 {
        let Some(grading) = self.grading_of(GradedValue::CellSize) else { return 1.0 };
        let cell = self.structure.smallest();
        let shares = grading.values().map(|v| grading.given.applied(v, cell) / cell);
        shares.reduce(f64::min).unwrap_or(1.0)
    }
}
