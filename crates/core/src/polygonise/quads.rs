//! Two triangles around every cut edge of a row.

use super::cells::Cells;
use super::vertex::Placed;
use super::words::shifted;
use super::Shape;
use crate::grid::{Bits, Grid};
use glam::{DVec3, IVec3};
use std::sync::atomic::{AtomicU64, Ordering};
use ulmix_mesh::TriMesh;

/// A mesh whose triangles `2q` and `2q + 1` are the halves of quad `q`.
pub struct Quads {
    pub mesh: TriMesh,
    /// One bit a quad: a vertex of it lies at a crease or has left its cell.
    pub unsettled: Vec<u64>,
}

/// The four cells around a cell's own edge along each axis, in order around it: how many rows back they
/// lie along y and along z and cells back along x, and the edge's number there.
const AROUND: [[(usize, usize, usize, usize); 4]; 3] = [
    [(0, 0, 0, 0), (1, 0, 0, 1), (1, 1, 0, 3), (0, 1, 0, 2)],
    [(0, 0, 0, 4), (0, 1, 0, 5), (0, 1, 1, 7), (0, 0, 1, 6)],
    [(0, 0, 0, 8), (0, 0, 1, 9), (1, 0, 1, 11), (1, 0, 0, 10)],
];

/// Placed vertices, from number `first` on.
pub struct Seen<'a> {
    pub points: &'a [DVec3],
    pub placed: &'a [Placed],
    pub first: usize,
}

impl Seen<'_> {
    #[inline(always)]
    fn point(&self, vertex: u32) -> DVec3 {
        self.points[vertex as usize - self.first]
    }

    fn placed(&self, vertex: u32) -> Placed {
        self.placed[vertex as usize - self.first]
    }
}

/// What the quads of any row are made from.
pub struct Joining<'a> {
    grid: &'a Grid,
    bits: &'a Bits,
    cells: &'a Cells,
    /// Decides how quads at creases are split, where given.
    shape: Option<&'a dyn Shape>,
    /// Rows share words, and the order of setting bits does not matter.
    unsettled: Vec<AtomicU64>,
}

impl<'a> Joining<'a> {
    pub fn new(grid: &'a Grid, bits: &'a Bits, cells: &'a Cells, shape: Option<&'a dyn Shape>) -> Joining<'a> {
        let unsettled = (0..cells.cut_count().div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        Joining { grid, bits, cells, shape, unsettled }
    }

    /// Of all rows joined so far: see [`Quads::unsettled`].
    pub fn unsettled(self) -> Vec<u64> {
        self.unsettled.into_iter().map(AtomicU64::into_inner).collect()
    }

    /// Fills a row's slots: first around the edges along x, then along y, then along z. Edges are taken from whole
    /// words of signs, so that what comes next is easily foretold. `seen` holds the row's vertices and those of the
    /// three rows before it; `rows` comes from the row before, or empty.
    pub fn row(&self, j: u32, k: u32, seen: &Seen, rows: &mut Rows, slots: &mut [[u32; 3]]) {
        let cells = self.cells;
        rows.move_to(cells, seen, j, k);
        let row = cells.row_number(j, k);
        let first = cells.cuts_in(row..row + 1).start;
        let mut slots = slots.chunks_exact_mut(2).enumerate();
        each_cut_edge(self.bits, j as usize, k as usize, |i, axis, inside| {
            let (mut quad, is_unsettled) = rows.around(cells, i, axis);
            if !inside {
                quad.swap(1, 3);
            }
            let crease = is_unsettled && cells.is_exact(row, i) && quad.iter().any(|&v| seen.placed(v).crease());
            let along = first_diagonal(quad, seen, self.shape.filter(|_| crease), self.grid.step);
            let [a, b, c, d] = quad;
            let [a, b, c, d] = if along { [a, b, c, d] } else { [b, c, d, a] };
            let (n, halves) = slots.next().expect("two triangles a cut edge");
            halves[0] = [a, b, c];
            halves[1] = [a, c, d];
            if is_unsettled {
                self.unsettled[(first + n) / 64].fetch_or(1 << ((first + n) % 64), Ordering::Relaxed);
            }
        });
    }
}

/// Calls `f(i, axis, is the low end inside)` for the grid edges of a row of cells that the surface cuts.
#[inline(always)]
fn each_cut_edge(bits: &Bits, j: usize, k: usize, mut f: impl FnMut(u32, usize, bool)) {
    let row = bits.row(j, k);
    for (axis, beside) in [row, bits.row(j + 1, k), bits.row(j, k + 1)].into_iter().enumerate() {
        for (w, &here) in row.iter().enumerate() {
            let there = if axis == 0 { shifted(row, w) } else { beside[w] };
            let mut cut = here ^ there;
            while cut != 0 {
                let b = cut.trailing_zeros();
                cut &= cut - 1;
                f(64 * w as u32 + b, axis, here >> b & 1 == 1);
            }
        }
    }
}

