//! What fills a zone: structures before and after they are given thickness.
//!
//! | module | idea |
//! |---|---|
//! | [`level`], [`surface`], [`grid_field`] | periodic surfaces: level functions; true thickness; in bulk |
//! | [`foam`] | a random sheet that meets the part's surface at a right angle |
//! | [`skeleton`] | struts as a graph of nodes and edges |
//! | [`trim`], [`clean`] | raw nets cut off at the part's surface; what they have too much of |
//! | `strands` | struts that run on through nodes as curves |
//! | [`mod@unit`], [`own_cell`] | the tables of strut cells and of patterns across walls; drawn cells |
//! | `opening`, `passage` | the largest ball that passes through a structure; the narrowest place on the widest way |
//! | `mesh_cell`, [`from_mesh`] | a cell given as a solid; such cells from files |
//! | [`meeting`] | how the struts of a cell meet across its sides |
//! | [`seeds`], `spacing`, [`region`], [`sizes`] | seed points; that keep a distance; where they may lie; cells of other sizes from place to place |
//! | [`relaxing`] | seed points moved to the middles of their cells |
//! | [`voronoi`], [`outer`] | their Voronoi cells; where those meet the surface |
//! | [`course`], [`axes`] | rows of cells that bend; axes taken from a face of the part |
//! | [`graded`], `levels`, `batches` | thickness that changes from place to place; told from a structure's measure; asked many places at a time |
//! | [`cell_map`], `mapped_cells` | where cells that repeat lie when their size changes; surfaces, struts and walls led through that |
//! | [`ties`] | struts that join two structures over the border between their zones |
//! | [`members`], `bars`, [`index`] | round struts and cell walls, and struts with flat sides, as fields; found through bins of space |
//! | [`net`] | both as structures, and on a grid |
//! | [`density`] | thickness and relative density, one from the other |
//! | `bending` | how the surface of a lattice bends |
//! | `elimination` | even points, chosen from a crowd |
//! | [`make`], [`site`] | the structure of a recipe in a part; what it is made in |
//!
//! ```
//! use glam::DVec3;
//! use ulmix_lattice::make;
//! use ulmix_mesh::TriMesh;
//! use ulmix_part::Part;
//! use ulmix_recipe::{Joins, Kind, Structure, SurfaceKind};
//!
//! let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(40.0)))?;
//! let kind = Kind::Surface(SurfaceKind::Gyroid);
//! let structure = Structure { cell_mm: [10.0; 3], ..Structure::of_kind(kind) };
//! let bare = make::structure(&part, &structure, Joins::default(), &|| false).expect("not cancelled");
//! // A gyroid of 10 mm cells has walls of 1 mm where its field is not positive: 31 % of the space.
//! let walls = bare.thicken(1.0);
//! let places = (0..20_000).map(|n| ulmix_field::numeric::low_discrepancy(n) * 40.0);
//! let held = places.filter(|p| walls.value(*p) < 0.0).count();
//! assert!((held as f64 / 20_000.0 - 0.31).abs() < 0.02, "{held}");
//! # Ok::<(), ulmix_part::PartError>(())
//! ```

pub mod axes;
mod bars;
mod batches;
mod bending;
pub mod cell_map;
pub mod clean;
pub mod course;
pub mod density;
mod elimination;
pub mod foam;
pub mod from_mesh;
pub mod graded;
pub mod grid_field;
pub mod index;
pub mod level;
mod levels;
pub mod make;
mod mapped_cells;
pub mod meeting;
pub mod members;
mod mesh_cell;
pub mod net;
mod opening;
pub mod outer;
pub mod own_cell;
mod passage;
pub mod region;
pub mod relaxing;
pub mod seeds;
pub mod site;
pub mod sizes;
pub mod skeleton;
mod spacing;
mod strands;
pub mod surface;
pub mod thumbnail;
pub mod ties;
pub mod trim;
pub mod unit;
pub mod voronoi;

use glam::DVec3;
use serde::{Deserialize, Serialize};
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::numeric::root;
use ulmix_field::polygonise::RowPoints;
use utoipa::ToSchema;

/// A structure before it is given thickness.
pub trait BareStructure: Send + Sync {
    /// Grows with the distance from the structure: at a thickness there is material where it lies
    /// below [`level`](BareStructure::level). mm.
    fn measure(&self, p: DVec3) -> f64;

    /// Value of [`measure`](BareStructure::measure) at the border of a structure of this thickness. mm.
    fn level(&self, thickness: f64) -> f64;

    /// Points spread evenly over one whole cell; none when no two cells are alike.
    fn cell_points(&self) -> Vec<DVec3> {
        Vec::new()
    }

    /// Size of its cells where they are smallest. mm.
    fn cell(&self) -> f64;

