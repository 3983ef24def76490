//! Triangles of one mesh that pass through each other.

use crate::{Bounds, Bvh, TriMesh};
use glam::DVec3;
use rayon::prelude::*;
use robust::{orient3d, Coord3D};

fn side(a: DVec3, b: DVec3, c: DVec3, d: DVec3) -> f64 {
    let co = |p: DVec3| Coord3D { x: p.x, y: p.y, z: p.z };
    orient3d(co(a), co(b), co(c), co(d))
}

/// Pairs of crossing triangles, lower index first, sorted. Two triangles cross when an edge of one
/// passes strictly through the inside of the other, decided exactly (Shewchuk 1997). Corners and
/// edges that two triangles share do not count; overlap within one plane is not looked for.
pub fn crossing_pairs(mesh: &TriMesh, bvh: &Bvh) -> Vec<[u32; 2]> {
    let all = (0..mesh.triangles.len() as u32).into_par_iter();
    // Each pair is met from both sides: the lower index tests it.
    sorted(all.flat_map_iter(|t| crossing_with(mesh, bvh, t, 0.0, |o| o > t)).collect())
}

/// As [`crossing_pairs`], for the pairs with at least one triangle of `among`. `bvh` may be of the
/// mesh before its points moved by less than `slack`.
pub fn crossing_pairs_among(mesh: &TriMesh, bvh: &Bvh, among: impl ParallelIterator<Item = u32>, slack: f64) -> Vec<[u32; 2]> {
    sorted(among.flat_map_iter(|t| crossing_with(mesh, bvh, t, slack, |o| o != t)).collect())
}

fn crossing_with(mesh: &TriMesh, bvh: &Bvh, t: u32, slack: f64, test: impl Fn(u32) -> bool) -> Vec<[u32; 2]> {
    let mut found = Vec::new();
    bvh.overlapping(Bounds::of(mesh.corners(t as usize)).grown(slack), |o| {
        if test(o) && triangles_cross(mesh, t, o) {
            found.push([t.min(o), t.max(o)]);
        }
    });
    found
}

fn sorted(mut pairs: Vec<[u32; 2]>) -> Vec<[u32; 2]> {
    pairs.par_sort_unstable();
    pairs.dedup();
    pairs
}

fn triangles_cross(mesh: &TriMesh, s: u32, t: u32) -> bool {
    let (si, ti) = (mesh.triangles[s as usize], mesh.triangles[t as usize]);
    let shared = si.iter().filter(|v| ti.contains(v)).count();
    if shared >= 2 {
        return false;
    }
    let (a, b) = (mesh.corners(s as usize), mesh.corners(t as usize));
    // All of one on one side of the other's plane: the common case, quickly told.
    let sides = |plane: &[DVec3; 3], own: &[u32; 3], q: &[DVec3; 3], qi: &[u32; 3]| {
        [0, 1, 2].map(|c| if own.contains(&qi[c]) { 0.0 } else { side(plane[0], plane[1], plane[2], q[c]) })
    };
    let one_side = |d: &[f64; 3]| d.iter().all(|&x| x >= 0.0) || d.iter().all(|&x| x <= 0.0);
    let db = sides(&a, &si, &b, &ti);
    if one_side(&db) {
        return false;
    }
    let da = sides(&b, &ti, &a, &si);
    if one_side(&da) {
        return false;
    }
    pierces(&b, &db, &a) || pierces(&a, &da, &b)
}

/// Does an edge of `q`, whose corners lie at `d` from the plane of `tri`, pass inside `tri`?
fn pierces(q: &[DVec3; 3], d: &[f64; 3], tri: &[DVec3; 3]) -> bool {
    (0..3).any(|c| {
        let (i, j) = (c, (c + 1) % 3);
        if d[i] * d[j] >= 0.0 {
            return false;
        }
        let s = [0, 1, 2].map(|e| side(q[i], q[j], tri[e], tri[(e + 1) % 3]));
        s.iter().all(|&x| x > 0.0) || s.iter().all(|&x| x < 0.0)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn count(m: &TriMesh) -> usize {
        crossing_pairs(m, &Bvh::new(m)).len()
    }

    #[test]
    fn clean_meshes_have_none_and_pushed_together_boxes_have_some() {
        assert_eq!(count(&TriMesh::sphere(3.0, 4)), 0);
        let mut m = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        m.append(&TriMesh::cuboid(DVec3::new(0.5, 0.3, 0.2), DVec3::new(1.5, 0.8, 0.7)));
        assert!(count(&m) > 0);
        let mut apart = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        apart.append(&TriMesh::cuboid(DVec3::new(1.0, 0.0, 0.0), DVec3::new(2.0, 1.0, 1.0)));
        assert_eq!(count(&apart), 0, "boxes that touch do not cross");
    }

    #[test]
    fn a_dented_vertex_crosses_the_far_side() {
        let mut m = TriMesh::sphere(3.0, 4);
        m.points[0] = m.points[0] * -1.2 + DVec3::new(0.013, 0.021, 0.008);
        assert!(count(&m) > 0);
    }
}
