//! What gives a number at every place of a part.

use super::ValueTable;
use crate::zones::{marks, FARTHEST};
use crate::{check, FaceMark, RecipeError, RecipeFault};
use serde::{Deserialize, Serialize};
use ulmix_mesh::Bounds;
use utoipa::ToSchema;

/// What gives a number at every place of a part. Distances are never below 0, and 0 inside what
/// they are from. mm.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "kind", deny_unknown_fields)]
pub enum Source {
    /// Values at places, each met exactly at its place and blended between. One value alone holds
    /// everywhere.
    Points {
        /// The places.
        points: Vec<ValuePoint>,
    },
    /// How far a place lies along a direction.
    Direction {
        /// Where the distance is 0.
        from_mm: [f64; 3],
        /// The direction; its length does not matter.
        along: [f64; 3],
    },
    /// Distance from the part's surface.
    Surface,
    /// Distance from faces of the part.
    Faces {
        /// The faces.
        faces: Vec<FaceMark>,
    },
    /// Distance from the edges around faces of the part.
    Rim {
        /// The faces.
        faces: Vec<FaceMark>,
    },
    /// Distance from a zone.
    Zone {
        /// Number of the zone.
        id: u32,
    },
    /// Distance from a body of the part.
    Body {
        /// Name of the body.
        name: String,
    },
    /// Distance from all that is kept solid.
    Solids,
    /// Distance from an axis.
    Axis {
        /// A place on the axis.
        through_mm: [f64; 3],
        /// Direction of the axis; its length does not matter.
        along: [f64; 3],
    },
    /// Distance from a line of straight pieces.
    Line {
        /// Points of the line, in order.
        points_mm: Vec<[f64; 3]>,
    },
    /// Numbers at many places, blended between the nearest.
    Table {
        /// Places and numbers.
        table: ValueTable,
        /// How far the table is moved. mm.
        #[serde(default, skip_serializing_if = "is_nowhere")]
        shift_mm: [f64; 3],
    },
    /// The value that another grading of the same filling gives.
    Grading {
        /// Number of that grading.
        id: u32,
    },
}

fn is_nowhere(shift: &[f64; 3]) -> bool {
    *shift == [0.0; 3]
}

/// A value at a place.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ValuePoint {
    /// The place. mm.
    pub place_mm: [f64; 3],
    /// The value, in the unit of the grading.
    pub value: f64,
}

/// Points that a source may have.
const MOST_POINTS: usize = 1000;

impl Source {
    /// Are the source's numbers values already?
    pub fn holds_values(&self) -> bool {
        matches!(self, Source::Points { .. } | Source::Grading { .. })
    }

    /// Values at places; none for other sources.
    pub fn points(&self) -> &[ValuePoint] {
        match self {
            Source::Points { points } => points,
            _ => &[],
        }
    }

    pub(super) fn validate(&self, field: &str, part: &Bounds) -> Result<(), RecipeError> {
        let refuse = |fault| Err(RecipeError::new(field, fault));
        let place = |p: &[f64; 3]| {
            p.iter().try_for_each(|v| {
                check(field, "A place of a grading", "mm", *v, -FARTHEST, FARTHEST)
            })
        };
        let direction = |d: &[f64; 3]| {
            let length = d.iter().map(|v| v * v).sum::<f64>().sqrt();
            check(field, "The length of a grading's direction", "", length, 1e-9, FARTHEST)
        };
        match self {
            Source::Points { points } => {
                if points.is_empty() {
                    return refuse(RecipeFault::NoValuePoints);
                }
                if points.len() > MOST_POINTS {
                    return refuse(RecipeFault::TooManyValuePoints(MOST_POINTS));
                }
                points.iter().try_for_each(|p| place(&p.place_mm))?;
                let near = 1e-6 * part.size().max_element();
                let same = |a: &ValuePoint, b: &ValuePoint| {
                    (0..3).all(|d| (a.place_mm[d] - b.place_mm[d]).abs() < near)
                };
                let twin = |n: usize| points[..n].iter().position(|p| same(p, &points[n]));
                match (0..points.len()).find_map(|n| Some([twin(n)? + 1, n + 1])) {
                    Some(numbers) => refuse(RecipeFault::ValuePointsCoincide(numbers)),
                    None => Ok(()),
                }
            }
            Source::Direction { from_mm, along } => place(from_mm).and_then(|()| direction(along)),
            Source::Axis { through_mm, along } => place(through_mm).and_then(|()| direction(along)),
            Source::Faces { faces } | Source::Rim { faces } => marks(faces, field, "the grading"),
            Source::Line { points_mm } => {
                if points_mm.len() < 2 || points_mm.len() > MOST_POINTS {
                    return refuse(RecipeFault::PointsOfLine(MOST_POINTS));
                }
                points_mm.iter().try_for_each(place)
            }
            Source::Table { table, shift_mm } => {
                place(shift_mm).and_then(|()| table.validate(field))
            }
            Source::Surface
            | Source::Zone { .. }
            | Source::Body { .. }
            | Source::Solids
            | Source::Grading { .. } => Ok(()),
        }
    }
}
