//! Version 2: a structure was one list of values, of which some applied to its kind, and zones,
//! skins and pockets had names alone.

use super::super::{
    BentRows, CellPattern, CleanUp, Course, DeadEnds, DelaunayPattern, DrawnKind, ExtrudedPattern,
    FaceMark, FoamKind, FoamPattern, Form, GivenKind, Kind, Layout, NeighboursPattern, OwnCell,
    OwnCellPattern, OwnMesh, OwnMeshPattern, OwnPoints, OwnStruts, OwnStrutsPattern, Pattern,
    PlanarKind, PlanarPattern, RecipeError, RecipeFault, SeededKind, Seeds, Spread, StrutLengths,
    SurfaceNet, SurfacePattern, VoronoiPattern, WallsPattern,
};
use serde::Deserialize;
use serde_json::{json, Value};

/// A structure as version 2 held it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct OldStructure {
    kind: Kind,
    #[serde(default)]
    form: Form,
    cell_mm: [f64; 3],
    shift_mm: [f64; 3],
    rotation_deg: [f64; 3],
    #[serde(default)]
    course: Option<OldCourse>,
    #[serde(default)]
    upright: Option<FaceMark>,
    #[serde(default)]
    seeds: OldSeeds,
    #[serde(default)]
    clean: OldCleanUp,
    #[serde(default)]
    own_cell: OwnCell,
    #[serde(default)]
    own_struts: Option<OwnStruts>,
    #[serde(default)]
    own_mesh: Option<OwnMesh>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum OldCourse {
    Bent(Course),
    Straight(Straight),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Straight {
    #[serde(rename = "course")]
    _course: OnlyStraight,
}

#[derive(Deserialize)]
#[serde(rename_all = "snake_case")]
enum OnlyStraight {
    Straight,
}

#[derive(Deserialize)]
#[serde(default, deny_unknown_fields)]
struct OldSeeds {
    own: Option<OwnPoints>,
    count: Option<u32>,
    layout: Layout,
    surface_count: Option<u32>,
    from_above: bool,
    random: u32,
    spread: Spread,
    rounds: u32,
    apart: f64,
    neighbours: u32,
    shortest: f64,
    longest: f64,
    net: bool,
    inner: bool,
    holes: f64,
    edges: bool,
    weld: f64,
    finer: Option<Value>,
}

/// First values as they were in version 2: they stay what they were when those of today change.
impl Default for OldSeeds {
    fn default() -> Self {
        OldSeeds {
            own: None,
            count: None,
            layout: Layout::Inside,
            surface_count: None,
            from_above: false,
            random: 1,
            spread: Spread::Even,
            rounds: 4,
            apart: 0.0,
            neighbours: 4,
            shortest: 0.0,
            longest: 2.2,
            net: true,
            inner: true,
            holes: 0.0,
            edges: true,
            weld: 0.1,
            finer: None,
        }
    }
}

#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct OldCleanUp {
    dead_ends: DeadEnds,
    least_left: f64,
    most_at_node: u32,
    keep_loose: bool,
    curved: u32,
}

/// Gives every structure a pattern, and every zone, skin and pocket a number.
pub(super) fn to_version_3(recipe: &mut Value) -> Result<(), RecipeError> {
    let mut kept = Vec::new();
    bring_up(&mut recipe["structure"], "structure", &mut kept)?;
    for (n, zone) in listed(&mut recipe["zones"]["list"]).enumerate() {
        if !zone["own"].is_null() {
            let field = format!("zones.list.{n}.own.structure");
            bring_up(&mut zone["own"]["structure"], &field, &mut kept)?;
        }
    }
    if !kept.is_empty() {
        recipe["kept"] = json!(kept);
    }
    number(&mut recipe["zones"]["list"]);
    number(&mut recipe["zones"]["skins"]);
    if !recipe["part"]["pockets"].is_null() {
        number(&mut recipe["part"]["pockets"]);
    }
    recipe["ulmix"] = json!(3);
    Ok(())
}

fn listed(value: &mut Value) -> impl Iterator<Item = &mut Value> {
    value.as_array_mut().into_iter().flatten().filter(|item| item.is_object())
}

fn number(list: &mut Value) {
    listed(list).zip(1..).for_each(|(item, id)| item["id"] = json!(id));
}

