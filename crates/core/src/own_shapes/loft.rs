//! A surface through outlines at several heights.

use crate::builder::{arc, Builder, QUARTERS};
use crate::recipe::Section;
use glam::{DVec2, DVec3};
use std::f64::consts::FRAC_PI_2;
use ulmix_mesh::TriMesh;

/// Chords of a corner's arc, and pieces of a straight side.
const CORNER: usize = 24;
const SIDE: usize = 12;
/// Levels between two sections that differ by more than their size.
const LEVELS: usize = 24;

/// Width, depth, roundness, turn in degrees, and the middle's place.
type Values = [f64; 6];

/// Closed by the first and last outline, or as a `sheet` open there. Sizes, roundness, turn and middle change evenly with height from section to
/// section, or `smooth`: along monotone cubics (Fritsch & Carlson 1980), which never go beyond what sections say.
pub fn loft(sections: &[Section], smooth: bool, sheet: bool) -> TriMesh {
    let heights: Vec<f64> = sections.iter().map(|s| s.height_mm).collect();
    let values: Vec<Values> = sections
        .iter()
        .map(|s| [s.size_mm[0], s.size_mm[1], s.round_percent / 100.0, s.turn_deg, s.middle_mm[0], s.middle_mm[1]])
        .collect();
    let slopes: Vec<Vec<f64>> = (0..6).map(|v| slopes(&heights, &values.iter().map(|s| s[v]).collect::<Vec<_>>())).collect();
    let mut rings: Vec<Vec<DVec3>> = Vec::new();
    for n in 0..sections.len() - 1 {
        let (a, b) = (&values[n], &values[n + 1]);
        let turn = (a[3] - b[3]).abs();
        let bent = sheet || smooth || turn > 0.0 || a[2] != b[2];
        let levels = if bent { LEVELS.max((turn / 5.0).ceil() as usize) } else { 1 };
        for level in 0..levels {
            let t = level as f64 / levels as f64;
            let span = heights[n + 1] - heights[n];
            let at: Values = std::array::from_fn(|v| {
                if smooth {
                    hermite(a[v], b[v], slopes[v][n] * span, slopes[v][n + 1] * span, t)
                } else {
                    a[v] + (b[v] - a[v]) * t
                }
            });
            rings.push(ring(&at, heights[n] + span * t));
        }
    }
    let (last, top) = (values[values.len() - 1], heights[heights.len() - 1]);
    rings.push(ring(&last, top));

    let mut b = Builder::default();
    rings.windows(2).for_each(|pair| b.between(&pair[0], &pair[1]));
    if sheet {
        return b.mesh;
    }
    // Outlines are convex: their caps fan out from the middle, and opposite sides mirror each other.
    for (ring, up) in [(&rings[0], false), (&rings[rings.len() - 1], true)] {
        let middle = ring.iter().sum::<DVec3>() / ring.len() as f64;
        for (n, &p) in ring.iter().enumerate() {
            let q = ring[(n + 1) % ring.len()];
            b.add(if up { [middle, p, q] } else { [middle, q, p] });
        }
    }
    b.mesh
}

/// A rectangle whose corners are rounded by a share of its sides: at 1 an ellipse.
fn ring(&[width, depth, round, turn, x, y]: &Values, height: f64) -> Vec<DVec3> {
    let half = DVec2::new(width, depth) * 0.5;
    let radius = half * round.clamp(0.0, 1.0);
    let turned = DVec2::from_angle(turn.to_radians());
    let mut out = Vec::with_capacity(4 * (CORNER + SIDE));
    for (sign, from) in QUARTERS {
        out.extend(arc(DVec2::ZERO, 1.0, from, from + FRAC_PI_2, CORNER).map(|u| sign * (half - radius) + u * radius));
        // Along the side that follows, up to the next corner.
        let along = if sign.x * sign.y < 0.0 {
            DVec2::new(0.0, 2.0 * sign.x * (half.y - radius.y))
        } else {
            DVec2::new(-2.0 * sign.y * (half.x - radius.x), 0.0)
        };
        let last = out[out.len() - 1];
        out.extend((1..SIDE).map(|i| last + along * (i as f64 / SIDE as f64)));
    }
    out.into_iter().map(|p| (turned.rotate(p) + DVec2::new(x, y)).extend(height)).collect()
}

fn hermite(a: f64, b: f64, from: f64, to: f64, t: f64) -> f64 {
    let (t2, t3) = (t * t, t * t * t);
    a * (2.0 * t3 - 3.0 * t2 + 1.0) + b * (3.0 * t2 - 2.0 * t3) + from * (t3 - 2.0 * t2 + t) + to * (t3 - t2)
}

/// Slopes at the places of a monotone cubic through values.
fn slopes(x: &[f64], y: &[f64]) -> Vec<f64> {
    let count = x.len();
    let rise: Vec<f64> = (0..count - 1).map(|n| (y[n + 1] - y[n]) / (x[n + 1] - x[n])).collect();
    let between = |n: usize| {
        let (a, b) = (rise[n - 1], rise[n]);
        // The harmonic mean stays where Fritsch and Carlson's bounds hold.
        if a * b <= 0.0 {
            0.0
        } else {
            2.0 * a * b / (a + b)
        }
    };
    (0..count)
        .map(|n| match n {
            0 => rise[0],
            n if n == count - 1 => rise[count - 2],
            n => between(n),
        })
        .collect()
}
