//! What regions make of the samples of a grid.

use super::{or_cancelled, Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_field::grid::Grid;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;

/// What the samples of a grid follow from.
#[derive(Serialize)]
pub(crate) struct ZonesInput<'a> {
    pub part: Keyed<&'a Part>,
    pub regions: Keyed<Arc<Regions>>,
    /// Step of the grid. mm.
    pub step: f64,
    /// How far the lattice reaches into what is solid. mm.
    pub overlap: f64,
    /// By filling, how far it stands past the part's surface. mm.
    pub proud: Vec<f64>,
}

/// Regions as the lattice sees them, and what they make of the samples of a grid.
pub(crate) struct ZonesOnGrid {
    pub regions: Regions,
    pub zoned: Zoned,
}

impl StageInput for ZonesInput<'_> {
    type Output = ZonesOnGrid;
    const NAME: &'static str = "zones";
    const STAGE: Stage = Stage::Zones;

    fn compute(self, watch: &dyn Watch) -> Result<Made<ZonesOnGrid>, RunError> {
        let ZonesInput { part, regions, step, overlap, proud } = self;
        let regions = regions.reaching(&part, overlap).standing_proud(proud);
        let grid = Grid::covering(&part.mesh.bounds().grown(regions.most_proud()), step);
        let zoned = or_cancelled(Zoned::sample(&part, &regions, grid, &|| watch.cancelled()))?;
        Ok(Made::weighed(ZonesOnGrid { regions, zoned }, |zones| zones.zoned.bytes()))
    }
}
