//! Numbers and checks of a finished mesh: always of what will be exported.

use crate::asked::{as_asked, as_made, expected_bodies, AsAsked, Case, DensityWindow, Gauged};
use crate::graded_notes;
use crate::note::Note;
use crate::result::{Filled, Linked};
use crate::result::{FinishedMesh, Removed};
use glam::DVec3;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use ulmix_check::{checks_given, Check};
use ulmix_lattice::{meeting::meeting, own_cell, Facts};
use ulmix_mesh::crossing::Crossings;
use ulmix_mesh::thickness::wall_thickness;
use ulmix_mesh::topology::{component_volumes, components_by_points};
use ulmix_mesh::{Bvh, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::{Filling, Kind, Layout, Pattern, Recipe, Role, SeededKind, Seeds};
use utoipa::ToSchema;

/// Numbers of a mesh. Volumes mm³, areas mm².
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Report {
    /// Volume of the result.
    pub volume_mm3: f64,
    /// Surface of the result. mm².
    pub area_mm2: f64,
    /// Mass of the result. g.
    pub mass_g: f64,
    /// Volume of the part before.
    pub part_volume_mm3: f64,
    /// Mass of the part before, were it solid. g.
    pub part_mass_g: f64,
    /// Share of the solid part's volume that is gone. Percent.
    pub saved_percent: f64,
    /// Solid share of the fill zone. Percent.
    pub fill_density_percent: f64,
    /// Lattice that stands past the part's surface, counted in the volume and not in the density.
    #[serde(default)]
    #[schema(required = true)]
    pub proud_mm3: f64,
    /// Triangles of the mesh.
    pub triangles: usize,
    /// Lattice and solids, where they are bodies of their own, in the mesh's order; empty where all
    /// is one.
    #[serde(default)]
    #[schema(required = true)]
    pub apart: Vec<BodyApart>,
    /// How many bodies it is to have; 0 for a draft.
    pub bodies: usize,
    /// By filling, in the order of [`Recipe::fillings`], what its walls or struts measure on the
    /// mesh; absent where nothing could be measured, and empty for a draft.
    pub gauged: Vec<Option<Gauged>>,
    /// By filling, windows of two cells in which a graded density was measured; empty where none is
    /// graded, and for a draft.
    #[serde(default)]
    #[schema(required = true)]
    pub density_windows: Vec<Vec<DensityWindow>>,
    /// Loose pieces that were removed.
    pub crumbs_removed: usize,
    /// Material of these pieces.
    pub crumbs_mm3: f64,
    /// The largest loose pieces that were removed, largest first.
    pub crumbs: Vec<Removed>,
    /// Closed voids that were filled.
    pub voids_filled: usize,
    /// Space of these voids.
    pub voids_mm3: f64,
    /// The mesh itself, then the result against the request. Absent for a draft.
    pub checks: Option<Vec<Check>>,
    /// What a person should know, in plain words: an empty or a solid result, among others.
    pub notes: Vec<Note>,
    /// What may not print or not serve, in plain words.
    #[serde(default)]
    #[schema(required = true)]
    pub cautions: Vec<String>,
}

/// Names of the bodies of a mesh that holds lattice and solids apart.
pub const LATTICE: &str = "Lattice";
/// Name of the body of kept solids and skins, where these are apart from the lattice.
pub const SOLIDS: &str = "Solids";

/// One of the bodies of a mesh that holds lattice and solids apart.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BodyApart {
    /// Name of the body.
    pub name: String,
    /// Triangles of the body.
    pub triangles: usize,
    /// Volume of the body.
    pub volume_mm3: f64,
}

