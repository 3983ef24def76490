//! From signs on a grid and exact hits to a closed, 2-manifold mesh with sharp edges.
//!
//! Dual marching cubes (Nielson 2004) with one vertex per loop. Any sign pattern gives a closed
//! 2-manifold by construction: see `tables` for the one case that needs care. A vertex minimises
//! its distance to the planes at the exact hits of its own loop (Ju et al. 2002), so edges and
//! corners of the part come out sharp. `repair` then takes back the few vertices that make
//! triangles cross.
//!
//! | module | idea |
//! |---|---|
//! | `tables` | loops per sign pattern |
//! | `cells` | the cells that the surface passes, found 64 at a time, and what is asked of them |
//! | `vertex` | one vertex from the hits of a loop |
//! | `place` | the vertices of a row |
//! | `quads` | two triangles around every cut edge of a row |
//! | `slots` | lists filled row by row |
//! | `slabs` | both, a few layers at a time |
//! | `stretch` | some layers of the grid as a mesh of their own, which others continue |
//! | `words` | sets of cells and vertices as bits |
//! | `repair` | crossing triangles near creases step back |
//! | [`hold`] | points that are moved stay within the shape |

mod cells;
pub mod hold;
mod place;
mod quads;
mod repair;
mod slabs;
mod slots;
mod stretch;
mod tables;
mod vertex;
mod words;

use crate::grid::{Bits, Grid};
use glam::{DVec3, UVec3, Vec3};
pub use stretch::{polygonise_stretch, stretches, LayerStretch, LEAST_LAYERS};
use tables::LoopStart;
use ulmix_mesh::TriMesh;

/// Where the surface passes between an inside and an outside sample.
#[derive(Clone, Copy, Debug)]
pub struct EdgeCrossing {
    /// 0 at the inside sample, 1 at the outside one.
    pub t: f32,
    /// Unit, outward.
    pub normal: [f32; 3],
    /// On a face that the result must not leave.
    pub constrained: bool,
}

/// A grid edge from an inside to an outside sample.
#[derive(Clone, Copy, Debug)]
pub struct Edge {
    /// The end with material. mm.
    pub inside: DVec3,
    /// The end without. mm.
    pub outside: DVec3,
    /// Indices of the two samples.
    pub inside_at: UVec3,
    /// Number of the sample at the outer end.
    pub outside_at: UVec3,
}

/// The exact shape behind the signs.
pub trait Shape: Sync {
    /// Where the shape's border is met along edges, one hit an edge.
    fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]);
    /// Negative inside; near the border close to a distance.
    fn value(&self, p: DVec3) -> f64;
    /// Moves points onto the border of the smooth field that alone decides around them.
    fn project(&self, row: &mut RowPoints);
    /// May vertices of the smooth field leave their cells, away from anything else, and triangles
    /// still not cross? True where the field's sheets lie some steps apart.
    fn allows_overshoot(&self) -> bool {
        false
    }
    /// The nearest point that the result may reach: itself, or on the part's own surface.
    fn confine(&self, p: DVec3) -> DVec3 {
        p
    }
    /// Points of the border to pass through exactly where the grid has a vertex beside them.
    fn fixed_points(&self) -> Vec<DVec3> {
        Vec::new()
    }
}

/// Points of one row of cells along x, to be moved all at once. The lists end on whole
/// [`Self::LANES`]: what lies past [`Self::count`] repeats the last point.
#[derive(Default)]
pub struct RowPoints {
    /// Points of the row.
    pub count: usize,
    /// Of the cells' low corners.
    pub j: u32,
    /// Layer of the cells.
    pub k: u32,
    /// Column of each cell.
    pub i: Vec<u32>,
    /// Places by axis, in steps from the cell's low corner.
    pub local: [Vec<f32>; 3],
    /// A corner of the cell, as bits x, y, z, on the outer side of the border meant.
    pub outside: Vec<u8>,
}

impl RowPoints {
    /// Points are handled so many at a time.
    pub const LANES: usize = 8;

