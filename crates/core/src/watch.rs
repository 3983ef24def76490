//! The stages of a run, and whoever watches them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How fine a mesh is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Quality {
    /// The coarsest grid, while a value moves.
    Drag,
    /// A finer one, for looking once it rests.
    Draft,
    /// The mesh that is exported.
    Final,
}

/// A stage of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Stage {
    /// Signs of the part and its zones on the grid.
    Zones,
    /// Seed points, cells, struts: the structure before it is given thickness.
    Skeleton,
    /// Thickness and relative density, one from the other.
    Thickness,
    /// Signs of the composed shape.
    Lattice,
    /// The closed mesh, reduced where it is the final one.
    Surface,
    /// Crumbs removed, rounded.
    Finish,
    /// Numbers and checks.
    Report,
}

impl Stage {
    /// In the order in which they come.
    pub const ALL: [Stage; 7] = [
        Stage::Skeleton,
        Stage::Thickness,
        Stage::Zones,
        Stage::Lattice,
        Stage::Surface,
        Stage::Finish,
        Stage::Report,
    ];
}

/// What watches a run. The core has no clock: times are the watcher's to take.
pub trait Watch: Sync {
    /// A stage begins.
    fn begin(&self, _stage: Stage) {}
    /// `cached`: answered without work.
    fn end(&self, _stage: Stage, _cached: bool) {}
    /// Is the run to end?
    fn cancelled(&self) -> bool {
        false
    }
    /// Told within a stage when much memory has just become free.
    fn freed(&self) {}
    /// Told after every round of relaxing seed points. True when it is passed on: that state will
    /// then be kept.
    fn relaxing(&self, _done: u32, _of: u32) -> bool {
        false
    }
}

/// Watches nothing.
pub struct Unwatched;
impl Watch for Unwatched {}
