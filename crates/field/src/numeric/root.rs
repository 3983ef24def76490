//! The place where a function changes its sign.

/// The place in [0, 1] where a function is zero that has values `fa` at 0 and `fb` at 1 of
/// different sign (Illinois method, Dowell and Jarratt 1971).
pub fn root(f: impl Fn(f64) -> f64, fa: f64, fb: f64) -> f64 {
    root_within(f, fa, fb, 1e-7)
}

/// A root as by [`root`], where a value no larger than `enough` is as good as zero.
pub fn root_within(f: impl Fn(f64) -> f64, fa: f64, fb: f64, enough: f64) -> f64 {
    let (mut a, mut b, mut fa, mut fb) = (0.0, 1.0, fa, fb);
    for _ in 0..16 {
        let t = (a * fb - b * fa) / (fb - fa);
        let v = f(t);
        if v.abs() < enough || b - a < 1e-7 {
            return t;
        }
        if (v < 0.0) == (fb < 0.0) {
            (b, fb) = (t, v);
            fa *= 0.5;
        } else {
            (a, fa) = (t, v);
            fb *= 0.5;
        }
    }
    0.5 * (a + b)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_sign_changes_at_the_root(at in 0.01..0.99f64, steep in 0.2..30.0f64, bent in 0.0..3.0f64) {
            let f = |t: f64| steep * (t - at) * (1.0 + bent * (t - at) * (t - at));
            let found = root(f, f(0.0), f(1.0));
            prop_assert!((found - at).abs() < 1e-6, "{} for {}", found, at);
            let near = root_within(f, f(0.0), f(1.0), 0.1);
            prop_assert!(f(near).abs() < 0.1);
        }
    }
}
