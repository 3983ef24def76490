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
//! | [`sample`], [`point_location`] | signs of the part on a grid; on which side of it many places lie |
//! | [`grading`], [`spread`] | gradings of a recipe as fields in the part; how the numbers of their sources are spread over it |
//! | [`solids`], [`zoned`] | regions of zones and skins; what they make of every sample |
//!
//! ```
//! use glam::DVec3;
//! use ulmix_mesh::TriMesh;
//! use ulmix_part::Part;
//!
//! let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 20.0, 10.0)))?;
//! assert!(part.facts.closed);
//! assert!((part.facts.volume_mm3 - 6000.0).abs() < 1e-6);
//! assert_eq!(part.faces().list.len(), 6);
//! assert!((part.distance.value(DVec3::new(15.0, 10.0, 4.0)) + 4.0).abs() < 1e-9);
//! # Ok::<(), ulmix_part::PartError>(())
//! ```

pub mod bodies;
pub mod builder;
pub mod chords;
pub mod demo;
mod error;
pub mod exit;
pub mod grading;
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
pub mod spread;
mod told;
pub mod triangles;
pub mod welded;
mod whole;
pub mod zoned;

pub use error::PartError;
pub use part::{mark, stem, Part, PartFacts};
pub use whole::Whole;
