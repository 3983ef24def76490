//! Seed points of a structure and the cells around them, to be looked at.

use super::field::Graded;
use super::{or_cancelled, Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use ulmix_lattice::make::{self, SeedCells};
use ulmix_lattice::relaxing::RelaxationCache;
use ulmix_lattice::site::Site;
use ulmix_part::Part;
use ulmix_recipe::Structure;

/// What seed points and their cells follow from.
#[derive(Serialize)]
pub(crate) struct SeedCellsInput<'a> {
    pub part: Keyed<&'a Part>,
    pub structure: &'a Structure,
    /// What the size of cells follows.
    pub sizes: Option<Graded>,
    /// States of relaxation to go on from; the result is the same without them.
    #[serde(skip)]
    pub relaxed: &'a dyn RelaxationCache,
}

impl StageInput for SeedCellsInput<'_> {
    type Output = SeedCells;
    const NAME: &'static str = "cells";
    const STAGE: Stage = Stage::Skeleton;

    fn compute(self, watch: &dyn Watch) -> Result<Made<SeedCells>, RunError> {
        let SeedCellsInput { part, structure, sizes, relaxed } = self;
        let sizes = sizes.as_ref().and_then(Graded::values);
        let site = Site { part: &part, sizes, draft: true, relaxed };
        let found = or_cancelled(make::seed_cells(site, structure, &|| watch.cancelled()))?;
        Ok(Made::weighed(found, |found| found.points.len() * 25 + found.edges.bytes()))
    }
}
