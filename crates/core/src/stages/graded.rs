//! A filling's structure with a thickness at every place, where one is graded.

use super::structure::SharedStructure;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_field::scalar::Sampled;
use ulmix_lattice::graded::{GradedStructure, GradedThickness};
use ulmix_recipe::grading::PlacedGrading;

/// What a graded thickness follows from.
#[derive(Serialize)]
pub(crate) struct GradedInput<'a> {
    pub bare: Keyed<SharedStructure>,
    pub grading: PlacedGrading<'a>,
    /// What the grading gives.
    pub values: Keyed<Arc<Option<Sampled>>>,
}

impl StageInput for GradedInput<'_> {
    type Output = SharedStructure;
    const NAME: &'static str = "graded";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, _: &dyn Watch) -> Result<Made<Self::Output>, RunError> {
        let GradedInput { bare, grading, values } = self;
        let inner = bare.value;
        // Without a source that the part has the thickness is the same everywhere.
        let graded: SharedStructure = match &**values {
            None => inner,
            Some(values) => {
                let values = values.clone();
                let thickness = GradedThickness::new(values, grading.given, grading.ends_mm);
                Arc::new(GradedStructure::new(inner, thickness))
            }
        };
        Ok(Made::weighed(graded, |graded| graded.bytes()))
    }
}