/// Of an entry: the vertex.
const VERTEX: u32 = UNSETTLED - 1;
/// Some vertex of the cell lies at a crease or has left the cell.
const UNSETTLED: u32 = 1 << 30;
/// The cell has more than one vertex: the first is told.
const SEVERAL: u32 = 1 << 31;

/// The row of cells in work and the three before it, spread out: the entry of the cell at `i` is found
/// without counting. Rows come in order, so that two of the four are there already.
#[derive(Default)]
pub struct Rows {
    /// By y and z: whether a row back.
    spread: [[Vec<u32>; 2]; 2],
    /// Which row is spread, by y and z.
    at: Option<(u32, u32)>,
}

impl Rows {
    fn move_to(&mut self, cells: &Cells, seen: &Seen, j: u32, k: u32) {
        // The border of the grid is outside: no cut edge asks beyond it.
        for z in 0..2 {
            let k = k.saturating_sub(z);
            let [here, back] = &mut self.spread[z as usize];
            if j > 0 && self.at == Some((j - 1, k + z)) {
                std::mem::swap(here, back);
            } else {
                spread(cells, seen, j.saturating_sub(1), k, back);
            }
            spread(cells, seen, j, k, here);
        }
        self.at = Some((j, k));
    }

    /// The vertices around the edge along `axis` of the cell at `i`, and whether one of them is unsettled.
    #[inline(always)]
    fn around(&self, cells: &Cells, i: u32, axis: usize) -> ([u32; 4], bool) {
        let entry = |n: usize| {
            let (y, z, x, _) = AROUND[axis][n];
            self.spread[z][y][i as usize - x]
        };
        let entries = [entry(0), entry(1), entry(2), entry(3)];
        let [a, b, c, d] = entries;
        let any = a | b | c | d;
        let quad = if any & SEVERAL == 0 { entries } else { self.of_several(cells, i, axis, entries) };
        let [a, b, c, d] = quad;
        ([a & VERTEX, b & VERTEX, c & VERTEX, d & VERTEX], any & UNSETTLED != 0)
    }

    /// Entries of cells with several vertices become those of the vertex at the edge.
    #[cold]
    fn of_several(&self, cells: &Cells, i: u32, axis: usize, mut entries: [u32; 4]) -> [u32; 4] {
        let (j, k) = self.at.expect("moved to a row");
        for (slot, (y, z, x, edge)) in entries.iter_mut().zip(AROUND[axis]).filter(|(slot, _)| **slot & SEVERAL != 0) {
            let cell = cells.index(IVec3::new((i - x as u32) as i32, (j - y as u32) as i32, (k - z as u32) as i32));
            *slot = (*slot & VERTEX) + cells.loops(cell).of_edge[edge] as u32;
        }
        entries
    }
}

fn spread(cells: &Cells, seen: &Seen, j: u32, k: u32, out: &mut Vec<u32>) {
    out.resize(cells.width(), 0);
    let mut vertex = cells.first_vertex(j, k);
    cells.each_in_row(j, k, |i, index| {
        let count = cells.loops(index).count as usize;
        let several = if count > 1 { SEVERAL } else { 0 };
        let unsettled = seen.placed[vertex - seen.first..][..count].iter().any(|p| p.unsettled());
        out[i as usize] = vertex as u32 | several | if unsettled { UNSETTLED } else { 0 };
        vertex += count;
    });
}

/// Split from corner 0 to 2 (true) or 1 to 3: at a crease of `shape` the diagonal that lies on it,
/// elsewhere the shorter one.
#[inline(always)]
fn first_diagonal(quad: [u32; 4], seen: &Seen, shape: Option<&dyn Shape>, step: f64) -> bool {
    let [a, b, c, d] = quad;
    let p = [seen.point(a), seen.point(b), seen.point(c), seen.point(d)];
    if let Some(shape) = shape {
        let d02 = shape.value((p[0] + p[2]) * 0.5).abs();
        let d13 = shape.value((p[1] + p[3]) * 0.5).abs();
        if (d02 - d13).abs() > 0.02 * step {
            return d02 < d13;
        }
    }
    p[0].distance_squared(p[2]) <= p[1].distance_squared(p[3])
}
