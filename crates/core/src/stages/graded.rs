//! A filling's structure with a thickness at every place, where one is graded.

use super::field::Graded;
use super::structure::SharedStructure;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::graded::{GradedStructure, GradedThickness};
use ulmix_lattice::sizes::GradedValues;

/// What a graded thickness follows from.
#[derive(Serialize)]
pub(crate) struct ThicknessInput {
    pub bare: Keyed<SharedStructure>,
    pub graded: Graded,
}

impl StageInput for ThicknessInput {
    type Output = SharedStructure;
    const NAME: &'static str = "graded";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, _: &dyn Watch) -> Result<Made<Self::Output>, RunError> {
        let ThicknessInput { bare, graded } = self;
        let inner = bare.value;
        // Without a source that the part has the thickness is the same everywhere.
        let graded: SharedStructure = match graded.values() {
            None => inner,
            Some(GradedValues { values, given }) => {
                let thickness = GradedThickness::new(values.clone(), given, graded.ends_mm);
                Arc::new(GradedStructure::new(inner, thickness))
            }
        };
        Ok(Made::weighed(graded, |graded| graded.bytes()))
    }
}
