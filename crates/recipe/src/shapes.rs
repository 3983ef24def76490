//! Shapes of our own to begin with: recipe values, editable at any time.

use super::{check, RecipeError, RecipeFault};
use crate::{curve, profile};
use glam::DVec3;
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// A part by its dimensions. Lengths mm; it stands on z = 0 around the z axis, a torus around the
/// origin.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "shape", deny_unknown_fields)]
pub enum OwnShape {
    /// Edges rounded by a radius, 0 for sharp.
    Box {
        /// Sides of the box. mm.
        size_mm: [f64; 3],
        /// Radius of its edges.
        round_mm: f64,
    },
    /// With walls all around; open at the top, or closed.
    HollowBox {
        /// Outer sides of the box. mm.
        size_mm: [f64; 3],
        /// Thickness of its walls.
        wall_mm: f64,
        /// Has the box no lid?
        open: bool,
        /// Radius of the outer corners around z, 0 for sharp; inside it is less by the wall.
        #[serde(default)]
        #[schema(required = true)]
        corner_mm: f64,
    },
    /// A ball.
    Sphere {
        /// Diameter of the ball. mm.
        diameter_mm: f64,
    },
    /// A cylinder that stands upright.
    Cylinder {
        /// Diameter of the cylinder. mm.
        diameter_mm: f64,
        /// Height of the cylinder. mm.
        height_mm: f64,
        /// Only the side, open at both ends.
        #[serde(default)]
        #[schema(required = true)]
        sheet: bool,
    },
    /// A cylinder with a bore.
    Tube {
        /// Outer diameter of the tube. mm.
        diameter_mm: f64,
        /// Diameter of the bore.
        bore_mm: f64,
        /// Height of the tube. mm.
        height_mm: f64,
    },
    /// A cone, whole or cut off.
    Cone {
        /// Diameter of its lower end.
        bottom_mm: f64,
        /// Diameter of its upper end.
        top_mm: f64,
        /// Height of the cone. mm.
        height_mm: f64,
        /// Only the side, open at both ends.
        #[serde(default)]
        #[schema(required = true)]
        sheet: bool,
    },
    /// A ring.
    Torus {
        /// Outer diameter of the ring. mm.
        diameter_mm: f64,
        /// Diameter of the ring's section.
        thickness_mm: f64,
    },
    /// With rounded corners and a hole near each.
    Plate {
        /// Sides of the plate. mm.
        size_mm: [f64; 3],
        /// Radius of its corners.
        corner_mm: f64,
        /// Diameter of its holes.
        hole_mm: f64,
    },
    /// A sphere of triangles of nearly one size: an icosahedron, each edge in so many parts.
    Geodesic {
        /// Diameter of the ball. mm.
        diameter_mm: f64,
        /// Parts that each edge of the first twenty triangles is cut into.
        parts: u32,
    },
    /// A closed profile turned about an axis that is parallel to its heights; in `steps` flat
    /// stretches around.
    Revolved {
        /// The outline.
        points: Vec<ProfilePoint>,
        /// Where the axis stands across the profile.
        axis_mm: f64,
        /// Steps around.
        steps: u32,
        /// Without the line from the last point to the first, and open there.
        #[serde(default)]
        #[schema(required = true)]
        sheet: bool,
    },
    /// Through outlines at rising heights, by straight lines or smoothly.
    Loft {
        /// Outlines from the lowest to the highest.
        sections: Vec<Section>,
        /// The surface runs smoothly through them.
        smooth: bool,
        /// Open at the first and last section.
        #[serde(default)]
        #[schema(required = true)]
        sheet: bool,
        /// All sections are drawn curves that end at their first and last point: a sheet between
        /// those.
        #[serde(default)]
        #[schema(required = true)]
        open: bool,
    },
    /// A sheet that a grid of control points pulls at, `across` to a row; its corners are on it.
    FreeForm {
        /// Points in a row.
        across: u32,
        /// Places of the points, row after row.
        points_mm: Vec<[f64; 3]>,
    },
}

