//! Skins and kept solids: are they there, and does their surface lie where the part's does?

use super::result::Meshes;
use super::sites::{site_at, AskedSite, Sites};
use super::{within, Case};
use crate::compose::Owner;
use glam::DVec3;
use rayon::prelude::*;
use std::collections::BTreeMap;
use ulmix_check::{Check, Verdict};
use ulmix_field::numeric::low_discrepancy_in;
use ulmix_mesh::faces::FaceForm;
use ulmix_mesh::parallel;
use ulmix_part::sample::by_area;
use ulmix_recipe::Role;

/// How far the surface may lie from a flat face of the part. mm.
const FLAT_OFF: f64 = 0.01;
/// Share of the volume that must be there. Percent.
const PRESENT: f64 = 99.5;
/// Fewer points than these tell nothing of a region.
const LEAST_POINTS: usize = 50;
/// Points of the part's surface, and triangles of the result, that are asked.
const ASKED: usize = 30_000;

pub(super) fn checks(case: &Case, meshes: &Meshes, sites: &Sites) -> Vec<Check> {
    let skins = present(case, meshes, sites, true);
    let solids = present(case, meshes, sites, false);
    skins.into_iter().chain(solids).chain(on_surface(case, meshes)).collect()
}

/// Names of skins and of zones that change something, in the order of the regions.
fn name(case: &Case, site: AskedSite) -> String {
    let zones = &case.recipe.zones;
    let quoted = |name: &str| format!("“{name}”");
    match site {
        AskedSite::Skin(n) => zones
            .skins
            .iter()
            .filter(|s| s.depth_mm > 0.0)
            .nth(n)
            .map_or("a skin".into(), |s| quoted(&s.name)),
        AskedSite::Solid(Some(n)) => {
            let own = zones.list.iter().filter(|z| z.role != Role::Reference).nth(n);
            own.map_or("a kept body".into(), |z| quoted(&z.name))
        }
        _ => "the rest of the part".into(),
    }
}

/// Points of a region, and those that are gone.
struct KeptFaces {
    site: AskedSite,
    points: usize,
    gone: usize,
    first_gone: Option<DVec3>,
}

/// The share of each region's volume that is material; a place counts as gone where it lies farther
/// outside than the surface may. The least of them is told.
fn present(case: &Case, meshes: &Meshes, sites: &Sites, skins: bool) -> Option<Check> {
    let tolerance = case.recipe.mesh.tolerance_mm.max(FLAT_OFF);
    let wanted: Vec<(DVec3, AskedSite)> = sites
        .solid
        .iter()
        .filter(|s| matches!(s.1, AskedSite::Skin(_)) == skins)
        .copied()
        .collect();
    let places: Vec<DVec3> = wanted.iter().map(|s| s.0).collect();
    let gone = meshes.values(&places).into_iter().map(|d| d > tolerance);
    let mut regions: BTreeMap<(bool, usize), KeptFaces> = BTreeMap::new();
    for ((p, site), gone) in wanted.iter().zip(gone) {
        let key = match site {
            AskedSite::Skin(n) => (true, *n),
            AskedSite::Solid(Some(n)) => (false, n + 1),
            _ => (false, 0),
        };
        let region = regions.entry(key).or_insert(KeptFaces {
            site: *site,
            points: 0,
            gone: 0,
            first_gone: None,
        });
        region.points += 1;
        region.gone += gone as usize;
        region.first_gone = region.first_gone.or(gone.then_some(*p));
    }
    let share = |r: &KeptFaces| 100.0 * (1.0 - r.gone as f64 / r.points as f64);
    let told = regions.values().filter(|r| r.points >= LEAST_POINTS);
    let least = told.min_by(|a, b| share(a).total_cmp(&share(b)))?;
    let (found, place) = (share(least), least.first_gone);
    let (id, title) = if skins { ("skins", "Skins present") } else { ("solids", "Solids present") };
    let figure = if regions.len() > 1 && found < PRESENT {
        format!("{found:.1} % of {}", name(case, least.site))
    } else {
        format!("{found:.1} %")
    };
    let check = Check::new(id, title, within(100.0 - found, 100.0 - PRESENT), figure, found)
        .with_limit(format!("≥ {PRESENT} %"));
    let place = place.filter(|_| check.verdict != Verdict::Pass);
    Some(check.at(place).with_hint(
        "The grid is too coarse for it: a finer grid step, or a deeper skin, keeps it whole.",
    ))
}

/// What a place of the part's surface belongs to is told so many steps inside it.
const BESIDE: f64 = 0.05;

