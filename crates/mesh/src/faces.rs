//! Faces of a mesh: triangles that belong together, and what they are.
//!
//! Triangles in one plane form a patch. A patch far larger than the patches it runs smoothly into
//! is a plane of its own; the small ones that run smoothly into each other are facets of one curved
//! face, recognised as cylinder, cone or sphere where one fits (least squares on points and
//! normals).

use crate::groups::Groups;
use crate::half_edges::half_edges;
use crate::parallel;
use crate::topology::UnionFind;
use crate::{Bvh, TriMesh};
use glam::{DMat3, DVec3};
use std::collections::BTreeMap;

/// The shape of a face.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum FaceForm {
    /// A plane.
    Plane,
    /// A cylinder, seen from inside or outside.
    Cylinder {
        /// Distance from the axis. mm.
        radius: f64,
    },
    /// A cone, seen from inside or outside.
    Cone {
        /// Angle between axis and surface. Degrees.
        half_angle_deg: f64,
    },
    /// A sphere, seen from inside or outside.
    Sphere {
        /// Distance from the middle. mm.
        radius: f64,
    },
    /// No shape that is named.
    Free,
}

/// Triangles that belong together.
#[derive(Clone, Debug, PartialEq)]
pub struct Face {
    /// The shape of the face.
    pub kind: FaceForm,
    /// Area of the face.
    pub area: f64,
    /// Middle of the area.
    pub place: DVec3,
    /// A plane's normal, an axis, or the mean normal. Unit.
    pub direction: DVec3,
    /// Numbers of its triangles.
    pub triangles: Vec<u32>,
    /// Faces that share an edge with it, and by how much the surface turns there in the mean.
    /// Degrees.
    pub beside: Vec<(u32, f64)>,
}

/// Faces of a mesh, largest first.
#[derive(Clone, Debug, Default)]
pub struct Faces {
    /// All faces, the largest first.
    pub list: Vec<Face>,
    /// Face of every triangle.
    pub of: Vec<u32>,
}

/// Neighbours that turn by less lie in one plane. Degrees.
const FLAT_DEG: f64 = 0.06;
/// A patch this many times as large as those around it is a plane beside curved faces.
const LARGE: f64 = 4.0;
/// Small patches whose points lie so near to a plane beside them belong to it, in shares of the
/// mesh's longest side: what files round turns them more than others.
const IN_PLANE: f64 = 2e-6;
/// A shape fits when no point is farther from it than this share of the face's size.
const FIT: f64 = 2e-3;

/// `crease_deg`: neighbours that turn by more belong to different faces.
pub fn faces(mesh: &TriMesh, crease_deg: f64) -> Faces {
    faces_until(mesh, crease_deg, &|| false).expect("nobody cancels")
}

