//! A cell given as a solid, repeated for ever: its exact distance, so that it can be grown and
//! shrunk.
//!
//! Where copies touch, the ends of the solid in the cell's sides are no border. Distances are those
//! from the border that is left, around one cell; sides are told by the one solid with its ends.

use super::from_mesh::{side_of, solid};
use super::members::Frame;
use super::{BareStructure, Gauge, GridField, Lattice, Met, Segment};
use glam::{DVec3, UVec3};
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::numeric::low_discrepancy_in;
use ulmix_field::numeric::median;
use ulmix_field::numeric::root_within;
use ulmix_field::polygonise::RowPoints;
use ulmix_mesh::bvh::{Nearest, TriangleFeature};
use ulmix_mesh::thickness::wall_thickness;
use ulmix_mesh::{parallel, Bounds, Bvh, SignedDistance, Topology, TriMesh};
use ulmix_recipe::OwnMesh;

/// The endless solid.
struct CellSolid {
    frame: Frame,
    cell: DVec3,
    /// One cell's, with its ends.
    whole: SignedDistance,
    border: Bvh,
    /// Of the border's triangles.
    normals: Vec<DVec3>,
    /// Distances beyond are not told apart.
    margin: f64,
    /// Thickness of the cell's own members at this size. mm.
    thickness: f64,
    /// Absent while the first one is filled.
    raster: Option<Raster>,
}

/// Distances at places of a cell: sides are told by them where the border is not near, and what is
/// nearest is found sooner.
struct Raster {
    size: UVec3,
    /// Half the diagonal of what one place stands for.
    about: f64,
    values: Vec<f32>,
}

impl Raster {
    /// With so many places along the smallest side of a cell.
    fn new(cell: DVec3, along: f64, value: impl Fn(DVec3) -> f64 + Sync) -> Raster {
        let size = (cell / cell.min_element() * along).min(DVec3::splat(MOST_ALONG)).as_uvec3();
        let one = cell / size.as_dvec3();
        let middle = |n: u32| {
            DVec3::new(
                (n % size.x) as f64,
                (n / size.x % size.y) as f64,
                (n / (size.x * size.y)) as f64,
            ) + 0.5
        };
        let values = parallel::map(size.element_product() as usize, |n| {
            value(middle(n as u32) * one) as f32
        });
        // With room for rounding.
        Raster { size, about: 0.5 * one.length() * 1.001, values }
    }

    /// The distance at the place that stands for one in the cell.
    fn near(&self, q: DVec3, cell: DVec3) -> f64 {
        let at = (q / cell * self.size.as_dvec3()).as_uvec3().min(self.size - 1);
        self.values[((at.z * self.size.y + at.y) * self.size.x + at.x) as usize] as f64
    }
}

/// Places along the smallest side of a cell of a first raster and of the one that it helps to fill,
/// and the most along any.
const RASTERS: [f64; 2] = [10.0, 40.0];
const MOST_ALONG: f64 = 160.0;
/// Distances are told apart up to so many sizes of the cell.
const MARGIN: f64 = 0.6;
/// Sides are asked so far inside a cell: in its sides lie the solid's ends.
const WITHIN: f64 = 1e-7;
/// A place is on the border so near to it, in steps of the grid.
const MET: f64 = 1e-5;
/// Places at which the thickness is measured.
const MEASURED: usize = 3000;

/// The solid's border in and around one cell, that in the cell first, and how many triangles that
/// is.
fn border(own: &OwnMesh, cell: DVec3, margin: f64) -> (TriMesh, usize) {
    let whole = solid(own, cell);
    let inner = whole.filtered(|t| side_of(own, own.triangles[t]).is_none());
    let count = inner.triangles.len();
    let near = Bounds { min: DVec3::splat(-margin), max: cell + margin };
    let mut out = inner.clone();
    for n in (0..27).filter(|n| *n != 13) {
        let shift = (DVec3::new((n % 3) as f64, (n / 3 % 3) as f64, (n / 9) as f64) - 1.0) * cell;
        let copy = inner.clone().mapped(|p| p + shift);
        out.append(&copy.filtered(|t| Bounds::of(copy.corners(t)).overlaps(&near)));
    }
    (out, count)
}

/// Median thickness of a cell of this size as it was drawn. mm.
pub(super) fn as_drawn(own: &OwnMesh, cell: DVec3) -> f64 {
    let (mesh, count) = border(own, cell, MARGIN * cell.min_element());
    thickness(&mesh, count, &Bvh::new(&mesh), cell)
}

