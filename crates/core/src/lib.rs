//! The job of Ulmix: a part and a recipe become a lighter, closed, printable mesh.
//!
//! No interface, no database and no clock here: functions take data, a watcher with a cancel
//! question, and give data or a typed error. Lengths are millimetres, angles degrees.
//!
//! | module | idea |
//! |---|---|
//! | [`note`], `graded_notes` | something that a person should know; of gradings |
//! | [`compose`] | part, zones, skins and lattice as one field; several structures, each in its zone |
//! | [`watch`] | the stages of a run, and whoever watches them |
//! | [`result`] | what a run leaves and what it will take |
//! | [`asked`] | the result held against the request |
//! | [`report`] | numbers, checks and notes of a finished mesh |
//! | [`export`], [`stand`] | files, read again before they are offered; how they stand on the printer's bed |
//! | `stages` | the stages of a run, one a file, each with all that it may see |
//! | [`pipeline`] | the stages in order, cached |
//! | [`error`] | why a run has no result |
//!
//! ```
//! use glam::DVec3;
//! use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
//! use ulmix_mesh::{Topology, TriMesh};
//! use ulmix_part::Part;
//! use ulmix_recipe::{Recipe, Thicken};
//!
//! let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
//! let mut recipe = Recipe::for_part(&part.mesh.bounds());
//! recipe.structure.cell_mm = [8.0; 3];
//! recipe.thicken = Thicken::RelativeDensity { percent: 30.0 };
//! let made = Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched)?;
//! assert!(Topology::of(&made.solid.mesh).closed());
//! assert!((made.report.fill_density_percent - 30.0).abs() < 1.0);
//! # Ok::<(), ulmix_core::pipeline::RunError>(())
//! ```

pub mod asked;
pub mod compose;
pub mod error;
pub mod export;
mod graded_notes;
pub mod note;
pub mod pipeline;
pub mod report;
pub mod result;
mod stages;
pub mod stand;
pub mod watch;
