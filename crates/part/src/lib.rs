//! What came in: the part, made ready, and what is known of it. Lengths are millimetres, angles
//! degrees.
//!
//! | module | idea |
//! |---|---|
//! | [`Part`], [`bodies`] | what came in, made ready, and the facts about it |
//! | [`inspect`], [`sheet`] | what a file holds, before its unit is known; is it a sheet? |
//! | [`welded`] | its points joined, before anything is mended |
//! | [`rewrap`], [`triangles`], [`moved`] | crossings resolved; other triangles; how far that moved it |
//! | `told` | what a person is told about a mesh |
//! | [`pocket`] | a hollow of the part as a body |
//! | [`chords`] | how far triangles of a size lie from its curved surface |
//! | [`demo`], [`own_shapes`], [`builder`] | the Reedling parts, shapes by their dimensions, how both are made |
//! | [`exit`], [`Whole`] | where a way leaves the part; the part alone as a shape to be meshed |
//! | [`sample`], [`sides`] | signs of the part on a grid; sides of many places |
//! | [`solids`], [`zoned`] | regions of zones and skins; what they make of every sample |

pub mod bodies;
pub mod builder;
pub mod chords;
pub mod demo;
mod error;
pub mod exit;
pub mod inspect;
pub mod moved;
mod near;
pub mod own_shapes;
mod part;
pub mod pocket;
pub mod point_location;
pub mod rewrap;
pub mod sample;
pub mod sheet;
pub mod solids;
mod told;
pub mod triangles;
pub mod welded;
mod whole;
pub mod zoned;

pub use error::PartError;
pub use part::{mark, stem, Part, PartFacts};
pub use whole::Whole;
