//! Signed distance to a part, negative inside.
//!
//! Distance is exact (nearest triangle). Sign: for one closed, manifold, oriented piece from
//! angle-weighted pseudo-normals (Bærentzen & Aanæs 2005); for anything else from the
//! generalised winding number (Jacobson et al. 2013) summed over a tree of dipoles
//! (Barill et al. 2018), so that a part with holes or overlapping bodies still has an inside.

use crate::bvh::{Nearest, SegmentCrossing, TriangleFeature};
use crate::groups::corners_at_points;
use crate::parallel;
use crate::{Bounds, Bvh, Topology, TriMesh};
use glam::{DVec3, Vec3};
use std::f64::consts::PI;
use std::ops::Range;
use std::sync::Arc;

/// Distance from a mesh, negative inside.
pub struct SignedDistance {
    bvh: Arc<Bvh>,
    face_normals: FaceNormals,
    sign: Sign,
}

/// Unit normals of triangles; in 32 bits where there may be very many.
enum FaceNormals {
    Double(Vec<DVec3>),
    Single(Vec<Vec3>),
}

impl FaceNormals {
    fn at(&self, triangle: usize) -> DVec3 {
        match self {
            FaceNormals::Double(all) => all[triangle],
            FaceNormals::Single(all) => all[triangle].as_dvec3(),
        }
    }
}

enum Sign {
    /// Pseudo-normals: per vertex, and for each triangle's three edges the triangle beyond, itself
    /// where there is none.
    Normals {
        triangles: Vec<[u32; 3]>,
        vertex: Vec<Vec3>,
        beyond: Vec<[u32; 3]>,
    },
    Winding(Vec<Dipole>),
}

/// Far field of the triangles under one node of the tree.
#[derive(Clone, Copy)]
struct Dipole {
    centre: DVec3,
    /// Sum of area vectors.
    moment: DVec3,
    radius: f64,
}

impl SignedDistance {
    /// `topology` decides how the sign is found.
    pub fn new(mesh: &TriMesh, topology: &Topology) -> SignedDistance {
        let bvh = Arc::new(Bvh::new(mesh));
        let face_normals = FaceNormals::Double(face_normals(mesh, |n| n));
        let sign = if topology.sound() && topology.components == 1 {
            pseudo_normals(mesh, &face_normals)
        } else {
            Sign::Winding(dipoles(&bvh))
        };
        SignedDistance { bvh, face_normals, sign }
    }

    /// Of a closed, oriented mesh without crossings, in any number of pieces, of which some may
    /// bound voids: the nearest triangle tells the sign, for no other piece lies between.
    pub fn of_sound(mesh: &TriMesh) -> SignedDistance {
        let bvh = Arc::new(Bvh::new(mesh));
        let face_normals = FaceNormals::Single(face_normals(mesh, |n| n.as_vec3()));
        let sign = pseudo_normals(mesh, &face_normals);
        SignedDistance { bvh, face_normals, sign }
    }

    /// The box around the mesh.
    pub fn bounds(&self) -> Bounds {
        self.bvh.bounds()
    }

    /// The tree of boxes that places are looked up in.
    pub fn bvh(&self) -> &Bvh {
        &self.bvh
    }

    /// The tree of boxes, to keep.
    pub fn shared_bvh(&self) -> Arc<Bvh> {
        self.bvh.clone()
    }

    /// Unit normal of a triangle.
    pub fn face_normal(&self, triangle: u32) -> DVec3 {
        self.face_normals.at(triangle as usize)
    }

    /// True when the sign comes from the winding number.
    pub fn is_winding(&self) -> bool {
        matches!(self.sign, Sign::Winding(_))
    }

    /// Signed distance and the nearest point; `None` when farther than `limit`.
    pub fn query(&self, p: DVec3, limit: f64) -> Option<(f64, Nearest)> {
        let near = self.bvh.nearest(p, limit * limit)?;
        let d = near.distance_squared.sqrt();
        Some((if self.inside_given(p, &near) { -d } else { d }, near))
    }

