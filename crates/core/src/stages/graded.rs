//! A filling's structure with a thickness at every place, where one is graded.

use super::curve::filled_points;
use super::field::Graded;
use super::structure::SharedStructure;
use super::zones::ZonesOnGrid;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::graded::{GradedStructure, GradedThickness};
use ulmix_lattice::sizes::{CellSizes, GradedValues};
use ulmix_recipe::Structure;

/// What a thickness that follows a graded density follows from.
#[derive(Serialize)]
pub(crate) struct DensityInput<'a> {
    pub bare: Keyed<SharedStructure>,
    pub structure: &'a Structure,
    /// What the size of cells follows.
    pub sizes: Option<Graded>,
    pub densities: Graded,
    /// Zones on the grid of the survey, and the number of the filling.
    pub survey: Keyed<Arc<ZonesOnGrid>>,
    pub filling: usize,
}

impl StageInput for DensityInput<'_> {
    type Output = SharedStructure;
    const NAME: &'static str = "of_density";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, _: &dyn Watch) -> Result<Made<Self::Output>, RunError> {
        let DensityInput { bare, structure, sizes, densities, survey, filling } = self;
        let inner = bare.value;
        let graded: SharedStructure = match densities.values() {
            None => inner,
            Some(GradedValues { values, .. }) => {
                let (sizes, _) = CellSizes::of(sizes.as_ref().and_then(Graded::values), structure);
                let points = filled_points(&survey, filling);
                let (sizes, ends) = (sizes.as_ref(), densities.ends_mm);
                let thickness = GradedThickness::of_density(&inner, values, sizes, &points, ends);
                Arc::new(GradedStructure::new(inner, thickness))
            }
        };
        Ok(Made::weighed(graded, |graded| graded.bytes()))
    }
}

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
