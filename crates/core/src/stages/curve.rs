//! Relative density of a structure by its thickness, surveyed where the structure fills the part.

use super::structure::SharedStructure;
use super::zones::ZonesOnGrid;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use glam::DVec3;
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::density::DensityCurve;
use ulmix_part::sample::scatter;

/// Points at which a structure or the part is surveyed.
pub(crate) const SURVEYED: usize = 60_000;

/// Points spread evenly over what a filling fills.
pub(crate) fn filled_points(survey: &ZonesOnGrid, filling: usize) -> Vec<DVec3> {
    let zoned = &survey.zoned;
    scatter(&zoned.all_filled_by(filling), &zoned.grid, SURVEYED)
}

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
        let points = filled_points(&self.survey, self.filling);
        let curve = DensityCurve::new(self.bare.value, &points);
        Ok(Made::weighed(curve, DensityCurve::bytes))
    }
}
