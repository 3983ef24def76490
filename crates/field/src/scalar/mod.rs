//! Values that change from place to place: where they come from, and how they follow from that.
//!
//! | module | idea |
//! |---|---|
//! | `curve` | a value that follows from another one: straight or smooth, never beyond its points |
//! | `points` | values at chosen places, met exactly, blended between |
//! | `scattered` | numbers at many places, blended among the nearest |
//! | `measures` | how far a place lies along a direction, about an axis, or from a line |
//! | `sampled` | a field that is dear to ask, held on a coarse grid |
//!
//! ```
//! use glam::DVec3;
//! use ulmix_field::scalar::{AlongDirection, Curve, ScalarField};
//!
//! // Walls of 2.4 mm at the ground that fall to 0.8 mm over the first 30 mm of height.
//! let height = AlongDirection::new(DVec3::ZERO, DVec3::Z);
//! let thickness = Curve::new(&[[0.0, 2.4], [30.0, 0.8]], false);
//! let at = |z: f64| thickness.at(height.value(DVec3::new(5.0, 5.0, z)));
//! assert_eq!([at(-3.0), at(15.0), at(70.0)].map(|v| (v * 10.0).round()), [24.0, 16.0, 8.0]);
//! ```

mod curve;
mod measures;
mod points;
mod sampled;
mod scattered;

pub use curve::Curve;
pub use measures::{AboutAxis, AlongDirection, FromLine};
pub use points::PointValues;
pub use sampled::Sampled;
pub use scattered::ScatteredNumbers;

use glam::DVec3;

/// A number at every place, continuous in the place.
pub trait ScalarField: Send + Sync {
    /// The number at a place in mm.
    fn value(&self, p: DVec3) -> f64;
}

impl<F: Fn(DVec3) -> f64 + Send + Sync> ScalarField for F {
    fn value(&self, p: DVec3) -> f64 {
        self(p)
    }
}

/// Least and greatest of some values; zeros without any.
fn range(values: impl Iterator<Item = f64> + Clone) -> [f64; 2] {
    let (least, most) = (values.clone().reduce(f64::min), values.reduce(f64::max));
    [least, most].map(|v| v.unwrap_or(0.0))
}
