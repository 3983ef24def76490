//! Drawn profiles of straight lines and arcs, to be turned about an axis.

use crate::{ProfilePoint, RecipeError, RecipeFault};
use glam::DVec2;
use robust::{orient2d, Coord};
use std::f64::consts::TAU;

/// Closer to the axis than this is on it. mm.
const ON_AXIS: f64 = 1e-6;
/// Points of an arc between two angles in radians, `steps + 1` of them.
pub fn arc(
    centre: DVec2,
    radius: f64,
    from: f64,
    to: f64,
    steps: usize,
) -> impl Iterator<Item = DVec2> {
    (0..=steps).map(move |i| {
        let a = from + (to - from) * i as f64 / steps as f64;
        centre + radius * DVec2::new(a.cos(), a.sin())
    })
}

/// Steps around a full turn: chords stay within 0.06 % of the radius.
pub const AROUND: usize = 96;
/// An arc bows out by at most so many chords: beyond, its circle is larger than anybody means.
const MOST_BOW: f64 = 2.0;

/// A place of the drawn profile, with the point that its line begins at, counted from 1.
pub type Drawn = (DVec2, usize);

/// The profile as radius and height, arcs in chords; refused when it cannot be turned into a
/// surface that is whole. The profile runs counter-clockwise; one that is `open` runs from the
/// first point to the last, upward as a whole.
///
/// # Errors
/// A profile that cannot be turned about its axis, by the number of its point.
pub fn outline(
    points: &[ProfilePoint],
    axis_mm: f64,
    open: bool,
) -> Result<Vec<DVec2>, RecipeError> {
    let mut drawn = drawn(points, axis_mm, open)?;
    beside_axis(&mut drawn)?;
    meets_itself(&drawn, open, "the profile")?;
    if !open {
        hangs_together(&drawn)?;
    }
    let mut out: Vec<DVec2> = drawn.into_iter().map(|d| d.0).collect();
    let backward = if open { out[out.len() - 1].y < out[0].y } else { area(&out) < 0.0 };
    if backward {
        out.reverse();
    }
    Ok(out)
}

/// Refuses a drawn outline.
///
/// # Errors
/// Always.
pub fn refuse<T>(fault: RecipeFault) -> Result<T, RecipeError> {
    Err(RecipeError::new("part.shape", fault))
}

fn drawn(points: &[ProfilePoint], axis_mm: f64, open: bool) -> Result<Vec<Drawn>, RecipeError> {
    let at = |n: usize| DVec2::from(points[n % points.len()].at_mm) - DVec2::new(axis_mm, 0.0);
    let number = |n: usize| n % points.len() + 1;
    let mut out = Vec::new();
    for (n, point) in points.iter().enumerate().take(points.len() - open as usize) {
        let (from, to) = (at(n), at(n + 1));
        let chord = from.distance(to);
        if chord < 1e-3 {
            let (line, points) = ("the profile".into(), [number(n), number(n + 1)]);
            return refuse(RecipeFault::PointsCoincide { line, points });
        }
        if point.bow_mm.abs() > MOST_BOW * chord {
            return refuse(RecipeFault::BowsTooFar([number(n), number(n + 1)]));
        }
        out.extend(line(from, to, point.bow_mm).into_iter().map(|p| (p, number(n))));
    }
    if open {
        out.push((at(points.len() - 1), points.len()));
    }
    Ok(out)
}

/// Puts places near the axis on it.
fn beside_axis(drawn: &mut [Drawn]) -> Result<(), RecipeError> {
    for (p, number) in drawn {
        if p.x < -ON_AXIS {
            return refuse(RecipeFault::OverAxis(*number));
        }
        if p.x < ON_AXIS {
            p.x = 0.0;
        }
    }
    Ok(())
}

/// Refuses a line, called `what`, that crosses or touches itself.
///
/// # Errors
/// The first two lines that meet, by their numbers.
pub fn meets_itself(drawn: &[Drawn], open: bool, what: &str) -> Result<(), RecipeError> {
    let count = drawn.len();
    let side = |n: usize| (drawn[n].0, drawn[(n + 1) % count].0);
    let sides = count - open as usize;
    for m in 0..sides {
        for n in m + 1..sides {
            let beside = n == m + 1 || (!open && m == 0 && n == count - 1);
            let meet = if beside {
                double_back(side(m), side(n), n == m + 1)
            } else {
                touch(side(m), side(n))
            };
            if meet {
                let (line, points) = (what.to_owned(), [drawn[m].1, drawn[n].1]);
                return refuse(RecipeFault::MeetsItself { line, points });
            }
        }
    }
    Ok(())
}

/// What lies on the axis is one stretch at most, and no single point.
fn hangs_together(drawn: &[Drawn]) -> Result<(), RecipeError> {
    let count = drawn.len();
    let on_axis = |n: usize| drawn[n % count].0.x == 0.0;
    let alone = (0..count).find(|&n| on_axis(n) && !on_axis(n + 1) && !on_axis(n + count - 1));
    if let Some(n) = alone {
        return refuse(RecipeFault::TouchesAxis(drawn[n].1));
    }
    if (0..count).filter(|&n| on_axis(n) && !on_axis(n + 1)).count() > 1 {
        return refuse(RecipeFault::OnAxisTwice);
    }
    Ok(())
}

