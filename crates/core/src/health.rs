//! The health of a part in plain words, with figures and places to look at.

use crate::part::Part;
use crate::report::{Check, Verdict};
use rayon::prelude::*;
use ulmix_mesh::crossing::{crossing_pairs, triangles_of};
use ulmix_mesh::holes::holes;
use ulmix_mesh::topology::piece_volumes;
use ulmix_mesh::Topology;

/// Triangles whose height is below this share of their longest side are slivers.
const SLIVER: f64 = 0.01;
/// Pieces below this share of the part's volume are crumbs.
const CRUMB: f64 = 1e-4;

/// What was found, item by item; all of it is as after mending.
pub fn health(part: &Part) -> Vec<Check> {
    let mesh = &part.mesh;
    let t = Topology::of(mesh);
    let middle = |t: usize| mesh.middle(t).to_array();
    let item = |id: &str, title: &str, n: usize, figure: String, place_mm: Option<[f64; 3]>, hint: &str| Check {
        id: id.into(),
        title: title.into(),
        verdict: if n == 0 { Verdict::Pass } else { Verdict::Look },
        figure,
        value: n as f64,
        place_mm,
        hint: (n > 0).then(|| hint.into()),
    };
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
        None,
        "Bodies that touch along an edge; they are filled as they are.",
    );
    let crossed = triangles_of(&crossing_pairs(mesh, part.bvh()));
    let crossing = item(
        "self_crossing",
        "Crossing triangles",
        crossed.len(),
        number(crossed.len()),
        crossed.first().map(|&t| middle(t as usize)),
        "Overlaps count as inside; the final mesh has no crossings. They can be resolved.",
    );
    let thin = |t: &usize| {
        let c = mesh.corners(*t);
        let longest = (0..3).map(|i| c[i].distance_squared(c[(i + 1) % 3])).fold(0.0, f64::max);
        mesh.area_vector(*t).length() < SLIVER * longest
    };
    let slivers: Vec<usize> = (0..mesh.triangles.len()).into_par_iter().filter(thin).collect();
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
    let volumes = piece_volumes(mesh, &t.piece_of, t.pieces);
    let crumbs: Vec<usize> = (0..t.pieces).filter(|&p| volumes[p].abs() < CRUMB * part.facts.volume_mm3).collect();
    let first = crumbs.first().and_then(|&p| t.piece_of.iter().position(|&o| o as usize == p));
    let crumbs = item(
        "crumbs",
        "Crumbs",
        crumbs.len(),
        number(crumbs.len()),
        first.map(middle),
        "Pieces of almost no volume beside the part; they can be removed.",
    );
    vec![holes, crumbs, manifold, crossing, slivers]
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
    use glam::DVec3;
    use ulmix_mesh::TriMesh;

    #[test]
    fn what_is_wrong_is_found_where_it_is() {
        let ball = TriMesh::sphere(10.0, 4);
        let found = |mesh: &TriMesh| -> Vec<(String, String)> {
            let all = health(&Part::prepare(mesh).unwrap());
            all.into_iter().filter(|c| c.verdict != Verdict::Pass).map(|c| (c.id, c.figure)).collect()
        };
        assert!(found(&ball).is_empty());
        let near = |t: usize| ball.corners(t).iter().all(|p| p.distance(DVec3::Z * 10.0) < 4.0);
        let mut broken = ball.filtered(|t| !near(t));
        broken.append(&TriMesh::sphere(0.1, 1).mapped(|p| p + DVec3::X * 14.0));
        broken.append(&TriMesh::cuboid(DVec3::new(8.0, -1.0, -1.0), DVec3::new(12.0, 1.0, 1.0)));
        let ids: Vec<String> = found(&broken).into_iter().map(|f| f.0).collect();
        assert_eq!(ids, ["holes", "crumbs", "self_crossing"]);
        let holes = &health(&Part::prepare(&broken).unwrap())[0];
        assert!(holes.place_mm.unwrap()[2] > 9.0 && holes.figure.starts_with("1, up to 6.8"), "{holes:?}");
    }
}
