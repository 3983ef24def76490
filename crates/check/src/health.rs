//! The health of a part in plain words, with figures and places to look at.

use crate::{Check, Verdict};
use glam::DVec3;
use serde::Serialize;
use std::sync::Arc;
use ulmix_mesh::crossing::{crossings_until, triangles_of};
use ulmix_mesh::half_edges::half_edges;
use ulmix_mesh::holes::holes;
use ulmix_mesh::thickness::through;
use ulmix_mesh::topology::{component_volumes, where_fans_meet};
use ulmix_mesh::{parallel, Bvh, Topology, TriMesh};
use ulmix_part::bodies::{Body, Corrected};
use ulmix_part::Part;
use utoipa::ToSchema;

/// Triangles whose height is below this share of their longest side are slivers.
const SLIVER: f64 = 0.01;
/// Pieces below this share of the part's volume are crumbs.
const CRUMB: f64 = 1e-4;

/// What was found in a body.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct BodyHealth {
    /// Name of the body.
    pub body: String,
    /// What was looked at, and what was found.
    pub checks: Vec<Check>,
}

/// What was found in every body of a part that has several. Walls below `least` mm are thin. `None`
/// when cancelled.
pub fn of_bodies(
    part: &Part,
    least: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<BodyHealth>> {
    let crumb = CRUMB * part.facts.volume_mm3;
    let of = |b: &Arc<Body>| {
        let checks = surface(&b.mesh, b.distance.bvh(), [crumb, least], cancelled)?;
        Some(BodyHealth { body: b.facts.name.clone(), checks })
    };
    part.bodies.iter().map(of).collect()
}

/// What was found in all of the part, item by item; all of it is as after mending. Walls below
/// `least` mm are thin. `None` when cancelled.
pub fn health(
    part: &Part,
    least: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<Check>> {
    let Corrected { turned, dropped, duplicates, turned_at, twice_at } = part.corrected;
    let place = |p: Option<DVec3>| p.map(|p| p.to_array());
    let crumb = CRUMB * part.facts.volume_mm3;
    let mut out = surface(&part.mesh, part.bvh(), [crumb, least], cancelled)?;
    let twice = dropped + duplicates;
    let put_right = [
        item(
            "flipped",
            "Flipped triangles",
            turned,
            number(turned),
            place(turned_at),
            "They were turned; the file stays as it is.",
        ),
        item(
            "duplicates",
            "Duplicate and empty triangles",
            twice,
            number(twice),
            place(twice_at),
            "They were left out; the file stays as it is.",
        ),
    ];
    out.splice(4..4, put_right);
    Some(out)
}

fn item(
    id: &str,
    title: &str,
    n: usize,
    figure: String,
    place_mm: Option<[f64; 3]>,
    hint: &str,
) -> Check {
    let verdict = if n == 0 { Verdict::Pass } else { Verdict::Look };
    Check { place_mm, ..Check::new(id, title, verdict, figure, n as f64).with_hint(hint) }
}

/// What is to be seen of a surface. Pieces of less than `crumb` mm³ are crumbs, and walls below
/// `least` mm are thin. `None` when cancelled.
fn surface(
    mesh: &TriMesh,
    bvh: &Bvh,
    [crumb, least]: [f64; 2],
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<Check>> {
    let t = Topology::of(mesh);
    let middle = |t: usize| mesh.middle(t).to_array();
    let found = if t.open_edges > 0 { holes(mesh) } else { Vec::new() };
    let holes = item(
        "holes",
        "Holes",
        found.len(),
        found.first().map_or("none".into(), |h| format!("{}, up to {:.1} mm", found.len(), h.span)),
        found.first().map(|h| h.middle.to_array()),
        "The inside is taken as if they were covered; closing them makes it exact.",
    );
    let crowded = t.non_manifold_edges + t.non_manifold_vertices;
    let manifold = item(
        "non_manifold",
        "Edges and points shared by too many",
        crowded,
        number(crowded),
        if crowded > 0 { where_crowded(mesh).map(|p| p.to_array()) } else { None },
        "Bodies that touch along an edge; they are filled as they are.",
    );
    let same_piece = |[a, b]: &[u32; 2]| t.component_of[*a as usize] == t.component_of[*b as usize];
    let found = crossings_until(mesh, bvh, cancelled)?;
    let (own, others): (Vec<_>, Vec<_>) = found.pairs.into_iter().partition(same_piece);
    let [crossed, overlapping] = [own, others].map(|pairs| triangles_of(&pairs));
    let crossing = item(
        "self_crossing",
        "Crossing triangles",
        crossed.len() + found.cut_short as usize,
        if found.cut_short {
            format!("more than {}, not all looked at", crossed.len())
        } else {
            number(crossed.len())
        },
        crossed.first().map(|&t| middle(t as usize)),
        "Overlaps count as inside; the final mesh has no crossings. They can be resolved.",
    );
    let overlap = overlapping.first().map(|&first| Check {
        // No fault: bodies may overlap.
        verdict: Verdict::Pass,
        ..item(
            "overlap",
            "Pieces that overlap",
            overlapping.len(),
            format!("{} triangles", overlapping.len()),
            Some(middle(first as usize)),
            "They become one in the final mesh.",
        )
    });
    let thin = |&t: &usize| {
        let c = mesh.corners(t);
        let longest = (0..3).map(|i| c[i].distance_squared(c[(i + 1) % 3])).fold(0.0, f64::max);
        mesh.area_vector(t).length() < SLIVER * longest
    };
    let slivers: Vec<usize> = parallel::gather(mesh.triangles.len(), |run, out| {
        out.extend(run.filter(thin));
    });
    let share = slivers.len() as f64 / mesh.triangles.len() as f64;
    let slivers = Check {
        // Long flat faces are made of slivers in any file.
        verdict: if share > 0.3 { Verdict::Look } else { Verdict::Pass },
        ..item(
            "slivers",
            "Slivers",
            slivers.len(),
            number(slivers.len()),
            slivers.first().map(|&t| middle(t)),
            "They do no harm here.",
        )
    };
    let volumes = component_volumes(mesh, &t.component_of, t.components);
    let crumbs: Vec<usize> = (0..t.components).filter(|&p| volumes[p].abs() < crumb).collect();
    let first = crumbs.first().and_then(|&p| t.component_of.iter().position(|&o| o as usize == p));
    let crumbs = item(
        "crumbs",
        "Crumbs",
        crumbs.len(),
        number(crumbs.len()),
        first.map(middle),
        "Pieces of almost no volume beside the part; they can be removed.",
    );
    let thin = thin_spots(mesh, bvh, least, cancelled)?;
    let mut out = vec![holes, crumbs, manifold, crossing, thin, slivers];
    out.extend(overlap);
    Some(out)
}

/// A place where an edge or a point is shared by too many triangles.
fn where_crowded(mesh: &TriMesh) -> Option<DVec3> {
    let all = half_edges(mesh);
    let point = |v: u32| mesh.points[v as usize];
    let edge = all
        .windows(3)
        .find(|w| w[0].edge == w[2].edge)
        .map(|w| w[0].edge.map(point))
        .map(|[a, b]| (a + b) * 0.5);
    edge.or_else(|| {
        where_fans_meet(mesh).iter().position(|several| *several).map(|v| mesh.points[v])
    })
}

/// Thin spots of a smaller share of the surface are no walls. Percent.
const THIN_SHARE: f64 = 0.1;
/// Triangles that are looked at for thin spots.
const LOOKED_AT: usize = 20_000;

/// Where the part is thinner than `least` mm: straight through, from the middle of a triangle to
/// one that faces away.
fn thin_spots(
    mesh: &TriMesh,
    bvh: &Bvh,
    least: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Check> {
    let stride = mesh.triangles.len().div_ceil(LOOKED_AT).max(1);
    let looked_at = || (0..mesh.triangles.len()).step_by(stride);
    let thin: Vec<(f64, usize)> = parallel::filter_map(looked_at().count(), |n| {
        let t = n * stride;
        (!cancelled()).then_some(())?;
        Some((through(mesh, bvh, t, least)?, t))
    });
    (!cancelled()).then_some(())?;
    let area = |t: usize| mesh.area_vector(t).length();
    let share = 100.0 * thin.iter().map(|(_, t)| area(*t)).sum::<f64>()
        / looked_at().map(area).sum::<f64>().max(1e-300);
    let thinnest = thin.iter().filter(|_| share >= THIN_SHARE).min_by(|a, b| a.0.total_cmp(&b.0));
    let verdict = if thinnest.is_some() { Verdict::Look } else { Verdict::Pass };
    let figure =
        thinnest.map_or("nowhere".into(), |n| format!("{share:.1} %, least {:.2} mm", n.0));
    let check = Check::new("thin", format!("Thinner than {least} mm"), verdict, figure, share);
    Some(check.at(thinnest.map(|n| mesh.middle(n.1))).with_hint(
        "That seldom prints in this material: make the part thicker there, or choose another.",
    ))
}

fn number(n: usize) -> String {
    if n == 0 {
        "none".into()
    } else {
        n.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn checked(part: &Part, least: f64) -> Vec<Check> {
        health(part, least, &|| false).expect("nobody cancels")
    }

    #[test]
    fn what_is_wrong_is_found_where_it_is() {
        let ball = TriMesh::sphere(10.0, 4);
        let found = |mesh: &TriMesh| -> Vec<(String, String)> {
            let all = checked(&Part::prepare(mesh).unwrap(), 0.6);
            all.into_iter()
                .filter(|c| c.verdict != Verdict::Pass)
                .map(|c| (c.id, c.figure))
                .collect()
        };
        assert!(found(&ball).is_empty());
        let near = |t: usize| ball.corners(t).iter().all(|p| p.distance(DVec3::Z * 10.0) < 4.0);
        let mut broken = ball.filtered(|t| !near(t));
        broken.append(&TriMesh::sphere(0.1, 1).mapped(|p| p + DVec3::X * 14.0));
        broken.append(&TriMesh::cuboid(DVec3::new(8.0, -1.0, -1.0), DVec3::new(12.0, 1.0, 1.0)));
        let ids: Vec<String> = found(&broken).into_iter().map(|f| f.0).collect();
        assert_eq!(ids, ["holes", "crumbs"]);
        let holes = &checked(&Part::prepare(&broken).unwrap(), 0.6)[0];
        assert!(
            holes.place_mm.unwrap()[2] > 9.0 && holes.figure.starts_with("1, up to 6.8"),
            "{holes:?}"
        );
    }

    #[test]
    fn a_piece_that_passes_through_itself_is_told() {
        let mut ball = TriMesh::sphere(10.0, 4);
        // Its cap pushed out through the far side.
        ball.points.iter_mut().filter(|p| p.z > 9.0).for_each(|p| *p -= DVec3::new(0.3, 0.2, 22.0));
        let all = checked(&Part::prepare(&ball).unwrap(), 0.6);
        let crossing = all.iter().find(|c| c.id == "self_crossing").unwrap();
        assert!(
            crossing.verdict == Verdict::Look && crossing.place_mm.unwrap()[2] < 9.0,
            "{crossing:?}"
        );
        assert!(all.iter().all(|c| c.id != "overlap"));
    }

    #[test]
    fn flipped_doubled_and_thin_ones_are_counted_and_shown() {
        let mut block = TriMesh::cuboid(DVec3::ZERO, DVec3::new(20.0, 20.0, 8.0));
        // A fin of half a millimetre on top of it.
        block.append(&TriMesh::cuboid(DVec3::new(5.0, 5.0, 10.0), DVec3::new(15.0, 5.5, 18.0)));
        block.triangles.push(block.triangles[3]);
        block.triangles[15].swap(0, 1);
        let part = Part::prepare(&block).unwrap();
        let of =
            |least: f64, id: &str| checked(&part, least).into_iter().find(|c| c.id == id).unwrap();
        assert_eq!((of(0.6, "flipped").value, of(0.6, "duplicates").value), (1.0, 1.0));
        // The block's fourth triangle, and one of the fin's.
        let at = |id: &str| DVec3::from(of(0.6, id).place_mm.unwrap());
        assert!(
            at("duplicates").distance(block.middle(3)) < 1e-9
                && at("flipped").distance(block.middle(15)) < 1e-9
        );
        assert_eq!(of(0.4, "thin").verdict, Verdict::Pass);
        let thin = of(0.6, "thin");
        assert!(
            thin.figure.ends_with("least 0.50 mm") && thin.place_mm.unwrap()[2] > 10.0,
            "{thin:?}"
        );
        // Its two broad sides, of all the surface.
        assert!(
            (thin.value - 100.0 * 160.0 / (2.0 * 400.0 + 4.0 * 160.0 + 2.0 * (80.0 + 5.0 + 4.0)))
                .abs()
                < 0.5,
            "{thin:?}"
        );
    }

    #[test]
    fn a_shared_edge_and_a_shared_point_are_shown() {
        let block = |low: DVec3| TriMesh::cuboid(low, low + 4.0);
        let of = |second: DVec3| {
            let mut both = block(DVec3::ZERO);
            both.append(&block(second));
            let all = checked(&Part::prepare(&both).unwrap(), 0.6);
            DVec3::from(all.iter().find(|c| c.id == "non_manifold").unwrap().place_mm.unwrap())
        };
        assert_eq!(of(DVec3::new(4.0, 4.0, 0.0)), DVec3::new(4.0, 4.0, 2.0));
        assert_eq!(of(DVec3::splat(4.0)), DVec3::splat(4.0));
    }

    #[test]
    fn every_body_of_several_is_told_of_by_itself() {
        let mut both = TriMesh::sphere(10.0, 3);
        // It overlaps the ball; a speck lies apart.
        both.append(&TriMesh::cuboid(DVec3::new(8.0, -3.0, -3.0), DVec3::new(16.0, 3.0, 3.0)));
        both.append(&TriMesh::cuboid(DVec3::splat(20.0), DVec3::splat(20.1)));
        let part = Part::prepare(&both).unwrap();
        let bodies = of_bodies(&part, 0.6, &|| false).unwrap();
        let wrong = |c: &&Check| c.verdict != Verdict::Pass;
        let of = |b: &BodyHealth| {
            b.checks.iter().filter(wrong).map(|c| c.id.clone()).collect::<Vec<_>>()
        };
        assert_eq!(
            bodies.iter().map(|b| b.body.as_str()).collect::<Vec<_>>(),
            ["Part 1", "Part 2", "Part 3"]
        );
        // Bodies that cross each other do not cross themselves.
        assert!(of(&bodies[0]).is_empty() && of(&bodies[1]).is_empty(), "{bodies:?}");
        assert_eq!(of(&bodies[2]), ["crumbs", "thin"]);
        let all = checked(&part, 0.6);
        let overlap = all.iter().find(|c| c.id == "overlap").unwrap();
        assert!(overlap.place_mm.unwrap()[0] > 7.0, "{overlap:?}");
        assert!(all.iter().all(|c| c.id != "self_crossing" || c.verdict == Verdict::Pass));
        let ball = Part::prepare(&TriMesh::sphere(10.0, 3)).unwrap();
        assert!(of_bodies(&ball, 0.6, &|| false).unwrap().is_empty());
    }

    #[test]
    fn it_ends_when_nobody_waits_any_more() {
        let part = Part::prepare(&TriMesh::sphere(10.0, 5)).unwrap();
        assert_eq!(health(&part, 0.6, &|| true), None);
    }
}
