//! How the values of several sources become one.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How the values of several sources become one. All rules are continuous in the values.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SourceRule {
    /// The least of the values times their weights.
    #[default]
    Least,
    /// The greatest of the values times their weights.
    Greatest,
    /// The mean by weight; 0 where all weights are 0.
    Mean,
    /// The product of the values times their weights.
    Product,
    /// The sum of the values times their weights.
    Sum,
}

impl SourceRule {
    /// One value of several, given as weight and value. Without any it is what changes nothing: 1
    /// for a product, else 0.
    pub fn of(self, parts: impl IntoIterator<Item = (f64, f64)>) -> f64 {
        let parts = parts.into_iter();
        match self {
            SourceRule::Least => parts.map(|(w, v)| w * v).reduce(f64::min).unwrap_or(0.0),
            SourceRule::Greatest => parts.map(|(w, v)| w * v).reduce(f64::max).unwrap_or(0.0),
            SourceRule::Mean => {
                let (sum, weights) = parts.fold((0.0, 0.0), |(s, ws), (w, v)| (s + w * v, ws + w));
                if weights > 0.0 {
                    sum / weights
                } else {
                    0.0
                }
            }
            SourceRule::Product => parts.map(|(w, v)| w * v).product(),
            SourceRule::Sum => parts.map(|(w, v)| w * v).sum(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_rule_makes_of_two_values_what_its_name_says() {
        let of = |rule: SourceRule| rule.of([(1.0, 4.0), (0.5, 6.0)]);
        assert_eq!(of(SourceRule::Least), 3.0);
        assert_eq!(of(SourceRule::Greatest), 4.0);
        assert!((of(SourceRule::Mean) - 7.0 / 1.5).abs() < 1e-12);
        assert_eq!(of(SourceRule::Product), 12.0);
        assert_eq!(of(SourceRule::Sum), 7.0);
        assert_eq!((SourceRule::Mean.of([(0.0, 5.0)]), SourceRule::Least.of([])), (0.0, 0.0));
        assert_eq!(SourceRule::Product.of([]), 1.0);
    }
}
