//! Numbers, checks and notes of a mesh. A report holds the result against the request: it is the
//! one stage that sees a whole recipe.

use super::shape::LazyShape;
use super::zones::ZonesOnGrid;
use super::{Keyed, Made, StageInput};
use crate::asked::{Case, Thickened};
use crate::error::RunError;
use crate::note::Note;
use crate::report::{self, Report};
use crate::result::{FinishedMesh, Linked};
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::rc::Rc;
use std::sync::Arc;
use ulmix_part::zoned::Regions;
use ulmix_part::Part;
use ulmix_recipe::Recipe;

/// What the report of a draft follows from.
#[derive(Serialize)]
pub(crate) struct DraftReportInput<'a> {
    pub part: Keyed<&'a Part>,
    pub recipe: Keyed<&'a Recipe>,
    pub linked: Keyed<Arc<Linked>>,
    pub mesh: Keyed<Arc<FinishedMesh>>,
    /// The shape of what holds the lattice.
    pub shape: Keyed<Rc<LazyShape<'a>>>,
    /// Step of the grid. mm.
    pub step: f64,
}

impl StageInput for DraftReportInput<'_> {
    type Output = Report;
    const NAME: &'static str = "draft report";
    const STAGE: Stage = Stage::Report;

    fn compute(self, _: &dyn Watch) -> Result<Made<Report>, RunError> {
        let DraftReportInput { part, recipe, linked, mesh, shape, step } = self;
        let proud = shape.past_surface();
        let report = report::of_draft(&part, &recipe, &linked, &mesh, step, proud);
        Ok(Made::new(report, REPORT_BYTES))
    }
}

/// What the report of a final mesh follows from.
#[derive(Serialize)]
pub(crate) struct FinalReportInput<'a> {
    pub part: Keyed<&'a Part>,
    pub recipe: Keyed<&'a Recipe>,
    pub linked: Keyed<Arc<Linked>>,
    pub mesh: Keyed<Arc<FinishedMesh>>,
    /// The shape of what holds the lattice.
    pub shape: Keyed<Rc<LazyShape<'a>>>,
    /// Zones as they were asked for, on the grid of the mesh.
    pub zones: Keyed<Arc<ZonesOnGrid>>,
    /// Regions as they were asked for.
    pub regions: Keyed<Arc<Regions>>,
    /// Step of the grid. mm.
    pub step: f64,
    /// What was known before the run.
    pub notes: &'a [Note],
    /// By filling, before and after it is given thickness: `linked` and `mesh` follow from them.
    #[serde(skip)]
    pub fillings: Vec<Thickened<'a>>,
}

impl StageInput for FinalReportInput<'_> {
    type Output = Report;
    const NAME: &'static str = "report";
    const STAGE: Stage = Stage::Report;

    fn compute(self, _: &dyn Watch) -> Result<Made<Report>, RunError> {
        let proud = self.shape.past_surface();
        let case = Case {
            part: &self.part,
            recipe: &self.recipe,
            linked: &self.linked,
            solid: &self.mesh,
            step: self.step,
            zoned: &self.zones.zoned,
            regions: &self.regions,
            fillings: self.fillings,
        };
        Ok(Made::new(report::of_final(&case, self.notes, proud), REPORT_BYTES))
    }
}

/// Memory of a report, about.
const REPORT_BYTES: usize = 4096;
