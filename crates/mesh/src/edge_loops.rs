//! Closed loops of edges around a face.

use crate::half_edges::half_edges;
use crate::TriMesh;
use glam::DVec3;
use std::collections::BTreeMap;

/// A closed way along the border of a face.
#[derive(Clone, Debug, PartialEq)]
pub struct EdgeLoop {
    /// Places along the loop. mm.
    pub points: Vec<DVec3>,
    /// Faces on the other side of it, in rising order; none where it is a rim.
    pub beyond: Vec<u32>,
}

/// The loops around face `face`, longest first; `of` names the face of every triangle. Where loops
/// touch in a point, each goes on along the edge that comes first.
pub fn edge_loops(mesh: &TriMesh, of: &[u32], face: u32) -> Vec<EdgeLoop> {
    // By the point that a border edge begins at: where it ends, and the face beyond.
    let mut ways: BTreeMap<u32, Vec<(u32, Option<u32>)>> = BTreeMap::new();
    for run in half_edges(mesh).chunk_by(|a, b| a.edge == b.edge) {
        let own = run.iter().filter(|s| of[s.triangle() as usize] == face);
        let other = run.iter().map(|s| of[s.triangle() as usize]).find(|f| *f != face);
        if other.is_none() && run.len() > 1 {
            continue;
        }
        for side in own {
            let [low, high] = side.edge;
            let (from, to) = if side.upward { (low, high) } else { (high, low) };
            ways.entry(from).or_default().push((to, other));
        }
    }
    ways.values_mut().for_each(|list| list.sort_unstable_by(|a, b| b.cmp(a)));
    let mut out = Vec::new();
    while let Some((&start, _)) = ways.first_key_value() {
        let (mut points, mut beyond, mut at) = (Vec::new(), Vec::new(), start);
        while let Some(list) = ways.get_mut(&at) {
            points.push(mesh.points[at as usize]);
            let next = list.pop();
            if list.is_empty() {
                ways.remove(&at);
            }
            let Some((to, other)) = next else { break };
            beyond.extend(other);
            at = to;
            if at == start {
                break;
            }
        }
        beyond.sort_unstable();
        beyond.dedup();
        out.push(EdgeLoop { points, beyond });
    }
    let length = |l: &EdgeLoop| {
        (0..l.points.len())
            .map(|n| l.points[n].distance(l.points[(n + 1) % l.points.len()]))
            .sum::<f64>()
    };
    out.sort_by(|a, b| length(b).total_cmp(&length(a)));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::faces::faces;

    #[test]
    fn a_cube_has_one_loop_around_each_side_with_the_four_others_beyond() {
        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::new(2.0, 3.0, 4.0));
        let found = faces(&cube, 28.0);
        for n in 0..6 {
            let loops = edge_loops(&cube, &found.of, n);
            assert_eq!((loops.len(), loops[0].points.len(), loops[0].beyond.len()), (1, 4, 4));
            assert!(!loops[0].beyond.contains(&n));
        }
        // Without its largest side there is a rim, and no face beyond along it.
        let open = cube.filtered(|t| found.of[t] != 0);
        let of: Vec<u32> = found.of.iter().copied().filter(|f| *f != 0).collect();
        assert!(
            (1..6).all(|n| edge_loops(&open, &of, n)[0].beyond.len() == if n == 1 { 4 } else { 3 })
        );
    }

    #[test]
    fn a_face_with_holes_has_a_loop_for_each() {
        let mut tube = TriMesh::default();
        let ring = |r: f64, z: f64| {
            (0..24).map(move |n| {
                DVec3::new(r * (n as f64 * 0.2618).cos(), r * (n as f64 * 0.2618).sin(), z)
            })
        };
        tube.points = ring(5.0, 0.0).chain(ring(3.0, 0.0)).chain(ring(3.0, 4.0)).collect();
        for n in 0..24u32 {
            let m = (n + 1) % 24;
            for [a, b] in [[0, 24], [24, 48]] {
                tube.triangles.push([a + n, a + m, b + m]);
                tube.triangles.push([a + n, b + m, b + n]);
            }
        }
        let found = faces(&tube, 28.0);
        let flat = found.of[0];
        let loops = edge_loops(&tube, &found.of, flat);
        assert_eq!(loops.len(), 2);
        assert!(loops[0].beyond.is_empty() && loops[1].beyond == [found.of[3]], "{loops:?}");
    }
}
