//! What a final run will take.

use crate::note::Note;
use crate::watch::Stage;
use serde::{Deserialize, Serialize};
use ulmix_recipe::{RecipeError, Refusal};
use utoipa::ToSchema;

/// What a final run will take, known before it starts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cost {
    /// Grid step of the final mesh. mm.
    pub step_mm: f64,
    /// Triangles before reduction.
    pub raw_triangles: u64,
    /// Triangles of the exported mesh.
    pub triangles: u64,
    /// On two cores of the kind the product is measured on; the server corrects it by its own runs.
    pub seconds: f64,
    /// Seconds by stage; empty for a run of an older version.
    #[serde(default)]
    #[schema(required = true)]
    pub stages: Vec<StageCost>,
    /// Peak memory. MB.
    pub memory_mb: f64,
    /// Loose pieces smaller than this will be removed. mm³.
    pub crumb_mm3: f64,
    /// What a person should know before starting, in plain words.
    pub notes: Vec<Note>,
    /// Why it cannot be made here, and what could: a final run would be refused.
    #[schema(value_type = Option<Refusal>)]
    pub too_large: Option<RecipeError>,
}

/// What a stage will take.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StageCost {
    /// The stage meant.
    pub stage: Stage,
    /// Seconds that it will take.
    pub seconds: f64,
}
