//! From part and recipe to a mesh and its report, stage by stage.
//!
//! Every stage is a pure function of its own slice of the recipe and of the stages before it. Its
//! key is a hash of that slice, its inputs' keys and [`CODE`]; the cache answers known keys, so an
//! edit starts at the first stage that it changes.
//!
//! ```text
//! part ─► zones ─► skeleton ─► thickness ─► lattice ─► surface ─► finish ─► report
//! ```
//!
//! | module | idea |
//! |---|---|
//! | [`cache`] | stage results by key |
//! | [`plan`], `too_large` | the grid step, and what a run will cost; what to do where that does not fit |
//! | [`load`] | what a run has to do, and the seconds and the memory that follow |
//! | `estimate` | what a final mesh will cost, by laws and by blocks of it |
//! | `probe` | a few blocks made before, from which the triangles are estimated |
//! | [`pace`] | how fast this machine is, learned from its own runs |
//! | `early` | points, cells and struts, to be looked at |
//! | `groundwork` | regions, structures and linked values: what is found before there is a surface |
//! | `relaxation` | how far seed points are relaxed |
//! | [`judge`] | a mesh from elsewhere held against a recipe |
//! | [`linked`] | thickness and density of every filling, and what they lead to |
//! | `run` | what a run works on: all fillings with their thickness |
//! | `streamed` | the reduced surface of a final mesh, a stretch at a time |
//! | [`finish`] | crumbs removed, rounded to what files hold |

pub mod cache;
mod early;
mod estimate;
pub mod finish;
mod groundwork;
pub mod judge;
pub mod linked;
pub mod load;
pub mod pace;
pub mod plan;
mod probe;
mod relaxation;
mod run;
mod streamed;
mod too_large;

use crate::asked::Case;
use crate::compose::Selection;
use crate::report::{self, Report};
use crate::result::{Cost, FinishedMesh, Linked};
pub use crate::watch::{Quality, Stage, Unwatched, Watch};
use cache::Cache;
use estimate::Known;
use finish::FinishSettings;
use run::Run;
use std::any::Any;
use std::sync::Arc;
use streamed::{SurfaceSource, STRETCH};
use ulmix_field::grid::Bits;
use ulmix_field::polygonise::{polygonise, Care, Shape};
use ulmix_lattice::BareStructure;
use ulmix_mesh::reduce::Gathered;
use ulmix_mesh::{parallel, Bounds, TriMesh};
use ulmix_part::sample::{spread, volume};
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::{key_of, Recipe, RecipeError};

/// Version of the stages' code: part of every key, so that results of older code are not reused.
pub const CODE: u32 = 16;

