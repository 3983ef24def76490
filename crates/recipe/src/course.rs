//! The course that rows of strut cells take through the part.

use super::{check, FaceMark, RecipeError, RecipeFault};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How rows of strut cells bend.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "course", deny_unknown_fields)]
pub enum Course {
    /// Around an axis, whole cells from the part's innermost to its outermost place and from end to
    /// end.
    Polar {
        /// The face whose axis it is; absent: the largest cylinder's, or z through the middle of
        /// the part's box.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        about: Option<FaceMark>,
        /// Cells outward, all round and along the axis; 0: as many as come nearest to the cell
        /// size.
        counts: [u32; 3],
    },
    /// From some faces to those opposite, upright on the first, whole cells meeting both.
    Between {
        /// Without any: the part's lowest place along z.
        from: Vec<FaceMark>,
        /// Without any: its highest.
        to: Vec<FaceMark>,
        /// Cells from one to the other; 0: as many as come nearest to the cell size.
        layers: u32,
    },
}

/// Most cells along one direction.
const MOST: f64 = 2000.0;

impl Course {
    pub(super) fn validate(&self) -> Result<(), RecipeError> {
        let count =
            |what: &str, n: u32| check("structure.pattern.rows", what, "", n as f64, 0.0, MOST);
        match self {
            Course::Polar { counts: [_, 1 | 2, _], .. } => {
                Err(RecipeError::new("structure.pattern.rows", RecipeFault::TooFewAround))
            }
            Course::Polar { counts, .. } => {
                counts.iter().try_for_each(|&n| count("The number of cells", n))
            }
            Course::Between { layers, .. } => count("The number of layers", *layers),
        }
    }
}
