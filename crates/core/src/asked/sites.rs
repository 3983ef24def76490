//! Points spread over the part, each with what is asked for there.

use super::Case;
use glam::DVec3;
use ulmix_mesh::parallel;
use ulmix_part::sample::spread;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_recipe::Role;

/// Points in all that is filled, about, and in all that is solid.
const FILL_POINTS: usize = 120_000;
const SOLID_POINTS: usize = 60_000;

/// What is asked for at a place of the part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum AskedSite {
    /// Lattice of this filling.
    Fill(usize),
    /// Material of this skin, by its number in [`Regions::skins`].
    Skin(usize),
    /// Material of this zone, by its number in [`Regions::zones`], or of the rest of the part.
    Solid(Option<usize>),
    /// A blended border, where two fillings make way for each other.
    Band,
    Clear,
}

/// Points in what is filled and in what is solid.
pub(super) struct Sites {
    /// By filling.
    pub fill: Vec<Vec<DVec3>>,
    pub solid: Vec<(DVec3, AskedSite)>,
}

impl Sites {
    pub(super) fn of(case: &Case) -> Sites {
        let Zoned { grid, fill, solid, .. } = case.zoned;
        let placed = |points: Vec<DVec3>| -> Vec<(DVec3, AskedSite)> {
            parallel::filter_map(points.len(), |n| Some((points[n], site_at(case, points[n])?)))
        };
        let mut out = Sites { fill: vec![Vec::new(); case.fillings.len()], solid: Vec::new() };
        for (p, site) in placed(spread(fill, grid, FILL_POINTS)) {
            if let AskedSite::Fill(filling) = site {
                out.fill[filling].push(p);
            }
        }
        out.solid = placed(spread(solid, grid, SOLID_POINTS));
        out.solid.retain(|s| matches!(s.1, AskedSite::Skin(_) | AskedSite::Solid(_)));
        out
    }
}

/// What is asked for at a place; `None` outside the part.
pub(super) fn site_at(case: &Case, p: DVec3) -> Option<AskedSite> {
    let Zoned { grid, inside, .. } = case.zoned;
    let cell = ((p - grid.origin) / grid.step).floor();
    let on_grid = cell.cmpge(DVec3::ZERO).all() && cell.cmplt(grid.size.as_dvec3() - 1.0).all();
    let is_inside = on_grid && inside.all_around(cell.as_uvec3()) || case.part.distance.inside(p);
    is_inside.then(|| site_in(case.regions, p))
}

/// What is asked for at a place of the part.
fn site_in(regions: &Regions, p: DVec3) -> AskedSite {
    let zone = regions.zones.iter().position(|z| z.solid.within(p, 0.0));
    match regions.role_in(zone) {
        Role::KeepClear => AskedSite::Clear,
        Role::KeepSolid => AskedSite::Solid(zone),
        _ => match regions.skins.iter().position(|s| s.within(p, 0.0)) {
            Some(skin) => AskedSite::Skin(skin),
            None if in_band(regions, p) => AskedSite::Band,
            None => AskedSite::Fill(regions.filling_in(zone)),
        },
    }
}

/// Does a place lie in a band along a blended border?
fn in_band(regions: &Regions, p: DVec3) -> bool {
    let blended = regions.zones.iter().filter(|z| z.blend > 0.0);
    blended
        .into_iter()
        .any(|z| z.solid.within(p, 0.5 * z.blend) && !z.solid.within(p, -0.5 * z.blend))
}
