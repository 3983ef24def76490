//! From part and recipe to a mesh and its report, stage by stage.
//!
//! Every stage is a pure function of its input, in `stages`; the cache answers
//! known inputs, so an edit starts at the first stage that it changes.
//!
//! ```text
//! part ─► zones ─► skeleton ─► thickness ─► lattice ─► surface ─► finish ─► report
//! ```
//!
//! | module | idea |
//! |---|---|
//! | [`cache`] | stage results by key |
//! | `plan`, `too_large` | the grid step, and what a run will cost; what to do where that does not fit |
//! | `load` | what a run has to do, and the seconds and the memory that follow |
//! | `groundwork` | fillings, regions, structures and linked values, resolved once for a run |
//! | `run` | what a run works on: all fillings with their thickness |
//! | `estimate` | what is known before a mesh is made: thickness, density, cost |
//! | [`pace`] | how fast this machine is, learned from its own runs |
//! | `early` | points, cells and struts, to be looked at |
//! | `relaxation` | how far seed points are relaxed |
//! | [`judge`] | a mesh from elsewhere held against a recipe |

pub mod cache;
mod early;
mod estimate;
mod groundwork;
pub mod judge;
pub(crate) mod load;
pub mod pace;
pub(crate) mod plan;
mod relaxation;
mod run;
mod too_large;

use crate::compose::Selection;
pub use crate::error::RunError;
use crate::report::Report;
use crate::result::{Cost, FinishedMesh, Linked};
use crate::stages::finish::{DraftInput, FinishInput, TogetherInput};
use crate::stages::report::{JudgedBy, ReportInput};
use crate::stages::shape::LazyShape;
use crate::stages::signs::SignsInput;
use crate::stages::surface::{DraftSurfaceInput, ReducedSurfaceInput};
use crate::stages::zones::ZonesOnGrid;
pub use crate::stages::CODE;
use crate::stages::{Keyed, StageInput};
pub use crate::watch::{Quality, Stage, Unwatched, Watch};
use cache::Cache;
use groundwork::Groundwork;
use run::{Run, Thick};
use std::rc::Rc;
use std::sync::Arc;
use ulmix_part::Part;
use ulmix_recipe::{key_of, Recipe};

/// A finished run.
pub struct Outcome {
    /// How fine the mesh is.
    pub quality: Quality,
    /// What thickness and density lead to.
    pub linked: Linked,
    /// What a final run will take.
    pub cost: Cost,
    /// Step of the grid. mm.
    pub step_mm: f64,
    /// The mesh.
    pub solid: Arc<FinishedMesh>,
    /// Numbers, checks and notes.
    pub report: Arc<Report>,
}

/// The stages in their order, with what they have found so far.
pub struct Pipeline {
    cache: Cache,
    draft_triangles: f64,
    /// What a final run may use now. MB.
    memory_mb: MemoryLimit,
}

/// Tells how much memory a final run may use, in MB, when it is asked.
pub type MemoryLimit = Box<dyn Fn() -> f64 + Send + Sync>;

impl Pipeline {
    /// Keeps up to `bytes` of stage results.
    pub fn new(bytes: usize) -> Pipeline {
        Pipeline {
            cache: Cache::new(bytes),
            draft_triangles: plan::DRAFT_TRIANGLES,
            memory_mb: Box::new(|| f64::INFINITY),
        }
    }

    /// Lets go of results of stages until no more than so many bytes are held: those used last
    /// stay.
    pub fn shrink(&self, bytes: usize) {
        self.cache.shrink(bytes);
    }

    /// Drafts of about so many triangles.
    pub fn with_drafts(self, triangles: f64) -> Pipeline {
        Pipeline { draft_triangles: triangles.max(1000.0), ..self }
    }

    /// Refuses final runs that would use more memory.
    pub fn with_memory(self, memory_mb: MemoryLimit) -> Pipeline {
        Pipeline { memory_mb, ..self }
    }

