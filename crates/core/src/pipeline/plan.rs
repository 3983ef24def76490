//! Grid steps, and what a final run will cost before it is started.

use super::{Filled, Linked, Quality};
use crate::grid::HELD;
use crate::part::Part;
use crate::recipe::{round_two, Recipe};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Steps through the wall that a final grid aims for: the least that keeps a wall whole everywhere.
const STEPS_THROUGH_WALL: f64 = 3.0;
/// The same for a strut, which is round: with fewer, its facets cut a tenth off.
const STEPS_THROUGH_STRUT: f64 = 4.0;
/// Grid steps per cell below which the curved surface loses its shape.
const STEPS_PER_CELL: f64 = 20.0;
/// What a final run may use. MB.
const MEMORY_MB: f64 = 4096.0;
/// Border triangles of a picture while a value moves, about: what two cores mesh, shade and send in
/// a tenth of a second.
const DRAG_TRIANGLES: f64 = 100_000.0;
/// The same once the value rests, unless it is chosen.
pub const DRAFT_TRIANGLES: f64 = 700_000.0;

/// What a final run will take, known before it starts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Prediction {
    pub step_mm: f64,
    /// Triangles before reduction.
    pub raw_triangles: u64,
    /// Triangles of the exported mesh.
    pub triangles: u64,
    /// On two cores of the kind the product is measured on; the server corrects it by its own runs.
    pub seconds: f64,
    pub memory_mb: f64,
    /// Loose pieces smaller than this will be removed. mm³.
    pub crumb_mm3: f64,
    /// What a person should know before starting, in plain words.
    pub notes: Vec<String>,
}

/// Step of the grid on which density is surveyed.
pub fn survey_step(part: &Part) -> f64 {
    (part.facts.volume_mm3 / 250_000.0).cbrt()
}

/// Outer surface of the result, about. mm².
fn result_area(part: &Part, linked: &Linked) -> f64 {
    // The part's own surface stays where it is solid; counting all of it errs on the safe side.
    linked.fills().map(|f| f.lattice_area_mm2).sum::<f64>() + part.facts.area_mm2
}

/// A surface of area A crosses 3A/2h² edges of a grid of step h, and each is two triangles.
fn raw_triangles(area: f64, step: f64) -> f64 {
    3.0 * area / (step * step)
}

/// Step of a draft of about `at_rest` triangles once values rest: as fine as the time of a blink allows, but never finer than the final's.
pub fn draft_step(part: &Part, linked: &Linked, quality: Quality, at_rest: f64) -> f64 {
    let (triangles, more) = if quality == Quality::Drag { (DRAG_TRIANGLES.min(at_rest), 1.5) } else { (at_rest, 3.0) };
    let of = |triangles: f64| (3.0 * result_area(part, linked) / triangles).sqrt();
    // Openings must stay open when thin members are widened, see [`reach`]; so many times the triangles
    // are spent on that at most.
    let open = linked.fills().map(|f| f.opening_mm + f.thickness_mm).fold(f64::INFINITY, f64::min) / 3.0;
    let step = of(triangles).min(open.max(of(more * triangles)));
    // On a ladder of six to the doubling, so that a small change of a value keeps the grid, and with
    // it what is already sampled.
    let rung = round_two(2f64.powf((step.log2() * 6.0).ceil() / 6.0));
    rung.max(auto_step(part, linked, false).0)
}

/// How far a draft widens the lattice's signs, so that thin walls stay whole. mm.
pub fn reach(quality: Quality, step: f64, thickness: f64) -> f64 {
    match quality {
        Quality::Drag | Quality::Draft => (HELD * step - 0.5 * thickness).max(0.0),
        Quality::Final => 0.0,
    }
}

/// Rounds of smoothing on a grid, so that a draft's coarser one is smoothed about as far as the final one.
pub fn smoothing_rounds(level: u32, step: f64, final_step: f64) -> usize {
    const ROUNDS: f64 = 5.0;
    let rounds = ROUNDS * level as f64 * (final_step / step).powi(2).min(1.0);
    rounds.ceil() as usize
}

/// Final step from thickness, cell if that counts, and memory, and whether memory made it coarser.
fn auto_step(part: &Part, linked: &Linked, cells: bool) -> (f64, bool) {
    let longest = part.mesh.bounds().size().max_element();
    let of = |f: &Filled| {
        let through = if f.walls { STEPS_THROUGH_WALL } else { STEPS_THROUGH_STRUT };
        (f.thickness_mm / through).min(if cells { f.cell_mm / STEPS_PER_CELL } else { f64::INFINITY })
    };
    let wanted = linked.fills().map(of).fold(f64::INFINITY, f64::min);
    let wanted = round_two(wanted.clamp(longest / 1500.0, longest / 24.0));
    let mut step = wanted;
    while memory(part, linked, step) > MEMORY_MB {
        step = round_two(step * 1.1).max(step * 1.05);
    }
    (step, step > wanted)
}

/// Peak memory in MB: bits of the grid, and what each border triangle costs while meshing.
fn memory(part: &Part, linked: &Linked, step: f64) -> f64 {
    let size = part.mesh.bounds().size() / step + 4.0;
    let bits = 5.0 * size.x * size.y * size.z / 8.0;
    let part_tree = part.mesh.triangles.len() as f64 * 400.0;
    60.0 + (bits + part_tree + raw_triangles(result_area(part, linked), step) * BYTES_PER_TRIANGLE) / 1e6
}

// Measured on the bracket and on cubes from 0.2 to 0.5 mm: see benches/figures.rs.
const BYTES_PER_TRIANGLE: f64 = 190.0;
const SECONDS_PER_TRIANGLE: f64 = 2.4e-6;
const SECONDS_PER_SAMPLE: f64 = 4.0e-9;

pub fn predict(part: &Part, recipe: &Recipe, linked: &Linked) -> Prediction {
    let cell = linked.finest().cell_mm;
    let thinnest = linked.fills().map(|f| f.thickness_mm).fold(f64::INFINITY, f64::min);
    let (auto, limited) = auto_step(part, linked, true);
    let step_mm = recipe.mesh.step_mm.unwrap_or(auto);
    let area = result_area(part, linked);
    let raw = raw_triangles(area, step_mm);
    let size = part.mesh.bounds().size() / step_mm;
    let memory_mb = memory(part, linked, step_mm);
    let mut notes = Vec::new();
    let through = thinnest / step_mm;
    if limited && recipe.mesh.step_mm.is_none() {
        notes.push(format!(
            "Memory allows a step of {step_mm} mm: {through:.1} steps through a wall of {thinnest:.2} mm. A larger cell or thicker wall meshes finer."
        ));
    } else if through < 2.0 {
        notes.push(format!(
            "A step of {step_mm} mm is coarse for walls of {thinnest:.2} mm: they may break. {} mm or less keeps them whole.",
            round_two(thinnest / 3.0)
        ));
    }
    if memory_mb > MEMORY_MB {
        notes.push(format!("It would use about {:.1} GB of memory; a coarser step needs less.", memory_mb / 1024.0));
    }
    // What reduction leaves: curved surface of radius about the cell, within the error bound.
    let error = recipe.mesh.reduce_mm;
    let kept = if error > 0.0 { (area * 1.2 / (error * cell)).min(raw) } else { raw };
    Prediction {
        step_mm,
        raw_triangles: raw as u64,
        triangles: kept as u64,
        seconds: 0.05 + raw * SECONDS_PER_TRIANGLE + size.x * size.y * size.z * SECONDS_PER_SAMPLE,
        memory_mb,
        crumb_mm3: recipe.mesh.crumb(cell),
        notes,
    }
}