/// What density and zones say of the result before there is a mesh.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EstimatedReport {
    /// Volume of the result.
    pub volume_mm3: f64,
    /// Mass of the result. g.
    pub mass_g: f64,
    /// Volume of the part before.
    pub part_volume_mm3: f64,
    /// Mass of the part before, were it solid. g.
    pub part_mass_g: f64,
    /// Share of the part's volume that is saved. Percent.
    pub saved_percent: f64,
    /// Solid share of what is filled. Percent.
    pub fill_density_percent: f64,
    /// What should be known before a run.
    pub cautions: Vec<String>,
}

/// Numbers of the result that follow from thickness and density, before there is a mesh.
pub fn estimated(part: &Part, recipe: &Recipe, linked: &Linked) -> EstimatedReport {
    let volume_mm3 = linked.solid_volume_mm3 + linked.lattice_volume_mm3();
    weighed(part, recipe, linked, volume_mm3, 0.0)
}

/// The figures of a result of this volume, of which `proud_mm3` stand past the part's surface.
fn weighed(
    part: &Part,
    recipe: &Recipe,
    linked: &Linked,
    volume_mm3: f64,
    proud_mm3: f64,
) -> EstimatedReport {
    let density = recipe.material.density / 1000.0;
    let part_volume_mm3 = part.facts.volume_mm3;
    // What is solid outside the fill zone is there in any case.
    let outside = linked.solid_volume_mm3;
    let filled = linked.fill_volume_mm3();
    let fill = if filled > 0.0 { (volume_mm3 - proud_mm3 - outside) / filled } else { 0.0 };
    EstimatedReport {
        volume_mm3,
        mass_g: volume_mm3 * density,
        part_volume_mm3,
        part_mass_g: part_volume_mm3 * density,
        saved_percent: 100.0 * (1.0 - volume_mm3 / part_volume_mm3),
        fill_density_percent: 100.0 * fill,
        cautions: cautions(part, recipe, linked),
    }
}

/// The report of a draft, whose grid is too coarse to weigh it: what density and zones say is
/// within a percent of the final. `step` is that of its grid, and `proud_mm3` the volume of lattice
/// past the part's surface.
pub fn of_draft(
    part: &Part,
    recipe: &Recipe,
    linked: &Linked,
    solid: &FinishedMesh,
    step: f64,
    proud_mm3: f64,
) -> Report {
    let volume_mm3 = if solid.mesh.triangles.is_empty() {
        0.0
    } else {
        linked.solid_volume_mm3 + linked.lattice_volume_mm3() + proud_mm3
    };
    let known = weighed(part, recipe, linked, volume_mm3, proud_mm3);
    let notes = notes(recipe, linked, &solid.mesh, known.fill_density_percent / 100.0, Some(step));
    Report { notes, ..with_numbers(known, solid, proud_mm3) }
}

/// The report of a final mesh.
pub fn of_final(case: &Case, known_before: &[Note], proud_mm3: f64) -> Report {
    let Case { part, recipe, linked, solid, .. } = *case;
    let mesh = &solid.mesh;
    // What two bodies share is there once.
    let volume_mm3 = mesh.volume() - solid.apart.map_or(0.0, |a| a.shared_mm3);
    let mut known = weighed(part, recipe, linked, volume_mm3, proud_mm3);
    let cell = linked.finest().cell_mm;
    let expected = expected_bodies(part, case.regions, case.zoned, solid.apart.is_some(), cell);
    let crossing =
        Crossings { pairs: solid.crossings.clone().unwrap_or_default(), cut_short: false };
    // Each has stretches that one thread alone can do.
    let (sound, (asked, made)) = rayon::join(
        || checks_given(mesh, Some(expected.all()), &crossing),
        || {
            if mesh.triangles.is_empty() {
                (AsAsked::default(), Vec::new())
            } else {
                (as_asked(case), as_made(case))
            }
        },
    );
    // Where something is solid too, what is filled is known better from points of it than from
    // volumes.
    if let Some(percent) =
        mean_density(linked, &asked.density_percent).filter(|_| linked.solid_volume_mm3 > 0.0)
    {
        known.fill_density_percent = percent;
    }
    let mut notes = notes(recipe, linked, mesh, known.fill_density_percent / 100.0, None);
    notes.extend(known_before.iter().cloned());
    Report {
        notes,
        checks: Some([sound, asked.checks, made].concat()),
        gauged: asked.gauged,
        density_windows: asked.density_windows,
        bodies: expected.all(),
        ..with_numbers(known, solid, proud_mm3)
    }
}

