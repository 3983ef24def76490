//! Numbers and fields on grids: the same bits on every machine. Nothing here knows a recipe.
//! Lengths are millimetres.
//!
//! | module | idea |
//! |---|---|
//! | [`numeric`] | sine and cosine, random numbers, even points, the middle of values |
//! | [`grid`] | the sampled box, and a bit for each of its samples |
//! | [`scalar`] | values that change from place to place: sources, curves, samples |
//! | [`polygonise`] | signs on a grid and exact crossings to a closed mesh |
//! | [`occlusion`] | shade in the crevices of a picture |
//!
//! ```
//! use glam::DVec3;
//! use ulmix_field::grid::{Bits, Grid};
//! use ulmix_mesh::Bounds;
//!
//! // The volume of a ball, from the samples that lie in it. mm³.
//! let ball = Bounds { min: DVec3::splat(-9.0), max: DVec3::splat(9.0) };
//! let grid = Grid::covering(&ball, 0.5);
//! let mut inside = Bits::new(&grid);
//! for k in 0..grid.size.z {
//!     for j in 0..grid.size.y {
//!         for i in (0..grid.size.x).filter(|i| grid.at(*i, j, k).length() < 9.0) {
//!             inside.set(i, j, k);
//!         }
//!     }
//! }
//! let volume = inside.count() as f64 * grid.step.powi(3);
//! assert!((volume / 3053.6 - 1.0).abs() < 0.01);
//! ```

pub mod grid;
pub mod numeric;
pub mod occlusion;
pub mod polygonise;
pub mod scalar;
