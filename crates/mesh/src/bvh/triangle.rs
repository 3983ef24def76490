//! One triangle asked for its nearest point, or whether a segment passes through it.

use glam::DVec3;

/// Part of a triangle that is nearest to a query point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TriangleFeature {
    /// Within the triangle.
    Face,
    /// Edge from corner `c` to corner `c + 1`.
    Edge(u8),
    /// On the corner of this number.
    Corner(u8),
}

/// Closest point of a triangle (Ericson 2005, Real-Time Collision Detection, 5.1.5) and the
/// part of the triangle that holds it.
pub fn nearest_on_triangle(p: DVec3, &[a, b, c]: &[DVec3; 3]) -> (DVec3, TriangleFeature) {
    let (ab, ac, ap) = (b - a, c - a, p - a);
    let (d1, d2) = (ab.dot(ap), ac.dot(ap));
    if d1 <= 0.0 && d2 <= 0.0 {
        return (a, TriangleFeature::Corner(0));
    }
    let bp = p - b;
    let (d3, d4) = (ab.dot(bp), ac.dot(bp));
    if d3 >= 0.0 && d4 <= d3 {
        return (b, TriangleFeature::Corner(1));
    }
    let vc = d1 * d4 - d3 * d2;
    if vc <= 0.0 && d1 >= 0.0 && d3 <= 0.0 {
        return (a + ab * (d1 / (d1 - d3)), TriangleFeature::Edge(0));
    }
    let cp = p - c;
    let (d5, d6) = (ab.dot(cp), ac.dot(cp));
    if d6 >= 0.0 && d5 <= d6 {
        return (c, TriangleFeature::Corner(2));
    }
    let vb = d5 * d2 - d1 * d6;
    if vb <= 0.0 && d2 >= 0.0 && d6 <= 0.0 {
        return (a + ac * (d2 / (d2 - d6)), TriangleFeature::Edge(2));
    }
    let va = d3 * d6 - d5 * d4;
    if va <= 0.0 && d4 - d3 >= 0.0 && d5 - d6 >= 0.0 {
        return (b + (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6))), TriangleFeature::Edge(1));
    }
    let sum = va + vb + vc;
    if sum <= 0.0 {
        return (a, TriangleFeature::Corner(0));
    }
    (a + ab * (vb / sum) + ac * (vc / sum), TriangleFeature::Face)
}

/// Parameter at which the segment meets the triangle's plane inside it (border included).
pub(super) fn segment_triangle(a: DVec3, b: DVec3, tri: &[DVec3; 3]) -> Option<f64> {
    let n = (tri[1] - tri[0]).cross(tri[2] - tri[0]);
    let (da, db) = (n.dot(a - tri[0]), n.dot(b - tri[0]));
    if da == db || (da > 0.0) == (db > 0.0) && da != 0.0 && db != 0.0 {
        return None;
    }
    let d = b - a;
    let volume = |p: DVec3, q: DVec3| d.dot((p - a).cross(q - a));
    let (u, v, w) = (volume(tri[1], tri[2]), volume(tri[2], tri[0]), volume(tri[0], tri[1]));
    // The tolerance closes the cracks along shared edges; a duplicate hit there is harmless.
    let eps = 1e-12 * (u.abs() + v.abs() + w.abs());
    let inside = (u >= -eps && v >= -eps && w >= -eps) || (u <= eps && v <= eps && w <= eps);
    inside.then(|| (da / (da - db)).clamp(0.0, 1.0))
}