    /// Free width at the narrowest place of its openings, about. mm.
    fn opening(&self, thickness: f64) -> f64;

    /// `thickness` of walls, or of struts at their narrowest. mm.
    fn thicken(&self, thickness: f64) -> Box<dyn Lattice>;

    /// The thickness that counts whatever the step of a recipe sets; `None` where that counts. mm.
    fn fixed_thickness(&self) -> Option<f64> {
        None
    }

    /// Thickness at a place where the step sets `thickness`; 0 where nothing is. mm.
    fn thickness_at(&self, _p: DVec3, thickness: f64) -> f64 {
        thickness
    }

    /// Least and greatest thickness of members where the step sets `thickness`. mm.
    fn thickness_range(&self, thickness: f64) -> [f64; 2] {
        [thickness; 2]
    }

    /// What is known of its struts or cells.
    fn facts(&self) -> Option<&Facts> {
        None
    }

    /// How the thickness of its members is told from a mesh.
    fn gauge(&self) -> Gauge {
        Gauge::Across
    }

    /// The place near `p` at which a member of a thickness is measured, where
    /// [`gauge`](Self::gauge) asks for one.
    fn station(&self, _p: DVec3, _thickness: f64) -> Option<Station> {
        None
    }

    /// The structure's struts; `None` for what is not made of struts that are listed one by one.
    fn struts(&self) -> Option<&skeleton::Skeleton> {
        None
    }

    /// Memory held.
    fn bytes(&self) -> usize;
}

/// How the thickness of a structure's members is told from a mesh.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gauge {
    /// Straight through a wall, from one side to the other.
    Across,
    /// From the axes of struts outward, at a [`Station`].
    Stations,
    /// By the largest balls that touch the surface from inside.
    Balls,
}

/// A place on a strut's axis, and how far its border is to be in some directions across the axis.
#[derive(Clone, Debug)]
pub struct Station {
    /// The nearest place of the middle of a wall or strut. mm.
    pub foot: DVec3,
    /// Unit directions, and the distance of the border in each. mm.
    pub rays: Vec<(DVec3, f64)>,
}

/// A structure with thickness: a field, negative inside and close to a distance near the border.
/// mm.
pub trait Lattice: Send + Sync {
    /// Negative inside; near the border close to a distance. mm.
    fn value(&self, p: DVec3) -> f64;

    /// Outward unit normal at a point of the border.
    fn normal(&self, p: DVec3) -> DVec3;

    /// The lattice on a grid. On coarse grids a member thinner than the step would tear: signs are
    /// taken as if the member reached `reach` mm further, and places are still on its true border.
    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a>;

    /// Has it sharp edges of its own, which single places and their normals must show?
    fn sharp(&self) -> bool {
        false
    }

    /// Do its sheets lie so far apart on a grid of this step that vertices may leave their cells
    /// and triangles still not cross?
    fn allows_overshoot(&self, step: f64) -> bool;
}

/// A lattice on a grid: the same field near its border, and many samples at a time.
pub trait GridField: Send + Sync {
    /// As [`Lattice::value`], exact within two steps of the border and of the right sign beyond.
    fn value(&self, p: DVec3) -> f64;

    /// As [`Lattice::normal`].
    fn normal(&self, p: DVec3) -> DVec3;

    /// The samples of `wanted` that lie in the lattice.
    fn signs(&self, wanted: &Bits) -> Bits;

    /// [`value`](Self::value) at many points.
    fn values(&self, points: &[DVec3], out: &mut Vec<f64>) {
        out.clear();
        out.extend(points.iter().map(|p| self.value(*p)));
    }

    /// [`value`](Self::value) and its gradient at many points; of length 1 where no members join.
    fn slopes(&self, points: &[DVec3], out: &mut Vec<(f64, DVec3)>) {
        out.clear();
        out.extend(points.iter().map(|p| (self.value(*p), self.normal(*p))));
    }

    /// Where segments meet the border, and its normal there.
    fn met(&self, segments: &[Segment], out: &mut Vec<Met>) {
        out.clear();
        out.extend(segments.iter().map(|s| {
            let t = s
                .start()
                .unwrap_or_else(|| root(|t| self.value(s.a.lerp(s.b, t)), s.ends[0], s.ends[1]));
            Met { t, normal: self.normal(s.a.lerp(s.b, t)) }
        }));
    }

    /// The samples of `of`, around which one smooth field decides, for which that still holds.
    /// `None` where it holds for all of them.
    fn smooth(&self, _of: &Bits) -> Option<Bits> {
        None
    }

    /// Moves points onto the lattice's border.
    fn project(&self, row: &mut RowPoints);
}

/// A way on which the border lies, and the field's values at its ends.
#[derive(Clone, Copy, Debug)]
pub struct Segment {
    /// Place of its beginning. mm.
    pub a: DVec3,
    /// Place of its end. mm.
    pub b: DVec3,
    /// Values of the field at both ends. mm.
    pub ends: [f64; 2],
}

