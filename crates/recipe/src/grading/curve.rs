//! The value of a grading by the number that a source gives.

use crate::{check, RecipeError, RecipeFault};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A curve through points, constant before the first and after the last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ValueCurve {
    /// The source's number and the value at it, by growing numbers.
    pub points: Vec<[f64; 2]>,
    /// Without corners: the curve never passes beyond its points and is level at both ends.
    #[serde(default)]
    #[schema(required = true)]
    pub smooth: bool,
}

/// Points that a curve may have.
const MOST_POINTS: usize = 64;
/// Greatest number of a source.
const FARTHEST: f64 = 1e7;

impl ValueCurve {
    /// From one point to another without corners.
    pub fn smooth(from: [f64; 2], to: [f64; 2]) -> ValueCurve {
        ValueCurve { points: vec![from, to], smooth: true }
    }

    pub(super) fn validate(&self, field: &str) -> Result<(), RecipeError> {
        let refuse = |fault| Err(RecipeError::new(field, fault));
        if self.points.is_empty() {
            return refuse(RecipeFault::EmptyCurve);
        }
        if self.points.len() > MOST_POINTS {
            return refuse(RecipeFault::LongCurve(MOST_POINTS));
        }
        for [x, _] in &self.points {
            check(field, "A place on a grading's curve", "", *x, -FARTHEST, FARTHEST)?;
        }
        match self.points.windows(2).position(|w| w[0][0] >= w[1][0]) {
            Some(n) => refuse(RecipeFault::CurveTurnsBack { points: [n + 1, n + 2] }),
            None => Ok(()),
        }
    }
}
