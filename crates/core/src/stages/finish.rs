//! From the surface to the mesh that is shown or exported: crumbs removed, rounded to what files
//! hold, with a role and a shade for every point.

use super::shape::LazyShape;
use super::surface::ReducedSurfaceInput;
use super::{or_cancelled, Keyed, Made, StageInput};
use crate::compose::{Composed, Owner, Selection};
use crate::error::RunError;
use crate::result::{Apart, Crumbs, FinishedMesh, Removed, LISTED};
use crate::stand::Placing;
use crate::watch::{Stage, Watch};
use glam::DVec3;
use serde::Serialize;
use std::rc::Rc;
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::occlusion;
use ulmix_field::polygonise::hold::drawn_in;
use ulmix_field::polygonise::Shape;
use ulmix_mesh::reduce::Gathered;
use ulmix_mesh::smooth::smooth;
use ulmix_mesh::topology::{component_volumes, components_by_points, small_components};
use ulmix_mesh::untangle::{around, round_to_f32, untangle, Room, KEPT_AROUND};
use ulmix_mesh::{parallel, Bounds, TriMesh};
use ulmix_recipe::Stand;

/// What the mesh of a draft follows from.
#[derive(Serialize)]
pub(crate) struct DraftInput<'a> {
    pub surface: Keyed<Arc<TriMesh>>,
    pub shape: Keyed<Rc<LazyShape<'a>>>,
    pub signs: Keyed<Arc<Bits>>,
    /// Rounds in which the lattice is smoothed.
    pub rounds: usize,
}

impl StageInput for DraftInput<'_> {
    type Output = FinishedMesh;
    const NAME: &'static str = "draft";
    const STAGE: Stage = Stage::Finish;

    fn compute(self, watch: &dyn Watch) -> Result<Made<FinishedMesh>, RunError> {
        let DraftInput { surface, shape, signs, rounds } = self;
        let cancelled = || watch.cancelled();
        let made = draft(&surface, &signs, shape.composed(), rounds, &cancelled);
        Ok(Made::weighed(or_cancelled(made)?, FinishedMesh::bytes))
    }
}

/// What a final mesh follows from.
#[derive(Serialize)]
pub(crate) struct FinishInput<'a> {
    pub surface: Keyed<Arc<Gathered>>,
    /// Where its triangles cross, the surface is made again with more of the grid's triangles.
    pub source: ReducedSurfaceInput<'a>,
    /// Loose pieces smaller than this are removed. mm³.
    pub crumb_mm3: f64,
    /// Absent: files keep the part's own place.
    pub stand: Option<Stand>,
}

impl StageInput for FinishInput<'_> {
    type Output = FinishedMesh;
    const NAME: &'static str = "finish";
    const STAGE: Stage = Stage::Finish;

    fn compute(self, watch: &dyn Watch) -> Result<Made<FinishedMesh>, RunError> {
        let FinishInput { surface, source, crumb_mm3, stand } = self;
        let again = |kept: &[Bounds]| source.keeping(kept, watch);
        let settings = FinishSettings { reduce_mm: source.reduce_mm, crumb_mm3, stand };
        // Copied only where the cache keeps it.
        let surface = Arc::unwrap_or_clone(surface.value);
        let made = finish(surface, &again, &source.signs, source.shape.composed(), settings);
        Ok(Made::weighed(or_cancelled(made)?, FinishedMesh::bytes))
    }
}

/// What lattice and solids as two bodies follow from.
#[derive(Serialize)]
pub(crate) struct TogetherInput<'a> {
    pub lattice: Keyed<Arc<FinishedMesh>>,
    pub solids: Keyed<Arc<FinishedMesh>>,
    /// The shapes of lattice and solids, where they overlap.
    pub overlapping: Option<[Keyed<Rc<LazyShape<'a>>>; 2]>,
    pub stand: Option<Stand>,
}

impl StageInput for TogetherInput<'_> {
    type Output = FinishedMesh;
    const NAME: &'static str = "apart";
    const STAGE: Stage = Stage::Finish;

    fn compute(self, _: &dyn Watch) -> Result<Made<FinishedMesh>, RunError> {
        let TogetherInput { lattice, solids, overlapping, stand } = self;
        let shared = overlapping.map_or(0.0, |[lattice, solids]| solids.shared_with(&lattice));
        let both = together(&lattice, &solids, shared, stand.as_ref());
        Ok(Made::weighed(both, FinishedMesh::bytes))
    }
}

