//! What a run leaves and what it will take, for whoever judges, reports or draws it.

mod linked;
mod prediction;
mod solid;

pub use linked::{Filled, Linked, LostFaces};
pub use prediction::{Prediction, StageCost};
pub use solid::{Apart, Crumbs, Removed, Solid, LISTED};
