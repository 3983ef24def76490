//! Interpolation by cubics.

/// The first of the four of `size` samples around a place, their weights, and how fast these change
/// by the place: a cubic that meets the samples with slopes that go on from one to the next (Catmull
/// and Rom 1974). The place counts in samples; outside the second and the last but one it is that of
/// these.
///
/// # Panics
/// In builds with checks, when there are fewer than four samples.
#[inline(always)]
pub fn cubic(x: f64, size: usize) -> (usize, [f64; 4], [f64; 4]) {
    let low = x.floor().clamp(1.0, size as f64 - 3.0);
    let t = (x - low).clamp(0.0, 1.0);
    let (t2, t3) = (t * t, t * t * t);
    (
        low as usize - 1,
        [
            0.5 * (-t3 + 2.0 * t2 - t),
            0.5 * (3.0 * t3 - 5.0 * t2 + 2.0),
            0.5 * (-3.0 * t3 + 4.0 * t2 + t),
            0.5 * (t3 - t2),
        ],
        [
            0.5 * (-3.0 * t2 + 4.0 * t - 1.0),
            0.5 * (9.0 * t2 - 10.0 * t),
            0.5 * (-9.0 * t2 + 8.0 * t + 1.0),
            0.5 * (3.0 * t2 - 2.0 * t),
        ],
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn weights_share_one_and_their_slopes_none(x in 1.0..6.0f64) {
            let (first, w, d) = cubic(x, 9);
            prop_assert!((w.iter().sum::<f64>() - 1.0).abs() < 1e-12 && d.iter().sum::<f64>().abs() < 1e-12);
            let middle: f64 = w.iter().enumerate().map(|(n, w)| (first + n) as f64 * w).sum();
            prop_assert!((middle - x).abs() < 1e-12);
        }
    }

    #[test]
    fn places_beyond_the_samples_are_those_of_the_border() {
        assert_eq!(cubic(-4.0, 6), cubic(1.0, 6));
        assert_eq!(cubic(90.0, 6), cubic(4.0, 6));
    }
}
