//! What becomes of what a net of struts has too much of.

use super::{check, RecipeError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What becomes of short struts, dead ends, crowded nodes and loose pieces. Exact duplicates always
/// go.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct CleanUp {
    /// Struts shorter than this share of the cell size are drawn together into one node.
    #[schema(required = true)]
    pub weld: f64,
    /// What becomes of struts that end freely.
    #[schema(required = true)]
    pub dead_ends: DeadEnds,
    /// Struts cut by the part's surface are dropped where less than this share of a cell is left;
    /// 0: none.
    #[schema(required = true)]
    pub least_left: f64,
    /// Nodes where more struts meet are drawn apart into several; 0: none.
    #[schema(required = true)]
    pub most_at_node: u32,
    /// Pieces that hang on nothing and are much smaller than the largest stay.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub keep_loose: bool,
    /// Struts that run on through a node curve there, each as up to 2 to the power of this straight
    /// pieces; 0: they are straight.
    #[serde(skip_serializing_if = "is_zero")]
    pub curved: u32,
}

impl Default for CleanUp {
    fn default() -> Self {
        CleanUp {
            weld: 0.1,
            dead_ends: DeadEnds::Kept,
            least_left: 0.0,
            most_at_node: 0,
            keep_loose: false,
            curved: 0,
        }
    }
}

fn is_zero(n: &u32) -> bool {
    *n == 0
}

/// Struts with an end inside the part at which no other begins.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeadEnds {
    /// Dead ends stay.
    #[default]
    Kept,
    /// Dead ends go, until there are none.
    Removed,
    /// Straight on to the part's surface.
    Extended,
}

/// No node is drawn apart that holds fewer.
const LEAST_AT_NODE: f64 = 4.0;

/// No strut is cut into more than eight pieces.
const MOST_HALVINGS: f64 = 3.0;

impl CleanUp {
    pub(super) fn validate(&self) -> Result<(), RecipeError> {
        let field = "structure.pattern.clean";
        check(field, "The share below which struts are welded", "", self.weld, 0.0, 0.4)?;
        check(
            field,
            "The share of a cell that is left of cut struts",
            "",
            self.least_left,
            0.0,
            1.0,
        )?;
        check(
            field,
            "The number of halvings of curved struts",
            "",
            self.curved as f64,
            0.0,
            MOST_HALVINGS,
        )?;
        if self.most_at_node > 0 {
            check(
                field,
                "The number of struts at a node",
                "",
                self.most_at_node as f64,
                LEAST_AT_NODE,
                100.0,
            )?;
        }
        Ok(())
    }
}
