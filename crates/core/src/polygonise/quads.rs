//! Two triangles around every cut edge of the grid.

use super::cells::Cells;
use super::vertex::Placed;
use super::Shape;
use crate::grid::Grid;
use glam::DVec3;
use std::cell::RefCell;
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

/// `shape`, where given, decides how quads at creases are split.
pub fn quads(
    grid: &Grid,
    cells: &Cells,
    points: Vec<DVec3>,
    placed: &[Placed],
    shape: Option<&dyn Shape>,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Quads {
    thread_local!(static ROWS: RefCell<Rows> = RefCell::default());
    static RUNS: AtomicU64 = AtomicU64::new(0);
    let run = RUNS.fetch_add(1, Ordering::Relaxed);
    let mut out = vec![[0u32; 3]; cells.cut_count() * 2];
    let unsettled: Vec<AtomicU64> = (0..cells.cut_count().div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
    let starts = cells.cut_starts(2);
    cells.par_rows_mut(&mut out[..], &starts, |j, k, slots| {
        if cancelled() {
            return;
        }
        ROWS.with_borrow_mut(|rows| {
            rows.move_to(run, cells, placed, j, k);
            let row = cells.row_number(j, k);
            let first = starts(row) / 2;
            let mut quads = slots.chunks_exact_mut(2).enumerate();
            cells.each_in_row(j, k, |i, index| {
                let mut cut = cells.cut(index);
                while cut != 0 {
                    let axis = cut.trailing_zeros() as usize;
                    cut &= cut - 1;
                    let (mut quad, is_unsettled) = rows.around(cells, i, axis);
                    if cells.config(index) & 1 == 0 {
                        quad.swap(1, 3);
                    }
                    let crease = is_unsettled && cells.is_exact(row, i) && quad.iter().any(|&v| placed[v as usize].crease());
                    let [a, b, c, d] = quad;
                    let along = first_diagonal(quad, &points, shape.filter(|_| crease), grid.step);
                    let (n, halves) = quads.next().expect("two triangles a cut edge");
                    halves.copy_from_slice(&if along { [[a, b, c], [a, c, d]] } else { [[b, c, d], [b, d, a]] });
                    if is_unsettled {
                        // Rows share words, and the order of setting bits does not matter.
                        unsettled[(first + n) / 64].fetch_or(1 << ((first + n) % 64), Ordering::Relaxed);
                    }
                }
            });
        });
    });
    let unsettled = unsettled.into_iter().map(AtomicU64::into_inner).collect();
    Quads { mesh: TriMesh { points, triangles: out }, unsettled }
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
struct Rows {
    /// By y and z: whether a row back.
    spread: [[Vec<u32>; 2]; 2],
    /// Which run's row is spread.
    at: Option<(u64, u32, u32)>,
}

impl Rows {
    fn move_to(&mut self, run: u64, cells: &Cells, placed: &[Placed], j: u32, k: u32) {
        // The border of the grid is outside: no cut edge asks beyond it.
        for z in 0..2 {
            let k = k.saturating_sub(z);
            let [here, back] = &mut self.spread[z as usize];
            if j > 0 && self.at == Some((run, j - 1, k + z)) {
                std::mem::swap(here, back);
            } else {
                spread(cells, placed, j.saturating_sub(1), k, back);
            }
            spread(cells, placed, j, k, here);
        }
        self.at = Some((run, j, k));
    }

    /// The vertices around the edge along `axis` of the cell at `i`, and whether one of them is unsettled.
    #[inline(always)]
    fn around(&self, cells: &Cells, i: u32, axis: usize) -> ([u32; 4], bool) {
        let mut quad = [0; 4];
        let mut any = 0;
        for (slot, (y, z, x, _)) in quad.iter_mut().zip(AROUND[axis]) {
            *slot = self.spread[z][y][i as usize - x];
            any |= *slot;
        }
        if any & SEVERAL != 0 {
            let (_, j, k) = self.at.expect("moved to a row");
            for (slot, (y, z, x, edge)) in quad.iter_mut().zip(AROUND[axis]).filter(|(slot, _)| **slot & SEVERAL != 0) {
                let cell = cells.row(j - y as u32, k - z as u32).index(i - x as u32);
                *slot = (*slot & VERTEX) + cells.loops(cell).of_edge[edge] as u32;
            }
        }
        (quad.map(|e| e & VERTEX), any & UNSETTLED != 0)
    }
}

fn spread(cells: &Cells, placed: &[Placed], j: u32, k: u32, out: &mut Vec<u32>) {
    out.resize(cells.width(), 0);
    cells.each_in_row(j, k, |i, index| {
        let vertices = cells.first_vertex[index]..cells.first_vertex[index + 1];
        let several = if vertices.len() > 1 { SEVERAL } else { 0 };
        let unsettled = placed[vertices.start as usize..vertices.end as usize].iter().any(|p| p.unsettled());
        out[i as usize] = vertices.start | several | if unsettled { UNSETTLED } else { 0 };
    });
}

/// Split from corner 0 to 2 (true) or 1 to 3: at a crease of `shape` the diagonal that lies on it,
/// elsewhere the shorter one.
fn first_diagonal(quad: [u32; 4], points: &[DVec3], shape: Option<&dyn Shape>, step: f64) -> bool {
    let p = quad.map(|v| points[v as usize]);
    if let Some(shape) = shape {
        let d02 = shape.value((p[0] + p[2]) * 0.5).abs();
        let d13 = shape.value((p[1] + p[3]) * 0.5).abs();
        if (d02 - d13).abs() > 0.02 * step {
            return d02 < d13;
        }
    }
    p[0].distance_squared(p[2]) <= p[1].distance_squared(p[3])
}