/// Why a run has no result.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RunError {
    /// Whoever watched it asked it to end.
    #[error("cancelled")]
    Cancelled,
    /// A value of the recipe cannot be used.
    #[error("{0}")]
    Recipe(#[from] RecipeError),
    /// The run would use more memory than it may.
    #[error("{0}")]
    TooLarge(RecipeError),
}

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

    /// The structures of all fillings.
    fn bare_of_all(
        &self,
        part: &Part,
        recipe: &Recipe,
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<Vec<Held>, RunError> {
        recipe.fillings().iter().map(|f| Ok(self.bare(part, recipe, f, draft, watch)?.0)).collect()
    }

    /// Makes the mesh of a recipe.
    pub fn run(
        &self,
        part: &Part,
        recipe: &Recipe,
        quality: Quality,
        watch: &dyn Watch,
    ) -> Result<Outcome, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let draft = quality != Quality::Final;
        let bare = self.bare_of_all(part, recipe, draft, watch)?;
        let (linked, linked_key) = self.linked(part, recipe, draft, watch)?;
        let thickened = self.thicken(part, recipe, &bare, &linked, draft, watch)?;
        let known = Known { part, recipe, linked: &linked, key: &linked_key };
        let cost = if draft {
            self.by_last_blocks(&known)
        } else {
            self.by_blocks(&known, &thickened, watch)?
        };
        if let Some(refused) = cost.too_large.clone().filter(|_| !draft) {
            return Err(RunError::TooLarge(refused));
        }
        let step = match quality {
            Quality::Drag | Quality::Draft => {
                plan::draft_step(part, recipe, &linked, quality, self.draft_triangles)
            }
            Quality::Final => cost.step_mm,
        };
        let run = thickened.run(part, recipe, quality, step, &cost);
        let apart = recipe.mesh.apart_mm.filter(|_| quality == Quality::Final);
        let (solid, finish_key, made, side) = match apart {
            None => {
                let made = self.meshed(&run, Selection::All, 0.0, watch)?;
                let as_asked = made.zones.clone();
                (
                    made.solid.clone(),
                    made.key.clone(),
                    Made { lattice: made, as_asked },
                    Selection::All,
                )
            }
            Some(overlap) => {
                let (solid, key, made) = self.apart(&run, overlap, watch)?;
                (solid, key, made, Selection::Lattice)
            }
        };
        let report_key =
            self.key(&[&"report", &finish_key, &linked_key, &recipe.material, &recipe.mesh]);
        let report = self.stage(
            Stage::Report,
            &report_key,
            watch,
            |_: &Report| 4096,
            || {
                let proud = self.past_surface(&run, &made.lattice, side);
                if draft {
                    return Some(report::of_draft(part, recipe, &linked, &solid, step, proud));
                }
                let (zoned, fillings) = (&*made.as_asked, thickened.fillings(&bare));
                let case = Case {
                    part,
                    recipe,
                    linked: &linked,
                    solid: &solid,
                    step,
                    zoned,
                    regions: &thickened.regions,
                    fillings,
                };
                Some(report::of_final(&case, &cost, proud))
            },
        )?;
        Ok(Outcome { quality, linked: (*linked).clone(), cost, step_mm: step, solid, report })
    }

    /// Lattice and solids as two bodies; one of them where there is only one.
    fn apart(
        &self,
        run: &Run,
        overlap: f64,
        watch: &dyn Watch,
    ) -> Result<(Arc<FinishedMesh>, String, Made), RunError> {
        let lattice = self.meshed(run, Selection::Lattice, overlap, watch)?;
        let solids = self.meshed(run, Selection::Solids, 0.0, watch)?;
        let key = self.key(&[&"apart", &lattice.key, &solids.key, &run.recipe.stand]);
        let both = || {
            let shared = if overlap > 0.0 { self.shared(run, &lattice, &solids) } else { 0.0 };
            Some(finish::together(&lattice.solid, &solids.solid, shared, run.recipe.stand.as_ref()))
        };
        let solid = self.stage(Stage::Finish, &key, watch, FinishedMesh::bytes, both)?;
        Ok((solid, key, Made { lattice, as_asked: solids.zones }))
    }

    /// Volume of the lattice past the part's surface, from points spread evenly. mm³.
    fn past_surface(&self, run: &Run, made: &Meshed, side: Selection) -> f64 {
        let Some(beyond) = made.zones.beyond() else { return 0.0 };
        let shape = run.shape(&made.zones, &made.regions, side);
        let points = spread(&beyond, &made.zones.grid, 60_000);
        let held = parallel::count(points.len(), |n| shape.value(points[n]) < 0.0);
        volume(&beyond, &made.zones.grid) * held as f64 / points.len().max(1) as f64
    }

    /// Volume that both sides hold, from points spread evenly: samples of the grid would be off by
    /// a layer where borders run along it. mm³.
    fn shared<'a>(&self, run: &'a Run, lattice: &'a Meshed, solids: &'a Meshed) -> f64 {
        let of = |made: &'a Meshed, side: Selection| run.shape(&made.zones, &made.regions, side);
        let (lattice, solids) = (of(lattice, Selection::Lattice), of(solids, Selection::Solids));
        let zones = solids.zoned;
        let points = spread(&zones.inside, &zones.grid, 300_000);
        let both = parallel::count(points.len(), |n| {
            solids.value(points[n]) < 0.0 && lattice.value(points[n]) < 0.0
        });
        volume(&zones.inside, &zones.grid) * both as f64 / points.len().max(1) as f64
    }

    /// The mesh of one side. The lattice reaches by `overlap` into what is solid.
    fn meshed(
        &self,
        run: &Run,
        side: Selection,
        overlap: f64,
        watch: &dyn Watch,
    ) -> Result<Meshed, RunError> {
        let Run { part, recipe, quality, step, .. } = *run;
        let fillings: Vec<_> = recipe.fillings().iter().map(|f| (f.structure, f.joins)).collect();
        let tied = recipe.zones.tied();
        let (regions, zones, zones_key) =
            self.zones(part, recipe, step, overlap, run.proud(), watch)?;
        // Made when the first stage asks for it: held results need none.
        let shape = std::cell::LazyCell::new(|| run.shape(&zones, &regions, side));
        // A density that leads to the same thickness is the same lattice.
        let side_name = format!("{side:?}");
        let lattice_key =
            self.key(&[&"lattice", &side_name, &zones_key, &fillings, &tied, &run.thick]);
        let signs = self.stage(
            Stage::Lattice,
            &lattice_key,
            watch,
            |b: &Bits| b.bytes(),
            || Some(shape.signs()),
        )?;
        // Where struts have sharp edges every place is looked at by itself, once the picture rests.
        let sharp = quality != Quality::Drag && run.lattices.iter().any(|l| l.lattice.sharp());
        let smooth = std::cell::LazyCell::new(|| (!sharp).then(|| shape.smooth()));
        let rounds = plan::smoothing_rounds(recipe.mesh.smoothing, step, run.final_step);
        let (cancelled, freed) = (|| watch.cancelled(), || watch.freed());
        let (solid, key) = if quality == Quality::Final {
            let reduce_mm = recipe.mesh.reduce_mm;
            let source = || SurfaceSource {
                signs: &signs,
                smooth: smooth.as_deref(),
                shape: &shape,
                reduce_mm,
                rounds,
                stretch: STRETCH,
            };
            let surface_key =
                self.key(&[&"reduced surface", &lattice_key, &sharp, &reduce_mm, &rounds]);
            let surface =
                self.stage(Stage::Surface, &surface_key, watch, gathered_bytes, || {
                    source().surface(&[], &freed, &cancelled)
                })?;
            // Bodies apart stand together, once both are there.
            let stand = recipe.stand.filter(|_| side == Selection::All);
            let settings = FinishSettings { reduce_mm, crumb_mm3: run.crumb_mm3, stand };
            let key = self.key(&[&"finish", &surface_key, &settings]);
            let again = |kept: &[Bounds]| source().surface(kept, &freed, &cancelled);
            // Copied only where the cache keeps it.
            let work =
                || finish::finish(Arc::unwrap_or_clone(surface), &again, &signs, &shape, settings);
            (self.stage(Stage::Finish, &key, watch, FinishedMesh::bytes, work)?, key)
        } else {
            let surface_key = self.key(&[&"surface", &lattice_key, &sharp]);
            let raw = self.stage(Stage::Surface, &surface_key, watch, mesh_bytes, || {
                polygonise(&zones.grid, &signs, smooth.as_deref(), &*shape, Care::Quick, &cancelled)
            })?;
            let key = self.key(&[&"finish", &surface_key, &rounds]);
            let work = || finish::draft(&raw, &signs, &shape, rounds, &cancelled);
            (self.stage(Stage::Finish, &key, watch, FinishedMesh::bytes, work)?, key)
        };
        drop(smooth);
        drop(shape);
        Ok(Meshed { solid, zones, regions, key })
    }

    /// Key of all that a recipe makes of a part: what the store files pictures and finals under.
    pub fn recipe_key(part: &Part, recipe: &Recipe) -> String {
        key_of(&[
            &CODE,
            &part.key,
            &recipe.zones,
            &recipe.structure,
            &recipe.thicken,
            &recipe.joins,
            &recipe.mesh,
            &recipe.material,
            &recipe.stand,
        ])
    }

    fn key(&self, parts: &[&dyn ulmix_recipe::Json]) -> String {
        let mut all: Vec<&dyn ulmix_recipe::Json> = vec![&CODE];
        all.extend_from_slice(parts);
        key_of(&all)
    }

    /// The cached result, or the work's; `None` from the work means cancelled.
    fn stage<T: Any + Send + Sync>(
        &self,
        stage: Stage,
        key: &str,
        watch: &dyn Watch,
        bytes: impl Fn(&T) -> usize,
        work: impl FnOnce() -> Option<T>,
    ) -> Result<Arc<T>, RunError> {
        if watch.cancelled() {
            return Err(RunError::Cancelled);
        }
        watch.begin(stage);
        if let Some(known) = self.cache.get::<T>(key) {
            watch.end(stage, true);
            return Ok(known);
        }
        let made = work().filter(|_| !watch.cancelled()).ok_or(RunError::Cancelled)?;
        let size = bytes(&made);
        let made = Arc::new(made);
        self.cache.put(key.to_owned(), made.clone(), size);
        watch.end(stage, false);
        Ok(made)
    }
}