/// Of what all fillings fill together. Percent.
fn mean_density(linked: &Linked, found: &[Option<f64>]) -> Option<f64> {
    let all: Vec<(f64, f64)> =
        linked.fills().zip(found).filter_map(|(f, p)| Some((f.fill_volume_mm3, (*p)?))).collect();
    let whole: f64 = all.iter().map(|f| f.0).sum();
    (whole > 0.0).then(|| all.iter().map(|(volume, percent)| volume * percent).sum::<f64>() / whole)
}

/// Numbers alone.
fn with_numbers(known: EstimatedReport, solid: &FinishedMesh, proud_mm3: f64) -> Report {
    let mesh = &solid.mesh;
    let EstimatedReport {
        volume_mm3,
        mass_g,
        part_volume_mm3,
        part_mass_g,
        saved_percent,
        fill_density_percent,
        cautions,
    } = known;
    Report {
        volume_mm3,
        area_mm2: mesh.area(),
        mass_g,
        part_volume_mm3,
        part_mass_g,
        saved_percent,
        fill_density_percent: fill_density_percent.clamp(0.0, 100.0),
        proud_mm3,
        triangles: mesh.triangles.len(),
        apart: solid.apart.map_or_else(Vec::new, |a| bodies_apart(mesh, a.lattice_triangles)),
        bodies: 0,
        gauged: Vec::new(),
        density_windows: Vec::new(),
        crumbs_removed: solid.crumbs.removed,
        crumbs_mm3: solid.crumbs.volume_mm3,
        crumbs: solid.crumbs.largest.clone(),
        voids_filled: solid.crumbs.voids_filled,
        voids_mm3: solid.crumbs.voids_mm3,
        checks: None,
        notes: Vec::new(),
        cautions,
    }
}

fn bodies_apart(mesh: &TriMesh, lattice: usize) -> Vec<BodyApart> {
    let of = |name: &str, range: std::ops::Range<usize>| BodyApart {
        name: name.into(),
        triangles: range.len(),
        volume_mm3: mesh.filtered(|t| range.contains(&t)).volume(),
    };
    let both = [of(LATTICE, 0..lattice), of(SOLIDS, lattice..mesh.triangles.len())];
    both.into_iter().filter(|b| b.triangles > 0).collect()
}

fn cautions(part: &Part, recipe: &Recipe, linked: &Linked) -> Vec<String> {
    let mut out = Vec::new();
    let material = recipe.material.known();
    let thinnest = part.facts.size_mm.iter().copied().fold(f64::INFINITY, f64::min);
    for (filling, filled) in recipe.fillings().iter().zip(linked.fills()) {
        let what = if filled.walls { "Walls" } else { "Struts" };
        if let Some(m) = material.filter(|m| filled.thinnest_mm() < m.least_mm) {
            let (asked, least) = (filled.thinnest_mm(), m.least_mm);
            out.push(format!(
                "{what} of {asked:.2} mm seldom print in {}: {least} mm is a common \
                 least thickness.",
                m.name
            ));
        }
        let in_space = matches!(
            filling.structure.kind(),
            Kind::Seeded(SeededKind::Voronoi | SeededKind::VoronoiWalls)
        );
        if in_space && thinnest < 0.8 * filled.cell_mm {
            out.push(
                "The part is thinner than a cell: cells in space are cut flat. \
                     Planar Voronoi, extruded, gives whole ones."
                    .into(),
            );
        }
    }
    let mut told = HashSet::new();
    out.retain(|c| told.insert(c.clone()));
    out
}