impl Segment {
    /// Where the values' straight line meets zero when both are of one sign: beyond an end. Only
    /// the signs of a widened lattice change on such a way.
    fn start(&self) -> Option<f64> {
        let [a, b] = self.ends;
        ((a < 0.0) == (b < 0.0)).then(|| (-a / (b - a)).clamp(-0.9, 1.9))
    }
}

/// A place on a [`Segment`]: 0 at the first end, 1 at the second; and the border's outward unit
/// normal.
#[derive(Clone, Copy, Debug)]
pub struct Met {
    /// Share of the way at which the border is met.
    pub t: f64,
    /// Outward normal there.
    pub normal: DVec3,
}

/// Figures of a skeleton or of Voronoi cells.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Facts {
    /// Seed points inside the part; 0 for cells that repeat.
    pub seeds: usize,
    /// Seed points on its surface.
    #[serde(default)]
    #[schema(required = true)]
    pub surface_seeds: usize,
    /// Size of cells if as many points made them all alike. mm.
    #[serde(default)]
    #[schema(required = true)]
    pub alike_mm: f64,
    /// Distance of the two nearest seed points. mm.
    #[serde(default)]
    #[schema(required = true)]
    pub closest_mm: f64,
    /// Rounds in which seed points were relaxed: fewer than asked for when nothing moves any more.
    #[serde(default)]
    #[schema(required = true)]
    pub rounds: u32,
    /// How far one of them moved in the last of those rounds, at most. mm.
    #[serde(default)]
    #[schema(required = true)]
    pub moved_mm: f64,
    /// How unequal the cells are: standard deviation over mean of their volumes (areas in a plane).
    pub unevenness: f64,
    /// Nodes and struts in the part; of walls, the walls.
    pub nodes: usize,
    /// Struts of the net.
    pub struts: usize,
    /// Struts that meet at a node, in the mean.
    pub degree: f64,
    /// Length of the shortest strut. mm.
    pub shortest_mm: f64,
    /// Mean length of struts. mm.
    pub mean_mm: f64,
    /// Length of the longest strut. mm.
    pub longest_mm: f64,
    /// Struts shorter than the welding length, drawn into one node.
    pub welded: usize,
    /// Struts of small loose pieces, left out unless they are to stay.
    pub in_loose: usize,
    /// Struts that were there before, left out.
    #[serde(default)]
    #[schema(required = true)]
    pub duplicates: usize,
    /// Struts with an end inside the part at which no other begins, before anything is done about
    /// them.
    #[serde(default)]
    #[schema(required = true)]
    pub dead_ends: usize,
    /// Struts of which the part's surface left too little.
    #[serde(default)]
    #[schema(required = true)]
    pub cut_short: usize,
    /// Nodes with too many struts, drawn apart.
    #[serde(default)]
    #[schema(required = true)]
    pub drawn_apart: usize,
    /// Chains of struts that run on through their nodes, where they are curved.
    #[serde(default)]
    #[schema(required = true)]
    pub strands: usize,
    /// How long struts are before short ones are welded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lengths: Option<LengthSpread>,
    /// Connected pieces.
    #[serde(alias = "pieces")]
    pub components: usize,
    /// Cells along each direction, of rows that bend.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<[usize; 3]>,
    /// How well cells that repeat keep the sizes that a grading asks; absent for all others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sizes: Option<SizeFit>,
    /// Of a foam sheet, where it meets the part's surface.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contact: Option<Contact>,
}

/// How well cells that repeat keep the sizes that are asked at every place.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SizeFit {
    /// Smallest and largest size that is asked in the part. mm.
    pub asked_mm: [f64; 2],
    /// Smallest and largest size that cells have there, in the mean of their axes. mm.
    pub found_mm: [f64; 2],
    /// How far the size along a cell's axis is from what is asked, in 95 of 100 places. Percent.
    pub off_percent: f64,
    /// Share of the part in which it is farther from that than a tenth. Percent.
    pub beyond_percent: f64,
    /// The place where it is farthest. mm.
    pub worst_at: [f64; 3],
}

/// A histogram of struts by their length.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LengthSpread {
    /// Width of each bin, the first of which begins at 0. mm.
    pub bin_mm: f64,
    /// Struts by length, from the shortest to the longest in equal classes.
    pub counts: Vec<usize>,
    /// At the lowest bin between short struts and those that make the cells; 0 where there are no
    /// short ones. mm.
    pub suggested_weld_mm: f64,
}

/// How far a sheet is from standing upright on the part's surface.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Contact {
    /// Degrees.
    pub median_deg: f64,
    /// Share of the line where it meets the surface that is within ten degrees. Percent.
    pub within_ten_percent: f64,
}
