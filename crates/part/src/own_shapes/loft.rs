//! A surface through outlines at several heights.

use crate::builder::{flat, Builder, QUARTERS};
use glam::{DVec2, DVec3};
use std::f64::consts::FRAC_PI_2;
use ulmix_mesh::TriMesh;
use ulmix_recipe::curve;
use ulmix_recipe::profile::arc;
use ulmix_recipe::Section;

/// Chords of a corner's arc, and pieces of a straight side.
const CORNER: usize = 24;
const SIDE: usize = 12;
/// Levels between two sections that differ by more than their size.
const LEVELS: usize = 24;

/// Points along a drawn curve.
const DRAWN: usize = 192;

/// The surface between sections as a sheet: places along the outline at rising heights. An outline
/// that is not `open` ends where it begins.
pub(super) fn levels(sections: &[Section], smooth: bool, open: bool) -> Vec<Vec<DVec3>> {
    let mut out = rings(sections, smooth, open, LEVELS);
    if !open {
        out.iter_mut().for_each(|ring| ring.push(ring[0]));
    }
    out
}

/// Closed by the first and last outline.
pub(super) fn loft(sections: &[Section], smooth: bool) -> TriMesh {
    let rings = rings(sections, smooth, false, 1);
    let mut b = Builder::default();
    rings.windows(2).for_each(|pair| b.between(&pair[0], &pair[1]));
    for (section, ring, up) in
        [(sections.first(), rings.first(), false), (sections.last(), rings.last(), true)]
    {
        let (Some(section), Some(ring)) = (section, ring) else { continue };
        if section.curve_mm.is_empty() {
            // Convex: the cap fans out from the middle, and opposite sides mirror each other.
            let middle = ring.iter().sum::<DVec3>() / ring.len() as f64;
            for (n, &p) in ring.iter().enumerate() {
                let q = ring[(n + 1) % ring.len()];
                b.add(if up { [middle, p, q] } else { [middle, q, p] });
            }
        } else {
            let mut outline: Vec<DVec2> = ring.iter().map(|p| p.truncate()).collect();
            outline.dedup();
            b.face(&outline, &[], up, flat(section.height_mm));
        }
    }
    b.mesh
}

/// Outlines, turns and middles change evenly with height from section to section, or `smooth`:
/// along monotone cubics (Fritsch & Carlson 1980), which never go beyond what sections say. At
/// least `least` steps between sections.
fn rings(sections: &[Section], smooth: bool, open: bool, least: usize) -> Vec<Vec<DVec3>> {
    let heights: Vec<f64> = sections.iter().map(|s| s.height_mm).collect();
    let rings = outlines(sections, open);
    // The turn, the middle, and the outline's places.
    let values: Vec<Vec<f64>> = sections
        .iter()
        .zip(&rings)
        .map(|(s, ring)| {
            let placed = [s.turn_deg, s.middle_mm[0], s.middle_mm[1]];
            placed.into_iter().chain(ring.iter().flat_map(|p| p.to_array())).collect()
        })
        .collect();
    let of_value = |v: usize| slopes(&heights, &values.iter().map(|s| s[v]).collect::<Vec<_>>());
    let slopes: Vec<Vec<f64>> =
        if smooth { (0..values[0].len()).map(of_value).collect() } else { Vec::new() };
    let mut out: Vec<Vec<DVec3>> = Vec::new();
    for (n, pair) in sections.windows(2).enumerate() {
        let (a, b) = (&values[n], &values[n + 1]);
        let turn = (a[0] - b[0]).abs();
        let make_unique = pair[0].round_percent != pair[1].round_percent
            || pair.iter().any(|s| !s.curve_mm.is_empty());
        let bent = smooth || turn > 0.0 || make_unique;
        let steps = if bent { LEVELS.max((turn / 5.0).ceil() as usize) } else { least };
        let span = heights[n + 1] - heights[n];
        for step in 0..steps {
            let t = step as f64 / steps as f64;
            let at = |v: usize| {
                if smooth {
                    hermite(a[v], b[v], slopes[v][n] * span, slopes[v][n + 1] * span, t)
                } else {
                    a[v] + (b[v] - a[v]) * t
                }
            };
            out.push(placed(&(0..a.len()).map(at).collect::<Vec<_>>(), heights[n] + span * t));
        }
    }
    let last = sections.len() - 1;
    out.push(placed(&values[last], heights[last]));
    out
}

