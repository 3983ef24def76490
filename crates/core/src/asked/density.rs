//! Relative density of every filling, from points of what it fills.

use super::result::Meshes;
use super::{numbered, titled, within, Case};
use crate::check::Check;
use crate::recipe::Thicken;
use glam::DVec3;
use rayon::prelude::*;

/// How far the relative density may be off. Percentage points.
const POINTS_OFF: f64 = 1.0;
/// Fewer points than these tell no density.
const LEAST_POINTS: usize = 400;

/// Share of the points that lie in material. Percent.
pub fn percent(meshes: &Meshes, points: &[DVec3]) -> Option<f64> {
    let inside = points.par_iter().filter(|p| meshes.lattice().inside(**p)).count();
    (points.len() >= LEAST_POINTS).then(|| 100.0 * inside as f64 / points.len() as f64)
}

/// One check for every filling that fills something.
pub fn checks(case: &Case, found: &[Option<f64>]) -> Vec<Check> {
    let all = case.recipe.fillings().into_iter().zip(case.linked.fills()).zip(found).enumerate();
    all.filter_map(|(n, ((filling, filled), found))| {
        let found = (*found)?;
        let (asked, lead) = match filling.thicken {
            Thicken::RelativeDensity { percent } => (percent, true),
            Thicken::Thickness { .. } => (filled.density_percent, false),
        };
        let off = (found - asked).abs();
        let advice = if lead && (filled.density_percent - asked).abs() > POINTS_OFF {
            format!("This structure reaches {:.1} % at the nearest: change the cell size or the density.", filled.density_percent)
        } else if found < asked {
            "Some of the lattice is gone: a finer grid step keeps thin members, a smaller crumb size keeps loose pieces.".into()
        } else {
            "More is solid than the structure alone explains: less smoothing or a finer grid step comes nearer.".into()
        };
        let title = titled(case.recipe, if lead { "Relative density" } else { "Relative density, estimated" }, n);
        let check = Check::new(&numbered("density", n), title, within(off, POINTS_OFF), format!("{found:.1} %"), found);
        Some(check.with_limit(format!("{asked:.1} ± {POINTS_OFF} %")).with_hint(advice))
    })
    .collect()
}
