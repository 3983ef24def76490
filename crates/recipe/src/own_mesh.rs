//! A cell that comes from a file as a solid.

use super::{check, RecipeError, RecipeFault};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most triangles of a cell.
pub const MOST: usize = 20_000;
/// Path of the value in a recipe.
pub const FIELD: &str = "structure.pattern.own";

/// The solid that one cell holds. The box around the solid is the cell.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnMesh {
    /// Of the file it came from.
    pub name: String,
    /// From 0 to 1 along each axis of the cell.
    pub points: Vec<[f32; 3]>,
    /// Numbers of their points, counter-clockwise seen from outside.
    pub triangles: Vec<[u32; 3]>,
    /// Axes along which it does not reach its neighbours.
    pub apart: [bool; 3],
}

impl OwnMesh {
    pub(super) fn validate(&self) -> Result<(), RecipeError> {
        check(
            FIELD,
            "The number of triangles of the cell",
            "",
            self.triangles.len() as f64,
            4.0,
            MOST as f64,
        )?;
        check(
            FIELD,
            "The number of points of the cell",
            "",
            self.points.len() as f64,
            4.0,
            3.0 * MOST as f64,
        )?;
        self.points
            .iter()
            .flatten()
            .try_for_each(|v| check(FIELD, "A point of the cell", "cells", *v as f64, 0.0, 1.0))?;
        match self.triangles.iter().position(|t| t.iter().any(|p| *p as usize >= self.points.len()))
        {
            Some(n) => Err(RecipeError::new(FIELD, RecipeFault::CornerMissing(n + 1))),
            None => Ok(()),
        }
    }
}
