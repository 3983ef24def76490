//! Points spread evenly without a grid, which repeat.

use glam::DVec3;

/// Additive recurrence on the plastic number's 3-D kin (Roberts 2018): even, repeatable points in
/// the unit cube.
pub fn low_discrepancy(i: u64) -> DVec3 {
    const G: f64 = 1.220_744_084_605_759_5;
    let n = i as f64;
    DVec3::new(n / G, n / (G * G), n / (G * G * G)).fract()
}

/// Point `i` of an even sequence in the unit square: two coordinates of points in space are not
/// even.
pub fn low_discrepancy_flat(i: u64) -> DVec3 {
    const G: f64 = 1.324_717_957_244_746;
    let n = i as f64;
    DVec3::new(n / G, n / (G * G), 0.0).fract()
}

/// Point `i` of an even sequence in a triangle: a point of the square, of which one half is folded
/// onto the other.
pub fn low_discrepancy_in(i: u64, [a, b, c]: [DVec3; 3]) -> DVec3 {
    let [mut u, mut v, _] = low_discrepancy(i).to_array();
    if u + v > 1.0 {
        (u, v) = (1.0 - u, 1.0 - v);
    }
    a + (b - a) * u + (c - a) * v
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn boxes_hold_their_share_of_points_far_better_than_by_chance() {
        const COUNT: u64 = 8000;
        for (axes, sides, of) in
            [(3, 10, low_discrepancy as fn(u64) -> DVec3), (2, 30, low_discrepancy_flat)]
        {
            let mut held = vec![0.0; sides * sides * sides];
            for p in (1..=COUNT).map(of) {
                let [x, y, z] = p.to_array().map(|v| (v * sides as f64) as usize);
                held[(z * sides + y) * sides + x] += 1.0;
            }
            let boxes = sides.pow(axes);
            // By chance the variance is the mean.
            let mean = COUNT as f64 / boxes as f64;
            let variance =
                held[..boxes].iter().map(|n| (n - mean) * (n - mean)).sum::<f64>() / boxes as f64;
            assert!(variance < 0.4 * mean, "{axes}: {variance} of {mean}");
        }
    }

    #[test]
    fn points_of_a_triangle_lie_in_it_about_its_middle() {
        let corners =
            [DVec3::new(1.0, 0.0, 2.0), DVec3::new(5.0, 1.0, 2.0), DVec3::new(2.0, 4.0, 3.0)];
        let [a, b, c] = corners;
        let area = |a: DVec3, b: DVec3, c: DVec3| 0.5 * (b - a).cross(c - a).length();
        let points: Vec<DVec3> = (1..5000).map(|i| low_discrepancy_in(i, corners)).collect();
        let whole = area(a, b, c);
        assert!(points
            .iter()
            .all(|p| (area(*p, a, b) + area(*p, b, c) + area(*p, c, a) - whole).abs() < 1e-9));
        let middle = points.iter().sum::<DVec3>() / points.len() as f64;
        assert!(middle.distance((a + b + c) / 3.0) < 0.03, "{middle}");
    }
}
