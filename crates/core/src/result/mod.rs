//! What a run leaves and what it will take, for whoever judges, reports or draws it.

mod cost;
mod linked;
mod solid;

pub use cost::{Cost, StageCost};
pub use linked::{Filled, Linked, LostFaces, LostSource};
pub use solid::{Apart, Crumbs, FinishedMesh, Removed, LISTED};