    /// Makes the mesh of a recipe.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, a final run that does not fit into memory, or
    /// [`RunError::Cancelled`].
    pub fn run(
        &self,
        part: &Part,
        recipe: &Recipe,
        quality: Quality,
        watch: &dyn Watch,
    ) -> Result<Outcome, RunError> {
        let draft = quality != Quality::Final;
        let groundwork = self.groundwork(part, recipe, draft, watch)?;
        let thick = groundwork.thicken();
        let cost = if draft {
            self.cost_by_last_blocks(&groundwork)
        } else {
            self.cost_by_blocks(&thick, watch)?
        };
        if let Some(refused) = cost.too_large.clone().filter(|_| !draft) {
            return Err(RunError::TooLarge(refused));
        }
        let linked = &groundwork.linked;
        let step = match quality {
            Quality::Drag | Quality::Draft => {
                plan::draft_step(part, recipe, linked, quality, self.draft_triangles)
            }
            Quality::Final => cost.step_mm,
        };
        let run = thick.run(quality, step, &cost);
        let made = match recipe.mesh.apart_mm.filter(|_| !draft) {
            None => FinishedRun::whole(self.meshed(&run, Selection::All, 0.0, watch)?),
            Some(overlap) => self.apart(&run, overlap, watch)?,
        };
        let report = self.report(&thick, &run, &made, &cost, watch)?;
        let linked = (*linked.value).clone();
        Ok(Outcome { quality, linked, cost, step_mm: step, solid: made.mesh.value, report })
    }

    /// Numbers, checks and notes of what was made.
    fn report(
        &self,
        thick: &Thick,
        run: &Run,
        made: &FinishedRun,
        cost: &Cost,
        watch: &dyn Watch,
    ) -> Result<Arc<Report>, RunError> {
        let Groundwork { part, recipe, linked, regions, .. } = run.groundwork;
        let judged = (run.quality == Quality::Final).then(|| JudgedBy {
            zones: made.as_asked.clone(),
            regions: regions.clone(),
            notes: &cost.notes,
            fillings: thick.fillings(),
        });
        let input = ReportInput {
            part: (*part).into(),
            recipe: Keyed::new(Pipeline::recipe_key(part, recipe), *recipe),
            linked: linked.clone(),
            mesh: made.mesh.clone(),
            shape: run.shape(&made.with_lattice, made.selection),
            step: run.step,
            judged,
        };
        Ok(self.answer(input, watch)?.value)
    }

    /// Lattice and solids as two bodies; one of them where there is only one.
    fn apart(&self, run: &Run, overlap: f64, watch: &dyn Watch) -> Result<FinishedRun, RunError> {
        let lattice = self.meshed(run, Selection::Lattice, overlap, watch)?;
        let solids = self.meshed(run, Selection::Solids, 0.0, watch)?;
        let input = TogetherInput {
            lattice: lattice.mesh.clone(),
            solids: solids.mesh.clone(),
            overlapping: (overlap > 0.0).then(|| {
                [
                    run.shape(&lattice.zones, Selection::Lattice),
                    run.shape(&solids.zones, Selection::Solids),
                ]
            }),
            stand: run.groundwork.recipe.stand,
        };
        let mesh = self.answer(input, watch)?;
        Ok(FinishedRun {
            mesh,
            selection: Selection::Lattice,
            with_lattice: lattice.zones,
            as_asked: solids.zones,
        })
    }

    /// The mesh of one side. The lattice reaches by `overlap` into what is solid.
    fn meshed(
        &self,
        run: &Run,
        selection: Selection,
        overlap: f64,
        watch: &dyn Watch,
    ) -> Result<Meshed, RunError> {
        let zones = run.zones(self, overlap, watch)?;
        let mesh = self.mesh_of(run, run.shape(&zones, selection), selection, watch)?;
        Ok(Meshed { mesh, zones })
    }

