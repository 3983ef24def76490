//! Relative density by place, where it is graded: windows of two cells, each held against what the
//! grading asks there.

use super::result::Meshes;
use super::sites::{site_at, AskedSite, Sites};
use super::{numbered, titled, Case};
use glam::DVec3;
use serde::{Deserialize, Serialize};
use ulmix_check::{Check, Verdict};
use ulmix_field::numeric::low_discrepancy;
use ulmix_field::scalar::ScalarField;
use ulmix_mesh::parallel;
use ulmix_part::grading::GradedField;
use ulmix_recipe::grading::PlacedGrading;
use ulmix_recipe::GradedValue;
use utoipa::ToSchema;

/// Relative density in a window of two cells.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DensityWindow {
    /// Middle of the window. mm.
    pub at_mm: [f64; 3],
    /// Mean of what the grading asks there. Percent.
    pub asked_percent: f64,
    /// Share of its volume that is material. Percent.
    pub found_percent: f64,
}

/// Windows that are measured, and places at which one is looked for.
const WINDOWS: usize = 60;
const TRIED: usize = 400;
/// Points of a window.
const POINTS: u64 = 1500;
/// Fewer windows than these tell nothing.
const LEAST: usize = 6;
/// How far a window may be off, in percentage points, and the share of windows that are to be
/// within it.
const OFF: f64 = 2.0;
const WITHIN: f64 = 0.95;

/// The windows of each filling whose density is graded; none for others.
pub(super) fn all(case: &Case, meshes: &Meshes, sites: &Sites) -> Vec<Vec<DensityWindow>> {
    let fillings = case.recipe.fillings();
    let windows = |(n, points): (usize, &Vec<DVec3>)| {
        let filling = &fillings[n];
        let grading = filling.grading_of(GradedValue::Density)?;
        let placed = PlacedGrading::new(grading, filling.gradings, &case.recipe.zones);
        let field = GradedField::of(case.part, &placed)?;
        let cell = case.linked.fills().nth(n)?.cell_mm;
        Some(of_filling(case, meshes, (n, points), &field, 2.0 * cell))
    };
    sites.fill.iter().enumerate().map(|s| windows(s).unwrap_or_default()).collect()
}

/// Windows of an edge in mm that lie whole in a filling.
fn of_filling(
    case: &Case,
    meshes: &Meshes,
    (n, points): (usize, &[DVec3]),
    field: &GradedField,
    edge: f64,
) -> Vec<DensityWindow> {
    let stride = points.len().div_ceil(TRIED).max(1);
    let around =
        |middle: DVec3| (1..=POINTS).map(move |i| middle + (low_discrepancy(i) - 0.5) * edge);
    let corners = |middle: DVec3| {
        (0..8).map(move |c| {
            let side = DVec3::new((c & 1) as f64, (c >> 1 & 1) as f64, (c >> 2) as f64);
            middle + (side - 0.5) * edge
        })
    };
    let filled = |p: DVec3| site_at(case, p) == Some(AskedSite::Fill(n));
    let whole = |middle: &DVec3| corners(*middle).all(filled) && around(*middle).all(filled);
    let tried: Vec<DVec3> = points.iter().copied().step_by(stride).collect();
    let mut middles = parallel::filter(&tried, whole);
    let every = middles.len().div_ceil(WINDOWS).max(1);
    middles = middles.into_iter().step_by(every).collect();
    let window = |middle: &DVec3| {
        let places: Vec<DVec3> = around(*middle).collect();
        let asked = places.iter().map(|p| field.value(*p).clamp(0.0, 100.0)).sum::<f64>();
        let held = meshes.lattice().values(&places).into_iter().filter(|d| *d < 0.0).count();
        DensityWindow {
            at_mm: middle.to_array(),
            asked_percent: asked / POINTS as f64,
            found_percent: 100.0 * held as f64 / POINTS as f64,
        }
    };
    middles.iter().map(window).collect()
}

/// One check for every filling whose density is graded.
pub(super) fn checks(case: &Case, found: &[Vec<DensityWindow>]) -> Vec<Check> {
    let fillings = case.recipe.fillings();
    let of = |(n, windows): (usize, &Vec<DensityWindow>)| {
        if windows.len() < LEAST {
            return None;
        }
        let off = |w: &DensityWindow| (w.found_percent - w.asked_percent).abs();
        let near = windows.iter().filter(|w| off(w) <= OFF).count() as f64;
        let share = near / windows.len() as f64;
        let worst = windows.iter().max_by(|a, b| off(a).total_cmp(&off(b)))?;
        // Cells of points are larger and smaller by chance, and a net on the surface holds more than
        // the inside: there the mean alone is as asked.
        let by_chance = fillings[n].structure.seeds().is_some();
        let verdict = match share {
            share if share >= WITHIN => Verdict::Pass,
            share if by_chance || share >= 2.0 * WITHIN - 1.0 => Verdict::Look,
            _ => Verdict::Fail,
        };
        let figure = format!("{:.0} %", 100.0 * share);
        let title = titled(case.recipe, "Density by place", n);
        let advice = format!(
            "At the worst place {:.1} % are material where {:.1} % are asked. Smaller cells follow a \
             grading more closely; a finer grid step keeps thin members.",
            worst.found_percent, worst.asked_percent
        );
        let check =
            Check::new(&numbered("density_by_place", n), title, verdict, figure, 100.0 * share);
        let place = (verdict != Verdict::Pass).then(|| worst.at_mm.into());
        let limit =
            format!("≥ {:.0} % of windows of two cells within {OFF:.0} points", 100.0 * WITHIN);
        Some(check.with_limit(limit).at(place).with_hint(advice))
    };
    found.iter().enumerate().filter_map(of).collect()
}
