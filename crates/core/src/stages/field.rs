//! What a grading gives in the part's box, before any structure is made.

use super::{or_cancelled, Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_field::scalar::Sampled;
use ulmix_lattice::sizes::GradedValues;
use ulmix_part::grading::GradedField;
use ulmix_part::Part;
use ulmix_recipe::grading::{Given, PlacedGrading};

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
        let sampled =
            |field: GradedField| or_cancelled(field.sampled(&part, cell_mm, &|| watch.cancelled()));
        let found = GradedField::of(&part, &grading).map(sampled).transpose()?;
        Ok(Made::weighed(found, |found| found.as_ref().map_or(0, Sampled::bytes)))
    }
}

/// What a grading gives, and what later stages have to know of it.
#[derive(Clone, Serialize)]
pub(crate) struct Graded {
    /// What the values are.
    pub given: Given,
    /// Members that come out thinner end. mm.
    pub ends_mm: f64,
    pub values: Keyed<Arc<Option<Sampled>>>,
}

impl Graded {
    /// The values of the size of cells; `None` where the part does not have what the sources name.
    pub(crate) fn values(&self) -> Option<GradedValues<'_>> {
        Some(GradedValues { values: (**self.values).as_ref()?, given: self.given })
    }
}