/// Lattice and solids as bodies of their own in one mesh, which stand on a bed together.
fn together(
    lattice: &FinishedMesh,
    solids: &FinishedMesh,
    shared_mm3: f64,
    stand: Option<&Stand>,
) -> FinishedMesh {
    let base = lattice.mesh.triangles.len() as u32;
    let both = || lattice.mesh.points.iter().chain(&solids.mesh.points);
    let placing = stand.map(|stand| Placing::of_points(both(), stand));
    let side = |solid: &FinishedMesh| match placing {
        None => (solid.mesh.clone(), solid.crossings.clone().unwrap_or_default()),
        Some(_) => settled(solid.mesh.clone(), placing, Room::of(&|_| TURNED_BY)),
    };
    let ((mut mesh, mut crossings), (of_solids, crossings_of_solids)) =
        (side(lattice), side(solids));
    mesh.append(&of_solids);
    crossings.extend(crossings_of_solids.into_iter().map(|p| p.map(|t| t + base)));
    FinishedMesh {
        placing,
        mesh,
        owners: [&lattice.owners[..], &solids.owners].concat(),
        openness: [&lattice.openness[..], &solids.openness].concat(),
        crumbs: lattice.crumbs.and(&solids.crumbs),
        raw_triangles: lattice.raw_triangles + solids.raw_triangles,
        crossings: Some(crossings),
        apart: Some(Apart { lattice_triangles: base as usize, shared_mm3 }),
    }
}

/// What the last steps of a final mesh follow.
#[derive(Clone, Copy)]
struct FinishSettings {
    /// Greatest deviation that reduction may cause. mm.
    reduce_mm: f64,
    /// Loose pieces smaller than this are removed. mm³.
    crumb_mm3: f64,
    stand: Option<Stand>,
}

