//! The function whose differences come nearest to given ones.

use std::f64::consts::PI;

/// Values on a grid, x first, whose differences between neighbours along the axes come nearest to
/// the `wanted` ones in the least squares. Differences along each axis count by a weight above 0. The
/// values' mean is 0.
///
/// `wanted[axis]` holds, for each place of the grid, the difference from there to its neighbour
/// along that axis; what stands at an axis' last places has no neighbour and does not count.
///
/// The normal equations are Poisson's equation with free borders, which the cosine transform solves
/// at once (Hockney 1965).
///
/// # Panics
/// When a list is not as long as the grid has places.
pub fn integral(size: [usize; 3], wanted: [&[f64]; 3], weights: [f64; 3]) -> Vec<f64> {
    let strides = [1, size[0], size[0] * size[1]];
    let count = size.iter().product::<usize>();
    let mut values = vec![0.0; count];
    for axis in 0..3 {
        assert_eq!(wanted[axis].len(), count);
        let stride = strides[axis];
        for n in (0..count).filter(|n| n / stride % size[axis] + 1 < size[axis]) {
            values[n] -= weights[axis] * wanted[axis][n];
            values[n + stride] += weights[axis] * wanted[axis][n];
        }
    }
    let bases = size.map(cosines);
    for axis in 0..3 {
        values = along(&values, size, axis, |to, from| bases[axis][to * size[axis] + from]);
    }
    // What the sum of second differences makes of each wave.
    let bend = |n: usize, k: usize| 2.0 - 2.0 * (PI * k as f64 / n as f64).cos();
    let bends = size.map(|n| (0..n).map(|k| bend(n, k)).collect::<Vec<f64>>());
    for (n, value) in values.iter_mut().enumerate() {
        let of_axis = |axis: usize| weights[axis] * bends[axis][n / strides[axis] % size[axis]];
        let bend = of_axis(0) + of_axis(1) + of_axis(2);
        *value = if n == 0 { 0.0 } else { *value / bend };
    }
    for axis in 0..3 {
        values = along(&values, size, axis, |to, from| bases[axis][from * size[axis] + to]);
    }
    values
}

/// An orthonormal base of cosines on `n` places: by wave, then by place.
fn cosines(n: usize) -> Vec<f64> {
    let wave = |k: usize, at: usize| {
        let size = if k == 0 { 1.0 } else { 2f64.sqrt() } / (n as f64).sqrt();
        size * (PI * k as f64 * (at as f64 + 0.5) / n as f64).cos()
    };
    (0..n * n).map(|i| wave(i / n, i % n)).collect()
}

/// Every line of values along an axis times a square matrix.
fn along(
    values: &[f64],
    size: [usize; 3],
    axis: usize,
    matrix: impl Fn(usize, usize) -> f64,
) -> Vec<f64> {
    let stride: usize = size[..axis].iter().product();
    let n = size[axis];
    let mut out = vec![0.0; values.len()];
    for (from, to) in values.chunks(stride * n).zip(out.chunks_mut(stride * n)) {
        for (k, to) in to.chunks_mut(stride).enumerate() {
            for (j, from) in from.chunks(stride).enumerate() {
                let weight = matrix(k, j);
                to.iter_mut().zip(from).for_each(|(to, from)| *to += weight * from);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numeric::Random;
    use proptest::prelude::*;

    /// Differences of values on a grid to the next place along each axis; 0 at the last.
    fn differences(size: [usize; 3], values: &[f64]) -> [Vec<f64>; 3] {
        [0, 1, 2].map(|axis| {
            let stride: usize = size[..axis].iter().product();
            let inner = |n: usize| n / stride % size[axis] + 1 < size[axis];
            (0..values.len())
                .map(|n| if inner(n) { values[n + stride] - values[n] } else { 0.0 })
                .collect()
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn differences_give_their_function_back(size in proptest::array::uniform3(1usize..9), seed in 0..1000u32) {
            let mut random = Random::new(seed, 0);
            let mut values: Vec<f64> = (0..size.iter().product()).map(|_| random.unit() - 0.5).collect();
            let mean = values.iter().sum::<f64>() / values.len() as f64;
            values.iter_mut().for_each(|v| *v -= mean);
            let wanted = differences(size, &values);
            let found = integral(size, [&wanted[0], &wanted[1], &wanted[2]], [1.0, 0.3, 2.0]);
            for (a, b) in found.iter().zip(&values) {
                prop_assert!((a - b).abs() < 1e-9, "{} {}", a, b);
            }
        }

        #[test]
        fn no_other_function_comes_nearer(size in proptest::array::uniform3(2usize..7), seed in 0..1000u32) {
            let mut random = Random::new(seed, 0);
            let count = size.iter().product::<usize>();
            let mut some = || (0..count).map(|_| random.unit() - 0.5).collect::<Vec<f64>>();
            let wanted = [some(), some(), some()];
            let other = some();
            let off = |values: &[f64], weights: [f64; 3]| -> f64 {
                let found = differences(size, values);
                (0..3).flat_map(|axis| {
                    let stride: usize = size[..axis].iter().product();
                    let (found, wanted) = (&found[axis], &wanted[axis]);
                    (0..count)
                        .filter(move |n| n / stride % size[axis] + 1 < size[axis])
                        .map(move |n| weights[axis] * (found[n] - wanted[n]).powi(2))
                }).sum()
            };
            let weights = [0.2, 1.0, 0.7];
            let found = integral(size, [&wanted[0], &wanted[1], &wanted[2]], weights);
            for step in [0.1, -0.1, 1e-3] {
                let beside: Vec<f64> = found.iter().zip(&other).map(|(a, b)| a + step * b).collect();
                prop_assert!(off(&beside, weights) >= off(&found, weights) - 1e-12);
            }
        }
    }
}
