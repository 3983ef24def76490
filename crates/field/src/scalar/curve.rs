//! A value that follows from another one by points of a curve.

use super::range;

/// A curve through points, constant before the first and after the last. Straight from point to
/// point, or smooth: a cubic between neighbours that rises or falls as they do and never passes
/// beyond them (Fritsch & Carlson 1980), level at both ends.
#[derive(Clone, Debug, PartialEq)]
pub struct Curve {
    /// Places of the points and their values, by place.
    points: Vec<[f64; 2]>,
    /// Slope of a smooth curve at each point; empty for a straight one.
    slopes: Vec<f64>,
}

impl Curve {
    /// The curve through points as place and value. Points are taken in the order of their places;
    /// of several at one place the last counts. Without points the curve is 0 everywhere.
    pub fn new(points: &[[f64; 2]], smooth: bool) -> Curve {
        let mut sorted: Vec<[f64; 2]> = points.to_vec();
        sorted.sort_by(|a, b| a[0].total_cmp(&b[0]));
        let mut points: Vec<[f64; 2]> = Vec::with_capacity(sorted.len());
        for p in sorted {
            match points.last_mut() {
                Some(last) if last[0] == p[0] => *last = p,
                _ => points.push(p),
            }
        }
        let slopes = if smooth { slopes(&points) } else { Vec::new() };
        Curve { points, slopes }
    }

    /// The curve's value at a place.
    #[inline]
    pub fn at(&self, x: f64) -> f64 {
        let n = self.points.partition_point(|p| p[0] <= x);
        let Some([b_x, b]) = self.points.get(n) else {
            return self.points.last().map_or(0.0, |p| p[1]);
        };
        let Some([a_x, a]) = n.checked_sub(1).map(|n| self.points[n]) else { return *b };
        let wide = b_x - a_x;
        let t = (x - a_x) / wide;
        if self.slopes.is_empty() {
            return a + (b - a) * t;
        }
        let (from, to) = (self.slopes[n - 1] * wide, self.slopes[n] * wide);
        // Hermite's form, from the value at the left end on.
        a + t * (from + t * (3.0 * (b - a) - 2.0 * from - to + t * (from + to - 2.0 * (b - a))))
    }

    /// Least and greatest value.
    pub fn range(&self) -> [f64; 2] {
        range(self.points.iter().map(|p| p[1]))
    }

    /// Greatest change of the value over a unit of the place.
    pub fn steepest(&self) -> f64 {
        // A monotone cubic is at most half again as steep as the straight line.
        let more = if self.slopes.is_empty() { 1.0 } else { 1.5 };
        self.points
            .windows(2)
            .map(|w| more * ((w[1][1] - w[0][1]) / (w[1][0] - w[0][0])).abs())
            .fold(0.0, f64::max)
    }
}

/// Slopes that keep a cubic between its points.
fn slopes(points: &[[f64; 2]]) -> Vec<f64> {
    let secants: Vec<f64> =
        points.windows(2).map(|w| (w[1][1] - w[0][1]) / (w[1][0] - w[0][0])).collect();
    let inner = points.windows(3).zip(secants.windows(2)).map(|(p, s)| {
        if s[0] * s[1] <= 0.0 {
            return 0.0;
        }
        // The harmonic mean, weighted by the stretches: never more than three times the lesser
        // (Fritsch & Butland 1984).
        let (left, right) = (p[1][0] - p[0][0], p[2][0] - p[1][0]);
        let (of_left, of_right) = (2.0 * right + left, right + 2.0 * left);
        (of_left + of_right) / (of_left / s[0] + of_right / s[1])
    });
    let ends = |n: usize| std::iter::repeat_n(0.0, n.min(points.len()));
    ends(1).chain(inner).chain(ends(usize::from(points.len() > 1))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn two_points_make_a_line_or_the_smooth_step() {
        let ends = [[2.0, 10.0], [6.0, 2.0]];
        let (line, smooth) = (Curve::new(&ends, false), Curve::new(&ends, true));
        for (x, t) in [(-1.0, 0.0), (2.0, 0.0), (3.0, 0.25), (4.0, 0.5), (6.0, 1.0), (9.0, 1.0)] {
            assert!((line.at(x) - (10.0 - 8.0 * t)).abs() < 1e-12);
            assert!((smooth.at(x) - (10.0 - 8.0 * t * t * (3.0 - 2.0 * t))).abs() < 1e-12);
        }
        assert_eq!((line.steepest(), smooth.steepest()), (2.0, 3.0));
        assert_eq!((line.range(), Curve::new(&[], true).range()), ([2.0, 10.0], [0.0, 0.0]));
        assert_eq!(Curve::new(&[[3.0, 7.0]], true).at(-5.0), 7.0);
        assert_eq!(Curve::new(&[], false).at(1.0), 0.0);
        // Two at one place: the curve stays a function of the place.
        assert_eq!(Curve::new(&[[0.0, 1.0], [0.0, 2.0], [1.0, 3.0]], false).at(0.0), 2.0);
    }

    proptest! {
        #[test]
        fn a_curve_meets_its_points_and_stays_between_neighbours(
            steps in prop::collection::vec((0.01..10.0f64, -50.0..50.0f64), 1..9),
            smooth: bool,
            share in 0.0..1.0f64,
        ) {
            let mut x = -7.0;
            let points: Vec<[f64; 2]> = steps
                .iter()
                .map(|(step, v)| {
                    x += step;
                    [x, *v]
                })
                .collect();
            let curve = Curve::new(&points, smooth);
            for p in &points {
                prop_assert!((curve.at(p[0]) - p[1]).abs() < 1e-9);
            }
            let step = 1e-6;
            for w in points.windows(2) {
                let at = w[0][0] + share * (w[1][0] - w[0][0]);
                let v = curve.at(at);
                prop_assert!(v >= w[0][1].min(w[1][1]) - 1e-9 && v <= w[0][1].max(w[1][1]) + 1e-9);
                let change = (curve.at(at + step) - v).abs();
                prop_assert!(change <= curve.steepest() * step * 1.001 + 1e-9);
            }
        }
    }
}
