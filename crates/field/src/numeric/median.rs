//! The middle of some values.

/// The upper one of the two in the middle of an even number; `None` for no values.
pub fn median(mut values: Vec<f64>) -> Option<f64> {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_whatever_the_order() {
        assert_eq!(median(vec![3.0, -1.0, 7.0]), Some(3.0));
        assert_eq!(median(vec![4.0, 1.0, 2.0, 3.0]), Some(3.0));
        assert_eq!(median(Vec::new()), None);
    }
}