/// Is something filled within about two steps of a place of the part's surface? The border between
/// both is then what the grid makes of it.
fn beside_filling(case: &Case, p: DVec3, inward: DVec3) -> bool {
    let filled = |p: DVec3| {
        matches!(
            site_at(case, p + inward * (BESIDE * case.step)),
            Some(AskedSite::Fill(_) | AskedSite::Band)
        )
    };
    let (x, y) = inward.any_orthonormal_pair();
    let around = [x, -x, y, -y].map(|d| p + d * (1.5 * case.step));
    around.into_iter().chain(around.map(|q| q - inward * case.step)).any(filled)
}

/// How far the result's surface lies from the part's at a place.
struct Off {
    flat: bool,
    mm: f64,
    /// To look at.
    place: DVec3,
    /// On the part's surface, and the way into the part there.
    on_part: DVec3,
    inward: DVec3,
}

/// How far the result's surface lies from the part's where material is kept: from flat faces, and
/// from all others.
fn on_surface(case: &Case, meshes: &Meshes) -> Vec<Check> {
    let Case { part, solid, recipe, .. } = *case;
    let any_kept = !recipe.zones.skins.is_empty()
        || recipe.zones.rest == Role::KeepSolid
        || case.regions.zones.iter().any(|z| z.role == Role::KeepSolid);
    if !any_kept {
        return Vec::new();
    }
    let mesh = &part.mesh;
    // Of a part with pockets faces are numbered on another surface.
    let known = part.faced().triangles.len() == mesh.triangles.len();
    let is_flat =
        |t: usize| known && part.faces().list[part.faces().of[t] as usize].kind == FaceForm::Plane;
    let asked = by_area(mesh, ASKED);
    let beside = BESIDE * case.step;
    let beyond = 4.0 * case.step;
    let of_part = |n: usize| {
        let t = asked[n];
        let p = low_discrepancy_in(n as u64 + 1, mesh.corners(t));
        let inward = -mesh.area_vector(t).normalize_or_zero();
        if !matches!(
            site_at(case, p + inward * beside),
            Some(AskedSite::Skin(_) | AskedSite::Solid(_))
        ) {
            return [None, None];
        }
        let off = |flat, mm| Some(Off { flat, mm, place: p, on_part: p, inward });
        let Some(to) = meshes.nearest_within(p, beyond).map(|q| q - p) else {
            return [off(is_flat(t), beyond), None];
        };
        // Near the rim of a flat face what lies beside it is its curved edge.
        let across = to.dot(inward).abs();
        let along = (to.length_squared() - across * across).max(0.0).sqrt();
        [off(is_flat(t), across), off(false, along)]
    };
    let mut off: Vec<Off> = parallel::flat_map(asked.len(), |n| of_part(n).into_iter().flatten());
    // What sticks out of the part, where a lattice does not stand past its surface beside it.
    let proud = recipe.fillings().iter().any(|f| f.joins.proud);
    let every = solid.mesh.triangles.len().div_ceil(ASKED).max(1);
    let sticks_out = |n: usize| {
        let t = n * every;
        let owned = !proud
            && solid.mesh.triangles[t].iter().all(|&v| solid.owners[v as usize] != Owner::Fill);
        let place = solid.mesh.middle(t);
        let (mm, near) = if owned { part.distance.query(place, beyond)? } else { return None };
        let inward = -part.distance.face_normal(near.triangle);
        (mm > 0.0).then(|| Off {
            flat: is_flat(near.triangle as usize),
            mm,
            place,
            on_part: near.point,
            inward,
        })
    };
    off.extend(parallel::filter_map(solid.mesh.triangles.len().div_ceil(every), sticks_out));
    let counts = |o: &Off| {
        // Where bodies touch or overlap their faces lie within the part.
        let within = site_at(case, o.on_part - o.inward * beside).is_some();
        !within && !beside_filling(case, o.on_part, o.inward)
    };
    off.sort_by(|a, b| b.mm.total_cmp(&a.mm));
    let of = |flat: bool| {
        let (id, title, limit) = match flat {
            true => ("true_flat", "Flat faces true", FLAT_OFF),
            false => ("true_curved", "Curved faces true", recipe.mesh.tolerance_mm),
        };
        // Of most places only how far off they are is asked.
        let &Off { mm: worst, place, .. } =
            off.par_iter().find_first(|o| o.flat == flat && counts(o))?;
        let figure = if worst < beyond {
            format!("{worst:.3} mm")
        } else {
            format!("{worst:.2} mm or more")
        };
        let check = Check::new(id, title, within(worst, limit), figure, worst)
            .with_limit(format!("≤ {limit} mm"));
        let place = (check.verdict != Verdict::Pass).then_some(place);
        Some(
            check.at(place).with_hint("A finer grid step follows the part's surface more closely."),
        )
    };
    [of(true), of(false)].into_iter().flatten().collect()
}
