//! Holes in a surface: found as loops of open edges, and closed.

use crate::{Bounds, TriMesh};
use glam::DVec3;
use std::collections::{BTreeMap, HashMap, HashSet};

/// A loop of open edges.
#[derive(Clone, Debug, PartialEq)]
pub struct Hole {
    /// Points around it, in the order in which a triangle that closes it runs.
    pub rim: Vec<u32>,
    /// Longest side of its box.
    pub span: f64,
    /// Mean of the points around the hole. mm.
    pub middle: DVec3,
}

/// Loops with more points are closed by a fan around their middle.
const MOST_EXACT: usize = 150;

/// Every hole, the largest first.
pub fn holes(mesh: &TriMesh) -> Vec<Hole> {
    let sides = || mesh.triangles.iter().flat_map(|t| (0..3).map(move |c| (t[c], t[(c + 1) % 3])));
    let there: HashSet<(u32, u32)> = sides().collect();
    // Along the hole an open edge runs the other way.
    let mut next: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
    for (a, b) in sides().filter(|(a, b)| !there.contains(&(*b, *a))) {
        next.entry(b).or_default().push(a);
    }
    let mut found = Vec::new();
    while let Some((&start, _)) = next.iter().next() {
        let (mut rim, mut at) = (vec![start], start);
        let mut place: HashMap<u32, usize> = [(start, 0)].into();
        while let Some(list) = next.get_mut(&at) {
            let to = list.pop().expect("empty lists are taken out");
            if list.is_empty() {
                next.remove(&at);
            }
            at = to;
            // Where two holes touch in a point the loop passed since is one of its own.
            match place.get(&at).copied() {
                Some(from) => {
                    let loop_of = rim.split_off(from);
                    for v in &loop_of {
                        place.remove(v);
                    }
                    found.extend(hole(mesh, loop_of));
                    place.insert(at, rim.len());
                    rim.push(at);
                    if rim.len() == 1 && !next.contains_key(&at) {
                        break;
                    }
                }
                None => {
                    place.insert(at, rim.len());
                    rim.push(at);
                }
            }
        }
    }
    found.sort_by(|a, b| b.span.total_cmp(&a.span).then(a.rim.cmp(&b.rim)));
    found
}

fn hole(mesh: &TriMesh, rim: Vec<u32>) -> Option<Hole> {
    let points: Vec<DVec3> = rim.iter().map(|&v| mesh.points[v as usize]).collect();
    let middle = points.iter().sum::<DVec3>() / points.len() as f64;
    (rim.len() >= 3).then(|| Hole { span: Bounds::of(points).size().max_element(), middle, rim })
}

/// Closes a hole by the triangles of least area between its points (Barequet & Sharir 1995), or by
/// a fan when it has very many.
pub fn close(mesh: &mut TriMesh, hole: &Hole) {
    let rim = &hole.rim;
    let n = rim.len();
    if n > MOST_EXACT {
        let middle = mesh.points.len() as u32;
        mesh.points.push(hole.middle);
        mesh.triangles.extend((0..n).map(|i| [rim[i], rim[(i + 1) % n], middle]));
        return;
    }
    let p: Vec<DVec3> = rim.iter().map(|&v| mesh.points[v as usize]).collect();
    // Least area of the polygon from i to j, and the corner of its triangle on that side.
    let mut least = vec![vec![(0.0f64, 0usize); n]; n];
    for gap in 2..n {
        for i in 0..n - gap {
            let j = i + gap;
            let area = |k: usize| 0.5 * (p[k] - p[i]).cross(p[j] - p[i]).length();
            let all = (i + 1..j).map(|k| (least[i][k].0 + least[k][j].0 + area(k), k));
            least[i][j] = all.min_by(|a, b| a.0.total_cmp(&b.0)).expect("a corner between");
        }
    }
    let mut stack = vec![(0, n - 1)];
    while let Some((i, j)) = stack.pop() {
        if j < i + 2 {
            continue;
        }
        let k = least[i][j].1;
        mesh.triangles.push([rim[i], rim[k], rim[j]]);
        stack.extend([(i, k), (k, j)]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Topology;

    #[test]
    fn every_hole_is_found_and_closed() {
        let ball = TriMesh::sphere(10.0, 4);
        let near = |t: usize, at: DVec3| ball.corners(t).iter().all(|p| p.distance(at) < 4.0);
        // Two round holes, and one of a single triangle.
        let mut open =
            ball.filtered(|t| t != 1000 && !near(t, DVec3::Z * 10.0) && !near(t, DVec3::X * 10.0));
        let found = holes(&open);
        assert_eq!(found.len(), 3);
        assert!(
            found[0].span > 5.0 && found[2].span < 2.0,
            "{:?}",
            found.iter().map(|h| h.span).collect::<Vec<_>>()
        );
        found.iter().for_each(|h| close(&mut open, h));
        assert!(Topology::of(&open).sound());
        // Flat lids take away caps of height 0.8 mm at most.
        assert!(open.volume() < ball.volume() && open.volume() > ball.volume() - 45.0);
    }

    #[test]
    fn a_wide_hole_gets_a_fan_and_touching_holes_are_two() {
        let fine = TriMesh::sphere(10.0, 6);
        let mut half = fine.filtered(|t| fine.corners(t).iter().all(|p| p.z < 1.0));
        let found = holes(&half);
        assert!(found.len() == 1 && found[0].rim.len() > MOST_EXACT);
        close(&mut half, &found[0]);
        assert!(Topology::of(&half).sound());

        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        // Two triangles that share one corner only.
        let pair = (0..12).flat_map(|a| (0..a).map(move |b| (a, b))).find(|&(a, b)| {
            cube.triangles[a].iter().filter(|v| cube.triangles[b].contains(v)).count() == 1
        });
        let (a, b) = pair.unwrap();
        let open = cube.filtered(|t| t != a && t != b);
        assert_eq!(holes(&open).iter().map(|h| h.rim.len()).collect::<Vec<_>>(), [3, 3]);
    }
}