fn notes(
    recipe: &Recipe,
    linked: &Linked,
    mesh: &TriMesh,
    fill: f64,
    draft_step: Option<f64>,
) -> Vec<Note> {
    let mut out: Vec<String> = Vec::new();
    let filled = linked.fill_volume_mm3();
    for lost in &linked.lost_faces {
        let faces = if lost.faces == 1 { "a face".into() } else { format!("{} faces", lost.faces) };
        out.push(format!("“{}” no longer finds {faces} of the part. Pick them again.", lost.name));
    }
    out.extend(graded_notes::lost_sources(recipe, linked));
    for (filling, filled) in recipe.fillings().iter().zip(linked.fills()) {
        let Some(percent) = filling.asked_density() else { continue };
        if filled.fill_volume_mm3 > 0.0 && (filled.density_percent - percent).abs() > 1.0 {
            out.push(format!(
                "{percent} % cannot be reached by this structure: {:.1} % is the \
                     nearest at which it holds together.",
                filled.density_percent
            ));
        }
    }
    for filling in recipe.fillings() {
        if let Pattern::OwnCell(p) = &filling.structure.pattern {
            out.extend(meeting(&own_cell::struts(&p.own)).notes());
        }
    }
    // Fillings that grow from seed points of which none lies inside.
    let none_inside: Vec<(&Seeds, &Facts)> = recipe
        .fillings()
        .into_iter()
        .zip(linked.fills())
        .filter_map(|(f, l)| Some((f.structure.seeds()?, l.structure.as_ref()?)))
        .filter(|(_, facts)| facts.seeds == 0)
        .collect();
    if none_inside.iter().any(|(seeds, _)| seeds.own.is_some()) {
        out.push(
            "None of the own points lies inside the part. They are read in mm, in the part's axes."
                .into(),
        );
    }
    if none_inside
        .iter()
        .any(|(seeds, facts)| seeds.layout == Layout::Both && facts.surface_seeds > 0)
    {
        out.push(
            "No seed point lies inside: those on the surface leave no room. \
                 Choose more points inside, or smaller cells."
                .into(),
        );
    }
    if mesh.triangles.is_empty() {
        out.push(
            "Nothing is left: the lattice is too thin or its cells too large for \
                 this part. Make walls thicker or cells smaller."
                .into(),
        );
    } else if filled <= 0.0 {
        out.push(
            "Nothing is hollow: skin and kept solids take the whole part. Make the skin thinner."
                .into(),
        );
    } else if fill > 0.97 {
        out.push(
            "The fill is solid: walls close every opening. Make walls thinner or cells larger."
                .into(),
        );
    } else if has_closed_cells(recipe, linked, mesh) {
        out.push(
            "Cells are closed: powder or resin stays in them. Give the walls holes, \
             or choose Voronoi struts."
                .into(),
        );
    } else if linked.fills().any(|f| f.opening_mm <= 0.0) {
        out.push(
            "Openings close at the narrowest places. Make walls thinner or cells larger.".into(),
        );
    } else if fill < 0.005 {
        out.push("The fill is nearly empty. Make walls thicker or cells smaller.".into());
    }
    let smallest = linked.finest().cell_mm;
    if let Some(step) = draft_step.filter(|s| *s > smallest / 5.0) {
        out.push(format!(
            "Cells of {smallest:.2} mm are too fine for this draft's step of \
                 {step} mm: only the final mesh shows them truly."
        ));
    }
    if filled > 0.0 && smallest.powi(3) > filled {
        out.push(
            "One cell is larger than the whole fill zone. Smaller cells show the structure.".into(),
        );
    }
    let of_values = out.into_iter().map(Note::from);
    of_values.chain(graded_notes::uneven_sizes(linked)).chain(idle_zones(recipe, linked)).collect()
}

