//! Relative density of a structure by its thickness, surveyed where the structure fills the part.

use super::structure::SharedStructure;
use super::zones::ZonesOnGrid;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::density::DensityCurve;
use ulmix_part::sample::scatter;

/// Points at which a structure or the part is surveyed.
pub(crate) const SURVEYED: usize = 60_000;

/// What a density curve follows from.
#[derive(Serialize)]
pub(crate) struct CurveInput {
    /// Zones on the grid of the survey.
    pub survey: Keyed<Arc<ZonesOnGrid>>,
    /// Number of the filling.
    pub filling: usize,
    pub bare: Keyed<SharedStructure>,
}

impl StageInput for CurveInput {
    type Output = DensityCurve;
    const NAME: &'static str = "curve";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, _: &dyn Watch) -> Result<Made<DensityCurve>, RunError> {
        let zoned = &self.survey.zoned;
        let points = scatter(&zoned.all_filled_by(self.filling), &zoned.grid, SURVEYED);
        let curve = DensityCurve::new(self.bare.value, &points);
        Ok(Made::weighed(curve, DensityCurve::bytes))
    }
}
