//! How the part stands on the printer's bed.

use super::{check, RecipeError, RecipeFault};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Files are written as the part stands, in the middle of the bed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Stand {
    /// The direction of the part that faces the bed. Any length but 0.
    pub down: [f64; 3],
    /// Turn about the vertical, after `down`, counter-clockwise seen from above. Degrees.
    pub turn_deg: f64,
    /// Width, depth and height of the space that the printer has. mm.
    pub bed_mm: [f64; 3],
}

impl Default for Stand {
    fn default() -> Stand {
        Stand { down: [0.0, 0.0, -1.0], turn_deg: 0.0, bed_mm: [220.0, 220.0, 250.0] }
    }
}

impl Stand {
    pub(super) fn validate(&self) -> Result<(), RecipeError> {
        self.down.iter().try_for_each(|v| {
            check("stand.down", "The direction towards the bed", "", *v, -1e6, 1e6)
        })?;
        if self.down.iter().all(|v| v.abs() < 1e-9) {
            return Err(RecipeError::new("stand.down", RecipeFault::NoDirection));
        }
        check("stand.turn_deg", "The turn on the bed", "°", self.turn_deg, -360.0, 360.0)?;
        self.bed_mm
            .iter()
            .try_for_each(|v| check("stand.bed_mm", "A side of the bed", "mm", *v, 1.0, 1e5))
    }
}
