//! Values that cannot be used: where they stand in the recipe, and what is wrong.

use super::RecipeFault;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A value that cannot be used. As JSON it is field, message and hint.
#[derive(Clone, Debug, PartialEq, thiserror::Error, Serialize, Deserialize)]
#[error("{fault}")]
#[serde(into = "Refusal", from = "Refusal")]
pub struct RecipeError {
    /// Path of the value in the recipe, as `thicken.thickness_mm`.
    pub field: String,
    /// What is wrong.
    pub fault: RecipeFault,
}

/// A value that cannot be used: where, what is wrong, what to do.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Refusal {
    /// Path of the value in the recipe, as `thicken.thickness_mm`.
    pub field: String,
    /// What is wrong, in a sentence for a person.
    pub message: String,
    /// What to do about it, in a sentence for a person.
    pub hint: String,
}

impl RecipeError {
    /// A value that cannot be used, by its path.
    pub fn new(field: impl Into<String>, fault: RecipeFault) -> RecipeError {
        RecipeError { field: field.into(), fault }
    }

    /// What is wrong, in a sentence for a person.
    pub fn message(&self) -> String {
        self.fault.to_string()
    }

    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> String {
        self.fault.hint()
    }
}

impl From<RecipeError> for Refusal {
    fn from(e: RecipeError) -> Refusal {
        Refusal { message: e.message(), hint: e.hint(), field: e.field }
    }
}

impl From<Refusal> for RecipeError {
    fn from(Refusal { field, message, hint }: Refusal) -> RecipeError {
        RecipeError { field, fault: RecipeFault::Told { message, hint } }
    }
}

/// Refuses a value outside its bounds: field, what it is, unit, value, least, most.
///
/// # Errors
/// A value that is no number or lies outside.
pub fn check(
    field: &str,
    what: &str,
    unit: &'static str,
    value: f64,
    low: f64,
    high: f64,
) -> Result<(), RecipeError> {
    if value.is_finite() && value >= low && value <= high {
        return Ok(());
    }
    let range = [low, high];
    Err(RecipeError::new(field, RecipeFault::OutOfRange { what: what.into(), unit, value, range }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_json_an_error_keeps_its_words() {
        let e = check("mesh.step_mm", "The grid step", "mm", 9.0, 0.5, 4.0).unwrap_err();
        let json = serde_json::to_value(&e).unwrap();
        assert_eq!(json["field"], "mesh.step_mm");
        assert_eq!(json["message"], "The grid step is 9 mm.");
        let back: RecipeError = serde_json::from_value(json).unwrap();
        assert_eq!((back.message(), back.hint()), (e.message(), e.hint()));
    }
}
