//! What a field on a grid does by asking many places at a time, whatever it is the field of.

use super::{GridField, Met, Segment};
use glam::{DVec3, Vec3};
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::polygonise::RowPoints;

/// Steps of Newton's method onto the border.
const STEPS: usize = 4;
/// Rounds in which the meeting place of a way and the border is narrowed down.
const ROUNDS: usize = 12;

/// Clears the samples at which the field is no less than `reach`. Those that are `known` to lie in
/// the lattice are not asked and stay.
pub(crate) fn clear_outside(
    field: &dyn GridField,
    grid: &Grid,
    bits: &mut Bits,
    known: Option<&Bits>,
    reach: impl Fn(DVec3) -> f64 + Sync,
) {
    bits.par_words_mut(|w, j, k, word| {
        let known = known.map_or(0, |known| known.row(j, k)[w]);
        let mut left = *word & !known;
        if left == 0 {
            return;
        }
        let (mut points, mut lanes) = ([DVec3::ZERO; 64], [0u8; 64]);
        let mut count = 0;
        while left != 0 {
            let bit = left.trailing_zeros();
            points[count] = grid.at(64 * w as u32 + bit, j as u32, k as u32);
            lanes[count] = bit as u8;
            count += 1;
            left &= left - 1;
        }
        let mut values = Vec::with_capacity(64);
        field.values(&points[..count], &mut values);
        for (n, v) in values.into_iter().enumerate() {
            if v >= reach(points[n]) {
                *word &= !(1 << lanes[n]);
            }
        }
    });
}

/// As [`GridField::met`], all ways at once, by the Illinois method (Dowell and Jarratt 1971).
/// A value no larger than `enough` is as good as zero.
pub(crate) fn met(field: &dyn GridField, segments: &[Segment], enough: f64, out: &mut Vec<Met>) {
    let mut ends: Vec<[f64; 4]> =
        segments.iter().map(|s| [0.0, 1.0, s.ends[0], s.ends[1]]).collect();
    let starts: Vec<Option<f64>> = segments.iter().map(Segment::start).collect();
    let mut t: Vec<f64> = starts.iter().map(|s| s.unwrap_or(0.0)).collect();
    let (mut points, mut values) = (Vec::new(), Vec::new());
    let place = |s: &Segment, t: f64| s.a.lerp(s.b, t);
    for _ in 0..ROUNDS {
        for (n, [a, b, fa, fb]) in ends.iter().enumerate() {
            t[n] = starts[n].unwrap_or((a * fb - b * fa) / (fb - fa));
        }
        points.clear();
        points.extend(segments.iter().zip(&t).map(|(s, t)| place(s, *t)));
        field.values(&points, &mut values);
        let mut all = true;
        for (n, &v) in values.iter().enumerate() {
            if starts[n].is_some() || v.abs() < enough {
                continue;
            }
            all = false;
            let [a, b, fa, fb] = &mut ends[n];
            if v * *fb > 0.0 {
                (*b, *fb, *fa) = (t[n], v, 0.5 * *fa);
            } else {
                (*a, *fa, *fb) = (t[n], v, 0.5 * *fb);
            }
        }
        if all {
            break;
        }
    }
    let mut slopes = Vec::new();
    field.slopes(&points, &mut slopes);
    out.clear();
    let normal = |g: DVec3| g.normalize_or(DVec3::Z);
    out.extend(t.iter().zip(slopes).map(|(t, (_, g))| Met { t: *t, normal: normal(g) }));
}

/// As [`GridField::project`], by Newton's method. `middle` is the value below which a place may
/// belong to either side of a thin member: there the outer corner tells.
pub(crate) fn project(
    field: &dyn GridField,
    grid: &Grid,
    middle: impl Fn(DVec3) -> f64,
    row: &mut RowPoints,
) {
    let step = grid.step;
    let corners: Vec<DVec3> = (0..row.count).map(|n| grid.at(row.i[n], row.j, row.k)).collect();
    let place = |n: usize, local: Vec3| corners[n] + local.as_dvec3() * step;
    let local = |row: &RowPoints, n: usize| Vec3::from([0, 1, 2].map(|a| row.local[a][n]));
    let mut points: Vec<DVec3> = (0..row.count).map(|n| place(n, local(row, n))).collect();
    let mut slopes = Vec::new();
    field.slopes(&points, &mut slopes);
    for n in 0..row.count {
        if slopes[n].0 < middle(points[n]) {
            let outer = Vec3::from([0, 1, 2].map(|a| (row.outside[n] >> a & 1) as f32));
            points[n] = place(n, local(row, n).lerp(outer, 0.5));
        }
    }
    for _ in 0..STEPS {
        field.slopes(&points, &mut slopes);
        for (p, (v, g)) in points.iter_mut().zip(&slopes) {
            *p -= *g * (v / g.length_squared().max(0.05));
        }
    }
    for (n, p) in points.into_iter().enumerate() {
        let local = ((p - corners[n]) / step).as_vec3();
        (0..3).for_each(|a| row.local[a][n] = local[a]);
    }
}
