//! Smooth curves through points of a plane: centripetal Catmull–Rom (Barry & Goldman 1988), which
//! makes no loops or cusps between two points (Yuksel, Schaefer & Keyser 2011).

use super::profile::{area, meets_itself, refuse, Drawn};
use crate::{RecipeError, RecipeFault};
use glam::DVec2;

/// Pieces from one point to the next.
const PIECES: usize = 24;

/// The curve through points in mm, in short pieces, each with the point that it follows, counted
/// from 1. A closed one runs counter-clockwise; an `open` one ends at its first and last point.
/// Refused, by the name `what`, when points coincide or the curve meets itself.
///
/// # Errors
/// Points that coincide, by their numbers, or too few of them.
pub fn through(points: &[[f64; 2]], open: bool, what: &str) -> Result<Vec<DVec2>, RecipeError> {
    let points: Vec<DVec2> = points.iter().map(|p| DVec2::from(*p)).collect();
    let count = points.len();
    let spans = count - open as usize;
    if let Some(n) = (0..spans).find(|&n| points[n].distance(points[(n + 1) % count]) < 1e-3) {
        let points = [n + 1, (n + 1) % count + 1];
        return refuse(RecipeFault::PointsCoincide { line: what.into(), points });
    }
    let at = |n: isize| match n {
        // An open curve leaves its ends as if the next point were mirrored there.
        -1 if open => points[0] * 2.0 - points[1],
        n if open && n as usize == count => points[count - 1] * 2.0 - points[count - 2],
        n => points[n.rem_euclid(count as isize) as usize],
    };
    let mut out: Vec<Drawn> = Vec::with_capacity(spans * PIECES + 1);
    for n in 0..spans as isize {
        let four = [at(n - 1), at(n), at(n + 1), at(n + 2)];
        out.extend((0..PIECES).map(|i| (span(four, i as f64 / PIECES as f64), n as usize + 1)));
    }
    if open {
        out.push((points[count - 1], count));
    }
    meets_itself(&out, open, what)?;
    let mut out: Vec<DVec2> = out.into_iter().map(|d| d.0).collect();
    if !open && area(&out) < 0.0 {
        out.reverse();
    }
    Ok(out)
}

/// A place between the second and the third of four points.
fn span(p: [DVec2; 4], share: f64) -> DVec2 {
    let mut knots = [0.0; 4];
    for n in 1..4 {
        knots[n] = knots[n - 1] + p[n - 1].distance(p[n]).sqrt();
    }
    let t = knots[1] + share * (knots[2] - knots[1]);
    let mut places = p;
    // Neville's scheme over growing stretches of knots.
    for reach in 1..4 {
        for n in 0..4 - reach {
            // The last step mixes over the middle stretch only.
            let (low, high) = if reach == 3 { (1, 2) } else { (n, n + reach) };
            let along = (t - knots[low]) / (knots[high] - knots[low]);
            places[n] = places[n].lerp(places[n + 1], along);
        }
    }
    places[0]
}

/// Places at rising shares of the length of a polyline, closed or open, from its first point on.
pub fn at_shares(line: &[DVec2], open: bool, shares: &[f64]) -> Vec<DVec2> {
    let ends = line.iter().copied().chain((!open).then(|| line[0]));
    let ends: Vec<DVec2> = ends.collect();
    let lengths = along(&ends);
    let whole = lengths[lengths.len() - 1];
    shares
        .iter()
        .map(|share| {
            let goal = share * whole;
            let n = lengths.partition_point(|l| *l <= goal).clamp(1, ends.len() - 1);
            let piece = (lengths[n] - lengths[n - 1]).max(1e-300);
            ends[n - 1].lerp(ends[n], ((goal - lengths[n - 1]) / piece).clamp(0.0, 1.0))
        })
        .collect()
}

/// Length of the way to each of some places.
pub fn along(places: &[DVec2]) -> Vec<f64> {
    let mut sum = 0.0;
    let step = |n: usize| {
        sum += if n == 0 { 0.0 } else { places[n].distance(places[n - 1]) };
        sum
    };
    (0..places.len()).map(step).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::{PI, TAU};

    fn on_circle(count: usize) -> Vec<[f64; 2]> {
        (0..count)
            .map(|n| DVec2::from_angle(TAU * n as f64 / count as f64).to_array().map(|v| 10.0 * v))
            .collect()
    }

    #[test]
    fn the_curve_passes_its_points_and_is_nearly_a_circle_through_points_of_one() {
        let mut backward = on_circle(12);
        backward.reverse();
        for points in [on_circle(12), backward] {
            let curve = through(&points, false, "the curve").unwrap();
            assert!((area(&curve) / (100.0 * PI) - 1.0).abs() < 2e-3, "{}", area(&curve));
            assert!(points
                .iter()
                .all(|p| curve.iter().any(|q| q.distance(DVec2::from(*p)) < 1e-9)));
        }
        let open = through(&on_circle(12)[..7], true, "the curve").unwrap();
        assert!(
            open[0].distance(DVec2::new(10.0, 0.0)) < 1e-12
                && open[open.len() - 1].distance(DVec2::new(-10.0, 0.0)) < 1e-9
        );
        let even = at_shares(&open, true, &[0.0, 0.5, 1.0]);
        assert!(even[1].distance(DVec2::new(0.0, 10.0)) < 0.01, "{even:?}");
    }

    #[test]
    fn a_curve_that_meets_itself_or_stands_still_is_refused_by_its_points() {
        let bow_tie = [[0.0, 0.0], [10.0, 10.0], [10.0, 0.0], [0.0, 10.0]];
        let e = through(&bow_tie, false, "the curve of section 2").unwrap_err();
        assert!(e.message().contains("The curve of section 2 meets itself"), "{}", e.message());
        let e = through(&[[0.0, 0.0], [5.0, 1.0], [5.0, 1.0]], false, "the curve").unwrap_err();
        assert!(e.message().contains("Points 2 and 3"), "{}", e.message());
    }
}
