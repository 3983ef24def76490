//! What leads up to a mesh, to be looked at: points, cells and struts of one filling, where that
//! fills the part.

use super::{Pipeline, Quiet, RunError, Watch};
use crate::stages::seed_cells::SeedCellsInput;
use glam::DVec3;
use std::sync::Arc;
use ulmix_field::scalar::Sampled;
use ulmix_lattice::clean::{states, StrutState};
use ulmix_lattice::make::{self, SeedCells};
use ulmix_lattice::skeleton::Skeleton;
use ulmix_part::spread::{spreads, SourceSpread};
use ulmix_part::zoned::Regions;
use ulmix_part::Part;
use ulmix_recipe::grading::PlacedGrading;
use ulmix_recipe::{GradedValue, Kind, Recipe, SeededKind};

impl Pipeline {
    /// The struts of a zone's own structure, or of the part's, and how they lie in the part; `None`
    /// for structures of walls, and for more than [`make::MOST_STRUTS`].
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, or [`RunError::Cancelled`].
    pub fn skeleton(
        &self,
        part: &Part,
        recipe: &Recipe,
        zone: Option<usize>,
        watch: &dyn Watch,
    ) -> Result<Option<(Skeleton, Vec<StrutState>)>, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let (number, filling) = recipe.filling_of(zone);
        let bare = self.bare(part, recipe, (number, &filling), true, watch)?.value;
        let Some(mut net) = make::skeleton_of(part, filling.structure, &*bare) else {
            return Ok(None);
        };
        let mut states = states(part, &net, bare.cell());
        if filling.structure.kind() == Kind::Seeded(SeededKind::Delaunay) {
            // Points may see each other past a notch of the part.
            (net, states) = within_part(part, net, states, 0.05 * bare.cell());
        }
        if let Some(within) = Within::of(self.regions(part, recipe, watch)?.value, number) {
            let shown = net
                .struts
                .iter()
                .copied()
                .zip(states)
                .filter(|(s, _)| within.reached_by(net.ends(*s)));
            (net.struts, states) = shown.unzip();
        }
        Ok(Some((net, states)))
    }

    /// What a grading of a zone's own structure, or of the part's, gives in the part's box. `None`
    /// where there is no such grading, and where the part does not have what its sources name.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, or [`RunError::Cancelled`].
    pub fn graded_field(
        &self,
        part: &Part,
        recipe: &Recipe,
        (zone, grading): (Option<usize>, u32),
        watch: &dyn Watch,
    ) -> Result<Arc<Option<Sampled>>, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let (_, filling) = recipe.filling_of(zone);
        let meant = filling.gradings.iter().find(|g| g.id == grading && g.is_active());
        let Some(meant) = meant else { return Ok(Arc::new(None)) };
        Ok(self.field(part, recipe, &filling, meant, watch)?.value)
    }

    /// How the numbers of the sources of a grading are spread over the part, by source; empty where
    /// there is no such grading.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used.
    pub fn source_spreads(
        &self,
        part: &Part,
        recipe: &Recipe,
        (zone, grading): (Option<usize>, u32),
    ) -> Result<Vec<Option<SourceSpread>>, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let (_, filling) = recipe.filling_of(zone);
        let meant = filling.gradings.iter().find(|g| g.id == grading);
        Ok(meant.map_or_else(Vec::new, |grading| {
            spreads(part, &PlacedGrading::new(grading, filling.gradings, &recipe.zones))
        }))
    }

    /// Seed points of a zone's own structure, or of the part's, and the cells around them; none for
    /// structures that grow from no points in space.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, or [`RunError::Cancelled`].
    pub fn seed_cells(
        &self,
        part: &Part,
        recipe: &Recipe,
        zone: Option<usize>,
        watch: &dyn Watch,
    ) -> Result<SeedCells, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let (number, filling) = recipe.filling_of(zone);
        let sizes = self.graded(part, recipe, &filling, GradedValue::CellSize, watch)?;
        let relaxed = &self.relaxation(part, &filling, &sizes, watch);
        let structure = filling.structure;
        let input = SeedCellsInput { part: part.into(), structure, sizes, relaxed };
        let mut found = (*self.answer(input, &Quiet(watch))?.value).clone();
        if let Some(within) = Within::of(self.regions(part, recipe, watch)?.value, number) {
            let SeedCells { points, whole, edges } = &mut found;
            let shown =
                points.iter().copied().zip(whole.iter().copied()).filter(|(p, _)| within.holds(*p));
            (*points, *whole) = shown.unzip();
            *edges = edges.filtered(|s| within.reached_by(edges.ends(s)));
        }
        Ok(found)
    }
}

/// The struts within the part; a strut that leaves the part is cut into pieces. Struts of a net
/// stay when they lie within `near` mm of the surface.
fn within_part(
    part: &Part,
    net: Skeleton,
    states: Vec<StrutState>,
    near: f64,
) -> (Skeleton, Vec<StrutState>) {
    let (mut out, mut kept) =
        (Skeleton { nodes: net.nodes.clone(), struts: Vec::new() }, Vec::new());
    let mut crossings = Vec::new();
    for (&s, state) in net.struts.iter().zip(states) {
        let [a, b] = net.ends(s);
        let middle = part.distance.value(a.lerp(b, 0.5));
        part.distance.segment_crossings(a, b, &mut crossings);
        let on_surface = state == StrutState::Net && middle.abs() < near;
        if on_surface || crossings.is_empty() {
            if on_surface || middle < 0.0 {
                out.struts.push(s);
                kept.push(state);
            }
            continue;
        }
        let mut cuts: Vec<f64> = crossings.iter().map(|h| h.t).chain([0.0, 1.0]).collect();
        cuts.sort_by(f64::total_cmp);
        for pair in cuts.windows(2).filter(|c| c[1] - c[0] > 1e-6) {
            if part.distance.inside(a.lerp(b, 0.5 * (pair[0] + pair[1]))) {
                let n = out.nodes.len() as u32;
                out.nodes.extend([a.lerp(b, pair[0]), a.lerp(b, pair[1])]);
                out.struts.push([n, n + 1]);
                kept.push(StrutState::Cut);
            }
        }
    }
    (out, kept)
}

/// Where a filling fills the part, beside others.
struct Within {
    regions: Arc<Regions>,
    filling: usize,
}

impl Within {
    /// `None` where it is the only one.
    fn of(regions: Arc<Regions>, filling: usize) -> Option<Within> {
        (regions.fillings() > 1).then_some(Within { regions, filling })
    }

    fn holds(&self, p: DVec3) -> bool {
        self.regions.filling_in(self.regions.zone_at(p)) == self.filling
    }

    fn reached_by(&self, [a, b]: [DVec3; 2]) -> bool {
        [a, b, (a + b) * 0.5].into_iter().any(|p| self.holds(p))
    }
}