/// Has the mesh voids that walls around seed points enclose? Cells that the part's surface cuts are
/// open and do not count.
fn has_closed_cells(recipe: &Recipe, linked: &Linked, mesh: &TriMesh) -> bool {
    let closes = |(f, l): (&Filling, &Filled)| {
        f.structure.kind() == Kind::Seeded(SeededKind::VoronoiWalls) && l.opening_mm <= 0.0
    };
    recipe.fillings().iter().zip(linked.fills()).any(closes) && {
        let (component_of, components) = components_by_points(mesh);
        component_volumes(mesh, &component_of, components).iter().any(|v| *v < 0.0)
    }
}

/// Zones that change nothing, with their places: as they may be after a part is swapped.
fn idle_zones<'a>(recipe: &'a Recipe, linked: &'a Linked) -> impl Iterator<Item = Note> + 'a {
    let all = recipe.zones.list.iter().zip(&linked.zone_mm3).zip(&linked.own);
    all.filter_map(|((zone, mm3), own)| {
        let fills_nothing = own.as_ref().is_some_and(|o| o.fill_volume_mm3 <= 0.0);
        let idle = zone.role != Role::Reference && (*mm3 <= 0.0 || fills_nothing);
        let does = if fills_nothing { "fills" } else { "takes" };
        let text = format!(
            "“{}” {does} nothing: it lies outside the part, or other zones take its place.",
            zone.name
        );
        idle.then(|| Note { text, place_mm: zone.place.middle() })
    })
}

/// Thickness at points of the surface, in mm: the largest ball inside that touches there. `NaN` at
/// sharp edges, where that says nothing, and at points beyond `most` of them, spread evenly.
pub fn thickness_at_points(mesh: &TriMesh, limit: f64, most: usize) -> Vec<f32> {
    let bvh = Bvh::new(mesh);
    let normals = mesh.point_normals();
    let every = mesh.points.len().div_ceil(most.max(1)).max(1);
    // A multiplicative hash (Knuth 1973) spreads the picked points over neighbouring indices.
    let picked: Vec<usize> = (0..mesh.points.len())
        .filter(|&v| ((v as u32).wrapping_mul(2_654_435_761) as usize).is_multiple_of(every))
        .collect();
    let points: Vec<DVec3> = picked.iter().map(|&v| mesh.points[v]).collect();
    let at: Vec<DVec3> = picked.iter().map(|&v| normals[v]).collect();
    let mut out = vec![f32::NAN; mesh.points.len()];
    for (&v, d) in picked.iter().zip(wall_thickness(&bvh, &points, &at, limit, |n, t| {
        mesh.triangles[t as usize].contains(&(picked[n] as u32))
    })) {
        out[v] = d as f32;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline::{Pipeline, Unwatched};
    use ulmix_recipe::Thicken;

    #[test]
    fn thin_walls_and_flat_parts_are_cautioned() {
        let of = |size: DVec3, change: &dyn Fn(&mut Recipe)| {
            let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, size)).unwrap();
            let mut recipe = Recipe::for_part(&part.mesh.bounds());
            change(&mut recipe);
            let (linked, _) = Pipeline::new(0).estimate(&part, &recipe, &Unwatched).unwrap();
            cautions(&part, &recipe, &linked)
        };
        assert!(of(DVec3::splat(60.0), &|_| ()).is_empty());
        let thin = |r: &mut Recipe| r.thicken = Thicken::Thickness { thickness_mm: 0.45 };
        assert!(of(DVec3::splat(60.0), &thin)[0].contains("0.6 mm"));
        let metal = |r: &mut Recipe| {
            thin(r);
            r.material.name = "Ti-6Al-4V".into();
        };
        assert!(of(DVec3::splat(60.0), &metal).is_empty());
        let voronoi = |r: &mut Recipe| r.structure.choose(Kind::Seeded(SeededKind::Voronoi));
        assert!(of(DVec3::new(80.0, 60.0, 4.0), &voronoi)[0].contains("thinner than a cell"));
    }
}