/// What was drawn or brought in and is not in use goes to those that are `kept`.
fn bring_up(
    structure: &mut Value,
    field: &str,
    kept: &mut Vec<Pattern>,
) -> Result<(), RecipeError> {
    let old: OldStructure = serde_json::from_value(structure.take())
        .map_err(|e| RecipeError::new(field, RecipeFault::OldStructure(e.to_string())))?;
    let (cell_mm, shift_mm, rotation_deg) = (old.cell_mm, old.shift_mm, old.rotation_deg);
    let (unused, finer) = (unused(&old), old.seeds.finer.clone());
    kept.extend(unused.into_iter().filter(|pattern| !kept.contains(pattern)).collect::<Vec<_>>());
    let pattern =
        pattern_of(old).ok_or_else(|| RecipeError::new(field, RecipeFault::WithoutFile))?;
    let mut pattern = json!(pattern);
    if let Some(finer) = finer {
        // Where version 3 held it.
        let of_seeds = pattern.get("seeds").is_some();
        let holder = if of_seeds { &mut pattern["seeds"] } else { &mut pattern };
        if of_seeds || holder["kind"] == "foam_sheet" {
            holder["finer"] = finer;
        }
    }
    *structure = json!({
        "pattern": pattern, "cell_mm": cell_mm, "shift_mm": shift_mm, "rotation_deg": rotation_deg
    });
    Ok(())
}

/// Patterns that a structure of another kind holds.
fn unused(old: &OldStructure) -> Vec<Pattern> {
    let cell = (old.own_cell != OwnCell::default())
        .then(|| Pattern::OwnCell(OwnCellPattern { own: old.own_cell.clone(), rows: None }));
    let struts = old
        .own_struts
        .clone()
        .map(|own| Pattern::OwnStruts(OwnStrutsPattern { own, clean: CleanUp::default() }));
    let mesh = old.own_mesh.clone().map(|own| Pattern::OwnMesh(OwnMeshPattern { own }));
    let all = [cell, struts, mesh].into_iter().flatten();
    all.filter(|pattern| pattern.kind() != old.kind).collect()
}

/// `None` where what a file gives is missing.
fn pattern_of(old: OldStructure) -> Option<Pattern> {
    let OldSeeds { neighbours, shortest, longest, net, inner, holes, edges, weld, .. } = old.seeds;
    let OldCleanUp { dead_ends, least_left, most_at_node, keep_loose, curved } = old.clean;
    let clean = CleanUp { weld, dead_ends, least_left, most_at_node, keep_loose, curved };
    let lengths = StrutLengths { shortest, longest };
    let upright = old.upright;
    let rows = match old.course {
        Some(OldCourse::Bent(course)) => Some(BentRows { course, clean }),
        Some(OldCourse::Straight(_)) | None => None,
    };
    let seeds = Seeds {
        own: old.seeds.own,
        count: old.seeds.count,
        layout: old.seeds.layout,
        surface_count: old.seeds.surface_count,
        from_above: old.seeds.from_above,
        random: old.seeds.random,
        spread: old.seeds.spread,
        rounds: old.seeds.rounds,
        apart: old.seeds.apart,
    };
    Some(match old.kind {
        Kind::Surface(surface) => Pattern::Surface(SurfacePattern { surface, form: old.form }),
        Kind::Foam(FoamKind::FoamSheet) => Pattern::FoamSheet(FoamPattern { random: seeds.random }),
        Kind::Cell(cell) => Pattern::Cell(CellPattern { cell, rows }),
        Kind::Drawn(DrawnKind::OwnCell) => {
            Pattern::OwnCell(OwnCellPattern { own: old.own_cell, rows })
        }
        Kind::Extruded(walls) => Pattern::Extruded(ExtrudedPattern { walls, upright }),
        Kind::Planar(PlanarKind::PlanarVoronoi) => {
            Pattern::PlanarVoronoi(PlanarPattern { seeds: seeds.in_plane(), upright })
        }
        Kind::Seeded(SeededKind::Voronoi) => {
            let net = net.then_some(SurfaceNet { inner, edges });
            Pattern::Voronoi(VoronoiPattern { seeds, net, clean })
        }
        Kind::Seeded(SeededKind::VoronoiWalls) => {
            Pattern::VoronoiWalls(WallsPattern { seeds, holes })
        }
        Kind::Seeded(SeededKind::Delaunay) => {
            Pattern::Delaunay(DelaunayPattern { seeds, lengths, clean })
        }
        Kind::Seeded(SeededKind::Neighbours) => {
            Pattern::Neighbours(NeighboursPattern { seeds, neighbours, lengths, clean })
        }
        Kind::Given(GivenKind::OwnStruts) => {
            Pattern::OwnStruts(OwnStrutsPattern { own: old.own_struts?, clean })
        }
        Kind::Given(GivenKind::OwnMesh) => Pattern::OwnMesh(OwnMeshPattern { own: old.own_mesh? }),
    })
}
