//! What the start screen shows of a project, kept beside it so that nothing has to be built for a
//! list.

use crate::problem::{Answer, Problem};
use serde::{Deserialize, Serialize};
use ulmix_check::Summary;
use ulmix_part::PartFacts;
use ulmix_recipe::Recipe;
use ulmix_runner::picture::RunInfo;
use utoipa::ToSchema;

/// What the start screen shows of a project's newest state.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CardFacts {
    /// Name of the project.
    pub name: String,
    /// What fills it, as a sentence.
    pub structure: String,
    /// Absent for a part that has not been opened by this program yet.
    pub size_mm: Option<[f64; 3]>,
    /// Volume of the part.
    pub part_volume_mm3: Option<f64>,
    /// By how much the final mesh is lighter than the part, once it was made. Percent.
    pub saved_percent: Option<f64>,
    /// Mass of the final mesh, once it was made. g.
    pub mass_g: Option<f64>,
    /// What the checks of the final mesh come to.
    pub summary: Option<Summary>,
}

impl CardFacts {
    /// What a card shows of a project.
    pub fn of(recipe: &Recipe, part: &PartFacts, finished: Option<&RunInfo>) -> CardFacts {
        CardFacts {
            size_mm: Some(part.size_mm),
            part_volume_mm3: Some(part.volume_mm3),
            saved_percent: finished.map(|d| d.report.saved_percent),
            mass_g: finished.map(|d| d.report.mass_g),
            summary: finished.and_then(|d| d.report.checks.as_deref()).map(Summary::of),
            ..CardFacts::of_recipe(recipe)
        }
    }

    /// What is known without the part.
    pub fn of_recipe(recipe: &Recipe) -> CardFacts {
        CardFacts {
            name: recipe.name.clone(),
            structure: ulmix_core::export::describe(recipe),
            size_mm: None,
            part_volume_mm3: None,
            saved_percent: None,
            mass_g: None,
            summary: None,
        }
    }

    /// The facts as they are stored.
    pub fn to_json(&self) -> Answer<String> {
        serde_json::to_string(self).map_err(Problem::internal)
    }
}