/// As [`faces`]; `None` when cancelled.
pub fn faces_until(
    mesh: &TriMesh,
    crease_deg: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Faces> {
    let count = mesh.triangles.len();
    let areas: Vec<DVec3> = (0..count).map(|t| mesh.area_vector(t) * 0.5).collect();
    let normals: Vec<DVec3> = areas.iter().map(|a| a.normalize_or_zero()).collect();
    let pairs = neighbours(mesh);
    let angle = |&[s, t]: &[u32; 2]| turn(&normals, s, t);

    let mut patches = UnionFind::new(count);
    for p in pairs.iter().filter(|p| angle(p) < FLAT_DEG) {
        patches.join(p[0], p[1]);
    }
    let patch: Vec<u32> = (0..count as u32).map(|t| patches.root(t)).collect();
    let mut size = vec![0.0; count];
    (0..count).for_each(|t| size[patch[t] as usize] += areas[t].length());
    // Largest patch that each runs smoothly into.
    let smooth: Vec<[u32; 2]> = pairs
        .iter()
        .copied()
        .filter(|p| angle(p) < crease_deg)
        .map(|p| p.map(|t| patch[t as usize]))
        .filter(|[a, b]| a != b)
        .collect();
    let mut around: Vec<Vec<f64>> = vec![Vec::new(); count];
    for [a, b] in &smooth {
        around[*a as usize].push(size[*b as usize]);
        around[*b as usize].push(size[*a as usize]);
    }
    let plane: Vec<bool> = (0..count)
        .map(|p| {
            around[p].sort_by(f64::total_cmp);
            around[p].is_empty() || size[p] > LARGE * around[p][around[p].len() / 2]
        })
        .collect();
    let mut planes: Vec<u32> =
        (0..count as u32).filter(|p| patch[*p as usize] == *p && plane[*p as usize]).collect();
    planes.sort_by(|a, b| size[*b as usize].total_cmp(&size[*a as usize]).then(a.cmp(b)));
    let plane_of = in_planes(mesh, &patch, &planes, &areas, &pairs, cancelled)?;
    let is_plane = |p: u32| plane_of[p as usize].is_some();
    let mut sets = UnionFind::new(count);
    for (t, &patch) in patch.iter().enumerate() {
        sets.join(t as u32, plane_of[patch as usize].unwrap_or(patch));
    }
    for p in smooth.iter().filter(|p| p.iter().all(|&q| !is_plane(q))) {
        sets.join(p[0], p[1]);
    }

    let mut members: Vec<(u32, u32)> = (0..count as u32).map(|t| (sets.root(t), t)).collect();
    members.sort_unstable();
    let of_run = |run: &[(u32, u32)]| {
        let is_plane = is_plane(patch[run[0].1 as usize]);
        let triangles = || run.iter().map(|m| m.1).collect();
        (!cancelled()).then(|| face(mesh, triangles(), is_plane, &areas))
    };
    let list = members.chunk_by(|a, b| a.0 == b.0).map(of_run).collect::<Option<Vec<_>>>()?;
    Some(put_together(list, count, mesh, &pairs, angle))
}

/// By patch, the plane that it belongs to: one of the `planes`, the largest of which come first, or
/// none. Patches belong to a plane that reach from it to the next and lie in it. `None` when
/// cancelled.
fn in_planes(
    mesh: &TriMesh,
    patch: &[u32],
    planes: &[u32],
    areas: &[DVec3],
    pairs: &[[u32; 2]],
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<Option<u32>>> {
    let count = patch.len();
    let members = Groups::of(count, || patch.iter().zip(0..).map(|(p, t)| (*p, t)));
    let of = |p: u32| members.get(p as usize).iter().map(|t| *t as usize);
    let borders =
        || pairs.iter().map(|pair| pair.map(|t| patch[t as usize])).filter(|[p, q]| p != q);
    let beside = Groups::of(count, || borders().flat_map(|[p, q]| [(p, q), (q, p)]));
    let near = IN_PLANE * mesh.bounds().size().max_element();
    let mut plane_of: Vec<Option<u32>> = vec![None; count];
    for &own in planes {
        if cancelled() {
            return None;
        }
        if plane_of[own as usize].is_some() {
            continue;
        }
        plane_of[own as usize] = Some(own);
        let normal = of(own).map(|t| areas[t]).sum::<DVec3>().normalize_or_zero();
        let widest = of(own)
            .max_by(|a, b| areas[*a].length().total_cmp(&areas[*b].length()))
            .unwrap_or(own as usize);
        let at = normal.dot(mesh.middle(widest));
        let lies_in = |p: u32| {
            of(p).all(|t| mesh.corners(t).iter().all(|q| (normal.dot(*q) - at).abs() < near))
        };
        let mut next = vec![own];
        while let Some(p) = next.pop() {
            for &q in beside.get(p as usize) {
                if plane_of[q as usize].is_none() && lies_in(q) {
                    plane_of[q as usize] = Some(own);
                    next.push(q);
                }
            }
        }
    }
    Some(plane_of)
}

/// Faces of a surface as `known` on other triangles of the same surface: each triangle belongs to
/// the face that lies nearest to its middle. Kinds are kept, since chords of chords tell less than
/// what they were cut from.
pub fn transferred(known: &Faces, of: &TriMesh, mesh: &TriMesh) -> Faces {
    let count = mesh.triangles.len();
    let tree = Bvh::new(of);
    let middle = |t: usize| mesh.corners(t).iter().sum::<DVec3>() / 3.0;
    let nearest = |t: usize| {
        tree.nearest(middle(t), f64::INFINITY).map_or(0, |n| known.of[n.triangle as usize])
    };
    let mut members: Vec<(u32, u32)> = parallel::map(count, |t| (nearest(t), t as u32));
    members.sort_unstable();
    let areas: Vec<DVec3> = (0..count).map(|t| mesh.area_vector(t) * 0.5).collect();
    let normals: Vec<DVec3> = areas.iter().map(|a| a.normalize_or_zero()).collect();
    let list: Vec<Face> = members
        .chunk_by(|a, b| a.0 == b.0)
        .map(|run| {
            let old = &known.list[run[0].0 as usize];
            let own = face(mesh, run.iter().map(|m| m.1).collect(), true, &areas);
            Face { kind: old.kind, direction: old.direction, ..own }
        })
        .collect();
    put_together(list, count, mesh, &neighbours(mesh), |&[s, t]: &[u32; 2]| turn(&normals, s, t))
}

/// Degrees between two triangles.
fn turn(normals: &[DVec3], s: u32, t: u32) -> f64 {
    let (a, b) = (normals[s as usize], normals[t as usize]);
    // What has no area has no side.
    if a == DVec3::ZERO || b == DVec3::ZERO {
        return 90.0;
    }
    a.cross(b).length().atan2(a.dot(b)).to_degrees()
}

/// Faces in their order, with what lies beside them.
fn put_together(
    mut list: Vec<Face>,
    count: usize,
    mesh: &TriMesh,
    pairs: &[[u32; 2]],
    angle: impl Fn(&[u32; 2]) -> f64,
) -> Faces {
    list.sort_by(|a, b| b.area.total_cmp(&a.area).then(a.triangles[0].cmp(&b.triangles[0])));
    let mut of = vec![0; count];
    for (n, f) in list.iter().enumerate() {
        f.triangles.iter().for_each(|&t| of[t as usize] = n as u32);
    }
    for (n, beside) in beside(mesh, pairs, &of, list.len(), angle).into_iter().enumerate() {
        list[n].beside = beside;
    }
    Faces { list, of }
}

/// By face, its neighbours and the mean turn over the edges between, weighted by their lengths.
fn beside(
    mesh: &TriMesh,
    pairs: &[[u32; 2]],
    of: &[u32],
    faces: usize,
    angle: impl Fn(&[u32; 2]) -> f64,
) -> Vec<Vec<(u32, f64)>> {
    let mut sums: BTreeMap<(u32, u32), (f64, f64)> = BTreeMap::new();
    for pair in pairs {
        let [a, b] = pair.map(|t| of[t as usize]);
        if a != b {
            let [s, t] = pair.map(|t| mesh.triangles[t as usize]);
            let ends: Vec<DVec3> =
                s.iter().filter(|v| t.contains(v)).map(|v| mesh.points[*v as usize]).collect();
            let length = ends.first().zip(ends.last()).map_or(0.0, |(p, q)| p.distance(*q));
            let sum = sums.entry((a.min(b), a.max(b))).or_default();
            *sum = (sum.0 + angle(pair) * length, sum.1 + length);
        }
    }
    let mut out = vec![Vec::new(); faces];
    for ((a, b), (turn, length)) in sums {
        let mean = turn / length.max(1e-300);
        out[a as usize].push((b, mean));
        out[b as usize].push((a, mean));
    }
    out
}

/// Pairs of triangles that share an edge with nobody else.
fn neighbours(mesh: &TriMesh) -> Vec<[u32; 2]> {
    let all = half_edges(mesh);
    let pairs = all.chunk_by(|a, b| a.edge == b.edge).filter(|run| run.len() == 2);
    pairs.map(|run| [run[0].triangle(), run[1].triangle()]).collect()
}

fn face(mesh: &TriMesh, triangles: Vec<u32>, plane: bool, areas: &[DVec3]) -> Face {
    let (mut area, mut place, mut sum) = (0.0, DVec3::ZERO, DVec3::ZERO);
    for &t in &triangles {
        let a = areas[t as usize].length();
        area += a;
        sum += areas[t as usize];
        place += mesh.corners(t as usize).iter().sum::<DVec3>() * (a / 3.0);
    }
    place /= area.max(1e-300);
    let mean = sum.normalize_or(DVec3::Z);
    let (kind, direction) =
        if plane { (FaceForm::Plane, mean) } else { recognise(mesh, &triangles, areas, mean) };
    Face { kind, area, place, direction, triangles, beside: Vec::new() }
}

/// What a curved face is, and its axis or mean normal.
fn recognise(mesh: &TriMesh, triangles: &[u32], areas: &[DVec3], mean: DVec3) -> (FaceForm, DVec3) {
    let mut points: Vec<DVec3> = triangles.iter().flat_map(|&t| mesh.corners(t as usize)).collect();
    points.sort_by(|a, b| a.x.total_cmp(&b.x).then(a.y.total_cmp(&b.y)).then(a.z.total_cmp(&b.z)));
    points.dedup();
    let bounds = crate::Bounds::of(points.iter().copied());
    let (origin, reach) = (bounds.centre(), bounds.size().length().max(1e-300));
    let local: Vec<DVec3> = points.iter().map(|p| (*p - origin) / reach).collect();
    let tolerance = FIT;
    let normals: Vec<(DVec3, f64)> = triangles
        .iter()
        .map(|&t| (areas[t as usize].normalize_or_zero(), areas[t as usize].length()))
        .collect();

    // Around an axis the normals keep one height along it.
    let total: f64 = normals.iter().map(|n| n.1).sum();
    let middle = normals.iter().map(|(n, a)| *n * *a).sum::<DVec3>() / total;
    let mut spread = DMat3::ZERO;
    for (n, a) in &normals {
        let d = *n - middle;
        spread += DMat3::from_cols(d * d.x, d * d.y, d * d.z) * (*a / total);
    }
    let axis = least_direction(spread);
    let height = middle.dot(axis);
    // Triangles whose corners lie at several angles about the axis lean a little; points decide
    // then.
    let lean = |n: &DVec3| (n.dot(axis) - height).abs();
    let mean_lean = (normals.iter().map(|(n, a)| lean(n).powi(2) * a).sum::<f64>() / total).sqrt();
    if mean_lean > 0.05 || normals.iter().any(|(n, _)| lean(n) > 0.25) {
        return (
            sphere(&local, tolerance)
                .map_or(FaceForm::Free, |r| FaceForm::Sphere { radius: r * reach }),
            mean,
        );
    }
    let axis = if axis.dot(DVec3::new(0.9, 0.95, 1.0)) < 0.0 { -axis } else { axis };
    let radius = if height.abs() < 0.06 { circle(&local, axis, tolerance) } else { None };
    if let Some(radius) = radius {
        return (FaceForm::Cylinder { radius: radius * reach }, axis);
    }
    if height.abs() > 0.02
        && cone(&local, &normals, triangles, mesh, origin, reach, axis, tolerance)
    {
        return (FaceForm::Cone { half_angle_deg: height.abs().asin().to_degrees() }, axis);
    }
    (FaceForm::Free, mean)
}

/// Radius of the sphere through the points, if one fits.
fn sphere(points: &[DVec3], tolerance: f64) -> Option<f64> {
    // |p|² = 2 c·p + (r² − c²), linear in c and the rest.
    let n = points.len() as f64;
    if n < 8.0 {
        return None;
    }
    let mean = points.iter().sum::<DVec3>() / n;
    let square = points.iter().map(|p| p.length_squared()).sum::<f64>() / n;
    let (mut m, mut rhs) = (DMat3::ZERO, DVec3::ZERO);
    for p in points {
        let d = *p - mean;
        m += DMat3::from_cols(d * d.x, d * d.y, d * d.z);
        rhs += d * (p.length_squared() - square);
    }
    if m.determinant().abs() < 1e-12 * n * n * n {
        return None;
    }
    let centre = m.inverse() * rhs * 0.5;
    let radius = points.iter().map(|p| p.distance(centre)).sum::<f64>() / n;
    points
        .iter()
        .all(|p| (p.distance(centre) - radius).abs() < tolerance)
        .then_some(radius)
        .filter(|r| *r < 20.0)
}

/// Radius of the circle through the points seen along the axis, if one fits.
fn circle(points: &[DVec3], axis: DVec3, tolerance: f64) -> Option<f64> {
    let u = axis.any_orthonormal_vector();
    let v = axis.cross(u);
    let flat: Vec<(f64, f64)> = points.iter().map(|p| (p.dot(u), p.dot(v))).collect();
    let n = flat.len() as f64;
    let mean = |f: &dyn Fn(&(f64, f64)) -> f64| flat.iter().map(f).sum::<f64>() / n;
    let (mx, my) = (mean(&|p| p.0), mean(&|p| p.1));
    let (xx, yy, xy) = (
        mean(&|p| (p.0 - mx).powi(2)),
        mean(&|p| (p.1 - my).powi(2)),
        mean(&|p| (p.0 - mx) * (p.1 - my)),
    );
    let square = mean(&|p| p.0 * p.0 + p.1 * p.1);
    let bx = mean(&|p| (p.0 - mx) * (p.0 * p.0 + p.1 * p.1 - square)) * 0.5;
    let by = mean(&|p| (p.1 - my) * (p.0 * p.0 + p.1 * p.1 - square)) * 0.5;
    let det = xx * yy - xy * xy;
    if det.abs() < 1e-14 {
        return None;
    }
    let (cx, cy) = ((bx * yy - by * xy) / det, (by * xx - bx * xy) / det);
    let off = |p: &(f64, f64)| (p.0 - cx).hypot(p.1 - cy);
    let radius = mean(&off);
    flat.iter().all(|p| (off(p) - radius).abs() < tolerance).then_some(radius).filter(|r| *r < 20.0)
}

/// Do the tangent planes of all triangles pass through one tip?
#[allow(clippy::too_many_arguments)]
fn cone(
    points: &[DVec3],
    normals: &[(DVec3, f64)],
    triangles: &[u32],
    mesh: &TriMesh,
    origin: DVec3,
    reach: f64,
    axis: DVec3,
    tolerance: f64,
) -> bool {
    let (mut m, mut rhs) = (DMat3::ZERO, DVec3::ZERO);
    for (&t, (n, _)) in triangles.iter().zip(normals) {
        let p = (mesh.points[mesh.triangles[t as usize][0] as usize] - origin) / reach;
        m += DMat3::from_cols(*n * n.x, *n * n.y, *n * n.z);
        rhs += *n * n.dot(p);
    }
    if m.determinant().abs() < 1e-9 {
        return false;
    }
    let tip = m.inverse() * rhs;
    // Every point sees the axis under one angle from the tip.
    let slope = |p: &DVec3| {
        let d = *p - tip;
        (d - axis * d.dot(axis)).length() / d.dot(axis).abs().max(1e-12)
    };
    let far: Vec<f64> = points.iter().filter(|p| p.distance(tip) > 0.05).map(slope).collect();
    let mean = far.iter().sum::<f64>() / far.len().max(1) as f64;
    far.iter().all(|s| (s - mean).abs() < 10.0 * tolerance)
}

/// Direction in which a symmetric, positive matrix is least: inverse iteration.
fn least_direction(m: DMat3) -> DVec3 {
    let shifted = (m + DMat3::IDENTITY * 1e-9).inverse();
    let mut v = DVec3::new(0.577, 0.578, 0.579);
    for _ in 0..60 {
        v = (shifted * v).normalize_or(DVec3::Z);
    }
    v
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DQuat;

    fn prism(sides: usize, radii: [f64; 2], height: f64) -> TriMesh {
        let ring = |r: f64, z: f64| {
            (0..sides).map(move |i| {
                let a = std::f64::consts::TAU * i as f64 / sides as f64;
                DVec3::new(r * a.cos(), r * a.sin(), z)
            })
        };
        let points: Vec<DVec3> = ring(radii[0], 0.0)
            .chain(ring(radii[1], height))
            .chain([DVec3::ZERO, DVec3::Z * height])
            .collect();
        let n = sides as u32;
        let triangles = (0..n).flat_map(|i| {
            let j = (i + 1) % n;
            [[i, j, n + j], [i, n + j, n + i], [2 * n, j, i], [2 * n + 1, n + i, n + j]]
        });
        TriMesh { points, triangles: triangles.collect() }
    }

    fn turned(m: TriMesh) -> TriMesh {
        let q = DQuat::from_euler(glam::EulerRot::XYZ, 0.4, -0.9, 1.3);
        m.mapped(|p| q * p + DVec3::new(30.0, -12.0, 7.0))
    }

    #[test]
    fn a_box_has_six_planes_and_a_ball_is_one_sphere() {
        let f = faces(&turned(TriMesh::cuboid(DVec3::ZERO, DVec3::new(3.0, 4.0, 5.0))), 30.0);
        assert_eq!(f.list.len(), 6);
        assert!(f.list.iter().all(|f| f.kind == FaceForm::Plane && f.triangles.len() == 2));
        assert!((f.list[0].area - 20.0).abs() < 1e-9);
        let f = faces(&turned(TriMesh::sphere(7.0, 4)), 30.0);
        assert!(
            f.list.len() == 1
                && matches!(f.list[0].kind, FaceForm::Sphere { radius } if (radius - 7.0).abs() < 0.02),
            "{:?}",
            f.list[0].kind
        );
    }

    #[test]
    fn prisms_are_cylinders_and_tapered_ones_cones() {
        let q = DQuat::from_euler(glam::EulerRot::XYZ, 0.4, -0.9, 1.3);
        let f = faces(&turned(prism(48, [5.0, 5.0], 12.0)), 30.0);
        assert_eq!(f.list.len(), 3, "{:?}", f.list.iter().map(|f| f.kind).collect::<Vec<_>>());
        assert!(
            matches!(f.list[0].kind, FaceForm::Cylinder { radius } if (radius - 5.0).abs() < 1e-6)
        );
        assert!(f.list[0].direction.cross(q * DVec3::Z).length() < 1e-3);
        let f = faces(&turned(prism(64, [6.0, 3.0], 8.0)), 30.0);
        let wanted = (3.0f64 / 8.0).atan().to_degrees();
        assert!(
            matches!(f.list[0].kind, FaceForm::Cone { half_angle_deg } if (half_angle_deg - wanted).abs() < 0.3),
            "{:?}",
            f.list[0].kind
        );
    }

    #[test]
    fn small_triangles_scattered_over_a_flat_face_belong_to_it() {
        let mut m = turned(TriMesh::cuboid(DVec3::ZERO, DVec3::new(80.0, 60.0, 40.0)));
        // A tiny triangle in the middle of each, and again in the middle of that, in three of which
        // one is flat.
        for _ in 0..2 {
            for [a, b, c] in std::mem::take(&mut m.triangles) {
                let corners = [a, b, c].map(|v| m.points[v as usize]);
                let middle = corners.iter().sum::<DVec3>() / 3.0;
                let n = m.points.len() as u32;
                m.points.extend(corners.map(|p| middle.lerp(p, 0.01)));
                m.points.push(0.5 * (m.points[n as usize] + m.points[n as usize + 1]));
                let [p, q, r, s] = [n, n + 1, n + 2, n + 3];
                m.triangles.extend([[p, s, r], [s, q, r], [p, q, s]]);
                m.triangles.extend([
                    [a, b, q],
                    [a, q, p],
                    [b, c, r],
                    [b, r, q],
                    [c, a, p],
                    [c, p, r],
                ]);
            }
        }
        // As files hold it.
        let m = m.mapped(|p| p.as_vec3().as_dvec3());
        let f = faces(&m, 30.0);
        assert_eq!(
            f.list.len(),
            6,
            "{:?}",
            f.list.iter().map(|f| (f.kind, f.area)).collect::<Vec<_>>()
        );
        assert!(
            f.list.iter().all(|f| f.kind == FaceForm::Plane)
                && (f.list[0].area - 4800.0).abs() < 0.1
        );
    }

    #[test]
    fn every_triangle_lies_in_the_face_that_lists_it() {
        let m = prism(20, [4.0, 4.0], 3.0);
        let f = faces(&m, 30.0);
        let listed: usize = f.list.iter().map(|f| f.triangles.len()).sum();
        assert_eq!(listed, m.triangles.len());
        assert!(f
            .list
            .iter()
            .enumerate()
            .all(|(n, f2)| f2.triangles.iter().all(|&t| f.of[t as usize] == n as u32)));
        assert!((f.list.iter().map(|f| f.area).sum::<f64>() - m.area()).abs() < 1e-9);
    }
}