/// From `from` up to but not including `to`; the arc bows out to the right by `bow`.
fn line(from: DVec2, to: DVec2, bow: f64) -> Vec<DVec2> {
    let chord = from.distance(to);
    if bow.abs() < 1e-6 * chord {
        return vec![from];
    }
    let (half, along) = (0.5 * chord, (to - from) / chord);
    let right = DVec2::new(along.y, -along.x) * bow.signum();
    let radius = (half * half + bow * bow) / (2.0 * bow.abs());
    let centre = from + along * half + right * (bow.abs() - radius);
    let turn = 4.0 * (bow.abs() / half).atan();
    let start = (from - centre).to_angle();
    let steps = ((turn / TAU * AROUND as f64).ceil() as usize).max(2);
    let to_angle = start + turn * bow.signum();
    let mut out: Vec<DVec2> = arc(centre, radius, start, to_angle, steps).take(steps).collect();
    out[0] = from;
    out
}

fn turns(a: DVec2, b: DVec2, c: DVec2) -> f64 {
    let co = |p: DVec2| Coord { x: p.x, y: p.y };
    orient2d(co(a), co(b), co(c))
}

/// Do two lines that share no end meet?
fn touch((a, b): (DVec2, DVec2), (c, d): (DVec2, DVec2)) -> bool {
    let on = |p: DVec2, q: DVec2, r: DVec2| r.cmpge(p.min(q)).all() && r.cmple(p.max(q)).all();
    let (s, t, u, v) = (turns(a, b, c), turns(a, b, d), turns(c, d, a), turns(c, d, b));
    (s * t < 0.0 && u * v < 0.0)
        || (s == 0.0 && on(a, b, c))
        || (t == 0.0 && on(a, b, d))
        || (u == 0.0 && on(c, d, a))
        || (v == 0.0 && on(c, d, b))
}

/// Does one of two neighbours lie on the other? `follows`: the second begins where the first ends.
fn double_back(first: (DVec2, DVec2), second: (DVec2, DVec2), follows: bool) -> bool {
    let (before, corner, after) =
        if follows { (first.0, first.1, second.1) } else { (second.0, second.1, first.1) };
    turns(before, corner, after) == 0.0 && (before - corner).dot(after - corner) > 0.0
}

/// Area within an outline, positive when it runs counter-clockwise.
pub fn area(points: &[DVec2]) -> f64 {
    (0..points.len()).map(|n| points[n].perp_dot(points[(n + 1) % points.len()])).sum::<f64>() * 0.5
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::PI;

    fn points(list: &[[f64; 3]]) -> Vec<ProfilePoint> {
        list.iter().map(|&[x, y, bow_mm]| ProfilePoint { at_mm: [x, y], bow_mm }).collect()
    }

    #[test]
    fn a_half_circle_drawn_either_way_is_a_half_circle() {
        let r = 7.0;
        for drawn in [[[0.0, -r, r], [0.0, r, 0.0]], [[0.0, r, -r], [0.0, -r, 0.0]]] {
            let out = outline(&points(&drawn), 0.0, false).unwrap();
            assert!((area(&out) / (0.5 * PI * r * r) - 1.0).abs() < 2e-3, "{}", area(&out));
            assert!(out.iter().all(|p| (p.length() - r).abs() < 1e-9));
        }
        let hollow = outline(
            &points(&[[0.0, 0.0, 0.0], [10.0, 0.0, -2.0], [10.0, 10.0, 0.0], [0.0, 10.0, 0.0]]),
            0.0,
            false,
        )
        .unwrap();
        assert!(area(&hollow) < 100.0 && hollow.iter().all(|p| p.x <= 10.0));
    }

    #[test]
    fn what_cannot_be_turned_is_refused_by_its_point() {
        let square = [[5.0, 0.0, 0.0], [10.0, 0.0, 0.0], [10.0, 10.0, 0.0], [5.0, 10.0, 0.0]];
        assert!(
            outline(&points(&square), 0.0, false).is_ok()
                && outline(&points(&square), 5.0, false).is_ok()
        );
        let says = |list: &[[f64; 3]], axis: f64, words: &str| {
            let e = outline(&points(list), axis, false).unwrap_err();
            assert!(e.message().contains(words), "{}", e.message());
        };
        says(&square, 6.0, "over the axis at or after point 1");
        says(
            &[[5.0, 0.0, 0.0], [10.0, 10.0, 0.0], [10.0, 0.0, 0.0], [5.0, 10.0, 0.0]],
            0.0,
            "meets itself after point 1 and after point 3",
        );
        says(&[[5.0, 0.0, 0.0], [5.0, 0.0, 0.0], [10.0, 5.0, 0.0]], 0.0, "Points 1 and 2");
        says(
            &[[0.0, 5.0, 0.0], [10.0, 0.0, 0.0], [10.0, 10.0, 0.0]],
            0.0,
            "touches the axis in one point",
        );
        says(&[[5.0, 0.0, 0.0], [10.0, 0.0, 30.0], [10.0, 10.0, 0.0]], 0.0, "bows out too far");
        says(
            &[[5.0, 0.0, 0.0], [10.0, 0.0, 0.0], [7.0, 0.0, 0.0], [6.0, 9.0, 0.0]],
            0.0,
            "meets itself",
        );
        let waist = [
            [0.0, 0.0, 0.0],
            [5.0, 0.0, 0.0],
            [5.0, 9.0, 0.0],
            [0.0, 9.0, 0.0],
            [0.0, 6.0, 0.0],
            [2.0, 4.5, 0.0],
            [0.0, 3.0, 0.0],
        ];
        says(&waist, 0.0, "more than one stretch");
    }
}