/// As it is measured on meshes: by balls that touch the border from inside, in the median over its
/// area.
fn thickness(border: &TriMesh, count: usize, bvh: &Bvh, cell: DVec3) -> f64 {
    let each = (0..count).map(|t| border.area_vector(t).length()).sum::<f64>() / MEASURED as f64;
    let (mut points, mut normals, mut on, mut due) = (Vec::new(), Vec::new(), Vec::new(), 0.5);
    for t in 0..count {
        let normal = border.area_vector(t);
        due += normal.length() / each;
        while due >= 1.0 {
            due -= 1.0;
            points.push(low_discrepancy_in(points.len() as u64 + 1, border.corners(t)));
            normals.push(normal);
            on.push(t as u32);
        }
    }
    let all = wall_thickness(bvh, &points, &normals, cell.max_element(), |n, t| on[n] == t);
    median(all.into_iter().filter(|d| d.is_finite()).collect()).unwrap_or(cell.min_element())
}

impl CellSolid {
    fn new(own: &OwnMesh, cell: DVec3, frame: Frame) -> CellSolid {
        let margin = MARGIN * cell.min_element();
        let (mesh, count) = border(own, cell, margin);
        let bvh = Bvh::new(&mesh);
        let thickness = thickness(&mesh, count, &bvh, cell);
        let normals =
            (0..mesh.triangles.len()).map(|t| mesh.area_vector(t).normalize_or(DVec3::Z)).collect();
        let whole = solid(own, cell);
        let whole = SignedDistance::new(&whole, &Topology::of(&whole));
        let mut out =
            CellSolid { frame, cell, whole, border: bvh, normals, margin, thickness, raster: None };
        for along in RASTERS {
            out.raster = Some(Raster::new(cell, along, |q| out.distance(q)));
        }
        out
    }

    /// In the cell, of a place in the part.
    fn reduced(&self, p: DVec3) -> DVec3 {
        let q = self.frame.local(p);
        (q - (q / self.cell).floor() * self.cell).clamp(DVec3::ZERO, self.cell)
    }

    /// What is known at once: about the distance, and by how much it may be another.
    fn about(&self, q: DVec3) -> Option<(f64, f64)> {
        self.raster.as_ref().map(|r| (r.near(q, self.cell), r.about))
    }

    /// The border's nearest place, up to the margin.
    fn nearest(&self, q: DVec3) -> Option<Nearest> {
        let limit = self.about(q).map_or(self.margin, |(d, by)| self.margin.min(d.abs() + by));
        self.border.nearest(q, limit.powi(2))
    }

    fn distance(&self, q: DVec3) -> f64 {
        self.query(q).0
    }

    /// The distance, and the border's nearest place where that is within the margin.
    fn query(&self, q: DVec3) -> (f64, Option<Nearest>) {
        let near = self.nearest(q);
        let d = near.map_or(self.margin, |n| n.distance_squared.sqrt());
        let side = |n: Nearest| (q - n.point).dot(self.normals[n.triangle as usize]);
        let inside = match (self.about(q), near) {
            (Some((about, by)), _) if about.abs() > by => about < 0.0,
            // Above a face the side is plain.
            (_, Some(n)) if n.feature == TriangleFeature::Face && side(n).abs() > 0.9 * d => {
                side(n) < 0.0
            }
            _ => {
                let within = WITHIN * self.cell;
                self.whole.inside(q.clamp(within, self.cell - within))
            }
        };
        (if inside { -d } else { d }, near)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        let q = self.reduced(p);
        let (d, Some(near)) = self.query(q) else { return DVec3::Z };
        // On the border itself it is the face's.
        let out = if d.abs() < 1e-9 * self.cell.min_element() {
            self.normals[near.triangle as usize]
        } else {
            (q - near.point).normalize() * d.signum()
        };
        self.frame.turn.transpose() * out
    }
}

/// Before it is given another thickness than its own.
pub(crate) struct MeshCell {
    solid: Arc<CellSolid>,
    /// Free width of its openings as it was drawn. mm.
    opening: f64,
    cell_points: Vec<DVec3>,
}

impl MeshCell {
    pub(crate) fn new(own: &OwnMesh, cell: DVec3, frame: Frame) -> MeshCell {
        MeshCell {
            solid: Arc::new(CellSolid::new(own, cell, frame)),
            opening: 0.0,
            cell_points: Vec::new(),
        }
    }

    pub(crate) fn with_opening(self, opening: f64) -> MeshCell {
        MeshCell { opening, ..self }
    }

    pub(crate) fn with_cell_points(self, cell_points: Vec<DVec3>) -> MeshCell {
        MeshCell { cell_points, ..self }
    }

