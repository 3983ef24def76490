//! Numbers and checks of a finished mesh: always of what will be exported.

use crate::lattice::{meeting::meeting, own_cell};
use crate::part::Part;
use crate::pipeline::finish::Solid;
use crate::pipeline::{Filled, Linked};
use crate::recipe::{CellKind, Filling, Kind, Recipe, SeededKind, Thicken};
use crate::shape::Owner;
use glam::DVec3;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use ulmix_mesh::crossing::{crossing_pairs, triangles_of};
use ulmix_mesh::thickness::{wall_thickness, weighted_quantile};
use ulmix_mesh::topology::piece_volumes;
use ulmix_mesh::{Bvh, Topology, TriMesh};
use utoipa::ToSchema;

/// Numbers of a mesh. Volumes mm³, areas mm².
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Report {
    pub volume_mm3: f64,
    pub area_mm2: f64,
    pub mass_g: f64,
    pub part_volume_mm3: f64,
    pub part_mass_g: f64,
    /// Share of the solid part's volume that is gone. Percent.
    pub saved_percent: f64,
    /// Solid share of the fill zone. Percent.
    pub fill_density_percent: f64,
    /// Lattice that stands past the part's surface, counted in the volume and not in the density.
    #[serde(default)]
    #[schema(required = true)]
    pub proud_mm3: f64,
    pub triangles: usize,
    /// Lattice and solids, where they are bodies of their own, in the mesh's order; empty where all is one.
    #[serde(default)]
    #[schema(required = true)]
    pub apart: Vec<BodyApart>,
    /// Wall thickness in the fill zone over its surface, measured on the mesh; absent for a draft.
    pub walls: Option<Walls>,
    pub crumbs_removed: usize,
    pub crumbs_mm3: f64,
    pub voids_filled: usize,
    /// Absent for a draft.
    pub checks: Option<Vec<Check>>,
    /// What a person should know, in plain words: an empty or a solid result, among others.
    pub notes: Vec<String>,
    /// What may not print or not serve, in plain words.
    #[serde(default)]
    #[schema(required = true)]
    pub cautions: Vec<String>,
}

/// One of the bodies of a mesh that holds lattice and solids apart.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BodyApart {
    pub name: String,
    pub triangles: usize,
    pub volume_mm3: f64,
}

#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Walls {
    /// Below which one percent of the surface lies. mm.
    pub thinnest_mm: f64,
    pub median_mm: f64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    Pass,
    /// Worth a look, no failure.
    Look,
    Fail,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// Stable name, for programs.
    pub id: String,
    /// Name for a person.
    pub title: String,
    pub verdict: Verdict,
    /// The figure behind the verdict, with its unit.
    pub figure: String,
    pub value: f64,
    /// A place to look at, when there is one. mm.
    pub place_mm: Option<[f64; 3]>,
    /// What it means and what to do, when it does not pass.
    pub hint: Option<String>,
}

/// The checks of any mesh. `bodies` is the number of bodies expected, when there is one.
pub fn checks(mesh: &TriMesh, bodies: Option<usize>) -> Vec<Check> {
    checks_given(mesh, bodies, &crossing_pairs(mesh, &Bvh::new(mesh)))
}