    /// Room for `count` points of a row.
    fn begin(&mut self, j: u32, k: u32, count: usize) {
        (self.j, self.k) = (j, k);
        self.count = count;
        let count = count.next_multiple_of(Self::LANES);
        self.i.resize(count, 0);
        self.local.iter_mut().for_each(|list| list.resize(count, 0.0));
        self.outside.resize(count, 0);
    }

    /// Fills the lanes past the points with the last one.
    fn pad(&mut self) {
        let Some(last) = self.count.checked_sub(1) else { return };
        for n in self.count..self.i.len() {
            self.i[n] = self.i[last];
            self.local.iter_mut().for_each(|list| list[n] = list[last]);
            self.outside[n] = self.outside[last];
        }
    }

    /// For writing where points start.
    fn starts(&mut self) -> Starts<'_> {
        let [x, y, z] = &mut self.local;
        Starts { i: &mut self.i, local: [x, y, z], outside: &mut self.outside }
    }

    /// By axis.
    fn places(&self) -> [&[f32]; 3] {
        let [x, y, z] = &self.local;
        [x, y, z]
    }

    /// Place of a point, in steps from its cell's low corner.
    pub fn local(&self, n: usize) -> Vec3 {
        Vec3::new(self.local[0][n], self.local[1][n], self.local[2][n])
    }

    /// Gives a point another place, in steps from its cell's low corner.
    pub fn put(&mut self, n: usize, local: Vec3) {
        (0..3).for_each(|axis| self.local[axis][n] = local[axis]);
    }

    /// A row of some of its points.
    pub fn some(&self, of: &[usize]) -> RowPoints {
        let mut out = RowPoints::default();
        out.begin(self.j, self.k, of.len());
        for (n, &from) in of.iter().enumerate() {
            (out.i[n], out.outside[n]) = (self.i[from], self.outside[from]);
            out.put(n, self.local(from));
        }
        out.pad();
        out
    }
}

/// The lists of [`RowPoints`].
struct Starts<'a> {
    i: &'a mut [u32],
    local: [&'a mut [f32]; 3],
    outside: &'a mut [u8],
}

impl Starts<'_> {
    #[inline(always)]
    fn set(&mut self, n: usize, i: u32, start: &LoopStart) {
        (self.i[n], self.outside[n]) = (i, start.outside);
        let [x, y, z] = start.mean;
        (self.local[0][n], self.local[1][n], self.local[2][n]) = (x, y, z);
    }
}

/// How much is done for the mesh.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Care {
    /// For looking: triangles at creases may cross, and reach past what confines them.
    Quick,
    /// Every place is looked at: for files.
    Full,
}

