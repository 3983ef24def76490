//! Values that cannot be used, in words for a person.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A value that cannot be used: where, what is wrong, what to do.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error, Serialize, Deserialize, ToSchema)]
#[error("{message}")]
pub struct RecipeError {
    /// Path of the value in the recipe, as `thicken.thickness_mm`.
    pub field: String,
    /// What is wrong, in a sentence for a person.
    pub message: String,
    /// What to do about it, in a sentence for a person.
    pub hint: String,
}

impl RecipeError {
    /// A value that cannot be used, and what to do about it.
    pub fn new(field: &str, message: impl Into<String>, hint: impl Into<String>) -> RecipeError {
        RecipeError { field: field.into(), message: message.into(), hint: hint.into() }
    }
}

/// Refuses a value outside its bounds: field, what it is, unit, value, least, most.
///
/// # Errors
/// A value that is no number or lies outside.
pub fn check(
    field: &str,
    what: &str,
    unit: &str,
    v: f64,
    low: f64,
    high: f64,
) -> Result<(), RecipeError> {
    if v.is_finite() && v >= low && v <= high {
        return Ok(());
    }
    let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
    Err(RecipeError {
        field: field.into(),
        message: format!("{what} is {}{unit}.", plain(v)),
        hint: format!("Choose a value from {} to {}{unit}.", plain(low), plain(high)),
    })
}

fn plain(v: f64) -> String {
    if v == v.trunc() && v.abs() < 1e9 {
        format!("{v}")
    } else {
        format!("{:.3}", v)
    }
}
