//! The result held against the request: what a recipe asks for, measured on the mesh that leaves.
//!
//! Every check has a figure, a limit, a place to look at where there is one, and advice. A figure
//! past its limit is worth a look; one past twice the limit is a failure. What cannot be measured
//! is worth a look and never a pass.
//!
//! | module | idea |
//! |---|---|
//! | `sites` | points of the part, each with what is asked for there |
//! | `result` | the mesh, to be asked whether a point lies in it, and how far from it |
//! | `density` | relative density of every filling |
//! | `density_windows` | the same from place to place, where it is graded |
//! | `gauge` | thickness of walls and struts, by a gauge that fits their section |
//! | `kept` | skins and kept solids: are they there, and true to the part? |
//! | `reached` | is there lattice everywhere? |
//! | `leftovers` | crumbs removed, voids filled, bodies of a lattice that is apart |
//! | `resolution` | steps of the grid through what must show |

mod density;
mod density_windows;
mod gauge;
mod kept;
mod leftovers;
mod reached;
mod resolution;
mod result;
mod sites;

use crate::result::FinishedMesh;
use crate::result::Linked;
pub use density_windows::DensityWindow;
pub use gauge::Gauged;
use glam::DVec3;
pub use leftovers::{expected_bodies, Expected};
pub use resolution::{thinnest_features, Feature, WHOLE};
use result::Meshes;
use sites::Sites;
use ulmix_check::{Check, CheckGroup, Verdict};
use ulmix_lattice::{BareStructure, Lattice};
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::Recipe;

/// A final mesh and all that it was asked to be.
pub struct Case<'a> {
    /// The part that is filled.
    pub part: &'a Part,
    /// What was asked.
    pub recipe: &'a Recipe,
    /// What the recipe's thickness and density lead to.
    pub linked: &'a Linked,
    /// The mesh that is judged.
    pub solid: &'a FinishedMesh,
    /// Step of its grid, or of that of the zones where it was not made here. mm.
    pub step: f64,
    /// Zones as asked, on that grid, and what they are.
    pub zoned: &'a Zoned,
    /// Regions of the zones, as the recipe asks for them.
    pub regions: &'a Regions,
    /// By filling: before and after it is given thickness.
    pub fillings: Vec<Thickened<'a>>,
}

/// A filling's structure, before and after it is given thickness.
#[derive(Clone, Copy)]
pub struct Thickened<'a> {
    /// The structure before it has thickness.
    pub bare: &'a dyn BareStructure,
    /// The structure with its thickness.
    pub lattice: &'a dyn Lattice,
    /// mm.
    pub thickness: f64,
}

impl Thickened<'_> {
    /// Thickness that is asked for at a place; `None` where nothing is. mm.
    fn asked_at(&self, p: DVec3) -> Option<f64> {
        Some(self.bare.thickness_at(p, self.thickness)).filter(|t| *t > 0.0)
    }
}

/// What was found.
#[derive(Default)]
pub struct AsAsked {
    /// What was looked at, and what was found.
    pub checks: Vec<Check>,
    /// By filling, the solid share of what it fills, in percent; `None` where it fills nothing.
    pub density_percent: Vec<Option<f64>>,
    /// By filling, what its members measure.
    pub gauged: Vec<Option<Gauged>>,
    /// By filling, windows in which a graded density was measured.
    pub density_windows: Vec<Vec<DensityWindow>>,
}

/// Holds a mesh against what was asked, by measuring it.
pub fn as_asked(case: &Case) -> AsAsked {
    let sites = Sites::of(case);
    let meshes = Meshes::of(case.solid);
    let density_percent: Vec<Option<f64>> = {
        let of = |(n, points): (usize, &Vec<_>)| density::percent(case, &meshes, n, points);
        sites.fill.iter().enumerate().map(of).collect()
    };
    let gauged: Vec<Option<Gauged>> = gauge::all(case, &meshes);
    let density_windows = density_windows::all(case, &meshes, &sites);
    let mut checks: Vec<Check> = Vec::new();
    checks.extend(density::checks(case, &density_percent));
    checks.extend(density_windows::checks(case, &density_windows));
    checks.extend(gauge::checks(case, &sites, &gauged));
    checks.extend(reached::check(case, &meshes, &sites));
    checks.extend(kept::checks(case, &meshes, &sites));
    AsAsked { checks: grouped(checks), density_percent, gauged, density_windows }
}

/// What the making of a mesh tells of it: what was removed and filled, and how fine the grid was.
pub fn as_made(case: &Case) -> Vec<Check> {
    grouped(leftovers::checks(case).into_iter().chain(resolution::check(case)).collect())
}

fn grouped(checks: Vec<Check>) -> Vec<Check> {
    checks.into_iter().map(|c| c.of_group(CheckGroup::AsAsked)).collect()
}

/// A pass up to a limit, worth a look up to twice as much.
fn within(deviation: f64, limit: f64) -> Verdict {
    match deviation {
        d if d <= limit => Verdict::Pass,
        d if d <= 2.0 * limit => Verdict::Look,
        _ => Verdict::Fail,
    }
}

/// The name of a filling beside others: that of its zone. `None` for the part's where it is the
/// only one.
fn filling_name(recipe: &Recipe, filling: usize) -> Option<String> {
    let own: Vec<&str> = recipe
        .zones
        .list
        .iter()
        .filter(|z| z.own_fill().is_some())
        .map(|z| z.name.as_str())
        .collect();
    match filling {
        0 => (!own.is_empty()).then(|| "the rest".into()),
        n => own.get(n - 1).map(|name| format!("“{name}”")),
    }
}

/// A title that names the filling where there are several.
fn titled(recipe: &Recipe, title: &str, filling: usize) -> String {
    filling_name(recipe, filling).map_or_else(|| title.into(), |name| format!("{title}, {name}"))
}

/// An id that stays the same for a filling.
fn numbered(id: &str, filling: usize) -> String {
    if filling == 0 {
        id.into()
    } else {
        format!("{id}_{filling}")
    }
}

/// The item with the largest value.
fn largest<T>(items: impl IntoIterator<Item = (f64, T)>) -> Option<(f64, T)> {
    // The first of equal ones.
    items.into_iter().reduce(|a, b| if b.0 > a.0 { b } else { a })
}