/// Mesh of the inside samples of `bits`, whose border samples must be outside. Cells whose eight
/// samples all lie in `smooth` are placed by [`Shape::project`], which costs far less than hits.
/// `None` when cancelled.
pub fn polygonise(
    grid: &Grid,
    bits: &Bits,
    smooth: Option<&Bits>,
    shape: &dyn Shape,
    care: Care,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<TriMesh> {
    Some(polygonise_stretch(grid, bits, smooth, shape, care, 0..bits.layers() - 1, cancelled)?.mesh)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use ulmix_mesh::{crossing::crossing_pairs, Bounds, Bvh, Topology};

    /// A shape known only by its signs: hits fall at arbitrary places.
    struct Noise;
    impl Noise {
        fn crossing(&self, e: &Edge) -> EdgeCrossing {
            let (a, b) = (e.inside, e.outside);
            let t = ((a.dot(DVec3::new(12.9, 78.2, 37.7)) + b.x).sin() * 43758.5)
                .fract()
                .abs()
                .clamp(0.05, 0.95);
            EdgeCrossing {
                t: t as f32,
                normal: (b - a).normalize().as_vec3().to_array(),
                constrained: false,
            }
        }
    }
    impl Shape for Noise {
        fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]) {
            out.iter_mut().zip(edges).for_each(|(crossing, e)| *crossing = self.crossing(e));
        }
        fn value(&self, _: DVec3) -> f64 {
            0.0
        }
        fn project(&self, _: &mut RowPoints) {}
    }

    struct Cube(f64);
    impl Cube {
        fn turned(p: DVec3) -> DVec3 {
            glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.3, 0.7, 0.2) * p
        }
        fn signed(&self, p: DVec3) -> f64 {
            Self::turned(p).abs().max_element() - self.0
        }
        fn crossing(&self, e: &Edge) -> EdgeCrossing {
            let (a, b) = (e.inside, e.outside);
            let (mut lo, mut hi) = (0.0, 1.0);
            for _ in 0..50 {
                let mid = 0.5 * (lo + hi);
                *(if self.signed(a.lerp(b, mid)) < 0.0 { &mut lo } else { &mut hi }) = mid;
            }
            let p = Self::turned(a.lerp(b, lo));
            let axis = (0..3).max_by(|&x, &y| p[x].abs().total_cmp(&p[y].abs())).unwrap();
            let mut n = DVec3::ZERO;
            n[axis] = p[axis].signum();
            let n = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.3, 0.7, 0.2).inverse() * n;
            EdgeCrossing { t: lo as f32, normal: n.as_vec3().to_array(), constrained: true }
        }
    }
    impl Shape for Cube {
        fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]) {
            out.iter_mut().zip(edges).for_each(|(crossing, e)| *crossing = self.crossing(e));
        }
        fn value(&self, p: DVec3) -> f64 {
            self.signed(p)
        }
        fn project(&self, _: &mut RowPoints) {}
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn every_sign_grid_gives_a_closed_manifold(seed in any::<u64>(), fill in 0.1..0.9f64) {
            let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: glam::UVec3::splat(17) };
            let mut bits = Bits::new(&grid);
            let mut state = seed;
            let mut volume = 0u64;
            for k in 1..16 {
                for j in 1..16 {
                    for i in 1..16 {
                        state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
                        if (state >> 40) as f64 / (1u64 << 24) as f64 <= fill {
                            bits.set(i, j, k);
                            volume += 1;
                        }
                    }
                }
            }
            let mesh = polygonise(&grid, &bits, None, &Noise, Care::Full, &|| false).unwrap();
            let t = Topology::of(&mesh);
            prop_assert!(t.sound(), "{:?}", (t.open_edges, t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices));
            prop_assert!(volume == 0 || mesh.volume() > 0.0);
        }
    }

    #[test]
    fn a_turned_cube_has_exact_edges_and_corners() {
        let half = 5.0;
        let grid =
            Grid::covering(&Bounds { min: DVec3::splat(-9.0), max: DVec3::splat(9.0) }, 0.37);
        let mut bits = Bits::new(&grid);
        for k in 0..grid.size.z {
            for j in 0..grid.size.y {
                for i in 0..grid.size.x {
                    if Cube(half).signed(grid.at(i, j, k)) < 0.0 {
                        bits.set(i, j, k);
                    }
                }
            }
        }
        let mesh = polygonise(&grid, &bits, None, &Cube(half), Care::Full, &|| false).unwrap();
        assert!(Topology::of(&mesh).sound());
        let bvh = Bvh::new(&mesh);
        assert_eq!(crossing_pairs(&mesh, &bvh).len(), 0);
        assert!((mesh.volume() - 1000.0).abs() < 0.05, "{}", mesh.volume());
        let back = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.3, 0.7, 0.2).inverse();
        for s in 0..=100 {
            let along = -half + 0.1 * s as f64;
            for (a, b) in [(half, half), (-half, half), (half, -half)] {
                let on_edge = back * DVec3::new(along, a, b);
                let d = bvh.nearest(on_edge, 1.0).unwrap().distance_squared.sqrt();
                // A corner's tip between samples shows in no hit: up to a quarter of a step is lost
                // there.
                let bound = if half - along.abs() < grid.step { 0.25 * grid.step } else { 1e-6 };
                assert!(d < bound, "edge off by {d} at {along}");
            }
        }
    }
}