/// As [`checks`], with the pairs of crossing triangles known.
pub fn checks_given(mesh: &TriMesh, bodies: Option<usize>, crossing: &[[u32; 2]]) -> Vec<Check> {
    let t = Topology::of(mesh);
    let volumes = piece_volumes(mesh, &t.piece_of, t.pieces);
    let found = volumes.iter().filter(|v| **v > 0.0).count();
    let voids = volumes.iter().filter(|v| **v < 0.0).count();
    let middle = |t: u32| mesh.middle(t as usize).to_array();
    let first_crossing = crossing.first().map(|p| middle(p[0]));
    let crossing = triangles_of(crossing);
    let zero = |id: &str, title: &str, what: [&str; 2], n: usize, place: Option<[f64; 3]>, hint: &str| Check {
        id: id.into(),
        title: title.into(),
        verdict: if n == 0 { Verdict::Pass } else { Verdict::Fail },
        figure: format!("{n} {}", if n == 1 { what[0] } else { what[1] }),
        value: n as f64,
        place_mm: place,
        hint: (n > 0).then(|| hint.into()),
    };
    let place_of_piece = |wanted: &dyn Fn(f64) -> bool| {
        let piece = volumes.iter().position(|v| wanted(*v))? as u32;
        t.piece_of.iter().position(|p| *p == piece).map(|t| middle(t as u32))
    };
    let outward = mesh.volume() > 0.0 && t.flipped_edges == 0;
    vec![
        zero("open_edges", "Closed surface", ["open edge", "open edges"], t.open_edges, None, "The surface has holes: a printer cannot tell inside from outside."),
        zero(
            "non_manifold",
            "Manifold edges",
            ["bad place", "bad places"],
            t.non_manifold_edges + t.non_manifold_vertices,
            None,
            "Surfaces touch along edges or points; print preparation may split them wrongly.",
        ),
        Check {
            id: "outward".into(),
            title: "Faces outward".into(),
            verdict: if outward { Verdict::Pass } else { Verdict::Fail },
            figure: if outward { "all".into() } else { format!("{} turned edges", t.flipped_edges) },
            value: t.flipped_edges as f64,
            place_mm: None,
            hint: (!outward).then(|| "Some triangles face inward. Bring the file in as a part to have them turned.".into()),
        },
        Check {
            id: "bodies".into(),
            title: if bodies == Some(1) { "One body".into() } else { "Bodies".into() },
            verdict: match bodies {
                _ if found == 0 => Verdict::Fail,
                Some(wanted) if found != wanted => Verdict::Look,
                _ => Verdict::Pass,
            },
            figure: format!("{found} {}", if found == 1 { "body" } else { "bodies" }),
            value: found as f64,
            place_mm: if found > 1 { place_of_piece(&|v| v > 0.0 && v < volumes.iter().copied().fold(0.0, f64::max)) } else { None },
            hint: bodies.filter(|&w| w != found).map(|w| {
                format!("The part has {w}. Loose pieces print apart: a larger crumb size removes small ones, thicker walls or another cell size join them.")
            }),
        },
        zero(
            "self_crossing",
            "No self-crossing",
            ["triangle", "triangles"],
            crossing.len(),
            first_crossing,
            "Triangles pass through each other; print preparation may fill or drop the places.",
        ),
        Check {
            id: "sealed_voids".into(),
            title: "No sealed voids".into(),
            verdict: if voids == 0 { Verdict::Pass } else { Verdict::Look },
            figure: format!("{voids} {}", if voids == 1 { "void" } else { "voids" }),
            value: voids as f64,
            place_mm: if voids > 0 { place_of_piece(&|v| v < 0.0) } else { None },
            hint: (voids > 0).then(|| "Powder or resin in closed voids cannot get out. Without a skin, or with openings, it can.".into()),
        },
    ]
}

/// What density and zones say of the result before there is a mesh.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Foretold {
    pub volume_mm3: f64,
    pub mass_g: f64,
    pub part_volume_mm3: f64,
    pub part_mass_g: f64,
    pub saved_percent: f64,
    pub fill_density_percent: f64,
    pub cautions: Vec<String>,
}

pub fn foretold(part: &Part, recipe: &Recipe, linked: &Linked) -> Foretold {
    let volume_mm3 = linked.solid_volume_mm3 + linked.lattice_volume_mm3();
    weighed(part, recipe, linked, volume_mm3, 0.0)
}

/// The figures of a result of this volume, of which `proud_mm3` stand past the part's surface.
fn weighed(part: &Part, recipe: &Recipe, linked: &Linked, volume_mm3: f64, proud_mm3: f64) -> Foretold {
    let density = recipe.material.density / 1000.0;
    let part_volume_mm3 = part.facts.volume_mm3;
    // What is solid outside the fill zone is there in any case.
    let outside = linked.solid_volume_mm3;
    let filled = linked.fill_volume_mm3();
    let fill = if filled > 0.0 { (volume_mm3 - proud_mm3 - outside) / filled } else { 0.0 };
    Foretold {
        volume_mm3,
        mass_g: volume_mm3 * density,
        part_volume_mm3,
        part_mass_g: part_volume_mm3 * density,
        saved_percent: 100.0 * (1.0 - volume_mm3 / part_volume_mm3),
        fill_density_percent: 100.0 * fill,
        cautions: cautions(part, recipe, linked),
    }
}

