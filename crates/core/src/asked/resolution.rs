//! Steps of the grid through everything that must show.

use super::Case;
use crate::check::{Check, Verdict};
use crate::part::Part;
use crate::pipeline::Linked;
use crate::recipe::{Place, Recipe, Role};

/// Steps through the thinnest thing asked for, below which it may not be whole, and below which it is not.
const WHOLE: f64 = 3.0;
const LEAST: f64 = 1.5;

/// Something that a mesh must show.
#[derive(Clone, Debug, PartialEq)]
pub struct Feature {
    /// As in "steps through …".
    pub name: String,
    /// Where it is thinnest. mm.
    pub thickness_mm: f64,
    /// Round, so that its facets take more of it.
    pub round: bool,
}

/// Everything that a recipe asks for, where it is thinnest: members of fillings, skins, kept and cleared places, bodies.
pub fn thinnest_features(part: &Part, recipe: &Recipe, linked: &Linked) -> Vec<Feature> {
    let flat = |name: String, thickness_mm: f64| Feature { name, thickness_mm, round: false };
    let quoted = |name: &str| format!("“{name}”");
    let fillings = linked.fills().filter(|f| f.fill_volume_mm3 > 0.0);
    let mut out: Vec<Feature> = fillings
        .map(|f| Feature {
            name: if f.walls { "walls".into() } else { "struts".into() },
            thickness_mm: f.thickness_mm,
            round: !f.walls,
        })
        .collect();
    let skins = recipe.zones.skins.iter().filter(|s| s.depth_mm > 0.0);
    out.extend(skins.map(|s| flat(quoted(&s.name), s.depth_mm)));
    let shown = recipe.zones.list.iter().zip(&linked.zone_mm3).filter(|(z, mm3)| {
        matches!(z.role, Role::KeepSolid | Role::KeepClear) && **mm3 > 0.0
    });
    out.extend(shown.map(|(z, _)| flat(quoted(&z.name), narrowest(&z.place))));
    if recipe.zones.rest == Role::KeepSolid {
        out.push(flat("the part's thinnest places".into(), part.thinnest()));
    }
    let bodies = part.bodies.iter().filter(|b| matches!(b.facts.role, Some(Role::KeepSolid | Role::KeepClear)));
    out.extend(bodies.map(|b| flat(quoted(&b.facts.name), b.thinnest())));
    out
}

/// The narrowest width of a place. mm.
fn narrowest(place: &Place) -> f64 {
    match place {
        Place::Cylinder { axis_mm, radius_mm, .. } => {
            let length = axis_mm.iter().map(|v| v * v).sum::<f64>().sqrt();
            length.min(2.0 * radius_mm)
        }
        Place::Box { size_mm, .. } => size_mm.iter().copied().fold(f64::INFINITY, f64::min),
        Place::Sphere { radius_mm, .. } => 2.0 * radius_mm,
        Place::Faces { depth_mm, .. } => *depth_mm,
    }
}

/// Steps through the thinnest of all that must show.
pub fn check(case: &Case) -> Option<Check> {
    let features = thinnest_features(case.part, case.recipe, case.linked);
    let thinnest = features.iter().min_by(|a, b| a.thickness_mm.total_cmp(&b.thickness_mm))?;
    let steps = thinnest.thickness_mm / case.step;
    let verdict = match steps {
        // A hair of slack: chosen steps have two digits.
        s if s > WHOLE - 1e-6 => Verdict::Pass,
        s if s >= LEAST => Verdict::Look,
        _ => Verdict::Fail,
    };
    let figure = format!("{steps:.1} through {}", thinnest.name);
    let advice = format!(
        "{} mm is thin for a step of {} mm: a step of {:.2} mm or less shows it whole.",
        (thinnest.thickness_mm * 1000.0).round() / 1000.0,
        case.step,
        (thinnest.thickness_mm / WHOLE * 100.0).floor() / 100.0
    );
    Some(Check::new("resolution", "Grid steps through the thinnest", verdict, figure, steps).with_limit(format!("≥ {WHOLE}")).with_hint(advice))
}