/// A point of a profile and the line from it to the next one, the last to the first.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProfilePoint {
    /// Across and up.
    pub at_mm: [f64; 2],
    /// How far an arc bows out to the right of the way to the next point; 0 for a straight line.
    #[serde(default)]
    #[schema(required = true)]
    pub bow_mm: f64,
}

/// An outline of a loft: a rectangle with rounded corners, an ellipse, or a smooth curve.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Section {
    /// Height of the section. mm.
    pub height_mm: f64,
    /// Sides of the section. mm.
    pub size_mm: [f64; 2],
    /// 0 for sharp corners, 100 for an ellipse.
    pub round_percent: f64,
    /// About the outline's middle, counter-clockwise.
    pub turn_deg: f64,
    /// Middle of the section. mm.
    pub middle_mm: [f64; 2],
    /// Points of a smooth curve around the middle, before the turn, in the place of size and
    /// roundness; or none.
    #[serde(default)]
    #[schema(required = true)]
    pub curve_mm: Vec<[f64; 2]>,
}

/// Points of a profile, and sections of a loft.
const MOST_POINTS: usize = 200;
const MOST_SECTIONS: usize = 50;
/// Control points along a side of a sheet.
const MOST_CONTROL: f64 = 24.0;

/// Sizes that can be made. mm.
const LEAST: f64 = 0.1;
const MOST: f64 = 10_000.0;