    /// Signed distance; infinite for an empty mesh.
    pub fn value(&self, p: DVec3) -> f64 {
        self.query(p, f64::INFINITY).map_or(f64::INFINITY, |q| q.0)
    }

    /// [`value`](Self::value) of many places; those that lie near the one before them are found
    /// quickly, for its distance bounds theirs.
    pub fn values(&self, places: &[DVec3]) -> Vec<f64> {
        const RUN: usize = 128;
        let of_run = |run: Range<usize>| -> Vec<f64> {
            let mut last = None;
            let value = |p: &DVec3| {
                // Somewhat more, so that rounding hides nothing.
                let limit = last.map_or(f64::INFINITY, |(q, d): (DVec3, f64)| {
                    1.000_001 * (d + p.distance(q)) + 1e-9
                });
                let d = self.query(*p, limit).map_or_else(|| self.value(*p), |q| q.0);
                last = Some((*p, d.abs()));
                d
            };
            places[run].iter().map(value).collect()
        };
        parallel::runs(places.len(), RUN, of_run).concat()
    }

    /// Does the place lie inside, where the mesh winds around it?
    pub fn inside(&self, p: DVec3) -> bool {
        match &self.sign {
            Sign::Winding(d) => self.winding(d, p) > 0.5,
            Sign::Normals { .. } => self.value(p) < 0.0,
        }
    }

    /// As [`value`](Self::value), for a point known to be closer than `limit`; and how far around
    /// it all points lie on the same side. Across a hole the border is where the winding number
    /// passes a half, away from any triangle; the number's slope there is bounded by the distance
    /// from the hole's rim, as for the field of a current along it (Biot & Savart).
    pub fn value_and_reach(&self, p: DVec3, limit: f64) -> (f64, f64) {
        let near =
            self.bvh.nearest(p, limit * limit).or_else(|| self.bvh.nearest(p, f64::INFINITY));
        let Some(near) = near else { return (f64::INFINITY, f64::INFINITY) };
        let d = near.distance_squared.sqrt();
        match &self.sign {
            Sign::Normals { .. } => (if self.inside_given(p, &near) { -d } else { d }, d),
            Sign::Winding(dipoles) => {
                let winding = self.winding(dipoles, p);
                (if winding > 0.5 { -d } else { d }, d.min((winding - 0.5).abs() * d / 0.75))
            }
        }
    }

    fn inside_given(&self, p: DVec3, near: &Nearest) -> bool {
        match &self.sign {
            Sign::Winding(d) => self.winding(d, p) > 0.5,
            Sign::Normals { triangles, vertex, beyond } => {
                let t = near.triangle as usize;
                let n = match near.feature {
                    TriangleFeature::Face => self.face_normals.at(t),
                    TriangleFeature::Edge(e) => {
                        self.face_normals.at(t)
                            + self.face_normals.at(beyond[t][e as usize] as usize)
                    }
                    TriangleFeature::Corner(c) => {
                        vertex[triangles[t][c as usize] as usize].as_dvec3()
                    }
                };
                (p - near.point).dot(n) < 0.0
            }
        }
    }

    /// Triangles crossed by a segment.
    pub fn segment_crossings(&self, a: DVec3, b: DVec3, out: &mut Vec<SegmentCrossing>) {
        self.bvh.segment_crossings(a, b, out);
    }

    /// Outward direction at a place on the boundary: the triangle's normal, or across a hole the
    /// direction in which the winding number falls.
    pub fn normal_near(&self, p: DVec3, scale: f64) -> DVec3 {
        let Some(near) = self.bvh.nearest(p, f64::INFINITY) else { return DVec3::Z };
        if let Sign::Winding(d) = &self.sign {
            if near.distance_squared > (1e-3 * scale) * (1e-3 * scale) {
                let e = 0.05 * scale;
                let w = |v: DVec3| self.winding(d, p - v) - self.winding(d, p + v);
                let g = DVec3::new(w(DVec3::X * e), w(DVec3::Y * e), w(DVec3::Z * e));
                return g.normalize_or(DVec3::Z);
            }
        }
        self.face_normals.at(near.triangle as usize)
    }