/// `proud_mm3` is the volume of lattice past the part's surface.
pub fn report(part: &Part, recipe: &Recipe, linked: &Linked, solid: &Solid, step: f64, proud_mm3: f64) -> Report {
    let mesh = &solid.mesh;
    // A draft's grid is too coarse to weigh it: what density and zones say is within a percent of the final.
    let draft = solid.crossings.is_none();
    let volume_mm3 = if draft && !mesh.triangles.is_empty() {
        linked.solid_volume_mm3 + linked.lattice_volume_mm3() + proud_mm3
    } else {
        // What two bodies share is there once.
        mesh.volume() - solid.apart.map_or(0.0, |a| a.shared_mm3)
    };
    let Foretold { volume_mm3, mass_g, part_volume_mm3, part_mass_g, saved_percent, fill_density_percent, cautions } =
        weighed(part, recipe, linked, volume_mm3, proud_mm3);
    let bodies = solid.apart.is_none().then_some(part.facts.bodies);
    // Each has stretches that one thread alone can do.
    let (checks, walls) = rayon::join(
        || solid.crossings.as_ref().map(|c| checks_given(mesh, bodies, c)),
        || if draft { None } else { walls(part, solid, linked, step) },
    );
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
        walls,
        crumbs_removed: solid.crumbs.removed,
        crumbs_mm3: solid.crumbs.volume_mm3,
        voids_filled: solid.crumbs.voids_filled,
        checks,
        notes: notes(recipe, linked, mesh, fill_density_percent / 100.0, draft.then_some(step)),
        cautions,
    }
}

fn bodies_apart(mesh: &TriMesh, lattice: usize) -> Vec<BodyApart> {
    let of = |name: &str, range: std::ops::Range<usize>| BodyApart {
        name: name.into(),
        triangles: range.len(),
        volume_mm3: mesh.filtered(|t| range.contains(&t)).volume(),
    };
    let both = [of("Lattice", 0..lattice), of("Solids", lattice..mesh.triangles.len())];
    both.into_iter().filter(|b| b.triangles > 0).collect()
}

fn cautions(part: &Part, recipe: &Recipe, linked: &Linked) -> Vec<String> {
    let mut out = Vec::new();
    let material = recipe.material.known();
    let thinnest = part.facts.size_mm.iter().copied().fold(f64::INFINITY, f64::min);
    for (filling, filled) in recipe.fillings().iter().zip(linked.fills()) {
        let what = if filled.walls { "Walls" } else { "Struts" };
        if let Some(m) = material.filter(|m| filled.thickness_mm < m.least_mm) {
            let (asked, least) = (filled.thickness_mm, m.least_mm);
            out.push(format!("{what} of {asked:.2} mm seldom print in {}: {least} mm is a common least thickness.", m.name));
        }
        let in_space = matches!(filling.structure.kind, Kind::Seeded(SeededKind::Voronoi | SeededKind::VoronoiWalls));
        if in_space && thinnest < 0.8 * filled.cell_mm {
            out.push(
                "The part is thinner than a cell: cells in space are cut flat. Planar Voronoi, extruded, gives whole ones."
                    .into(),
            );
        }
    }
    let mut told = HashSet::new();
    out.retain(|c| told.insert(c.clone()));
    out
}