impl OwnShape {
    /// Refuses a shape that cannot be built.
    ///
    /// # Errors
    /// The first value that is out of its range.
    pub fn validate(&self) -> Result<(), RecipeError> {
        let is =
            |what: &str, v: f64, low: f64, high: f64| check("part.shape", what, "mm", v, low, high);
        let sides = |s: &[f64; 3]| s.iter().try_for_each(|v| is("A side", *v, LEAST, MOST));
        let least = |s: &[f64; 3]| s.iter().copied().fold(f64::INFINITY, f64::min);
        match self {
            OwnShape::Box { size_mm, round_mm } => {
                sides(size_mm)?;
                is("The rounding", *round_mm, 0.0, 0.49 * least(size_mm))
            }
            OwnShape::HollowBox { size_mm, wall_mm, corner_mm, .. } => {
                sides(size_mm)?;
                is("The wall", *wall_mm, 0.01, 0.49 * least(size_mm))?;
                is("The corners' radius", *corner_mm, 0.0, 0.49 * size_mm[0].min(size_mm[1]))
            }
            OwnShape::Sphere { diameter_mm } => is("The diameter", *diameter_mm, LEAST, MOST),
            OwnShape::Cylinder { diameter_mm, height_mm, .. } => {
                is("The diameter", *diameter_mm, LEAST, MOST)?;
                is("The height", *height_mm, LEAST, MOST)
            }
            OwnShape::Tube { diameter_mm, bore_mm, height_mm } => {
                is("The diameter", *diameter_mm, LEAST, MOST)?;
                is("The bore's diameter", *bore_mm, 0.01, 0.99 * diameter_mm)?;
                is("The height", *height_mm, LEAST, MOST)
            }
            OwnShape::Cone { bottom_mm, top_mm, height_mm, .. } => {
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
            OwnShape::Geodesic { diameter_mm, parts } => {
                is("The diameter", *diameter_mm, LEAST, MOST)?;
                check("part.shape", "The number of parts", "", *parts as f64, 1.0, 128.0)
            }
            OwnShape::Revolved { points, axis_mm, steps, sheet } => {
                check(
                    "part.shape",
                    "The number of points",
                    "",
                    points.len() as f64,
                    2.0,
                    MOST_POINTS as f64,
                )?;
                check("part.shape", "The number of steps around", "", *steps as f64, 3.0, 720.0)?;
                is("The axis", *axis_mm, -MOST, MOST)?;
                points
                    .iter()
                    .flat_map(|p| [p.at_mm[0], p.at_mm[1], p.bow_mm])
                    .try_for_each(|v| is("A point", v, -MOST, MOST))?;
                profile::outline(points, *axis_mm, *sheet).map(|_| ())
            }
            OwnShape::Loft { sections, open, .. } => {
                check(
                    "part.shape",
                    "The number of sections",
                    "",
                    sections.len() as f64,
                    2.0,
                    MOST_SECTIONS as f64,
                )?;
                sections.iter().enumerate().try_for_each(|(n, s)| s.validate(n + 1, *open))?;
                let rise = sections
                    .windows(2)
                    .map(|s| s[1].height_mm - s[0].height_mm)
                    .fold(f64::INFINITY, f64::min);
                is("The least rise from one section to the next", rise, LEAST, MOST)
            }
            OwnShape::FreeForm { across, points_mm } => {
                let rows = points_mm.len() as f64 / *across as f64;
                check(
                    "part.shape",
                    "The number of control points in a row",
                    "",
                    *across as f64,
                    2.0,
                    MOST_CONTROL,
                )?;
                check(
                    "part.shape",
                    "The number of rows of control points",
                    "",
                    rows,
                    2.0,
                    MOST_CONTROL,
                )?;
                points_mm
                    .iter()
                    .flatten()
                    .try_for_each(|v| is("A control point", *v, -MOST, MOST))?;
                let size =
                    Bounds::of(points_mm.iter().map(|p| DVec3::from(*p))).size().max_element();
                is("The sheet's longest side", size, LEAST, MOST)?;
                if points_mm.len() % *across as usize != 0 {
                    return Err(RecipeError::new(
                        "part.shape",
                        RecipeFault::RaggedRows { points: points_mm.len(), across: *across },
                    ));
                }
                Ok(())
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
            OwnShape::Geodesic { .. } => "Geodesic sphere",
            OwnShape::Revolved { .. } => "Revolved part",
            OwnShape::Loft { .. } => "Loft",
            OwnShape::FreeForm { .. } => "Free-form sheet",
        }
    }
}

impl Section {
    /// A rectangle around the axis with rounded corners, or an ellipse.
    pub fn rounded(
        height_mm: f64,
        size_mm: [f64; 2],
        round_percent: f64,
        turn_deg: f64,
    ) -> Section {
        Section {
            height_mm,
            size_mm,
            round_percent,
            turn_deg,
            middle_mm: [0.0; 2],
            curve_mm: Vec::new(),
        }
    }

    /// `number` counts from 1; `open` curves end at their first and last point.
    fn validate(&self, number: usize, open: bool) -> Result<(), RecipeError> {
        let is = |what: &str, unit: &'static str, v: f64, low: f64, high: f64| {
            check("part.shape", what, unit, v, low, high)
        };
        is("A section's height", "mm", self.height_mm, -MOST, MOST)?;
        self.size_mm.iter().try_for_each(|v| is("A section's side", "mm", *v, LEAST, MOST))?;
        is("A section's roundness", "%", self.round_percent, 0.0, 100.0)?;
        is("A section's turn", "°", self.turn_deg, -720.0, 720.0)?;
        self.middle_mm.iter().try_for_each(|v| is("A section's middle", "mm", *v, -MOST, MOST))?;
        if self.curve_mm.is_empty() && !open {
            return Ok(());
        }
        let least = if open { 2.0 } else { 3.0 };
        check(
            "part.shape",
            "The number of points of a section's curve",
            "",
            self.curve_mm.len() as f64,
            least,
            MOST_POINTS as f64,
        )?;
        self.curve_mm
            .iter()
            .flatten()
            .try_for_each(|v| is("A point of a section's curve", "mm", *v, -MOST, MOST))?;
        curve::through(&self.curve_mm, open, &format!("the curve of section {number}")).map(|_| ())
    }
}