    fn winding(&self, dipoles: &[Dipole], p: DVec3) -> f64 {
        // Accuracy parameter of Barill et al.: a node is far beyond this many radii.
        const FAR: f64 = 2.3;
        let first_leaf = dipoles.len() / 2;
        let mut total = 0.0;
        let mut stack = [0usize; 64];
        let mut top = 1;
        while top > 0 {
            top -= 1;
            let node = stack[top];
            let d = &dipoles[node];
            let r = d.centre - p;
            let len2 = r.length_squared();
            if len2 > (FAR * d.radius) * (FAR * d.radius) {
                total += d.moment.dot(r) / (len2 * len2.sqrt() * 4.0 * PI);
            } else if node < first_leaf {
                stack[top] = 2 * node + 1;
                stack[top + 1] = 2 * node + 2;
                top += 2;
            } else {
                total += self.bvh.leaf(node - first_leaf).map(|c| solid_angle(p, &c)).sum::<f64>()
                    / (4.0 * PI);
            }
        }
        total
    }
}

/// Signed solid angle of a triangle (van Oosterom & Strackee 1983).
fn solid_angle(p: DVec3, &[a, b, c]: &[DVec3; 3]) -> f64 {
    let (a, b, c) = (a - p, b - p, c - p);
    let (la, lb, lc) = (a.length(), b.length(), c.length());
    let det = a.dot(b.cross(c));
    let div = la * lb * lc + a.dot(b) * lc + b.dot(c) * la + c.dot(a) * lb;
    2.0 * det.atan2(div)
}

/// Unit normals of triangles, each as it is to be held.
fn face_normals<N: Send>(mesh: &TriMesh, held: impl Fn(DVec3) -> N + Sync) -> Vec<N> {
    let normal = |t: usize| held(mesh.area_vector(t).normalize_or_zero());
    parallel::map_cheap(mesh.triangles.len(), normal)
}

/// Of a sound mesh.
fn pseudo_normals(mesh: &TriMesh, faces: &FaceNormals) -> Sign {
    let corners = corners_at_points(mesh);
    let weighted = |&corner: &u32| {
        let (t, c) = (corner as usize / 3, corner as usize % 3);
        let p = mesh.corners(t);
        let (u, v) = (p[(c + 1) % 3] - p[c], p[(c + 2) % 3] - p[c]);
        faces.at(t) * u.cross(v).length().atan2(u.dot(v))
    };
    let at_vertex = |v: usize| corners.get(v).iter().map(weighted).sum::<DVec3>().as_vec3();
    let vertex: Vec<Vec3> = parallel::map_cheap(mesh.points.len(), at_vertex);
    // Of the two triangles at an edge, the other one has the edge's end before its start.
    let over_edge = |t: usize, c: usize| {
        let (start, end) = (mesh.triangles[t][c], mesh.triangles[t][(c + 1) % 3]);
        let before = |corner: u32| mesh.triangles[corner as usize / 3][(corner as usize + 2) % 3];
        let other = corners
            .get(start as usize)
            .iter()
            .find(|&&corner| corner as usize / 3 != t && before(corner) == end);
        other.map_or(t as u32, |corner| corner / 3)
    };
    let edges = |t: usize| [0, 1, 2].map(|c| over_edge(t, c));
    let beyond = parallel::map_cheap(mesh.triangles.len(), edges);
    Sign::Normals { triangles: mesh.triangles.clone(), vertex, beyond }
}

