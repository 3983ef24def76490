//! Version 3: cells were smaller near some zones, and struts thicker toward something, each by values
//! and marks of its own.

use super::super::grading::{Given, GradedValue, Grading, Source};
use super::super::{RecipeError, RecipeFault};
use serde::Deserialize;
use serde_json::{json, Value};

/// Where cells were smaller.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Finer {
    share: f64,
    reach_mm: f64,
    surface: bool,
}

/// Struts that were thicker toward something.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Taper {
    toward: Toward,
    more_mm: f64,
    reach_mm: f64,
}

#[derive(Deserialize)]
#[serde(rename_all = "snake_case")]
enum Toward {
    Surface,
    Solids,
    Zones,
}

/// Makes a grading of each of those values.
pub(super) fn to_version_4(recipe: &mut Value) -> Result<(), RecipeError> {
    let empty = Vec::new();
    let list = recipe["zones"]["list"].as_array().unwrap_or(&empty);
    let marked = |mark: &str| -> Vec<u32> {
        let zones = list.iter().filter(|z| z[mark] == true);
        zones.filter_map(|z| z["id"].as_u64()).map(|id| id as u32).collect()
    };
    let (finer, thicker) = (marked("finer"), marked("thicker"));
    bring_up(recipe, "", &finer, &thicker)?;
    let zones = recipe["zones"]["list"].as_array_mut().into_iter().flatten().enumerate();
    for (n, zone) in zones.filter(|(_, z)| z.is_object()) {
        if !zone["own"].is_null() {
            bring_up(&mut zone["own"], &format!("zones.list.{n}.own."), &finer, &thicker)?;
        }
        zone.as_object_mut().into_iter().for_each(|zone| {
            zone.remove("finer");
            zone.remove("thicker");
        });
    }
    recipe["ulmix"] = json!(4);
    Ok(())
}

/// Brings up what fills something: the numbers are those of the zones that were marked.
fn bring_up(
    fill: &mut Value,
    path: &str,
    finer: &[u32],
    thicker: &[u32],
) -> Result<(), RecipeError> {
    let mut gradings: Vec<Grading> = Vec::new();
    let pattern = &mut fill["structure"]["pattern"];
    let kind = pattern["kind"].as_str().unwrap_or_default().to_owned();
    let old = taken(pattern, "finer");
    let of_seeds = pattern.get_mut("seeds").map_or(Value::Null, |seeds| taken(seeds, "finer"));
    if let Some(old) = [old, of_seeds].into_iter().find(|v| !v.is_null()) {
        let old: Finer = read(old, &format!("{path}structure"))?;
        gradings.extend(of_cells(&old, finer));
    }
    let taper = fill.get_mut("joins").map_or(Value::Null, |joins| taken(joins, "taper"));
    // Of walls it changed nothing.
    const OF_STRUTS: [&str; 6] =
        ["cell", "own_cell", "voronoi", "delaunay", "neighbours", "own_struts"];
    if !taper.is_null() {
        let old: Taper = read(taper, &format!("{path}joins"))?;
        if OF_STRUTS.contains(&kind.as_str()) {
            gradings.extend(of_struts(&old, thicker, 1 + gradings.len() as u32));
        }
    }
    if !gradings.is_empty() {
        fill["gradings"] = json!(gradings);
    }
    Ok(())
}

fn taken(holder: &mut Value, name: &str) -> Value {
    holder.as_object_mut().and_then(|o| o.remove(name)).unwrap_or(Value::Null)
}

fn read<T: for<'a> Deserialize<'a>>(value: Value, field: &str) -> Result<T, RecipeError> {
    serde_json::from_value(value)
        .map_err(|e| RecipeError::new(field, RecipeFault::OldStructure(e.to_string())))
}

fn of_cells(old: &Finer, zones: &[u32]) -> Option<Grading> {
    let surface = old.surface.then_some(Source::Surface);
    let from = zones.iter().map(|id| Source::Zone { id: *id }).chain(surface);
    let (of, shares) = (GradedValue::CellSize, [100.0 * old.share, 100.0]);
    let all = Grading::fading(of, Given::Percent, from, shares, old.reach_mm);
    let name = "Smaller cells in places".into();
    Some(Grading { name, ..all }).filter(Grading::is_active)
}

fn of_struts(old: &Taper, zones: &[u32], id: u32) -> Option<Grading> {
    let from: Vec<Source> = match old.toward {
        Toward::Surface => vec![Source::Surface],
        Toward::Solids => vec![Source::Solids],
        Toward::Zones => zones.iter().map(|id| Source::Zone { id: *id }).collect(),
    };
    let (of, added) = (GradedValue::Thickness, [old.more_mm, 0.0]);
    let all = Grading::fading(of, Given::Added, from, added, old.reach_mm);
    Some(Grading { id, name: "Thicker in places".into(), ..all }).filter(Grading::is_active)
}
