//! A strut cell drawn by hand.

use super::{check, RecipeError, RecipeFault};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Steps of the raster in which a cell is drawn, along each of its sides.
pub const STEPS: i8 = 12;
/// Most struts of a cell.
const MOST: usize = 300;

/// Struts of a cell that repeats along its three axes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnCell {
    /// The two ends of each strut, in twelfths of the cell along its axes.
    pub struts: Vec<[[i8; 3]; 2]>,
}

impl Default for OwnCell {
    /// Body-centred.
    fn default() -> Self {
        let corner = |c: i8| [c & 1, c >> 1 & 1, c >> 2].map(|side| side * STEPS);
        OwnCell { struts: (0..8).map(|c| [[STEPS / 2; 3], corner(c)]).collect() }
    }
}

impl OwnCell {
    /// Refuses a cell that cannot be built.
    ///
    /// # Errors
    /// The first thing of it that is wrong.
    pub fn validate(&self) -> Result<(), RecipeError> {
        let field = "structure.pattern.own";
        check(
            field,
            "The number of struts of the cell",
            "",
            self.struts.len() as f64,
            1.0,
            MOST as f64,
        )?;
        for (n, [a, b]) in self.struts.iter().enumerate() {
            for v in a.iter().chain(b) {
                check(
                    field,
                    &format!("An end of strut {}", n + 1),
                    "twelfths of the cell",
                    *v as f64,
                    0.0,
                    STEPS as f64,
                )?;
            }
            if a == b {
                return Err(RecipeError::new(field, RecipeFault::StrutWithoutLength(n + 1)));
            }
        }
        Ok(())
    }
}