/// In heap order: children of node `i` are `2i + 1` and `2i + 2`, and the leaves are those of the
/// tree.
fn dipoles(bvh: &Bvh) -> Vec<Dipole> {
    let leaves = bvh.leaves();
    let first_leaf = leaves - 1;
    let none =
        (Dipole { centre: DVec3::ZERO, moment: DVec3::ZERO, radius: 0.0 }, 0.0, Bounds::EMPTY);
    // With the area of each, and what it is around.
    let mut all = vec![none; first_leaf];
    let about = |moment, weighted: DVec3, area: f64, around: Bounds| {
        let centre = if area > 0.0 { weighted / area } else { DVec3::ZERO };
        let holds = around.min.x <= around.max.x;
        let radius =
            if holds { (centre - around.min).max(around.max - centre).length() } else { 0.0 };
        (Dipole { centre, moment, radius }, area, around)
    };
    all.extend((0..leaves).map(|k| {
        let (mut moment, mut weighted, mut area, mut around) =
            (DVec3::ZERO, DVec3::ZERO, 0.0, Bounds::EMPTY);
        for [a, b, c] in bvh.leaf(k) {
            let n = (b - a).cross(c - a) * 0.5;
            moment += n;
            weighted += (a + b + c) / 3.0 * n.length();
            area += n.length();
            around = around.union(Bounds::of([a, b, c]));
        }
        about(moment, weighted, area, around)
    }));
    for node in (0..first_leaf).rev() {
        let [(l, area_l, around_l), (r, area_r, around_r)] = [all[2 * node + 1], all[2 * node + 2]];
        let weighted = l.centre * area_l + r.centre * area_r;
        all[node] = about(l.moment + r.moment, weighted, area_l + area_r, around_l.union(around_r));
    }
    all.into_iter().map(|(dipole, ..)| dipole).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(m: &TriMesh) -> SignedDistance {
        SignedDistance::new(m, &Topology::of(m))
    }

    fn box_distance(p: DVec3, half: f64) -> f64 {
        let q = p.abs() - half;
        q.max(DVec3::ZERO).length() + q.max_element().min(0.0)
    }

    proptest! {
        #[test]
        fn box_distance_is_exact_by_either_sign(x in -3.0..3.0f64, y in -3.0..3.0f64, z in -3.0..3.0f64) {
            let p = DVec3::new(x, y, z);
            let m = TriMesh::cuboid(DVec3::splat(-1.0), DVec3::ONE);
            let want = box_distance(p, 1.0);
            prop_assert!((of(&m).value(p) - want).abs() < 1e-12);
            // The same box twice, once far away: two pieces, so the winding number signs.
            let mut two = m.clone();
            two.append(&m.clone().mapped(|q| q + DVec3::X * 50.0));
            let two = of(&two);
            prop_assert!(two.is_winding());
            prop_assert!((two.value(p) - want).abs() < 1e-12);
        }
    }

    #[test]
    fn a_sphere_with_a_hole_still_has_an_inside() {
        let whole = TriMesh::sphere(10.0, 4);
        let broken = whole.filtered(|t| t % 997 != 3);
        let d = of(&broken);
        assert!(d.is_winding());
        for i in 0..200 {
            let a = i as f64;
            let dir = DVec3::new(a.sin(), (1.7 * a).cos(), (2.3 * a).sin()).normalize();
            assert!(d.inside(dir * 9.0) && !d.inside(dir * 11.0), "at {dir}");
        }
    }

    #[test]
    fn a_sound_mesh_of_several_pieces_and_voids_tells_sides_by_its_nearest_triangle() {
        // A ball with a void in which another ball lies, and a box beside them. Corners in 32 bits,
        // as of a file.
        let ball = |radius: f64| TriMesh::sphere(radius, 4).mapped(|p| p.as_vec3().as_dvec3());
        let mut nested = ball(10.0);
        let hollow = ball(7.0);
        nested.append(&TriMesh {
            triangles: hollow.triangles.iter().map(|t| [t[0], t[2], t[1]]).collect(),
            ..hollow
        });
        nested.append(&ball(3.0));
        nested.append(&TriMesh::cuboid(DVec3::new(12.0, -2.0, -2.0), DVec3::new(16.0, 2.0, 2.0)));
        let (by_normals, by_winding) = (SignedDistance::of_sound(&nested), of(&nested));
        assert!(!by_normals.is_winding() && by_winding.is_winding());
        let mut sides = [0; 2];
        for n in 1..4000 {
            let at = |k: f64| 36.0 * ((n as f64 * k).fract() - 0.5);
            let p = DVec3::new(at(0.754_877_666), at(0.569_840_290), at(0.430_159_709));
            let (own, other) = (by_normals.value(p), by_winding.value(p));
            assert!((own - other).abs() < 1e-9, "at {p}: {own} and {other}");
            sides[usize::from(own < 0.0)] += 1;
        }
        assert!(sides.iter().all(|n| *n > 200), "{sides:?}");
        // At corners and edges of the box, too, where several normals count.
        for corner in
            [DVec3::new(12.0, 2.0, 2.0), DVec3::new(14.0, 2.0, 2.0), DVec3::new(16.0, -2.0, 0.5)]
        {
            let away = (corner - DVec3::new(14.0, 0.0, 0.0)).normalize() * 1e-3;
            assert!(
                by_normals.value(corner + away) > 0.0 && by_normals.value(corner - away) < 0.0,
                "{corner}"
            );
        }
    }

    #[test]
    fn normals_held_in_either_width_are_those_of_the_triangles() {
        let m = TriMesh::sphere(4.0, 3);
        let (double, single) = (of(&m), SignedDistance::of_sound(&m));
        for t in 0..m.triangles.len() {
            let n = m.area_vector(t).normalize();
            assert!(
                double.face_normal(t as u32) == n
                    && single.face_normal(t as u32).distance(n) < 1e-6
            );
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(16))]
        #[test]
        fn values_of_many_places_are_those_of_each(seed in 0u64..1_000_000, near in 0.01..30.0f64, holes in any::<bool>()) {
            let whole = TriMesh::sphere(10.0, 3);
            let d = of(&if holes { whole.filtered(|t| t % 53 != 7) } else { whole });
            // A walk by steps of about that length.
            let mut p = DVec3::ZERO;
            let walk: Vec<DVec3> = (0..400u64)
                .map(|n| {
                    let part = |k: f64| (((seed + n) as f64 + 1.0) * k).fract() - 0.5;
                    let step = DVec3::new(part(0.754_877_666), part(0.569_840_290), part(0.430_159_709));
                    p = (p + near * step).clamp_length_max(40.0);
                    p
                })
                .collect();
            let each: Vec<f64> = walk.iter().map(|p| d.value(*p)).collect();
            prop_assert_eq!(d.values(&walk), each);
            prop_assert!(d.values(&[]).is_empty());
        }
    }

    #[test]
    fn all_points_within_reach_lie_on_the_side_that_is_told() {
        let whole = TriMesh::sphere(10.0, 4);
        // A closed surface, one with a hole at the top, and one with many small ones.
        let shapes = [
            whole.clone(),
            whole.filtered(|t| whole.middle(t).z < 8.0),
            whole.filtered(|t| t % 97 != 5),
        ];
        let place = |n: u64, size: f64| {
            let part = |k: f64| ((n as f64 + 1.0) * k).fract() - 0.5;
            DVec3::new(part(0.754_877_666), part(0.569_840_290), part(0.430_159_709)) * size
        };
        for mesh in shapes {
            let d = of(&mesh);
            for n in 0..300 {
                let p = place(n, 26.0);
                let (value, reach) = d.value_and_reach(p, 100.0);
                assert_eq!(value, d.value(p));
                assert!(reach <= value.abs());
                let around =
                    (0..12).map(|k| p + place(1000 * n + k, 2.0).normalize() * (0.999 * reach));
                assert!(
                    around.into_iter().all(|q| (d.value(q) < 0.0) == (value < 0.0)),
                    "{p}: {value} {reach}"
                );
            }
        }
    }
}
