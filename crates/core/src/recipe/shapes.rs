//! Shapes of our own to begin with: recipe values, editable at any time.

use super::{check, RecipeError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A part by its dimensions. Lengths mm; it stands on z = 0 around the z axis, a torus around the
/// origin.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "shape", deny_unknown_fields)]
pub enum OwnShape {
    /// Edges rounded by a radius, 0 for sharp.
    Box {
        size_mm: [f64; 3],
        round_mm: f64,
    },
    /// With walls all around; open at the top, or closed.
    HollowBox {
        size_mm: [f64; 3],
        wall_mm: f64,
        open: bool,
    },
    Sphere {
        diameter_mm: f64,
    },
    Cylinder {
        diameter_mm: f64,
        height_mm: f64,
    },
    Tube {
        diameter_mm: f64,
        bore_mm: f64,
        height_mm: f64,
    },
    Cone {
        bottom_mm: f64,
        top_mm: f64,
        height_mm: f64,
    },
    Torus {
        diameter_mm: f64,
        thickness_mm: f64,
    },
    /// With rounded corners and a hole near each.
    Plate {
        size_mm: [f64; 3],
        corner_mm: f64,
        hole_mm: f64,
    },
}

/// Sizes that can be made. mm.
const LEAST: f64 = 0.1;
const MOST: f64 = 10_000.0;

impl OwnShape {
    pub fn validate(&self) -> Result<(), RecipeError> {
        let is = |what: &str, v: f64, low: f64, high: f64| check("part.shape", what, "mm", v, low, high);
        let sides = |s: &[f64; 3]| s.iter().try_for_each(|v| is("A side", *v, LEAST, MOST));
        let least = |s: &[f64; 3]| s.iter().copied().fold(f64::INFINITY, f64::min);
        match self {
            OwnShape::Box { size_mm, round_mm } => {
                sides(size_mm)?;
                is("The rounding", *round_mm, 0.0, 0.49 * least(size_mm))
            }
            OwnShape::HollowBox { size_mm, wall_mm, .. } => {
                sides(size_mm)?;
                is("The wall", *wall_mm, 0.01, 0.49 * least(size_mm))
            }
            OwnShape::Sphere { diameter_mm } => is("The diameter", *diameter_mm, LEAST, MOST),
            OwnShape::Cylinder { diameter_mm, height_mm } => {
                is("The diameter", *diameter_mm, LEAST, MOST)?;
                is("The height", *height_mm, LEAST, MOST)
            }
            OwnShape::Tube { diameter_mm, bore_mm, height_mm } => {
                is("The diameter", *diameter_mm, LEAST, MOST)?;
                is("The bore's diameter", *bore_mm, 0.01, 0.99 * diameter_mm)?;
                is("The height", *height_mm, LEAST, MOST)
            }
            OwnShape::Cone { bottom_mm, top_mm, height_mm } => {
                is("The lower diameter", *bottom_mm, LEAST, MOST)?;
                is("The upper diameter", *top_mm, 0.0, MOST)?;
                is("The height", *height_mm, LEAST, MOST)
            }
            OwnShape::Torus { diameter_mm, thickness_mm } => {
                is("The outer diameter", *diameter_mm, LEAST, MOST)?;
                is("The ring's thickness", *thickness_mm, 0.01, 0.49 * diameter_mm)
            }
            OwnShape::Plate { size_mm, corner_mm, hole_mm } => {
                sides(size_mm)?;
                let side = size_mm[0].min(size_mm[1]);
                is("The corners' radius", *corner_mm, 0.0, 0.49 * side)?;
                is("The holes' diameter", *hole_mm, 0.0, 0.3 * side)
            }
        }
    }

    /// Name for a new project.
    pub fn title(&self) -> &'static str {
        match self {
            OwnShape::Box { .. } => "Box",
            OwnShape::HollowBox { .. } => "Hollow box",
            OwnShape::Sphere { .. } => "Sphere",
            OwnShape::Cylinder { .. } => "Cylinder",
            OwnShape::Tube { .. } => "Tube",
            OwnShape::Cone { .. } => "Cone",
            OwnShape::Torus { .. } => "Torus",
            OwnShape::Plate { .. } => "Plate",
        }
    }
}
