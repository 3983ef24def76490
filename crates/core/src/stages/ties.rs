//! Struts that join fillings over the sharp borders between their zones.

use super::structure::SharedStructure;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use glam::DVec3;
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::make;
use ulmix_lattice::ties::{self, Strutted, Ties};
use ulmix_part::zoned::Regions;
use ulmix_part::Part;
use ulmix_recipe::Structure;

/// What ties follow from.
#[derive(Serialize)]
pub(crate) struct TiesInput<'a> {
    pub part: Keyed<&'a Part>,
    pub regions: Keyed<Arc<Regions>>,
    /// By zone that changes something: do ties run from its border?
    pub tied: Vec<bool>,
    /// By filling.
    pub structures: Vec<&'a Structure>,
    pub bare: Vec<Keyed<SharedStructure>>,
}

impl StageInput for TiesInput<'_> {
    type Output = Vec<Ties>;
    const NAME: &'static str = "ties";
    const STAGE: Stage = Stage::Skeleton;

    fn compute(self, _: &dyn Watch) -> Result<Made<Vec<Ties>>, RunError> {
        let TiesInput { part, regions, tied, structures, bare } = self;
        if !tied.contains(&true) {
            return Ok(Made::new(Vec::new(), 0));
        }
        let may_end = |strut: [DVec3; 2]| ties::may_end(&regions, &tied, strut);
        let each = structures.iter().zip(&bare);
        let listed: Vec<_> =
            each.map(|(s, bare)| make::some_struts(&part, s, &***bare, &may_end)).collect();
        let strutted = listed
            .iter()
            .zip(&bare)
            .map(|(struts, bare)| Some(Strutted { struts: struts.as_ref()?, cell: bare.cell() }));
        let found = ties::between(&part, &regions, &tied, &strutted.collect::<Vec<_>>());
        Ok(Made::weighed(found, |all| all.iter().map(Ties::bytes).sum()))
    }
}
