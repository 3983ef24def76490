//! Wall thickness by the shrinking ball.

use crate::bvh::SegmentCrossing;
use crate::parallel;
use crate::{Bvh, TriMesh};
use glam::DVec3;

/// Diameter of the largest ball inside the mesh that touches it at each given point (Ma, Bae & Choi
/// 2012), no larger than `limit`. `normals` point outward and need not be unit. A point at a sharp
/// convex edge, where the ball shrinks to nothing, answers `f64::NAN`. `beside` names the triangles
/// that a point, by its number, lies on: they are no opposite wall.
pub fn wall_thickness(
    bvh: &Bvh,
    points: &[DVec3],
    normals: &[DVec3],
    limit: f64,
    beside: impl Fn(usize, u32) -> bool + Sync,
) -> Vec<f64> {
    parallel::map(points.len(), |n| {
        ball_diameter(bvh, points[n], normals[n].normalize_or_zero(), limit, |t| beside(n, t))
    })
}

fn ball_diameter(bvh: &Bvh, p: DVec3, n: DVec3, limit: f64, beside: impl Fn(u32) -> bool) -> f64 {
    // Contacts whose direction is within 30° of the tangent plane are the near slopes of the
    // surface itself (or a sharp edge), not an opposite wall.
    const LEAST_SIN: f64 = 0.5;
    if n == DVec3::ZERO {
        return f64::NAN;
    }
    let meets = |r: f64| bvh.nearest_where(p - n * r, (r * (1.0 - 1e-6)).powi(2), |t| !beside(t));
    // Balls that touch at p lie in each other: what a small one meets says that the large one need
    // not be asked, which meets far more.
    let small = 0.15 * limit;
    let mut r = if meets(small).is_some() { small } else { limit * 0.5 };
    for _ in 0..12 {
        let Some(near) = meets(r) else { break };
        let q = p - near.point;
        let across = q.dot(n);
        let len2 = q.length_squared();
        if across <= LEAST_SIN * len2.sqrt() {
            // A mesh facet beside p: step back a little rather than stop at noise.
            return if len2.sqrt() < 0.02 * limit && r < 0.25 * limit { f64::NAN } else { 2.0 * r };
        }
        let smaller = len2 / (2.0 * across);
        if smaller > r * (1.0 - 1e-3) {
            r = r.min(smaller);
            break;
        }
        r = smaller;
    }
    2.0 * r
}

/// Thickness at the middle of every `stride`-th triangle with its area, thin first.
pub fn sample_thickness(mesh: &TriMesh, bvh: &Bvh, stride: usize, limit: f64) -> Vec<(f64, f64)> {
    let picked: Vec<usize> = (0..mesh.triangles.len()).step_by(stride.max(1)).collect();
    let points: Vec<DVec3> = picked.iter().map(|&t| mesh.middle(t)).collect();
    let normals: Vec<DVec3> = picked.iter().map(|&t| mesh.area_vector(t)).collect();
    let mut out: Vec<(f64, f64)> =
        wall_thickness(bvh, &points, &normals, limit, |n, t| picked[n] == t as usize)
            .into_iter()
            .zip(&normals)
            .map(|(d, n)| (d, n.length() * 0.5))
            .filter(|(d, _)| d.is_finite())
            .collect();
    out.sort_by(|a, b| a.0.total_cmp(&b.0));
    out
}

/// A wall's two sides look apart by less than about 45°.
const FACING: f64 = 0.7;

/// Straight through from the middle of a triangle to the first one that faces away: the length of
/// the way in mm, if it is less than `limit` mm.
pub fn through(mesh: &TriMesh, bvh: &Bvh, triangle: usize, limit: f64) -> Option<f64> {
    let (from, inward) = (mesh.middle(triangle), -mesh.area_vector(triangle).try_normalize()?);
    let mut crossings = Vec::new();
    bvh.segment_crossings(from, from + inward * limit, &mut crossings);
    let away = |h: &&SegmentCrossing| {
        h.triangle as usize != triangle
            && mesh.area_vector(h.triangle as usize).normalize_or_zero().dot(inward) > FACING
    };
    let nearest = crossings.iter().filter(away).map(|h| h.t).fold(f64::INFINITY, f64::min);
    (nearest > 1e-6 && nearest < 0.999).then_some(nearest * limit)
}

/// Thickness below which one percent of a solid's surface lies, straight through at up to 4 000
/// triangles; infinite where no two sides face each other. mm.
pub fn thinnest_part(mesh: &TriMesh, bvh: &Bvh) -> f64 {
    const LOOKED_AT: usize = 4000;
    let stride = mesh.triangles.len().div_ceil(LOOKED_AT).max(1);
    let limit = mesh.bounds().size().length();
    let picked: Vec<usize> = (0..mesh.triangles.len()).step_by(stride).collect();
    let measured = |t: usize| Some((through(mesh, bvh, t, limit)?, mesh.area_vector(t).length()));
    let mut found: Vec<(f64, f64)> = parallel::filter_map(picked.len(), |n| measured(picked[n]));
    found.sort_by(|a, b| a.0.total_cmp(&b.0));
    weighted_quantile(&found, 0.01).unwrap_or(f64::INFINITY)
}

/// Value below which `share` (0 to 1) of the total weight lies; `sorted` is ordered by value.
pub fn weighted_quantile(sorted: &[(f64, f64)], share: f64) -> Option<f64> {
    let total: f64 = sorted.iter().map(|s| s.1).sum();
    let mut sum = 0.0;
    for &(v, w) in sorted {
        sum += w;
        if sum >= share * total {
            return Some(v);
        }
    }
    sorted.last().map(|s| s.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plates_and_balls_measure_their_own_thickness() {
        let plate = TriMesh::cuboid(DVec3::ZERO, DVec3::new(40.0, 30.0, 2.0));
        let bvh = Bvh::new(&plate);
        let d =
            wall_thickness(&bvh, &[DVec3::new(20.0, 15.0, 2.0)], &[DVec3::Z], 25.0, |_, _| false);
        assert!((d[0] - 2.0).abs() < 1e-9, "{d:?}");

        assert!((thinnest_part(&plate, &bvh) - 2.0).abs() < 1e-9);
        assert_eq!(through(&plate, &bvh, 0, 0.5), None);

        let ball = TriMesh::sphere(5.0, 6);
        let bvh = Bvh::new(&ball);
        let all = sample_thickness(&ball, &bvh, 7, 50.0);
        let mid = weighted_quantile(&all, 0.5).unwrap();
        assert!((mid / 10.0 - 1.0).abs() < 0.02, "{mid}");
    }
}