fn notes(recipe: &Recipe, linked: &Linked, mesh: &TriMesh, fill: f64, draft_step: Option<f64>) -> Vec<String> {
    let mut out = Vec::new();
    let filled = linked.fill_volume_mm3();
    for lost in &linked.lost_faces {
        let faces = if lost.faces == 1 { "a face".into() } else { format!("{} faces", lost.faces) };
        out.push(format!("“{}” no longer finds {faces} of the part. Pick them again.", lost.name));
    }
    for (filling, filled) in recipe.fillings().iter().zip(linked.fills()) {
        let Thicken::RelativeDensity { percent } = filling.thicken else { continue };
        if filled.fill_volume_mm3 > 0.0 && (filled.density_percent - percent).abs() > 1.0 {
            out.push(format!(
                "{percent} % cannot be reached by this structure: {:.1} % is the nearest at which it holds together.",
                filled.density_percent
            ));
        }
    }
    let drawn = |f: &&Filling| f.structure.kind == Kind::Cell(CellKind::OwnCell);
    for filling in recipe.fillings().iter().filter(drawn) {
        out.extend(meeting(&own_cell::struts(&filling.structure.own_cell)).notes());
    }
    let none_inside = |(f, l): (&Filling, &Filled)| {
        f.structure.kind.seeded() && f.structure.seeds.own.is_some() && l.structure.as_ref().is_some_and(|s| s.seeds == 0)
    };
    if recipe.fillings().iter().zip(linked.fills()).any(none_inside) {
        out.push("None of the own points lies inside the part. They are read in mm, in the part's axes.".into());
    }
    for (zone, own) in recipe.zones.list.iter().zip(&linked.own) {
        if own.as_ref().is_some_and(|o| o.fill_volume_mm3 <= 0.0) {
            out.push(format!("“{}” fills nothing: it lies outside the part, or other zones take its place.", zone.name));
        }
    }
    if mesh.triangles.is_empty() {
        out.push(
            "Nothing is left: the lattice is too thin or its cells too large for this part. Make walls thicker or cells smaller."
                .into(),
        );
    } else if filled <= 0.0 {
        out.push("Nothing is hollow: skin and kept solids take the whole part. Make the skin thinner.".into());
    } else if fill > 0.97 {
        out.push("The fill is solid: walls close every opening. Make walls thinner or cells larger.".into());
    } else if recipe
        .fillings()
        .iter()
        .zip(linked.fills())
        .any(|(f, l)| f.structure.kind == Kind::Seeded(SeededKind::VoronoiWalls) && l.opening_mm <= 0.0)
    {
        out.push("Cells are closed: powder or resin stays in them. Give the walls holes, or choose Voronoi struts.".into());
    } else if linked.fills().any(|f| f.opening_mm <= 0.0) {
        out.push("Openings close at the narrowest places. Make walls thinner or cells larger.".into());
    } else if fill < 0.005 {
        out.push("The fill is nearly empty. Make walls thicker or cells smaller.".into());
    }
    let smallest = linked.finest().cell_mm;
    if let Some(step) = draft_step.filter(|s| *s > smallest / 5.0) {
        out.push(format!(
            "Cells of {smallest:.2} mm are too fine for this draft's step of {step} mm: only the final mesh shows them truly."
        ));
    }
    if filled > 0.0 && smallest.powi(3) > filled {
        out.push("One cell is larger than the whole fill zone. Smaller cells show the structure.".into());
    }
    out
}

/// Thickness at points of the surface, in mm: the largest ball inside that touches there. `NaN` at
/// sharp edges, where that says nothing, and at points beyond `most` of them, spread evenly.
pub fn thickness_at_points(mesh: &TriMesh, limit: f64, most: usize) -> Vec<f32> {
    let bvh = Bvh::new(mesh);
    let normals = mesh.point_normals();
    let every = mesh.points.len().div_ceil(most.max(1)).max(1);
    // A multiplicative hash (Knuth 1973) spreads the picked points over neighbouring indices.
    let picked: Vec<usize> =
        (0..mesh.points.len()).filter(|&v| ((v as u32).wrapping_mul(2_654_435_761) as usize).is_multiple_of(every)).collect();
    let points: Vec<DVec3> = picked.iter().map(|&v| mesh.points[v]).collect();
    let at: Vec<DVec3> = picked.iter().map(|&v| normals[v]).collect();
    let mut out = vec![f32::NAN; mesh.points.len()];
    for (&v, d) in picked
        .iter()
        .zip(wall_thickness(&bvh, &points, &at, limit, |n, t| mesh.triangles[t as usize].contains(&(picked[n] as u32))))
    {
        out[v] = d as f32;
    }
    out
}

