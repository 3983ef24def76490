//! Thickness of walls and struts on the final mesh, by a gauge that fits their section.
//!
//! Walls are measured straight through from points of their surface to the other side, which is
//! exact for parallel sides however near the part's border lies. Struts are measured from their
//! axes outward, in many directions, where the border of one strut alone decides: a polygonal
//! section then counts with its area, a flat one with its sides, and half a strut on the part's
//! surface with the half that is there. Cells from files are measured by balls (Ma, Bae & Choi
//! 2012), as their thickness is defined.

use super::result::Meshes;
use super::sites::{site_at, AskedSite, Sites};
use super::{numbered, titled, within, Case, Thickened};
use crate::compose::Owner;
use glam::DVec3;
use serde::{Deserialize, Serialize};
use ulmix_check::{Check, Verdict};
use ulmix_lattice::Gauge;
use ulmix_mesh::parallel;
use ulmix_mesh::thickness::{wall_thickness, weighted_quantile};
use utoipa::ToSchema;

/// Points of the surface from which members are looked for.
const ASKED: usize = 24_000;
/// Fewer measures than these tell nothing.
const LEAST_MEASURES: usize = 24;
/// How far the median may be off: of walls, and of struts, whose facets lie within their round
/// border. Percent.
const WALLS_OFF: f64 = 3.0;
const STRUTS_OFF: f64 = 6.0;
/// Sides of a wall look apart by less than about 35°.
const FACING: f64 = 0.82;

/// What the members of a filling measure.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Gauged {
    /// Thickness that the recipe asks for. mm.
    pub asked_mm: f64,
    /// Median of the thickness that was measured. mm.
    pub median_mm: f64,
    /// Below which one percent of what was measured lies.
    pub thinnest_mm: f64,
    /// Where the thinnest of that was measured. mm.
    pub thinnest_at_mm: [f64; 3],
}

/// A measure: by what share of what was asked, at its thinnest and in the mean; its weight, and
/// where.
struct Measure {
    thinnest: f64,
    mean: f64,
    weight: f64,
    place: DVec3,
}

/// A point of the lattice's surface with its outward normal, as long as twice the area around it.
struct OnSurface {
    number: u32,
    point: DVec3,
    normal: DVec3,
    filling: usize,
}

/// By filling.
pub(super) fn all(case: &Case, meshes: &Meshes) -> Vec<Option<Gauged>> {
    let surface = on_surface(case);
    let of = |(n, filling): (usize, &Thickened)| {
        let own: Vec<&OnSurface> = surface.iter().filter(|s| s.filling == n).collect();
        let found = match filling.bare.gauge() {
            Gauge::Across => across(case, meshes, filling, n, &own),
            Gauge::Stations => stations(case, meshes, filling, n, &own),
            Gauge::Balls => balls(case, meshes, filling, &own),
        };
        gauged(filling.thickness, found)
    };
    case.fillings.iter().enumerate().map(of).collect()
}

/// One check for every filling that has members.
pub(super) fn checks(case: &Case, sites: &Sites, found: &[Option<Gauged>]) -> Vec<Check> {
    let all = case.linked.fills().zip(found).enumerate();
    let filled = all.filter(|(n, _)| !sites.fill[*n].is_empty());
    filled
        .map(|(n, (filled, found))| {
            let (what, limit) =
                if filled.walls { ("Walls", WALLS_OFF) } else { ("Struts", STRUTS_OFF) };
            let (id, title) =
                (numbered("thickness", n), titled(case.recipe, &format!("{what} as asked"), n));
            let asked = filled.thickness_in_words();
            let limited = format!("{asked} ± {limit} %");
            let Some(g) = found else {
                return Check::new(&id, title, Verdict::Look, "not measured", 0.0)
                    .with_limit(limited)
                    .with_hint(
                        "No wall or strut runs free for long enough to be measured: \
                         members are short or thick for their cells.",
                    );
            };
            let off = 100.0 * (g.median_mm / g.asked_mm - 1.0);
            let advice = match (off < 0.0, case.recipe.mesh.smoothing > 0) {
                (true, true) => format!(
                    "Smoothing took {:.1} % of their thickness: smooth less, or make \
                     them thicker.",
                    -off
                ),
                (true, false) => "They came out thin: a finer grid step shows them at size.".into(),
                (false, _) => "They came out thick: a finer grid step shows them at size.".into(),
            };
            let place = Some(DVec3::from(g.thinnest_at_mm)).filter(|_| off.abs() > limit);
            Check::new(
                &id,
                title,
                within(off.abs(), limit),
                format!("{:.2} mm", g.median_mm),
                g.median_mm,
            )
            .with_limit(limited)
            .at(place)
            .with_hint(advice)
        })
        .collect()
}

/// Points of the lattice's surface, spread over it, where it is smooth.
fn on_surface(case: &Case) -> Vec<OnSurface> {
    let solid = case.solid;
    let mesh = &solid.mesh;
    let end = solid.apart.map_or(mesh.triangles.len(), |a| a.lattice_triangles);
    let mut normals = vec![DVec3::ZERO; mesh.points.len()];
    let mut area = vec![0.0; mesh.points.len()];
    for t in 0..end {
        let a = mesh.area_vector(t);
        mesh.triangles[t].iter().for_each(|&v| {
            normals[v as usize] += a;
            area[v as usize] += a.length();
        });
    }
    // Where the triangles around a point disagree it lies on an edge.
    let smooth = |v: &usize| {
        solid.owners[*v] == Owner::Fill && normals[*v].length() > 0.9 * area[*v] && area[*v] > 0.0
    };
    let picked: Vec<usize> = (0..mesh.points.len()).filter(smooth).collect();
    let stride = picked.len().div_ceil(ASKED).max(1);
    let thickest = case.fillings.iter().map(|f| f.thickness).fold(0.0, f64::max);
    let sited = |n: usize| {
        let v = picked[n * stride];
        let (point, normal) = (mesh.points[v], normals[v]);
        // Just inside the material: the filling is that of the place.
        match site_at(case, point - normal.normalize_or_zero() * (0.05 * thickest))? {
            AskedSite::Fill(filling) => {
                Some(OnSurface { number: v as u32, point, normal, filling })
            }
            _ => None,
        }
    };
    parallel::filter_map(picked.len().div_ceil(stride), sited)
}

