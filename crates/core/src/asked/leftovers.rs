//! What the last steps took away or left over: crumbs, voids, bodies of a lattice that is apart.

use super::{within, Case};
use glam::DVec3;
use ulmix_check::Check;
use ulmix_field::grid::components;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::Role;

/// Share of what is there that may be removed or filled without a word. Percent.
const SILENT: f64 = 1.0;

pub(super) fn checks(case: &Case) -> Vec<Check> {
    let crumbs = &case.solid.crumbs;
    let lattice = case.linked.lattice_volume_mm3().max(1e-300);
    let (removed, filled) = (
        100.0 * crumbs.volume_mm3 / lattice,
        100.0 * crumbs.voids_mm3 / case.linked.fill_volume_mm3().max(1e-300),
    );
    let place = crumbs.largest.first().map(|c| DVec3::from(c.place_mm));
    let mut out = Vec::new();
    if crumbs.removed > 0 {
        let figure = format!("{}, {removed:.2} %", crumbs.removed);
        out.push(
            Check::new("removed", "Loose pieces", within(removed, SILENT), figure, removed)
                .with_limit(format!("≤ {SILENT} % of the lattice"))
                .at(place)
                .with_hint(
                    "Much of the lattice hung on nothing. Thicker members or another \
                     cell size join it; a smaller crumb size keeps it.",
                ),
        );
    }
    if crumbs.voids_filled > 0 {
        let figure = format!("{}, {filled:.2} %", crumbs.voids_filled);
        out.push(
            Check::new("filled", "Voids filled", within(filled, SILENT), figure, filled)
                .with_limit(format!("≤ {SILENT} % of what is filled"))
                .with_hint(
                    "Cells closed up and became solid. Thinner members, larger \
                         cells or a smaller crumb size keep them open.",
                ),
        );
    }
    out
}

/// How many bodies a final mesh is to have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Expected {
    /// All bodies where lattice and solids are one, else the bodies of the lattice.
    pub lattice: usize,
    /// Bodies of the solids where lattice and solids are apart; else 0.
    pub solids: usize,
}

impl Expected {
    /// Bodies of all kinds together.
    pub fn all(&self) -> usize {
        self.lattice + self.solids
    }
}

/// As many as the part has, or into as many as cleared places cut it; of lattice and solids apart,
/// as many as what is filled and what is solid come to. Corners of less than a tenth of a `cell` mm
/// count for nothing.
pub fn expected_bodies(
    part: &Part,
    regions: &Regions,
    zoned: &Zoned,
    apart: bool,
    cell: f64,
) -> Expected {
    let least = 0.1 * (cell / zoned.grid.step).powi(3);
    let count = |bits: &ulmix_field::grid::Bits| {
        components(bits).into_iter().filter(|n| *n as f64 >= least).count()
    };
    if apart {
        return Expected { lattice: count(&zoned.fill), solids: count(&zoned.solid) };
    }
    let cut = regions.zones.iter().any(|z| z.role == Role::KeepClear);
    let components = if cut { count(&zoned.fill.clone().or(&zoned.solid)) } else { 0 };
    Expected { lattice: components.max(part.facts.bodies), solids: 0 }
}