    /// What its opening is at a thickness, without bounds.
    fn wider(&self, thickness: f64) -> f64 {
        thickness - self.solid.thickness
    }
}

impl BareStructure for MeshCell {
    fn measure(&self, p: DVec3) -> f64 {
        self.solid.distance(self.solid.reduced(p))
    }

    fn level(&self, thickness: f64) -> f64 {
        0.5 * self.wider(thickness)
    }

    fn cell_points(&self) -> Vec<DVec3> {
        self.cell_points.clone()
    }

    fn cell(&self) -> f64 {
        self.solid.cell.min_element()
    }

    fn opening(&self, thickness: f64) -> f64 {
        self.opening - self.wider(thickness)
    }

    fn gauge(&self) -> Gauge {
        Gauge::Balls
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        Box::new(Grown { solid: self.solid.clone(), by: 0.5 * self.wider(thickness) })
    }

    fn bytes(&self) -> usize {
        self.solid.normals.len() * 200
            + self.cell_points.len() * 24
            + self.solid.raster.as_ref().map_or(0, |r| r.values.len() * 4)
    }
}

/// The solid with its border moved outward.
struct Grown {
    solid: Arc<CellSolid>,
    by: f64,
}

impl Lattice for Grown {
    fn value(&self, p: DVec3) -> f64 {
        self.solid.distance(self.solid.reduced(p)) - self.by
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.solid.normal(p)
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a> {
        Box::new(Gridded { grown: self, grid, reach })
    }

    fn sharp(&self) -> bool {
        true
    }

    fn allows_overshoot(&self, _: f64) -> bool {
        false
    }
}

struct Gridded<'a> {
    grown: &'a Grown,
    grid: &'a Grid,
    reach: f64,
}

