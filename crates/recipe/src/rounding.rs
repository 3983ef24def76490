//! Short numbers, as a person would have typed them.

/// Two significant digits, for first values a person would have typed.
pub fn round_two(v: f64) -> f64 {
    two_digits(v, f64::round)
}

/// `v` to two digits, never more than `v`.
pub fn floor_two(v: f64) -> f64 {
    // What has two digits already stays, but for rounding.
    two_digits(v * (1.0 + 1e-12), f64::floor)
}

fn two_digits(v: f64, to_whole: fn(f64) -> f64) -> f64 {
    if v <= 0.0 || !v.is_finite() {
        return v;
    }
    let unit = 10f64.powf(v.log10().floor() - 1.0);
    let r = to_whole(v / unit);
    // Dividing by the inverse keeps short decimals short (0.35, not 0.35000000000000003).
    if unit < 1.0 {
        r / (1.0 / unit).round()
    } else {
        r * unit
    }
}