    /// The mesh of a shape.
    fn mesh_of(
        &self,
        run: &Run,
        shape: Keyed<Rc<LazyShape>>,
        selection: Selection,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<FinishedMesh>>, RunError> {
        let recipe = run.groundwork.recipe;
        let signs = self.answer(SignsInput { shape: shape.clone() }, watch)?;
        // Where struts have sharp edges every place is looked at by itself, once the picture rests.
        let sharp = run.quality != Quality::Drag && run.sharp();
        let rounds = plan::smoothing_rounds(recipe.mesh.smoothing, run.step, run.final_step);
        if run.quality == Quality::Final {
            let reduce_mm = recipe.mesh.reduce_mm;
            let source = ReducedSurfaceInput { shape, signs, sharp, reduce_mm, rounds };
            let surface = self.answer(source.clone(), watch)?;
            // Bodies apart stand together, once both are there.
            let stand = recipe.stand.filter(|_| selection == Selection::All);
            let crumb_mm3 = run.crumb_mm3;
            self.answer(FinishInput { surface, source, crumb_mm3, stand }, watch)
        } else {
            let input = DraftSurfaceInput { shape: shape.clone(), signs: signs.clone(), sharp };
            let surface = self.answer(input, watch)?;
            self.answer(DraftInput { surface, shape, signs, rounds }, watch)
        }
    }

    /// Key of all that a recipe makes of a part: what the store files pictures and finals under.
    pub fn recipe_key(part: &Part, recipe: &Recipe) -> String {
        // Spelled out, so that a value that is added to the recipe is not forgotten here.
        let Recipe {
            ulmix: _,
            name: _,
            part: _,
            zones,
            structure,
            thicken,
            joins,
            gradings,
            kept: _,
            mesh,
            material,
            stand,
        } = recipe;
        key_of(&[
            &CODE, &part.key, zones, structure, thicken, joins, gradings, mesh, material, stand,
        ])
    }

    /// The cached result of a stage, or that of its work.
    fn answer<I: StageInput>(
        &self,
        input: I,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<I::Output>>, RunError> {
        if watch.cancelled() {
            return Err(RunError::Cancelled);
        }
        let key = input.key();
        watch.begin(I::STAGE);
        if let Some(known) = self.cache.get::<I::Output>(&key) {
            watch.end(I::STAGE, true);
            return Ok(Keyed::new(key, known));
        }
        let made = input.compute(watch)?;
        // What was made while the run was asked to end may not be whole.
        if watch.cancelled() {
            return Err(RunError::Cancelled);
        }
        let value = Arc::new(made.value);
        self.cache.put(key.clone(), value.clone(), made.bytes);
        watch.end(I::STAGE, false);
        Ok(Keyed::new(key, value))
    }
}

/// A finished side, and the zones that it was made from.
struct Meshed {
    mesh: Keyed<Arc<FinishedMesh>>,
    zones: Keyed<Arc<ZonesOnGrid>>,
}

/// A finished mesh, and what its report asks for.
struct FinishedRun {
    mesh: Keyed<Arc<FinishedMesh>>,
    /// What holds the lattice: all, or one side.
    selection: Selection,
    /// Zones of what holds the lattice.
    with_lattice: Keyed<Arc<ZonesOnGrid>>,
    /// Zones as they were asked for.
    as_asked: Keyed<Arc<ZonesOnGrid>>,
}

impl FinishedRun {
    /// A run that made one body.
    fn whole(Meshed { mesh, zones }: Meshed) -> FinishedRun {
        let with_lattice = zones.clone();
        FinishedRun { mesh, selection: Selection::All, with_lattice, as_asked: zones }
    }
}

/// Passes on cancelling only: inner steps of one stage are not stages of their own.
struct Quiet<'a>(&'a dyn Watch);
impl Watch for Quiet<'_> {
    fn cancelled(&self) -> bool {
        self.0.cancelled()
    }
    fn relaxing(&self, done: u32, of: u32) -> bool {
        self.0.relaxing(done, of)
    }
}

/// A recipe of one structure of a thickness, for tests. mm.
#[cfg(test)]
pub(crate) fn plain(part: &Part, kind: ulmix_recipe::Kind, cell: f64, thickness_mm: f64) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    r.structure.cell_mm = [cell; 3];
    r.thicken = ulmix_recipe::Thicken::Thickness { thickness_mm };
    r
}