impl GridField for Gridded<'_> {
    fn value(&self, p: DVec3) -> f64 {
        self.grown.value(p)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.grown.normal(p)
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let (solid, level) = (&*self.grown.solid, self.grown.by + self.reach);
        let mut out = wanted.clone();
        out.par_words_mut(|w, j, k, word| {
            let mut left = *word;
            while left != 0 {
                let bit = left.trailing_zeros();
                left &= left - 1;
                let q = solid.reduced(self.grid.at(64 * w as u32 + bit, j as u32, k as u32));
                let inside = match solid.about(q) {
                    Some((about, by)) if (about - level).abs() > by => about < level,
                    _ => solid.distance(q) < level,
                };
                *word &= !((!inside as u64) << bit);
            }
        });
        out
    }

    fn met(&self, segments: &[Segment], out: &mut Vec<Met>) {
        // Along short ways distances are nearly straight lines.
        let enough = MET * self.grid.step;
        out.clear();
        out.extend(segments.iter().map(|s| {
            let along = |t: f64| self.value(s.a.lerp(s.b, t));
            let t = s.start().unwrap_or_else(|| root_within(along, s.ends[0], s.ends[1], enough));
            Met { t, normal: self.normal(s.a.lerp(s.b, t)) }
        }));
    }

    fn project(&self, row: &mut RowPoints) {
        let step = self.grid.step;
        for n in 0..row.count {
            let corner = self.grid.at(row.i[n], row.j, row.k);
            let out = DVec3::new(
                (row.outside[n] & 1) as f64,
                (row.outside[n] >> 1 & 1) as f64,
                (row.outside[n] >> 2) as f64,
            );
            let start = row.local(n).as_dvec3();
            let mut p = corner + start * step;
            let mut v = self.grown.value(p);
            // Near the middle of a thin member it may be either side: the outer corner tells.
            if v < -0.5 * step {
                p = corner + start.lerp(out, 0.5) * step;
                v = self.grown.value(p);
            }
            for _ in 0..2 {
                p -= self.grown.normal(p) * v;
                v = self.grown.value(p);
                if v.abs() < 1e-3 * step {
                    break;
                }
            }
            row.put(n, ((p - corner) / step).as_vec3());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_field::numeric::low_discrepancy;

    /// Three square bars through the middle of a cell, as one closed solid with flat ends in its
    /// sides.
    fn cross() -> OwnMesh {
        // 3 × 3 × 3 blocks of which the middle one of each side and of the whole are filled.
        let at = [0.0f32, 0.4, 0.6, 1.0];
        let filled = |c: [i32; 3]| {
            c.iter().all(|v| (0..3).contains(v)) && c.iter().filter(|v| **v == 1).count() >= 2
        };
        let number = |c: [i32; 3]| ((c[2] * 4 + c[1]) * 4 + c[0]) as u32;
        let mut triangles = Vec::new();
        for n in 0..27 {
            let c = [n % 3, n / 3 % 3, n / 9];
            for (axis, side) in (0..3).flat_map(|a| [(a, 0), (a, 1)]) {
                let mut beside = c;
                beside[axis] += 2 * side - 1;
                if !filled(c) || filled(beside) {
                    continue;
                }
                let corner = |u: i32, v: i32| {
                    let mut p = c;
                    p[axis] += side;
                    p[(axis + 1) % 3] += u;
                    p[(axis + 2) % 3] += v;
                    number(p)
                };
                let [p, q, r, s] = [corner(0, 0), corner(1, 0), corner(1, 1), corner(0, 1)];
                triangles.extend(if side == 1 {
                    [[p, q, r], [p, r, s]]
                } else {
                    [[p, r, q], [p, s, r]]
                });
            }
        }
        let points = (0..64).map(|n| [at[n % 4], at[n / 4 % 4], at[n / 16]]).collect();
        OwnMesh { name: "cross".into(), points, triangles, apart: [false; 3] }
    }

    #[test]
    fn distances_are_those_of_bars_without_end() {
        let cell = DVec3::new(10.0, 10.0, 20.0);
        let frame = Frame { shift: DVec3::new(1.0, 2.0, 3.0), ..Frame::OF_PART };
        let made = MeshCell::new(&cross(), cell, frame);
        // Balls in bars with faces 2 mm apart: toward the edges they are smaller.
        let thickness = made.solid.thickness;
        assert!((1.0..2.0).contains(&thickness), "{thickness}");
        let bars = |p: DVec3| {
            // From the middle of a cell.
            let q = (p - frame.shift).rem_euclid(cell) - cell * 0.5;
            let half = cell * 0.1;
            // Unsigned from outside: the nearest of three endless bars.
            (0..3)
                .map(|axis| {
                    let over = q.abs() - half;
                    let (u, v) = (over[(axis + 1) % 3], over[(axis + 2) % 3]);
                    if u > 0.0 && v > 0.0 {
                        u.hypot(v)
                    } else {
                        u.max(v)
                    }
                })
                .fold(f64::INFINITY, f64::min)
        };
        let lattice = made.thicken(thickness);
        let mut counts = [0; 2];
        for i in 1..4000 {
            let p = (low_discrepancy(i) - 0.5) * 90.0;
            let (want, got) = (bars(p), lattice.value(p));
            if want > 0.0 && want < 4.0 {
                counts[0] += 1;
                assert!((want - got).abs() < 1e-6, "{p}: {got}, not {want}");
                let h = 1e-4;
                let along = |d: DVec3| (bars(p + d * h) - bars(p - d * h)) / (2.0 * h);
                let slope = DVec3::new(along(DVec3::X), along(DVec3::Y), along(DVec3::Z));
                // Elsewhere two bars are as near.
                assert!(
                    (slope.length() - 1.0).abs() > 1e-3 || lattice.normal(p).distance(slope) < 1e-3,
                    "{p}"
                );
            } else if want < 0.0 {
                counts[1] += 1;
                assert!(got < 0.0, "{p}: {got}");
            }
        }
        assert!(counts[0] > 1000 && counts[1] > 200, "{counts:?}");
        // Grown by half of what it is thicker.
        let p = frame.shift + cell * DVec3::new(0.5, 0.9, 0.9);
        assert!((made.thicken(thickness + 1.0).value(p) - lattice.value(p) + 0.5).abs() < 1e-9);
    }

    #[test]
    fn signs_on_a_grid_are_those_of_its_value() {
        let grid = Grid { origin: DVec3::new(-3.0, 1.0, 2.0), step: 0.37, size: UVec3::splat(60) };
        let made = MeshCell::new(&cross(), DVec3::new(7.0, 8.0, 9.0), Frame::OF_PART);
        let lattice = made.thicken(2.0);
        let mut all = Bits::new(&grid);
        all.par_words_mut(|_, _, _, word| *word = (1 << 60) - 1);
        for reach in [0.0, 0.2] {
            let signs = lattice.on_grid(&grid, reach).signs(&all);
            for n in 0..grid.size.element_product() {
                let (i, j, k) = (n % 60, n / 60 % 60, n / 3600);
                let v = lattice.value(grid.at(i, j, k)) - reach;
                assert!(signs.get(i, j, k) == (v < 0.0) || v.abs() < 1e-9, "{i} {j} {k}: {v}");
            }
        }
    }
}