/// Measured where walls run free: at points of the fill at least a wall's thickness away from the
/// part's own border, where every wall is cut off to an edge, and from kept solids. At points, not in
/// triangles: of round struts those lie inside the true surface.
fn walls(part: &Part, solid: &Solid, linked: &Linked, step: f64) -> Option<Walls> {
    const SAMPLES: usize = 20_000;
    // Solids that reach into the lattice are no walls of it.
    let lattice = solid
        .apart
        .map(|a| TriMesh { triangles: solid.mesh.triangles[..a.lattice_triangles].to_vec(), points: solid.mesh.points.clone() });
    let mesh = lattice.as_ref().unwrap_or(&solid.mesh);
    let stride = mesh.points.len().div_ceil(3 * SAMPLES).max(1);
    let clear = linked.fill.thickness_mm;
    let picked: Vec<usize> = (0..mesh.points.len())
        .into_par_iter()
        .step_by(stride)
        .filter(|&v| solid.owners[v] == Owner::Fill && part.bvh().nearest(mesh.points[v], clear * clear).is_none())
        .collect();
    let all = mesh.point_normals();
    let mut area = vec![0.0; mesh.points.len()];
    for (t, tri) in mesh.triangles.iter().enumerate() {
        let a = mesh.area_vector(t).length();
        tri.iter().for_each(|&v| area[v as usize] += a);
    }
    // Where the triangles around a point disagree it lies on an edge.
    let smooth: Vec<usize> = picked.into_iter().filter(|&v| all[v].length() > 0.9 * area[v]).collect();
    let points: Vec<DVec3> = smooth.iter().map(|&v| mesh.points[v]).collect();
    let normals: Vec<DVec3> = smooth.iter().map(|&v| all[v]).collect();
    let limit = (5.0 * linked.fill.thickness_mm).max(8.0 * step);
    let mut found: Vec<(f64, f64)> = wall_thickness(&Bvh::new(mesh), &points, &normals, limit, |n, t| {
        mesh.triangles[t as usize].contains(&(smooth[n] as u32))
    })
    .into_iter()
    .zip(&normals)
    .filter(|(d, _)| d.is_finite() && *d < 0.999 * limit)
    .map(|(d, n)| (d, n.length()))
    .collect();
    found.sort_by(|a, b| a.0.total_cmp(&b.0));
    Some(Walls { thinnest_mm: weighted_quantile(&found, 0.01)?, median_mm: weighted_quantile(&found, 0.5)? })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline::{Pipeline, Unwatched};

    #[test]
    fn thin_walls_and_flat_parts_are_cautioned() {
        let of = |size: DVec3, change: &dyn Fn(&mut Recipe)| {
            let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, size)).unwrap();
            let mut recipe = Recipe::for_part(&part.mesh.bounds());
            change(&mut recipe);
            let (linked, _) = Pipeline::new(0).foresee(&part, &recipe, &Unwatched).unwrap();
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
        let voronoi = |r: &mut Recipe| r.structure.kind = Kind::Seeded(SeededKind::Voronoi);
        assert!(of(DVec3::new(80.0, 60.0, 4.0), &voronoi)[0].contains("thinner than a cell"));
    }

    #[test]
    fn each_check_fails_on_its_own_defect() {
        let failing = |m: &TriMesh| -> Vec<String> {
            checks(m, Some(1)).into_iter().filter(|c| c.verdict != Verdict::Pass).map(|c| c.id).collect()
        };
        let ball = TriMesh::sphere(5.0, 3);
        assert!(failing(&ball).is_empty());
        assert_eq!(failing(&ball.filtered(|t| t != 9)), ["open_edges"]);
        let mut inward = ball.clone();
        inward.triangles.iter_mut().for_each(|t| t.swap(0, 1));
        assert_eq!(failing(&inward), ["outward", "bodies", "sealed_voids"]);
        let mut two = ball.clone();
        two.append(&ball.clone().mapped(|p| p + DVec3::X * 20.0));
        assert_eq!(failing(&two), ["bodies"]);
        let mut crossing = ball.clone();
        crossing.append(&ball.clone().mapped(|p| p + DVec3::new(3.0, 0.1, 0.2)));
        assert_eq!(failing(&crossing), ["bodies", "self_crossing"]);
        let mut hollow = ball.clone();
        let inner = TriMesh::sphere(2.0, 3).triangles.iter().map(|t| [t[0], t[2], t[1]]).collect();
        hollow.append(&TriMesh { points: TriMesh::sphere(2.0, 3).points, triangles: inner });
        assert_eq!(failing(&hollow), ["sealed_voids"]);
        assert!(checks(&TriMesh::default(), None).iter().any(|c| c.verdict == Verdict::Fail));
    }
}