/// A draft: the mesh as it is, or smoothed in so many `rounds`. `None` when cancelled.
fn draft(
    raw: &TriMesh,
    signs: &Bits,
    shape: &Composed,
    rounds: usize,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<FinishedMesh> {
    let owners: Vec<Owner> = parallel::map_list(&raw.points, |_, &p| shape.owner(p));
    if cancelled() {
        return None;
    }
    let mut mesh = raw.clone();
    if rounds > 0 {
        // Points on exact faces are kept by smoothing.
        let on_exact = shape.all_on_exact(&raw.points);
        smooth_lattice(&mut mesh, &owners, &on_exact, rounds, cancelled);
    }
    let openness = openness(&mesh, &owners, &shape.zoned.grid, signs);
    let raw_triangles = raw.triangles.len();
    let crumbs = Crumbs::default();
    Some(FinishedMesh {
        openness,
        owners,
        crumbs,
        raw_triangles,
        mesh,
        crossings: None,
        apart: None,
        placing: None,
    })
}

/// The exported mesh, from its surface as reduced; `again` gives that with more of the raw surface
/// kept, in boxes. `None` when cancelled.
fn finish(
    surface: Gathered,
    again: &dyn Fn(&[Bounds]) -> Option<Gathered>,
    signs: &Bits,
    shape: &Composed,
    settings: FinishSettings,
) -> Option<FinishedMesh> {
    let raw_triangles = surface.raw_triangles;
    let Done { mesh, owners, crumbs, crossings, placing } =
        settled_surface(surface, again, shape, settings)?;
    let openness = openness(&mesh, &owners, &shape.zoned.grid, signs);
    Some(FinishedMesh {
        openness,
        owners,
        crumbs,
        raw_triangles,
        mesh,
        crossings: Some(crossings),
        apart: None,
        placing,
    })
}

/// How open every point is, for the picture's shade; smooth on solids and skins.
fn openness(mesh: &TriMesh, owners: &[Owner], grid: &Grid, signs: &Bits) -> Vec<u8> {
    let openness = occlusion::openness(mesh, grid, signs);
    occlusion::evened(mesh, openness, &|v| owners[v] != Owner::Fill)
}

/// Smooths the lattice; solids, skins and the part's own faces stay.
pub(crate) fn smooth_lattice(
    mesh: &mut TriMesh,
    owners: &[Owner],
    on_exact: &[bool],
    rounds: usize,
    cancelled: &(dyn Fn() -> bool + Sync),
) {
    let kept: Vec<bool> =
        owners.iter().zip(on_exact).map(|(owner, exact)| *owner != Owner::Fill || *exact).collect();
    smooth(mesh, &kept, rounds, cancelled);
}

/// A piece of a larger share of the largest one is no crumb, whatever the limit.
const MOST_OF_WHOLE: f64 = 1e-3;

/// Pieces of fewer cubes of the grid's step are none that the grid can show, whatever the limit:
/// around one or two samples a shell may even come out inside out.
const UNSEEN: f64 = 2.0;

/// Takes away loose pieces, and closed voids, smaller than `least` mm³. The largest piece always
/// stays, and so does one with a point that is `held`, unless it is dust. `cube` is the volume of a
/// cube of the grid's step, in mm³.
fn remove_crumbs(
    surface: &mut Gathered,
    cube: f64,
    least: f64,
    held: &dyn Fn(u8) -> bool,
) -> Crumbs {
    let Gathered { mesh, labels, faithful, .. } = surface;
    let (component_of, components) = components_by_points(mesh);
    if components < 2 {
        return Crumbs::default();
    }
    let volumes = component_volumes(mesh, &component_of, components);
    let largest = volumes.iter().copied().fold(0.0, f64::max);
    let mut goes =
        small_components(&volumes, least.min(MOST_OF_WHOLE * largest).max(UNSEEN * cube));
    for (t, &component) in mesh.triangles.iter().zip(&component_of) {
        let stays = || {
            volumes[component as usize].abs() >= DUST * cube
                && t.iter().any(|&v| held(labels[v as usize]))
        };
        goes[component as usize] &= !stays();
    }
    let (mut removed, voids): (Vec<usize>, Vec<usize>) =
        (0..components).filter(|&p| goes[p]).partition(|&p| volumes[p] >= 0.0);
    removed.sort_by(|&a, &b| volumes[b].total_cmp(&volumes[a]));
    let place = |p: usize| {
        component_of.iter().position(|&of| of as usize == p).map_or(DVec3::ZERO, |t| mesh.middle(t))
    };
    let listed = |&p: &usize| Removed { volume_mm3: volumes[p], place_mm: place(p).to_array() };
    let crumbs = Crumbs {
        removed: removed.len(),
        volume_mm3: removed.iter().map(|&p| volumes[p]).sum(),
        voids_filled: voids.len(),
        voids_mm3: voids.iter().map(|&p| -volumes[p]).sum(),
        largest: removed.iter().take(LISTED).map(listed).collect(),
    };
    if goes.contains(&true) {
        let (kept, from) = mesh.filtered_with_sources(|t| !goes[component_of[t] as usize]);
        *labels = from.iter().map(|&v| labels[v as usize]).collect();
        *faithful = from.iter().map(|&v| faithful[v as usize]).collect();
        *mesh = kept;
    }
    crumbs
}

/// A finished mesh with a role for every point and the pairs that cross all the same.
struct Done {
    mesh: TriMesh,
    owners: Vec<Owner>,
    crumbs: Crumbs,
    crossings: Vec<[u32; 2]>,
    placing: Option<Placing>,
}

fn settled_surface(
    surface: Gathered,
    again: &dyn Fn(&[Bounds]) -> Option<Gathered>,
    shape: &Composed,
    FinishSettings { reduce_mm, crumb_mm3, stand }: FinishSettings,
) -> Option<Done> {
    let step = shape.zoned.grid.step;
    // A loose piece of lattice that ends at a solid is joined to it there, though not in this mesh.
    let held = |owner: u8| shape.side() == Selection::Lattice && owner != Owner::Fill as u8;
    let (mut first, mut kept, mut before) = (Some(surface), Vec::new(), usize::MAX);
    for about in KEPT_AROUND {
        let mut s = first.take().map_or_else(|| again(&kept), Some)?;
        let crumbs = remove_crumbs(&mut s, step.powi(3), crumb_mm3, &held);
        let placing = stand.map(|stand| Placing::of(&s.mesh, &stand));
        let may_move = |v: u32| {
            if s.faithful[v as usize] {
                faithful(step)
            } else {
                reduce_mm.max(LOOSE * step)
            }
        };
        let free = Room::of(&may_move);
        let in_part = Room { confine: &|p| shape.confine(p), ..free };
        let (mut mesh, mut crossings) = settled(std::mem::take(&mut s.mesh), placing, in_part);
        // The grid's own triangles cross whatever is kept of them.
        let is_own =
            |t: &u32| Bounds::of(mesh.corners(*t as usize)).size().max_element() < OWN * step;
        let large: Vec<[u32; 2]> =
            crossings.iter().filter(|pair| !pair.iter().all(is_own)).copied().collect();
        // What the last attempt left as it was the next one will leave, too.
        let gained = large.len() < std::mem::replace(&mut before, large.len());
        let Some(about) = about.filter(|_| gained && !large.is_empty()) else {
            // First within all borders, then within the part: a mesh that crosses nowhere is worth
            // more than either.
            for room in [Room { confine: &|p| drawn_in(shape, p, step), ..free }, in_part, free] {
                if !crossings.is_empty() {
                    (mesh, crossings) = settled(mesh, placing, Room { last_resort: true, ..room });
                }
            }
            let owners = s.labels.iter().map(|&owner| Owner::numbered(owner)).collect();
            return Some(Done { mesh, owners, crumbs, crossings, placing });
        };
        // Where sheets meet at a sharp angle, larger triangles may have no way past each other: the
        // small ones of the raw mesh stay there.
        kept.extend(around(&mesh, &large, about * step));
    }
    None
}

/// How far the part's own faces and edges may move where the grid has this step. mm.
pub(crate) fn faithful(step: f64) -> f64 {
    0.008 * step
}

/// Pieces of fewer cubes of the grid's step are dust, whatever they touch.
const DUST: f64 = 8.0;
/// How far points may move where a finished mesh is turned, so that nothing crosses. mm.
const TURNED_BY: f64 = 0.004;

/// Rounds a mesh as it stands in files, and takes back what crosses there; in the part's axes
/// again, with the pairs that cross all the same. See [`untangle`].
fn settled(mut mesh: TriMesh, placing: Option<Placing>, room: Room) -> (TriMesh, Vec<[u32; 2]>) {
    if let Some(placing) = &placing {
        mesh = placing.of_mesh(&mesh);
    }
    round_to_f32(&mut mesh);
    let confine = |p: DVec3| match &placing {
        Some(placing) => placing.of_place((room.confine)(placing.place_back(p))),
        None => (room.confine)(p),
    };
    let crossings = untangle(&mut mesh, Room { confine: &confine, ..room });
    let mesh = match placing {
        Some(placing) => placing.back(mesh),
        None => mesh,
    };
    (mesh, crossings)
}

/// Triangles of the grid are smaller than so many steps.
const OWN: f64 = 3.0;

/// Points off the part's own faces may move by this share of a step so that nothing crosses.
const LOOSE: f64 = 0.05;

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::Topology;

    #[test]
    fn crumbs_go_and_the_largest_piece_stays_however_small() {
        let mut m = TriMesh::sphere(5.0, 3);
        m.append(&TriMesh::cuboid(DVec3::splat(8.0), DVec3::splat(8.5)));
        let without = |least: f64| {
            // By place, so that a list out of step with the points would show.
            let label = |p: &DVec3| {
                (p.x.to_bits() ^ p.y.to_bits().rotate_left(7) ^ p.z.to_bits().rotate_left(13)) as u8
            };
            let labels = m.points.iter().map(label).collect();
            let mut s = Gathered {
                labels,
                faithful: vec![false; m.points.len()],
                mesh: m.clone(),
                raw_triangles: 0,
            };
            let crumbs = remove_crumbs(&mut s, 0.0, least, &|_| false);
            assert_eq!(s.labels, s.mesh.points.iter().map(label).collect::<Vec<u8>>());
            (s.mesh, crumbs)
        };
        let (kept, crumbs) = without(2.0);
        assert_eq!(crumbs.removed, 1);
        assert!((crumbs.volume_mm3 - 0.125).abs() < 1e-12 && crumbs.largest.len() == 1);
        assert_eq!(Topology::of(&kept).components, 1);
        assert_eq!(without(0.1).0, m);
        assert_eq!(without(1e9).1.removed, 1);
    }
}
