//! A filling's structure as it lies in the part, before it has thickness.

use super::field::Graded;
use super::{or_cancelled, Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::sync::Arc;
use ulmix_lattice::relaxing::RelaxationCache;
use ulmix_lattice::site::Site;
use ulmix_lattice::{make, BareStructure};
use ulmix_part::Part;
use ulmix_recipe::{Filling, Joins, Kind, Structure};

/// A structure as the cache holds it.
pub(crate) type SharedStructure = Arc<dyn BareStructure>;

/// What a structure follows from.
#[derive(Serialize)]
pub(crate) struct StructureInput<'a> {
    pub part: Keyed<&'a Part>,
    pub structure: &'a Structure,
    /// Where the structure ends changes nothing yet: it never stands proud here.
    joins: Joins,
    /// What the size of cells follows.
    sizes: Option<Graded>,
    /// A foam sheet that is not wholly relaxed will do.
    draft: bool,
    /// States of relaxation to go on from; the result is the same without them.
    #[serde(skip)]
    pub relaxed: &'a dyn RelaxationCache,
}

impl<'a> StructureInput<'a> {
    /// The input of a filling whose cells are of some sizes.
    pub(crate) fn new(
        part: &'a Part,
        filling: &Filling<'a>,
        sizes: Option<Graded>,
        draft: bool,
        relaxed: &'a dyn RelaxationCache,
    ) -> StructureInput<'a> {
        let Filling { structure, joins, .. } = *filling;
        StructureInput {
            part: part.into(),
            structure,
            joins: Joins { proud: false, ..joins },
            sizes,
            // All others are the same in both.
            draft: draft && matches!(structure.kind(), Kind::Foam(_)),
            relaxed,
        }
    }
}

impl StageInput for StructureInput<'_> {
    type Output = SharedStructure;
    const NAME: &'static str = "structure";
    const STAGE: Stage = Stage::Skeleton;

    fn compute(self, watch: &dyn Watch) -> Result<Made<Self::Output>, RunError> {
        let StructureInput { part, structure, joins, sizes, draft, relaxed } = self;
        let sizes = sizes.as_ref().and_then(Graded::values);
        let site = Site { part: &part, sizes, draft, relaxed };
        make::few_enough(&site, structure)?;
        let bare = or_cancelled(make::structure(site, structure, joins, &|| watch.cancelled()))?;
        Ok(Made::weighed(bare, |bare| bare.bytes()))
    }
}
