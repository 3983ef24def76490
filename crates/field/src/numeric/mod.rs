//! Small computations that several rooms need, each once.

mod cubic;
mod integral;
mod low_discrepancy;
mod median;
mod random;
mod root;
pub mod trig;

pub use cubic::cubic;
pub use integral::integral;
pub use low_discrepancy::{low_discrepancy, low_discrepancy_flat, low_discrepancy_in};
pub use median::median;
pub use random::Random;
pub use root::{root, root_within};
