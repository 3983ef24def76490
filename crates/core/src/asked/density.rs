//! Relative density of every filling, from points of what it fills.

use super::result::Meshes;
use super::{numbered, titled, within, Case};
use glam::DVec3;
use ulmix_check::{Check, Verdict};
use ulmix_mesh::parallel;

/// How far the relative density may be off. Percentage points.
const POINTS_OFF: f64 = 1.0;
/// Fewer points than these tell no density.
const LEAST_POINTS: usize = 400;

/// Share of a filling's points that lie in material. Percent.
///
/// Where a border of it is blended, its points are those outside the band, which need not hold as
/// much as all of its zone: the difference that the structure itself makes there is taken off.
pub(super) fn percent(
    case: &Case,
    meshes: &Meshes,
    filling: usize,
    points: &[DVec3],
) -> Option<f64> {
    if points.len() < LEAST_POINTS {
        return None;
    }
    let share = |count: usize| 100.0 * count as f64 / points.len() as f64;
    let found = share(meshes.lattice().values(points).into_iter().filter(|d| *d < 0.0).count());
    if case.regions.zones.iter().all(|z| z.blend == 0.0) {
        return Some(found);
    }
    let lattice = case.fillings[filling].lattice;
    let there = share(parallel::count(points.len(), |n| lattice.value(points[n]) < 0.0));
    let all = case.linked.fills().nth(filling)?.density_percent;
    Some((found + all - there).clamp(0.0, 100.0))
}

/// One check for every filling that fills something.
pub(super) fn checks(case: &Case, found: &[Option<f64>]) -> Vec<Check> {
    let all = case.recipe.fillings().into_iter().zip(case.linked.fills()).zip(found).enumerate();
    all.filter_map(|(n, ((filling, filled), found))| {
        let found = (*found)?;
        let lead = filling.asked_density();
        let (asked, lead) = (lead.unwrap_or(filled.density_percent), lead.is_some());
        // What no thickness reaches was said before the run.
        let unreachable = (filled.density_percent - asked).abs() > POINTS_OFF;
        let off = (found - asked).abs();
        let verdict = if unreachable {
            within((found - filled.density_percent).abs(), POINTS_OFF).max(Verdict::Look)
        } else {
            within(off, POINTS_OFF)
        };
        let advice = if unreachable {
            format!(
                "This structure reaches {:.1} % at the nearest: change the cell size \
                 or the density.",
                filled.density_percent
            )
        } else if found < asked {
            "Some of the lattice is gone: a finer grid step keeps thin members, a \
                 smaller crumb size keeps loose pieces."
                .into()
        } else {
            "More is solid than the structure alone explains: less smoothing or a \
                 finer grid step comes nearer."
                .into()
        };
        let title =
            titled(case.recipe, if lead { "Density as asked" } else { "Density as estimated" }, n);
        let check =
            Check::new(&numbered("density", n), title, verdict, format!("{found:.1} %"), found);
        Some(check.with_limit(format!("{asked:.1} ± {POINTS_OFF} %")).with_hint(advice))
    })
    .collect()
}
