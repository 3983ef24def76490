//! Small computations that several rooms need, each once.

mod low_discrepancy;
mod median;
mod random;
mod root;
pub mod trig;

pub use low_discrepancy::{low_discrepancy, low_discrepancy_flat, low_discrepancy_in};
pub use median::median;
pub use random::Random;
pub use root::{root, root_within};
