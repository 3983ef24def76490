//! Final runs on a grid coarser than the chosen one: quicker, and harder to keep to what is asked.

use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_part::Part;
use ulmix_recipe::Recipe;

/// Times the chosen step, with which three go through the thinnest thing.
const COARSER: f64 = 1.4;

/// A final run; a step that the recipe names stays.
pub(crate) fn run(part: &Part, recipe: &Recipe) -> Outcome {
    let pipeline = Pipeline::new(64 << 20);
    let mut recipe = recipe.clone();
    if recipe.mesh.step_mm.is_none() {
        let chosen = pipeline.estimate(part, &recipe, &Unwatched).unwrap().1.step_mm;
        recipe.mesh.step_mm = Some(COARSER * chosen);
    }
    pipeline.run(part, &recipe, Quality::Final, &Unwatched).unwrap()
}
