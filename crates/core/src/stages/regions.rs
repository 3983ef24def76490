//! Zones and skins as exact solids. Trees of boxes over picked faces are built here, once for all
//! runs in which zones and skins lie where they lay.

use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use ulmix_part::zoned::Regions;
use ulmix_part::Part;
use ulmix_recipe::ZonePlaces;

/// What regions follow from.
#[derive(Serialize)]
pub(crate) struct RegionsInput<'a> {
    pub part: Keyed<&'a Part>,
    pub places: ZonePlaces<'a>,
}

impl StageInput for RegionsInput<'_> {
    type Output = Regions;
    const NAME: &'static str = "regions";
    const STAGE: Stage = Stage::Zones;

    fn compute(self, _: &dyn Watch) -> Result<Made<Regions>, RunError> {
        let regions = Regions::of(&self.part, self.places);
        Ok(Made::weighed(regions, |regions| regions.bytes(&self.part)))
    }
}
