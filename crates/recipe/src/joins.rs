//! What walls and struts look like where they meet, and along their way.

use super::{check, RecipeError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How struts and walls meet. Absolute, so that thickness and density stay in step.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Joins {
    /// Radius within which members that meet flow into each other. mm.
    #[schema(required = true)]
    pub blend_mm: f64,
    /// By how much nodes are thicker than the struts that meet there. mm.
    #[schema(required = true)]
    pub node_mm: f64,
    /// By how much struts of the net on the part's surface are thicker than those inside. mm.
    #[schema(required = true)]
    pub net_mm: f64,
    /// Where no skin or solid covers it the lattice reaches past the part's surface by half its
    /// thickness, so that struts there are whole; else it is trimmed.
    #[schema(required = true)]
    pub proud: bool,
    /// What struts look like where they are cut across.
    #[serde(skip_serializing_if = "StrutSection::is_round")]
    pub section: StrutSection,
}

/// The section of struts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "shape", deny_unknown_fields)]
pub enum StrutSection {
    /// As wide as the thickness.
    #[default]
    Round,
    /// As wide as the thickness, and higher.
    Rectangular {
        /// By how much. mm.
        taller_mm: f64,
        /// About the strut's axis; untwisted the height of a strut points as far along z as it can,
        /// that of an upright one along x. Degrees.
        turn_deg: f64,
    },
}

impl StrutSection {
    /// Are struts round?
    pub fn is_round(&self) -> bool {
        *self == StrutSection::Round
    }
}

impl Joins {
    pub(super) fn validate(&self, cell: f64) -> Result<(), RecipeError> {
        check("joins.blend_mm", "The blend", "mm", self.blend_mm, 0.0, 0.5 * cell)?;
        check("joins.net_mm", "The net's extra thickness", "mm", self.net_mm, 0.0, 0.8 * cell)?;
        if let StrutSection::Rectangular { taller_mm, turn_deg } = self.section {
            check(
                "joins.section.taller_mm",
                "The height of struts over their width",
                "mm",
                taller_mm,
                0.0,
                cell,
            )?;
            check(
                "joins.section.turn_deg",
                "The turn of struts about their axes",
                "°",
                turn_deg,
                -360.0,
                360.0,
            )?;
        }
        check("joins.node_mm", "The nodes' extra thickness", "mm", self.node_mm, 0.0, 0.8 * cell)
    }
}
