//! Checks of a mesh, and what is wrong with a part, with figures and places. Lengths are
//! millimetres.
//!
//! ```
//! use ulmix_check::{checks, Verdict};
//! use ulmix_mesh::TriMesh;
//!
//! let mut cube = TriMesh::cuboid(glam::DVec3::ZERO, glam::DVec3::splat(20.0));
//! assert!(checks(&cube, Some(1)).iter().all(|c| c.verdict == Verdict::Pass));
//!
//! cube.triangles.pop();
//! let failed = checks(&cube, Some(1)).into_iter().find(|c| c.verdict == Verdict::Fail);
//! assert_eq!(failed.expect("a hole").figure, "3 open edges");
//! ```

mod checks;
pub mod health;

pub use checks::{
    checks, checks_given, counted, crossing_within, pass_or, worst, Check, CheckGroup, Summary,
    Verdict,
};
