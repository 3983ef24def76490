//! Seed points of a structure and the cells around them, to be looked at.

use super::{or_cancelled, Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use ulmix_lattice::finer::{self, Site};
use ulmix_lattice::make::{self, SeedCells};
use ulmix_lattice::relaxing::RelaxationCache;
use ulmix_part::Part;
use ulmix_recipe::{Place, Recipe, Structure};

/// What seed points and their cells follow from.
#[derive(Serialize)]
pub(crate) struct SeedCellsInput<'a> {
    pub part: Keyed<&'a Part>,
    pub structure: &'a Structure,
    /// Places around which cells are smaller.
    finer: Vec<&'a Place>,
    /// States of relaxation to go on from; the result is the same without them.
    #[serde(skip)]
    pub relaxed: &'a dyn RelaxationCache,
}

impl<'a> SeedCellsInput<'a> {
    /// The input of a structure of a recipe.
    pub(crate) fn new(
        part: &'a Part,
        recipe: &'a Recipe,
        structure: &'a Structure,
        relaxed: &'a dyn RelaxationCache,
    ) -> SeedCellsInput<'a> {
        let finer = finer::marked(&recipe.zones, structure.finer());
        SeedCellsInput { part: part.into(), structure, finer, relaxed }
    }
}

impl StageInput for SeedCellsInput<'_> {
    type Output = SeedCells;
    const NAME: &'static str = "cells";
    const STAGE: Stage = Stage::Skeleton;

    fn compute(self, watch: &dyn Watch) -> Result<Made<SeedCells>, RunError> {
        let SeedCellsInput { part, structure, finer, relaxed } = self;
        let site = Site { part: &part, finer: &finer, thicker: &[], draft: true, relaxed };
        let found = or_cancelled(make::seed_cells(site, structure, &|| watch.cancelled()))?;
        Ok(Made::weighed(found, |found| found.points.len() * 25 + found.edges.bytes()))
    }
}
