//! A run with a clock: how long its stages take, how much memory it may use, and its results as
//! bytes. The server and the command line both work through it.
//!
//! | module | idea |
//! |---|---|
//! | [`stopwatch`] | times of stages |
//! | [`memory`] | memory that runs may use and that is kept between them |
//! | [`picture`] | meshes for the view, as GLB |
//! | [`faces`] | the faces of a part to be picked, as GLB |
//! | [`packed`] | meshes, struts, points and distances as plain numbers |
//! | [`locked`] | locks that outlive a panic |
//!
//! ```
//! use ulmix_mesh::TriMesh;
//! use ulmix_runner::packed::{pack, unpack};
//!
//! let cube = TriMesh::cuboid(glam::DVec3::ZERO, glam::DVec3::ONE);
//! assert_eq!(unpack(&pack(&cube)), Some(cube));
//! ```

pub mod faces;
pub mod locked;
pub mod memory;
pub mod packed;
pub mod picture;
pub mod stopwatch;
