//! Triangles of one mesh that pass through each other.

use crate::nearby::Nearby;
use crate::parallel;
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
    sorted(bvh.pairs(|[s, t], [a, b]| {
        cross(&mesh.triangles[s as usize], &mesh.triangles[t as usize], a, b)
            .then(|| [s.min(t), s.max(t)])
    }))
}

/// Crossing triangles of a mesh that may be anything.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Crossings {
    /// As of [`crossing_pairs`].
    pub pairs: Vec<[u32; 2]>,
    /// Too many triangles lie in each other's boxes for all pairs to be looked at: there may be
    /// more.
    pub cut_short: bool,
}

/// Pairs that are looked at for a mesh of so many triangles: far more than a sound one has, and no
/// more than takes seconds.
fn looked_at(triangles: usize) -> usize {
    20_000_000.max(40 * triangles)
}

/// Pairs after which nobody wants to know of more.
const ENOUGH: usize = 1_000_000;

/// As [`crossing_pairs`] for a mesh from a file: what is looked at has a bound.
pub fn crossings(mesh: &TriMesh, bvh: &Bvh) -> Crossings {
    crossings_until(mesh, bvh, &|| false).expect("nobody cancels")
}

/// As [`crossings`]; `None` when cancelled.
pub fn crossings_until(
    mesh: &TriMesh,
    bvh: &Bvh,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Crossings> {
    let bounds = [looked_at(mesh.triangles.len()), ENOUGH];
    let (pairs, whole) = bvh.pairs_within(bounds, cancelled, |[s, t], [a, b]| {
        cross(&mesh.triangles[s as usize], &mesh.triangles[t as usize], a, b)
            .then(|| [s.min(t), s.max(t)])
    });
    (!cancelled()).then(|| Crossings { pairs: sorted(pairs), cut_short: !whole })
}

/// As [`crossing_and_folded_among`] all triangles.
pub fn crossing_and_folded_pairs(mesh: &TriMesh, bvh: &Bvh, limit: f64) -> [Vec<[u32; 2]>; 2] {
    let found = bvh.pairs(|[s, t], [a, b]| {
        let (si, ti) = (&mesh.triangles[s as usize], &mesh.triangles[t as usize]);
        let is_fold = shared(si, ti) >= 2 && folded(a, b, limit);
        (is_fold || cross(si, ti, a, b)).then(|| ([s.min(t), s.max(t)], is_fold))
    });
    let of = |wanted: bool| sorted(found.iter().filter(|f| f.1 == wanted).map(|f| f.0).collect());
    [of(false), of(true)]
}

/// The triangles in pairs, each once, sorted.
pub fn triangles_of(pairs: &[[u32; 2]]) -> Vec<u32> {
    let mut all: Vec<u32> = pairs.as_flattened().to_vec();
    all.sort_unstable();
    all.dedup();
    all
}

/// As [`crossing_pairs`], for the pairs with at least one triangle of `among`, which is sorted; and
/// pairs of neighbours that both are of them, whose unit normals have a product below `limit`:
/// folded onto each other, they overlap without crossing. `boxes` tells which triangles are near.
pub fn crossing_and_folded_among(
    mesh: &TriMesh,
    boxes: &impl Nearby,
    among: &[u32],
    limit: f64,
) -> [Vec<[u32; 2]>; 2] {
    /// Triangles that are looked at together.
    const RUN: usize = 256;
    let mut is_among = vec![false; mesh.triangles.len()];
    among.iter().for_each(|&t| is_among[t as usize] = true);
    let with = |[mut crossing, mut folds]: [Vec<[u32; 2]>; 2], &t: &u32| {
        let (ti, a) = (&mesh.triangles[t as usize], mesh.corners(t as usize));
        let own = Bounds::of(a);
        boxes.nearby(&own, |o| {
            // A pair of two of them is met from both.
            let is_other_among = is_among[o as usize];
            if o == t || (o < t && is_other_among) {
                return;
            }
            let oi = &mesh.triangles[o as usize];
            let b = mesh.corners(o as usize);
            // Neighbours over an edge never cross.
            if shared(ti, oi) >= 2 {
                if is_other_among && folded(&a, &b, limit) {
                    folds.push([t, o]);
                }
            // Of those that are told their own boxes tell most apart.
            } else if own.overlaps(&Bounds::of(b)) && cross(ti, oi, &a, &b) {
                crossing.push([t.min(o), t.max(o)]);
            }
        });
        [crossing, folds]
    };
    let none = || [Vec::new(), Vec::new()];
    let both = |[mut a, mut b]: [Vec<[u32; 2]>; 2], [mut c, mut d]: [Vec<[u32; 2]>; 2]| {
        a.append(&mut c);
        b.append(&mut d);
        [a, b]
    };
    let [crossing, folds] =
        parallel::runs(among.len(), RUN, |run| among[run].iter().fold(none(), with))
            .into_iter()
            .fold(none(), both);
    [sorted(crossing), sorted(folds)]
}

fn sorted(mut pairs: Vec<[u32; 2]>) -> Vec<[u32; 2]> {
    pairs.par_sort_unstable();
    pairs.dedup();
    pairs
}

/// Do the normals have a negative product below `limit`?
fn folded([a, b, c]: &[DVec3; 3], [d, e, f]: &[DVec3; 3], limit: f64) -> bool {
    let (n, m) = ((*b - *a).cross(*c - *a), (*e - *d).cross(*f - *d));
    let along = n.dot(m);
    along < 0.0 && along * along > limit * limit * n.length_squared() * m.length_squared()
}

fn shared(si: &[u32; 3], ti: &[u32; 3]) -> usize {
    si.iter().filter(|v| ti.contains(v)).count()
}

/// As for [`crossing_pairs`], for two triangles.
pub(crate) fn triangles_cross(mesh: &TriMesh, s: u32, t: u32) -> bool {
    let (s, t) = (s as usize, t as usize);
    cross(&mesh.triangles[s], &mesh.triangles[t], &mesh.corners(s), &mesh.corners(t))
}

/// Do two triangles cross, by indices and places of their corners?
fn cross(si: &[u32; 3], ti: &[u32; 3], a: &[DVec3; 3], b: &[DVec3; 3]) -> bool {
    if shared(si, ti) >= 2 || apart(a, si, b, ti) || apart(b, ti, a, si) {
        return false;
    }
    // All of one on one side of the other's plane: the common case, quickly told.
    let sides = |plane: &[DVec3; 3], own: &[u32; 3], q: &[DVec3; 3], qi: &[u32; 3]| {
        [0, 1, 2].map(|c| {
            if own.contains(&qi[c]) {
                0.0
            } else {
                side(plane[0], plane[1], plane[2], q[c])
            }
        })
    };
    let one_side = |d: &[f64; 3]| d.iter().all(|&x| x >= 0.0) || d.iter().all(|&x| x <= 0.0);
    let db = sides(a, si, b, ti);
    if one_side(&db) {
        return false;
    }
    let da = sides(b, ti, a, si);
    if one_side(&da) {
        return false;
    }
    pierces(b, &db, a) || pierces(a, &da, b)
}

/// Does a plane upright on an edge of `p` keep the triangles apart, but for a corner that they
/// share? Tells neighbours on a flat face apart, where exact predicates are at their slowest; a
/// margin far above rounding leaves close calls to them.
fn apart(p: &[DVec3; 3], pi: &[u32; 3], q: &[DVec3; 3], qi: &[u32; 3]) -> bool {
    const MARGIN: f64 = 1e-9;
    let normal = (p[1] - p[0]).cross(p[2] - p[0]);
    // The corner that is not on the edge must not be the shared one.
    (0..3).filter(|c| !qi.contains(&pi[(c + 2) % 3])).any(|c| {
        let outward = (p[(c + 1) % 3] - p[c]).cross(normal);
        let far = MARGIN * outward.length_squared();
        (0..3).filter(|&d| !pi.contains(&qi[d])).all(|d| {
            let v = q[d] - p[c];
            let along = outward.dot(v);
            along > 0.0 && along * along > far * MARGIN * v.length_squared()
        })
    })
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
    use crate::bins::TriangleBins;

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
    fn a_flap_is_folded_and_a_box_is_not() {
        let mut m = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        let folds = |m: &TriMesh| {
            let all: Vec<u32> = (0..m.triangles.len() as u32).collect();
            let by_tree = crossing_and_folded_among(m, &Bvh::new(m), &all, -0.99);
            assert_eq!(
                by_tree,
                crossing_and_folded_among(m, &TriangleBins::new(m, 0.4), &all, -0.99)
            );
            by_tree[1].clone()
        };
        assert!(folds(&m).is_empty());
        // A corner pulled over its neighbour, within the face's plane.
        m.points.push(DVec3::new(0.4, -0.2, 0.0));
        m.triangles = vec![[0, 1, 2], [0, 8, 1]];
        m.points[..3].copy_from_slice(&[DVec3::ZERO, DVec3::X, DVec3::Y]);
        assert!(folds(&m).is_empty());
        m.points[8].y = 0.2;
        assert_eq!(folds(&m), [[0, 1]]);
    }

    #[test]
    fn a_dented_vertex_crosses_the_far_side() {
        let mut m = TriMesh::sphere(3.0, 4);
        m.points[0] = m.points[0] * -1.2 + DVec3::new(0.013, 0.021, 0.008);
        assert!(count(&m) > 0);
    }

    /// Triangles that all pass through each other around a middle.
    fn star(count: usize) -> TriMesh {
        let mut m = TriMesh::default();
        for n in 0..count {
            let (y, x) = (std::f64::consts::PI * n as f64 / count as f64).sin_cos();
            let (along, up) = (DVec3::new(x, y, 0.0) * 10.0, DVec3::Z * (5.0 + 1e-3 * n as f64));
            let from = m.points.len() as u32;
            m.points.extend([along - up, up - along, along + up]);
            m.triangles.push([from, from + 1, from + 2]);
        }
        m
    }

    #[test]
    fn crossings_beyond_number_end_early_and_say_so_on_any_number_of_threads() {
        let few = star(60);
        let found = crossings(&few, &Bvh::new(&few));
        assert_eq!(
            found,
            Crossings { pairs: crossing_pairs(&few, &Bvh::new(&few)), cut_short: false }
        );
        assert!(found.pairs.len() > 60, "{}", found.pairs.len());
        let many = star(3000);
        let bvh = Bvh::new(&many);
        let on = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| crossings(&many, &bvh))
        };
        let (one, four) = (on(1), on(4));
        assert!(one.cut_short && one == four && !one.pairs.is_empty(), "{} pairs", one.pairs.len());
    }
}