/// A ring's places, from the turn, the middle and the outline.
fn placed(values: &[f64], height: f64) -> Vec<DVec3> {
    let (turned, middle) =
        (DVec2::from_angle(values[0].to_radians()), DVec2::new(values[1], values[2]));
    let place = |p: &[f64]| (turned.rotate(DVec2::new(p[0], p[1])) + middle).extend(height);
    values[3..].chunks_exact(2).map(place).collect()
}

/// Each section's outline around its middle, in as many points; those with one number lie across
/// from each other.
fn outlines(sections: &[Section], open: bool) -> Vec<Vec<DVec2>> {
    let first = sections.iter().find(|s| s.curve_mm.is_empty()).map(rounded);
    // Along drawn curves points lie as along the first of the others.
    let shares: Vec<f64> = match &first {
        Some(ring) => {
            let ends: Vec<DVec2> = ring.iter().copied().chain([ring[0]]).collect();
            let lengths = curve::along(&ends);
            lengths[..ring.len()].iter().map(|l| l / lengths[ring.len()]).collect()
        }
        None => (0..DRAWN + open as usize).map(|n| n as f64 / DRAWN as f64).collect(),
    };
    let begins = first.as_ref().map_or(DVec2::new(1.0, -1.0), |ring| ring[0]);
    let drawn = |s: &Section| {
        let line = curve::through(&s.curve_mm, open, "the curve").unwrap_or_default();
        if open {
            return curve::at_shares(&line, true, &shares);
        }
        // A closed curve begins where the others do, as seen from its middle.
        let middle = line.iter().sum::<DVec2>() / line.len() as f64;
        let begin = |p: &DVec2| (*p - middle).normalize_or_zero().dot(begins);
        let start = (0..line.len())
            .max_by(|&a, &b| begin(&line[a]).total_cmp(&begin(&line[b])))
            .unwrap_or(0);
        curve::at_shares(&[&line[start..], &line[..start]].concat(), false, &shares)
    };
    sections.iter().map(|s| if s.curve_mm.is_empty() { rounded(s) } else { drawn(s) }).collect()
}

/// A rectangle whose corners are rounded by a share of its sides: at 1 an ellipse. From the right
/// lower corner on.
fn rounded(section: &Section) -> Vec<DVec2> {
    let half = DVec2::from(section.size_mm) * 0.5;
    let radius = half * (section.round_percent / 100.0).clamp(0.0, 1.0);
    let mut out = Vec::with_capacity(4 * (CORNER + SIDE));
    for (sign, from) in QUARTERS {
        out.extend(
            arc(DVec2::ZERO, 1.0, from, from + FRAC_PI_2, CORNER)
                .map(|u| sign * (half - radius) + u * radius),
        );
        // Along the side that follows, up to the next corner.
        let along = if sign.x * sign.y < 0.0 {
            DVec2::new(0.0, 2.0 * sign.x * (half.y - radius.y))
        } else {
            DVec2::new(-2.0 * sign.y * (half.x - radius.x), 0.0)
        };
        let last = out[out.len() - 1];
        out.extend((1..SIDE).map(|i| last + along * (i as f64 / SIDE as f64)));
    }
    out
}

fn hermite(a: f64, b: f64, from: f64, to: f64, t: f64) -> f64 {
    let (t2, t3) = (t * t, t * t * t);
    a * (2.0 * t3 - 3.0 * t2 + 1.0)
        + b * (3.0 * t2 - 2.0 * t3)
        + from * (t3 - 2.0 * t2 + t)
        + to * (t3 - t2)
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
