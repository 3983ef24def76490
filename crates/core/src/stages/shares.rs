//! Shares of the part that fillings, solids and zones have, and the borders between them.

use super::curve::SURVEYED;
use super::zones::ZonesOnGrid;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_part::sample::scatter;
use ulmix_part::zoned::Shares;
use ulmix_part::Part;

/// What shares follow from.
#[derive(Serialize)]
pub(crate) struct SharesInput<'a> {
    pub part: Keyed<&'a Part>,
    /// Zones on the grid of the survey.
    pub survey: Keyed<Arc<ZonesOnGrid>>,
}

impl StageInput for SharesInput<'_> {
    type Output = Shares;
    const NAME: &'static str = "shares";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, _: &dyn Watch) -> Result<Made<Shares>, RunError> {
        let ZonesOnGrid { regions, zoned } = &**self.survey;
        let points = scatter(&zoned.inside, &zoned.grid, SURVEYED);
        let distance = &self.part.distance;
        let shares = regions.shares(&points, &|p| distance.inside(p), zoned.grid.step);
        Ok(Made::new(shares, 4096))
    }
}