/// A finished side, and what it was made from.
struct Meshed {
    solid: Arc<FinishedMesh>,
    zones: Arc<Zoned>,
    regions: Regions,
    key: String,
}

/// A finished mesh's sides, as far as its report asks for them.
struct Made {
    /// What holds the lattice.
    lattice: Meshed,
    /// Zones as they were asked for.
    as_asked: Arc<Zoned>,
}

/// A structure as the cache holds it.
type Held = Arc<dyn BareStructure>;

/// Passes on cancelling only: inner steps of one stage are not stages of their own.
struct Inner<'a>(&'a dyn Watch);
impl Watch for Inner<'_> {
    fn cancelled(&self) -> bool {
        self.0.cancelled()
    }
    fn relaxing(&self, done: u32, of: u32) -> bool {
        self.0.relaxing(done, of)
    }
}

fn gathered_bytes(g: &Gathered) -> usize {
    mesh_bytes(&g.mesh) + 2 * g.labels.len()
}

fn mesh_bytes(m: &TriMesh) -> usize {
    m.points.len() * 24 + m.triangles.len() * 12
}

/// A recipe of one structure of a thickness, for tests. mm.
#[cfg(test)]
fn plain(part: &Part, kind: ulmix_recipe::Kind, cell: f64, thickness_mm: f64) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    r.structure.cell_mm = [cell; 3];
    r.thicken = ulmix_recipe::Thicken::Thickness { thickness_mm };
    r
}