/// Does all of a way through a member lie in what its filling fills?
fn free(case: &Case, filling: usize, from: DVec3, to: DVec3) -> bool {
    // Half a step beyond: the surface there is the member's and not the zone's.
    let on = (to - from).normalize_or_zero() * (0.5 * case.step);
    [from - on, from.lerp(to, 0.5), to + on]
        .into_iter()
        .all(|p| site_at(case, p) == Some(AskedSite::Fill(filling)))
}

/// Straight through walls.
fn across(
    case: &Case,
    meshes: &Meshes,
    filling: &Thickened,
    n: usize,
    own: &[&OnSurface],
) -> Vec<Measure> {
    let mesh = &case.solid.mesh;
    let through = |s: &OnSurface| {
        let asked = filling.asked_at(s.point)?;
        let inward = -s.normal.normalize_or_zero();
        let beside = |t: u32| mesh.triangles[t as usize].contains(&s.number);
        let (far, t) = meshes.leaves(s.point, inward, 3.0 * asked, beside)?;
        let faces = meshes.lattice().face_normal(t).dot(inward) > FACING;
        let whole = faces && free(case, n, s.point, s.point + inward * far);
        let share = far / asked;
        whole.then_some(Measure {
            thinnest: share,
            mean: share,
            weight: s.normal.length(),
            place: s.point,
        })
    };
    parallel::filter_map(own.len(), |n| through(own[n]))
}

/// From the axes of struts outward.
fn stations(
    case: &Case,
    meshes: &Meshes,
    filling: &Thickened,
    n: usize,
    own: &[&OnSurface],
) -> Vec<Measure> {
    let measured = |s: &OnSurface| {
        // The border of one strut alone decides where the field says so.
        let alone = 0.015 * filling.asked_at(s.point)?;
        let station = filling.bare.station(s.point, filling.thickness)?;
        let ray = |&(ray, border): &(DVec3, f64)| {
            let end = station.foot + ray * border;
            if filling.lattice.value(end).abs() > alone || !free(case, n, station.foot, end) {
                return None;
            }
            let (far, _) = meshes.leaves(station.foot, ray, 2.0 * border, |_| false)?;
            Some(far / border)
        };
        let found: Vec<f64> = station.rays.iter().filter_map(ray).collect();
        if found.len() < station.rays.len().min(2) {
            return None;
        }
        // Of a polygon's section the radius of a circle of its area.
        let mean = (found.iter().map(|r| r * r).sum::<f64>() / found.len() as f64).sqrt();
        let thinnest = found.iter().copied().fold(f64::INFINITY, f64::min);
        Some(Measure { thinnest, mean, weight: s.normal.length(), place: station.foot })
    };
    parallel::filter_map(own.len(), |n| measured(own[n]))
}

/// By the largest balls that touch the surface from inside, a thickness away from the part's
/// border.
fn balls(case: &Case, meshes: &Meshes, filling: &Thickened, own: &[&OnSurface]) -> Vec<Measure> {
    let mesh = &case.solid.mesh;
    let asked = filling.bare.thickness_range(filling.thickness)[1];
    let clear: Vec<&OnSurface> =
        parallel::filter(own, |s| case.part.bvh().nearest(s.point, asked * asked).is_none());
    let points: Vec<DVec3> = clear.iter().map(|s| s.point).collect();
    let normals: Vec<DVec3> = clear.iter().map(|s| s.normal).collect();
    let limit = (5.0 * asked).max(8.0 * case.step);
    let beside = |n: usize, t: u32| mesh.triangles[t as usize].contains(&clear[n].number);
    let found = wall_thickness(meshes.lattice().bvh(), &points, &normals, limit, beside);
    let measured =
        found.into_iter().zip(&clear).filter(|(d, _)| d.is_finite() && *d < 0.999 * limit);
    measured
        .filter_map(|(d, s)| {
            let share = d / filling.asked_at(s.point)?;
            let (weight, place) = (s.normal.length(), s.point);
            Some(Measure { thinnest: share, mean: share, weight, place })
        })
        .collect()
}

fn gauged(asked_mm: f64, found: Vec<Measure>) -> Option<Gauged> {
    if found.len() < LEAST_MEASURES {
        return None;
    }
    let sorted = |of: fn(&Measure) -> f64| {
        let mut out: Vec<(f64, f64)> = found.iter().map(|m| (of(m), m.weight)).collect();
        out.sort_by(|a, b| a.0.total_cmp(&b.0));
        out
    };
    let thinnest = weighted_quantile(&sorted(|m| m.thinnest), 0.01)?;
    let median = weighted_quantile(&sorted(|m| m.mean), 0.5)?;
    let at = found.iter().min_by(|a, b| a.thinnest.total_cmp(&b.thinnest))?;
    Some(Gauged {
        asked_mm,
        median_mm: median * asked_mm,
        thinnest_mm: thinnest * asked_mm,
        thinnest_at_mm: at.place.to_array(),
    })
}
