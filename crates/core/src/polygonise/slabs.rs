//! Vertices and the triangles between them, a few layers of cells at a time: what has just been placed is
//! still near the processor when triangles ask for it.

use super::cells::Cells;
use super::place::Placing;
use super::quads::{Joining, Quads, Rows, Seen};
use super::vertex::Placed;
use super::{Care, Hit, RowPoints, Shape};
use crate::grid::{Bits, Grid};
use bytemuck::allocation::cast_vec;
use glam::DVec3;
use rayon::prelude::*;
use std::ops::Range;
use ulmix_mesh::parted::split_off;
use ulmix_mesh::TriMesh;

/// Layers of a slab.
const DEPTH: usize = 8;

/// Whole when not cancelled.
pub fn mesh(
    grid: &Grid,
    bits: &Bits,
    cells: &Cells,
    hits: &[Hit],
    shape: &dyn Shape,
    care: Care,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> (Quads, Vec<Placed>) {
    // Arrays of plain numbers come zeroed from the system, without being written twice.
    let mut points: Vec<DVec3> = cast_vec(vec![[0f64; 3]; cells.vertex_count()]);
    let mut placed: Vec<Placed> = cast_vec(vec![0u32; points.len()]);
    let mut triangles = vec![[0u32; 3]; cells.cut_count() * 2];
    let placing = Placing::new(grid, cells, hits, shape, care);
    let joining = Joining::new(grid, bits, cells, (care == Care::Full).then_some(shape));

    // Rows of cells, slab by slab.
    let slabs: Vec<Range<usize>> =
        (0..cells.layers()).step_by(DEPTH).map(|k| k * cells.rows()..(k + DEPTH).min(cells.layers()) * cells.rows()).collect();
    let slots = |rows: Range<usize>| 2 * cells.cuts_in(rows).len();
    // Triangles of a slab's first layer ask for vertices of the slab before: they come later.
    let first_layer = |slab: &Range<usize>| slab.start..slab.start + cells.rows();
    let rest = |slab: &Range<usize>| slab.start + cells.rows()..slab.end;
    let mut left = &mut triangles[..];
    let (first, later): (Vec<_>, Vec<_>) = slabs
        .iter()
        .map(|slab| (split_off(&mut left, slots(first_layer(slab))), split_off(&mut left, slots(rest(slab)))))
        .unzip();
    let lengths = || slabs.iter().map(|slab| cells.vertices_in(slab.clone()).len());

    let points_of = parted(&mut points, lengths());
    let placed_of = parted(&mut placed, lengths());
    (&slabs, points_of, placed_of, later).into_par_iter().for_each(|(slab, points, placed, mut triangles)| {
        let first = cells.vertices_in(slab.clone()).start;
        let (mut smooth, mut rows) = (RowPoints::default(), Rows::default());
        for row in slab.clone() {
            if cancelled() {
                return;
            }
            let (j, k) = cells.row_at(row);
            let own = cells.vertices_in(row..row + 1);
            let own = own.start - first..own.end - first;
            placing.row(j, k, &mut points[own.clone()], &mut placed[own], &mut smooth);
            if rest(slab).contains(&row) {
                let slots = split_off(&mut triangles, slots(row..row + 1));
                joining.row(j, k, &Seen { points, placed, first }, &mut rows, slots);
            }
        }
    });
    let seen = Seen { points: &points, placed: &placed, first: 0 };
    slabs.par_iter().zip(first).for_each(|(slab, mut triangles)| {
        let mut rows = Rows::default();
        for row in first_layer(slab) {
            if cancelled() {
                return;
            }
            let (j, k) = cells.row_at(row);
            joining.row(j, k, &seen, &mut rows, split_off(&mut triangles, slots(row..row + 1)));
        }
    });
    let unsettled = joining.unsettled();
    (Quads { mesh: TriMesh { points, triangles }, unsettled }, placed)
}

/// A list in pieces of these lengths.
fn parted<T>(mut list: &mut [T], lengths: impl Iterator<Item = usize>) -> Vec<&mut [T]> {
    lengths.map(|length| split_off(&mut list, length)).collect()
}
