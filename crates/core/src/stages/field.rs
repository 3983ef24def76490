//! What a grading gives in the part's box, before any structure is made.

use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use ulmix_field::scalar::Sampled;
use ulmix_lattice::sizes::sampled;
use ulmix_part::Part;
use ulmix_recipe::grading::PlacedGrading;

/// What the samples of a grading follow from.
#[derive(Serialize)]
pub(crate) struct FieldInput<'a> {
    pub part: Keyed<&'a Part>,
    pub grading: PlacedGrading<'a>,
    /// Size of the cells that the grading leads, or that it leads something in. mm.
    pub cell_mm: f64,
}

impl StageInput for FieldInput<'_> {
    /// `None` where the part does not have what the sources name.
    type Output = Option<Sampled>;
    const NAME: &'static str = "field";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, watch: &dyn Watch) -> Result<Made<Self::Output>, RunError> {
        let FieldInput { part, grading, cell_mm } = self;
        let found = sampled(&part, &grading, cell_mm, &|| watch.cancelled());
        let found = found.map_err(|_| RunError::Cancelled)?;
        Ok(Made::weighed(found, |found| found.as_ref().map_or(0, Sampled::bytes)))
    }
}
