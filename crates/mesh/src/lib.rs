//! Triangle meshes and exact questions about them.
//!
//! Everything here is geometry alone: no file formats, no recipe, no clock. Lengths carry
//! whatever unit the caller uses; Ulmix uses millimetres throughout.
//!
//! | module | idea |
//! |---|---|
//! | [`trimesh`] | the indexed mesh, its bounds, area and volume |
//! | [`weld`] | one index per distinct position |
//! | [`groups`] | numbered items by numbered groups |
//! | [`parallel`] | lists worked on side by side |
//! | [`parted`] | a list filled from several threads |
//! | [`half_edges`] | half-edges of triangles, by edge |
//! | [`topology`] | edges, fans, components: is it closed, manifold, one body? |
//! | [`orient`] | consistent, outward winding for parts with flipped faces |
//! | [`holes`] | holes found and closed |
//! | [`bvh`] | box tree over the triangles: nearest point, segment crossings, overlaps |
//! | [`point_grid`] | points in bins: the nearest ones, those within a distance |
//! | [`bins`] | triangles of about one size by their boxes |
//! | [`distance`] | signed distance with an inside even for slightly broken parts |
//! | [`faces`] | triangles that belong together, and what they are |
//! | [`edge_loops`] | closed loops of edges around a face |
//! | [`crossing`] | self-crossing triangles, with exact predicates |
//! | [`untangle`] | meshes as files hold them, and the few triangles that cross there |
//! | [`thickness`] | wall thickness by the shrinking ball |
//! | [`thumbnail`] | a small picture of a mesh |
//! | [`reduce`] | fewer triangles within an error bound, still closed and manifold |
//! | [`remesh`] | triangles of one size, sharp edges and rims kept |
//! | [`smooth`] | short waves damped, the volume kept |
//! | [`shell`] | a sheet given thickness |
//! | [`shading`] | normals for drawing, split at creases |
//!
//! ```
//! use ulmix_mesh::{Topology, TriMesh};
//!
//! let ball = TriMesh::sphere(10.0, 5);
//! let whole = 4.0 / 3.0 * std::f64::consts::PI * 1000.0;
//! assert!((ball.volume() / whole - 1.0).abs() < 0.01);
//! assert!(Topology::of(&ball).closed());
//! ```

pub mod bins;
pub mod bvh;
pub mod crossing;
pub mod distance;
pub mod edge_loops;
pub mod faces;
pub mod groups;
pub mod half_edges;
pub mod holes;
pub mod nearby;
pub mod nested;
pub mod orient;
pub mod parallel;
pub mod parted;
pub mod point_grid;
pub mod reduce;
pub mod remesh;
pub mod shading;
pub mod shell;
pub mod smooth;
pub mod thickness;
pub mod thumbnail;
pub mod topology;
pub mod trimesh;
pub mod untangle;
pub mod weld;

pub use bvh::Bvh;
pub use distance::SignedDistance;
pub use point_grid::PointGrid;
pub use topology::Topology;
pub use trimesh::{Bounds, TriMesh};
