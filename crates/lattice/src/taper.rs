//! Tapered struts: by how much both ends of each are thicker than the thinnest.

use super::finer::Site;
use glam::DVec3;
use std::sync::Arc;
use ulmix_mesh::parallel;
use ulmix_part::solids::{Reach, Solid};
use ulmix_recipe::{Place, Role, Taper, Toward, Zone, Zones};

/// Zones toward which struts are thicker.
pub fn marked(zones: &Zones, taper: Option<Taper>) -> Vec<&Place> {
    let is_marked = |z: &&Zone| match taper.map(|t| t.toward) {
        None | Some(Toward::Surface) => false,
        Some(Toward::Solids) => z.role == Role::KeepSolid,
        Some(Toward::Zones) => z.thicker,
    };
    zones.list.iter().filter(is_marked).map(|z| &z.place).collect()
}

/// By how much the radius of struts is larger at both ends; nothing when they do not taper.
pub fn ends(site: Site, taper: Option<Taper>, struts: &[[DVec3; 2]]) -> Vec<[f64; 2]> {
    let Some(taper) = taper else { return Vec::new() };
    let solid = |place: &&Place| Solid::of(place, site.part).0;
    let mut thickest: Vec<Solid> = site.thicker.iter().map(solid).collect();
    if taper.toward == Toward::Solids {
        let bodies = site.part.bodies.iter().filter(|b| b.facts.role == Some(Role::KeepSolid));
        thickest.extend(bodies.map(|b| Solid::Body(Arc::clone(b), Reach::Own)));
    }
    let away = |p: DVec3| match taper.toward {
        Toward::Surface => {
            site.part.distance.query(p, taper.reach_mm).map_or(taper.reach_mm, |(d, _)| d.abs())
        }
        Toward::Solids | Toward::Zones => {
            thickest.iter().map(|s| s.value(p).max(0.0)).fold(f64::INFINITY, f64::min)
        }
    };
    let more = |p: DVec3| {
        let t = 1.0 - (away(p) / taper.reach_mm).min(1.0);
        0.5 * taper.more_mm * t * t * (3.0 - 2.0 * t)
    };
    parallel::map_list(struts, |_, ends| ends.map(more))
}
