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

/// What a report follows from.
#[derive(Serialize)]
pub(crate) struct ReportInput<'a> {
    pub part: Keyed<&'a Part>,
    pub recipe: Keyed<&'a Recipe>,
    pub linked: Keyed<Arc<Linked>>,
    pub mesh: Keyed<Arc<FinishedMesh>>,
    /// The shape of what holds the lattice.
    pub shape: Keyed<Rc<LazyShape<'a>>>,
    /// Step of the grid. mm.
    pub step: f64,
    /// What a final mesh is held against; a draft is too coarse for that.
    pub judged: Option<JudgedBy<'a>>,
}

/// What a final mesh is held against.
#[derive(Serialize)]
pub(crate) struct JudgedBy<'a> {
    /// Zones as they were asked for, on the grid of the mesh.
    pub zones: Keyed<Arc<ZonesOnGrid>>,
    /// Regions as they were asked for.
    pub regions: Keyed<Arc<Regions>>,
    /// What was known before the run.
    pub notes: &'a [Note],
    /// By filling, before and after it is given thickness. The linked values and the mesh follow
    /// from the fillings, so that their keys tell of these.
    #[serde(skip)]
    pub fillings: Vec<Thickened<'a>>,
}

impl StageInput for ReportInput<'_> {
    type Output = Report;
    const NAME: &'static str = "report";
    const STAGE: Stage = Stage::Report;

    fn compute(self, _: &dyn Watch) -> Result<Made<Report>, RunError> {
        let ReportInput { part, recipe, linked, mesh, shape, step, judged } = self;
        let proud = shape.past_surface();
        let report = match judged {
            None => report::of_draft(&part, &recipe, &linked, &mesh, step, proud),
            Some(JudgedBy { zones, regions, notes, fillings }) => {
                let case = Case {
                    part: &part,
                    recipe: &recipe,
                    linked: &linked,
                    solid: &mesh,
                    step,
                    zoned: &zones.zoned,
                    regions: &regions,
                    fillings,
                };
                report::of_final(&case, notes, proud)
            }
        };
        Ok(Made::new(report, REPORT_BYTES))
    }
}

/// Memory of a report, about.
const REPORT_BYTES: usize = 4096;
