//! Steps of the grid through everything that must show.

use super::Case;
use crate::result::Linked;
use ulmix_check::{Check, Verdict};
use ulmix_part::Part;
use ulmix_recipe::{floor_two, Place, Recipe, Role};

/// Steps through something that must show, below which it may not be whole.
pub const WHOLE: f64 = 3.0;
/// Grid steps across the thinnest wall of a part that is filled, where the part's surface alone
/// closes the walls.
const WHOLE_PART: f64 = 2.0;

/// Something that a mesh must show.
#[derive(Clone, Debug, PartialEq)]
pub struct Feature {
    /// As in "steps through …".
    pub name: String,
    /// Width of the feature at its thinnest place. mm.
    pub thickness_mm: f64,
    /// Steps through it with which it is whole; with half as many it is not.
    pub whole: f64,
    /// Round, so that its facets take more of it.
    pub round: bool,
    /// A place of it, when it has one of its own. mm.
    pub place_mm: Option<[f64; 3]>,
}

impl Feature {
    /// What comes nearest to not being whole, or is farthest from it, on any grid.
    pub fn scarcest(features: &[Feature]) -> Option<&Feature> {
        let width = |f: &Feature| f.thickness_mm / f.whole;
        features.iter().min_by(|a, b| width(a).total_cmp(&width(b)))
    }
}

/// Everything that a recipe asks for, where it is thinnest: members of fillings, skins, kept and
/// cleared places, bodies.
pub fn thinnest_features(part: &Part, recipe: &Recipe, linked: &Linked) -> Vec<Feature> {
    let flat = |name: String, thickness_mm: f64| Feature {
        name,
        thickness_mm,
        whole: WHOLE,
        round: false,
        place_mm: None,
    };
    let quoted = |name: &str| format!("“{name}”");
    let fillings = linked.fills().filter(|f| f.fill_volume_mm3 > 0.0);
    let mut out: Vec<Feature> = fillings
        .map(|f| Feature {
            name: if f.walls { "walls".into() } else { "struts".into() },
            thickness_mm: f.thinnest_mm(),
            whole: WHOLE,
            round: !f.walls,
            place_mm: None,
        })
        .collect();
    let skins = recipe.zones.skins.iter().filter(|s| s.depth_mm > 0.0);
    out.extend(skins.map(|s| flat(quoted(&s.name), s.depth_mm)));
    let shown = recipe
        .zones
        .list
        .iter()
        .zip(&linked.zone_mm3)
        .filter(|(z, mm3)| matches!(z.role, Role::KeepSolid | Role::KeepClear) && **mm3 > 0.0);
    out.extend(shown.map(|(z, _)| Feature {
        place_mm: z.place.middle(),
        ..flat(quoted(&z.name), narrowest(&z.place))
    }));
    let whole = if recipe.zones.rest == Role::KeepSolid { WHOLE } else { WHOLE_PART };
    out.push(Feature { whole, ..flat("the part where it is thinnest".into(), part.thinnest()) });
    let bodies = part
        .bodies
        .iter()
        .filter(|b| matches!(b.facts.role, Some(Role::KeepSolid | Role::KeepClear)));
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

/// Steps through the thinnest of all that must show: what comes nearest to not being whole.
pub(super) fn check(case: &Case) -> Option<Check> {
    let features = thinnest_features(case.part, case.recipe, case.linked);
    let worst = Feature::scarcest(&features)?;
    let found = worst.thickness_mm / case.step;
    let verdict = match found / worst.whole {
        // A hair of slack: chosen steps have few digits.
        share if share > 1.0 - 1e-6 => Verdict::Pass,
        share if share >= 0.5 => Verdict::Look,
        _ => Verdict::Fail,
    };
    let figure = format!("{found:.1} through {}", worst.name);
    let advice = format!(
        "{} mm is thin for a step of {} mm: a step of {} mm or less shows it whole.",
        (worst.thickness_mm * 1000.0).round() / 1000.0,
        case.step,
        floor_two(worst.thickness_mm / worst.whole)
    );
    let check = Check::new("resolution", "Grid steps", verdict, figure, found);
    Some(check.with_limit(format!("≥ {}", worst.whole)).with_hint(advice))
}
