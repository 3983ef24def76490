//! Signs of the part on a grid, with cost that follows its surface.
//!
//! A closed part is scanned: each row of samples along x is cut by the triangles it passes, and
//! the winding number along the row tells inside from outside. Ties at edges and corners are broken
//! by a fixed infinitesimal shift of the row (Edelsbrunner & Mücke 1990) on exact predicates, so
//! that neighbours agree.
//!
//! A part with defects, and what is near its faces, are found by distance, which is 1-Lipschitz: a
//! block whose centre is farther from the border than its half diagonal has one sign. Blocks of 8³
//! samples are split only where the border passes, down to single samples.

use crate::bodies::Body;
use crate::part::Part;
use glam::{DVec3, UVec3};
use rayon::prelude::*;
use robust::{orient2d, Coord};
use ulmix_field::grid::{bits_between, Bits, Grid};
use ulmix_mesh::{parallel, Bvh, SignedDistance, Topology, TriMesh};

const BLOCK: u32 = 8;

/// Samples inside the part; `None` when cancelled.
pub fn sample_part(
    part: &Part,
    grid: &Grid,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Bits> {
    sample_inside(&part.mesh, part.facts.closed, &part.distance, grid, cancelled)
}

/// Samples inside a body; `None` when cancelled.
pub fn sample_body(
    body: &Body,
    grid: &Grid,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Bits> {
    sample_inside(&body.mesh, body.facts.closed, &body.distance, grid, cancelled)
}

fn sample_inside(
    mesh: &TriMesh,
    closed: bool,
    distance: &SignedDistance,
    grid: &Grid,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Bits> {
    let inside = if closed {
        scan(mesh, grid)
    } else {
        blocks(ScanField::Inside(distance), grid, cancelled)
    };
    (!cancelled()).then_some(inside)
}

/// Samples inside the part with its places changed by `map`; `None` when cancelled.
pub fn sample_mapped(
    part: &Part,
    map: impl Fn(DVec3) -> DVec3,
    grid: &Grid,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Bits> {
    let mesh = part.mesh.clone().mapped(map);
    if part.facts.closed {
        return (!cancelled()).then(|| scan(&mesh, grid));
    }
    sample_inside(&mesh, false, &SignedDistance::new(&mesh, &Topology::of(&mesh)), grid, cancelled)
}

/// The part's volume by its samples, where bodies overlap and theirs cannot be summed. mm³.
pub fn volume_of(part: &Part) -> f64 {
    let bounds = part.mesh.bounds();
    let size = bounds.size();
    let step = (size.x * size.y * size.z / 4e6).cbrt().max(size.max_element() / 1000.0);
    let grid = Grid::covering(&bounds, step);
    sample_part(part, &grid, &|| false).map_or(0.0, |inside| volume(&inside, &grid))
}

/// Samples nearer to a surface than `depth`, on both sides; `None` when cancelled.
pub fn sample_near(
    surface: &Bvh,
    depth: f64,
    grid: &Grid,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Bits> {
    let near = blocks(ScanField::Near { surface, depth }, grid, cancelled);
    (!cancelled()).then_some(near)
}

/// Samples with a positive winding number; the mesh must be closed.
fn scan(mesh: &TriMesh, grid: &Grid) -> Bits {
    let mut out = Bits::new(grid);
    let slab = BLOCK as f64 * grid.step;
    let slabs = grid.size.z.div_ceil(BLOCK) as usize;
    let slab_of = |z: f64| ((z - grid.origin.z) / slab).clamp(0.0, slabs as f64 - 1.0) as usize;
    // Triangles by the slabs they reach, in order.
    let mut reach: Vec<Vec<u32>> = vec![Vec::new(); slabs];
    for t in 0..mesh.triangles.len() {
        let z = mesh.corners(t).map(|p| p.z);
        let (low, high) = (z[0].min(z[1]).min(z[2]), z[0].max(z[1]).max(z[2]));
        reach[slab_of(low)..=slab_of(high)].iter_mut().for_each(|list| list.push(t as u32));
    }
    let (words, rows) = (grid.words(), grid.size.y as usize);
    out.par_layers_mut(BLOCK as usize, |k0, data| {
        let list = &reach[k0 / BLOCK as usize];
        let layers = data.len() / (words * rows);
        let mut events: Vec<(u32, f64, i32)> = Vec::new();
        for &t in list {
            crossings(grid, mesh.corners(t as usize), k0, layers, &mut events);
        }
        events.sort_unstable_by(|a, b| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(b.2.cmp(&a.2)));
        for row in events.chunk_by(|a, b| a.0 == b.0) {
            let data = &mut data[row[0].0 as usize * words..][..words];
            let mut winding = 0;
            for pair in row.windows(2) {
                winding += pair[0].2;
                if winding > 0 {
                    set_between(grid, data, pair[0].1, pair[1].1);
                }
            }
        }
    });
    out
}

/// Where the rows of the slab from layer `k0` pass through a triangle: row in the slab, x, and how
/// the winding number changes.
fn crossings(
    grid: &Grid,
    [a, b, c]: [DVec3; 3],
    k0: usize,
    layers: usize,
    out: &mut Vec<(u32, f64, i32)>,
) {
    let flat = |p: DVec3| Coord { x: p.y, y: p.z };
    let (fa, fb, fc) = (flat(a), flat(b), flat(c));
    let area = orient2d(fa, fb, fc);
    if area == 0.0 {
        return;
    }
    let range = |axis: usize, first: usize, count: usize| {
        let low = a[axis].min(b[axis]).min(c[axis]);
        let high = a[axis].max(b[axis]).max(c[axis]);
        let index = |v: f64| (v - grid.origin[axis]) / grid.step;
        let (first, end) = (first as f64, (first + count) as f64);
        (
            (index(low).ceil() - 1.0).clamp(first, end) as u32,
            (index(high).floor() + 2.0).clamp(first, end) as u32,
        )
    };
    let (j0, j1) = range(1, 0, grid.size.y as usize);
    let (k_low, k_high) = range(2, k0, layers);
    for k in k_low..k_high {
        for j in j0..j1 {
            let at = grid.at(0, j, k);
            let p = Coord { x: at.y, y: at.z };
            let (u, v, w) = (beside(fb, fc, p), beside(fc, fa, p), beside(fa, fb, p));
            if [u, v, w].iter().all(|s| s.1) || [u, v, w].iter().all(|s| !s.1) {
                let x = (a.x * u.0 + b.x * v.0 + c.x * w.0) / (u.0 + v.0 + w.0);
                // The winding number grows where the front side looks against the row.
                out.push(((k - k0 as u32) * grid.size.y + j, x, if area < 0.0 { 1 } else { -1 }));
            }
        }
    }
}

/// Twice the signed area with an edge, and on which side the point lies; a point on the edge's line
/// counts as shifted by (ε, ε²).
fn beside(a: Coord<f64>, b: Coord<f64>, p: Coord<f64>) -> (f64, bool) {
    let v = orient2d(a, b, p);
    let left = if v != 0.0 {
        v > 0.0
    } else if b.y != a.y {
        b.y < a.y
    } else {
        b.x > a.x
    };
    (v, left)
}

/// Sets the samples of a row with x in (from, to).
fn set_between(grid: &Grid, row: &mut [u64], from: f64, to: f64) {
    let first = ((from - grid.origin.x) / grid.step).floor() + 1.0;
    let end = ((to - grid.origin.x) / grid.step).ceil();
    let (first, end) = (first.max(0.0) as usize, end.clamp(0.0, grid.size.x as f64) as usize);
    if first >= end {
        return;
    }
    for w in first / 64..end.div_ceil(64) {
        row[w] |= bits_between(w, first, end);
    }
}

/// What blocks are asked for. Every kind answers with a 1-Lipschitz distance.
#[derive(Clone, Copy)]
enum ScanField<'a> {
    Inside(&'a SignedDistance),
    Near { surface: &'a Bvh, depth: f64 },
}

impl ScanField<'_> {
    /// Distance of the point from the surface, negative inside and bounded by `limit`; and how far
    /// around the point all points belong, or do not, alike. mm.
    fn look(&self, p: DVec3, limit: f64) -> (f64, f64) {
        match self {
            ScanField::Inside(part) => part.value_and_reach(p, limit),
            ScanField::Near { surface, depth } => {
                let d =
                    surface.nearest(p, limit * limit).map_or(limit, |n| n.distance_squared.sqrt());
                (d, (d - depth).abs())
            }
        }
    }

    /// Does a sample at this distance belong?
    fn holds(&self, d: f64) -> bool {
        match self {
            ScanField::Inside(_) => d < 0.0,
            ScanField::Near { depth, .. } => d < *depth,
        }
    }
}

fn blocks(field: ScanField, grid: &Grid, cancelled: &(dyn Fn() -> bool + Sync)) -> Bits {
    let mut out = Bits::new(grid);
    out.par_layers_mut(BLOCK as usize, |k0, bits| {
        if cancelled() {
            return;
        }
        let mut slab = Slab { field, grid, k0: k0 as u32, bits };
        let (nx, ny) = (grid.size.x.div_ceil(BLOCK), grid.size.y.div_ceil(BLOCK));
        for by in 0..ny {
            let mut known = f64::INFINITY;
            for bx in 0..nx {
                let low = UVec3::new(bx * BLOCK, by * BLOCK, k0 as u32);
                known = slab.block(low, BLOCK, known + BLOCK as f64 * grid.step * 1.001);
            }
        }
    });
    out
}

struct Slab<'a> {
    field: ScanField<'a>,
    grid: &'a Grid,
    k0: u32,
    bits: &'a mut [u64],
}

impl Slab<'_> {
    /// Fills a block; `limit` bounds the distance of its centre. Returns that distance, unsigned.
    fn block(&mut self, low: UVec3, size: u32, limit: f64) -> f64 {
        if low.cmpge(self.grid.size).any() {
            return limit;
        }
        let half = (size - 1) as f64 * 0.5 * self.grid.step;
        let centre = self.grid.at(low.x, low.y, low.z) + half;
        let (d, alike) = self.field.look(centre, limit);
        let radius = half * 3f64.sqrt() + 1e-9 * self.grid.step;
        if size == 1 || alike > radius {
            if self.field.holds(d) {
                self.fill(low, size);
            }
            return d.abs();
        }
        let child = size / 2;
        let reach =
            d.abs() + child as f64 * 0.5 * self.grid.step * 3f64.sqrt() + 1e-6 * self.grid.step;
        for c in 0..8 {
            let off = UVec3::new(c & 1, c >> 1 & 1, c >> 2 & 1) * child;
            self.block(low + off, child, reach);
        }
        d.abs()
    }

    fn fill(&mut self, low: UVec3, size: u32) {
        let (words, rows) = (self.grid.words(), self.grid.size.y);
        let high = (low + size).min(self.grid.size);
        // Blocks never straddle a word: their size divides 64.
        let mask = (!0u64 >> (64 - (high.x - low.x))) << (low.x % 64);
        for k in low.z..high.z {
            for j in low.y..high.y {
                let at = ((k - self.k0) as usize * rows as usize + j as usize) * words
                    + low.x as usize / 64;
                self.bits[at] |= mask;
            }
        }
    }
}

/// Sum of a count over samples that lie where `pick` says, as a volume in mm³.
pub fn volume(bits: &Bits, grid: &Grid) -> f64 {
    bits.count() as f64 * grid.step.powi(3)
}

/// About `wanted` points spread evenly over the set samples, whatever the step of the grid: a
/// low-discrepancy sequence over all of it, of which those stay whose nearest sample is set. Every
/// n-th sample of a fine grid would line up with cells. Neighbours come one after the other, so
/// that what is asked about them is near the processor.
pub fn spread(bits: &Bits, grid: &Grid, wanted: usize) -> Vec<DVec3> {
    const MOST: f64 = 3e7;
    /// Samples along a side of the blocks whose points come together.
    const AROUND: u32 = 6;
    let count = bits.count().max(1) as f64;
    let tried = (wanted as f64 * grid.samples() as f64 / count).min(MOST) as usize;
    let place = |n: usize| {
        let at = ulmix_field::numeric::low_discrepancy(n as u64 + 1) * grid.size.as_dvec3();
        let [i, j, k] = at.as_uvec3().min(grid.size - 1).to_array();
        let block = [k, j, i].map(|n| n / AROUND);
        bits.get(i, j, k).then(|| (block, grid.origin + (at - 0.5) * grid.step))
    };
    let mut found: Vec<([u32; 3], DVec3)> = parallel::filter_map(tried, place);
    // Stable, so that it does not depend on threads.
    found.par_sort_by_key(|f| f.0);
    found.into_iter().map(|f| f.1).collect()
}

/// About `wanted` triangles of a mesh in their order, each as often as its area asks for.
pub fn by_area(mesh: &TriMesh, wanted: usize) -> Vec<usize> {
    let each = mesh.area().max(1e-300) / wanted as f64;
    let (mut due, mut out) = (0.5, Vec::new());
    for t in 0..mesh.triangles.len() {
        due += 0.5 * mesh.area_vector(t).length() / each;
        while due >= 1.0 {
            due -= 1.0;
            out.push(t);
        }
    }
    out
}

/// Points spread evenly over the set samples, jittered within their cells; about `wanted` of them,
/// repeatable.
pub fn scatter(bits: &Bits, grid: &Grid, wanted: usize) -> Vec<DVec3> {
    let every = (bits.count() as usize / wanted.max(1)).max(1);
    parallel::flat_map(grid.size.z as usize, |k| {
        let mut out = Vec::new();
        // A different start per layer keeps the stride from lining up.
        let mut n = (k * 7919) % every;
        for j in 0..grid.size.y {
            for (w, &word) in bits.row(j as usize, k).iter().enumerate() {
                let mut m = word;
                while m != 0 {
                    if n.is_multiple_of(every) {
                        let i = 64 * w as u32 + m.trailing_zeros();
                        let seed = (k as u64 * 65_537 + j as u64) * 257 + i as u64;
                        let jitter = ulmix_field::numeric::low_discrepancy(seed + 1) - 0.5;
                        out.push(grid.at(i, j, k as u32) + jitter * grid.step);
                    }
                    n += 1;
                    m &= m - 1;
                }
            }
        }
        out
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn compare(mesh: &TriMesh, step: f64, skin: f64) {
        let part = Part::prepare(mesh).unwrap();
        let grid = Grid::covering(&mesh.bounds(), step);
        let inside = sample_part(&part, &grid, &|| false).unwrap();
        let near = sample_near(part.bvh(), skin, &grid, &|| false).unwrap();
        for k in 0..grid.size.z {
            for j in 0..grid.size.y {
                for i in 0..grid.size.x {
                    let v = part.distance.value(grid.at(i, j, k));
                    assert_eq!(inside.get(i, j, k), v < 0.0, "at {i} {j} {k}: {v}");
                    assert_eq!(near.get(i, j, k), v.abs() < skin);
                }
            }
        }
        let got = volume(&inside, &grid);
        assert!((got / part.facts.volume_mm3 - 1.0).abs() < 0.15, "{got} for {}", mesh.volume());
    }

    #[test]
    fn scanning_and_blocks_equal_asking_every_sample() {
        let ball = TriMesh::sphere(10.0, 4);
        compare(&ball, 0.71, 2.3);
        compare(&ball.filtered(|t| t % 700 != 5), 0.71, 2.3);
        // A hole as wide as the part: its border hangs in the air.
        compare(
            &TriMesh::cuboid(DVec3::ZERO, DVec3::new(20.0, 15.0, 10.0)).filtered(|t| t != 4),
            0.31,
            0.9,
        );
        compare(&crate::demo::keel_bracket().0, 3.1, 4.0);
        let mut two = ball.clone();
        two.append(&TriMesh::cuboid(DVec3::new(12.0, -5.0, -5.0), DVec3::new(30.0, 5.0, 5.0)));
        compare(&two, 0.9, 1.0);
    }

    #[test]
    fn rows_through_edges_and_corners_do_not_leak() {
        // Samples exactly on the mesh's planes, edges and corners: every row still closes.
        let mesh = TriMesh::cuboid(DVec3::splat(2.0), DVec3::splat(6.0));
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::splat(9) };
        assert_eq!(scan(&mesh, &grid).count() % 16, 0);
        let ball = TriMesh::sphere(4.0, 3).mapped(|p| p + 5.0);
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::splat(11) };
        let bits = scan(&ball, &grid);
        for j in 0..11 {
            for k in 0..11 {
                let row = bits.row(j, k)[0];
                assert!(
                    row == 0 || (row >> row.trailing_zeros()).trailing_ones() == row.count_ones(),
                    "{row:b}"
                );
            }
        }
        assert!(bits.count() > 200);
    }

    #[test]
    fn points_scatter_evenly_over_the_zone() {
        let part = Part::prepare(&TriMesh::sphere(10.0, 4)).unwrap();
        let grid = Grid::covering(&part.mesh.bounds(), 0.71);
        let inside = sample_part(&part, &grid, &|| false).unwrap();
        let spread = scatter(&inside, &grid, 500);
        assert!((300..900).contains(&spread.len()), "{}", spread.len());
        // Of a fine grid as of a coarse one, as many as are wanted, and half of them in any half.
        for step in [0.08, 0.71] {
            let grid = Grid::covering(&part.mesh.bounds(), step);
            let inside = sample_part(&part, &grid, &|| false).unwrap();
            let points = super::spread(&inside, &grid, 20_000);
            assert!((points.len() as f64 / 20_000.0 - 1.0).abs() < 0.02, "{}", points.len());
            // Slices as of a lattice of many cells.
            let even = points.iter().filter(|p| (p.x / 0.37).floor().rem_euclid(2.0) == 0.0).count()
                as f64;
            assert!((even / points.len() as f64 - 0.5).abs() < 0.02, "{even} of {}", points.len());
        }
    }

    #[test]
    fn cancelling_gives_nothing() {
        let part = Part::prepare(&TriMesh::sphere(10.0, 3)).unwrap();
        assert!(sample_part(&part, &Grid::covering(&part.mesh.bounds(), 0.5), &|| true).is_none());
    }
}
