//! A sheet over a grid of control points: a clamped uniform B-spline surface (de Boor 1972), cubic
//! where there are enough points.

use crate::builder::Builder;
use glam::DVec3;
use ulmix_mesh::TriMesh;

/// Steps from one knot to the next, and most along a direction.
const STEPS: usize = 10;
const MOST: usize = 160;

/// `across` points to a row, rows one after the other. The corners are on the sheet; the other
/// points pull at it.
pub(super) fn grid(points: &[DVec3], across: usize) -> Vec<Vec<DVec3>> {
    let rows = points.len() / across;
    let (us, vs) = (places(across), places(rows));
    // First along every row, then across the rows.
    let along: Vec<Vec<DVec3>> =
        points.chunks_exact(across).map(|row| us.iter().map(|&u| at(row, u)).collect()).collect();
    vs.iter()
        .map(|&v| {
            (0..us.len())
                .map(|i| at(&along.iter().map(|row| row[i]).collect::<Vec<_>>(), v))
                .collect()
        })
        .collect()
}

/// A sheet over a grid of places, rows one after the other.
pub(super) fn sheet(grid: &[Vec<DVec3>]) -> TriMesh {
    let mut b = Builder::default();
    for pair in grid.windows(2) {
        for i in 0..pair[0].len() - 1 {
            let [p, q, r, s] = [pair[0][i], pair[0][i + 1], pair[1][i + 1], pair[1][i]];
            // The shorter diagonal follows a bent sheet better.
            let cut = if p.distance_squared(r) <= q.distance_squared(s) {
                [[p, q, r], [p, r, s]]
            } else {
                [[p, q, s], [q, r, s]]
            };
            cut.into_iter()
                .filter(|t| (t[1] - t[0]).cross(t[2] - t[0]) != DVec3::ZERO)
                .for_each(|t| b.add(t));
        }
    }
    b.mesh
}

fn degree(points: usize) -> usize {
    3.min(points - 1)
}

/// Parameters at which a direction of so many points is looked at.
fn places(points: usize) -> Vec<f64> {
    let spans = points - degree(points);
    let steps = (spans * STEPS).min(MOST);
    (0..=steps).map(|i| spans as f64 * i as f64 / steps as f64).collect()
}

/// A place of the curve of control points (de Boor's algorithm).
fn at(points: &[DVec3], t: f64) -> DVec3 {
    let p = degree(points.len());
    let spans = points.len() - p;
    // Knots 0 … 0 1 2 … spans … spans, the ends p + 1 times.
    let knot = |i: usize| (i as f64 - p as f64).clamp(0.0, spans as f64);
    let k = p + (t.floor() as usize).min(spans - 1);
    let mut d: Vec<DVec3> = (0..=p).map(|j| points[j + k - p]).collect();
    for r in 1..=p {
        for j in (r..=p).rev() {
            let low = knot(j + k - p);
            let a = (t - low) / (knot(j + 1 + k - r) - low);
            d[j] = d[j - 1] * (1.0 - a) + d[j] * a;
        }
    }
    d[p]
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::{weld::weld, Topology};

    fn free_form(points: &[DVec3], across: usize) -> TriMesh {
        sheet(&grid(points, across))
    }

    fn control(across: usize, rows: usize, height: impl Fn(f64, f64) -> f64) -> Vec<DVec3> {
        let point = |n: usize| {
            let (x, y) = ((n % across) as f64 * 10.0, (n / across) as f64 * 10.0);
            DVec3::new(x, y, height(x, y))
        };
        (0..across * rows).map(point).collect()
    }

    #[test]
    fn flat_points_give_a_flat_sheet_and_a_pulled_one_a_smooth_hill() {
        for (across, rows) in [(2, 2), (3, 2), (5, 4)] {
            let flat = weld(&free_form(&control(across, rows, |_, _| 0.0), across), 1e-9).mesh;
            let (w, d) = ((across - 1) as f64 * 10.0, (rows - 1) as f64 * 10.0);
            let t = Topology::of(&flat);
            assert!(
                (flat.area() - w * d).abs() < 1e-9
                    && t.components == 1
                    && t.non_manifold_edges == 0
            );
            // A planar field of heights is met exactly: the weights of every place add up to one.
            let slope = free_form(&control(across, rows, |x, y| 0.5 * x - y), across);
            assert!(slope
                .points
                .iter()
                .all(|p| p.x > -1e-9 && p.x < w + 1e-9 && p.y > -1e-9 && p.y < d + 1e-9));
        }
        let hill =
            free_form(&control(5, 5, |x, y| if x == 20.0 && y == 20.0 { 9.0 } else { 0.0 }), 5);
        let top = hill.points.iter().map(|p| p.z).fold(0.0, f64::max);
        // In the middle of five points, knots 0 0 0 0 1 2 2 2 2, the middle one weighs a half.
        assert!((top - 9.0 * 0.25).abs() < 1e-9, "{top}");
        assert!(hill.points.iter().all(|p| p.z >= 0.0));
    }
}
