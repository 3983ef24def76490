//! Vertices and the triangles between them, a few layers of cells at a time: what has just been placed is
//! still near the processor when triangles ask for it.

use super::cells::Cells;
use super::place::{Placing, RowSlots};
use super::quads::{Joining, Listed, Quads, Seen};
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
    let count = cells.cell_count();
    let mut careful = vec![0u64; cells.layers() * cells.rows() * cells.words()];
    {
        let (firsts, others) = points.split_at_mut(count);
        let (firsts_placed, others_placed) = placed.split_at_mut(count);
        let of_cells = || slabs.iter().map(|slab| cells.cells_in(slab.clone()).len());
        let of_others = || slabs.iter().map(|slab| cells.extras_in(slab.clone()).len());
        let parts = (
            &slabs,
            parted(firsts, of_cells()),
            parted(firsts_placed, of_cells()),
            parted(others, of_others()),
            parted(others_placed, of_others()),
            parted(&mut careful, slabs.iter().map(|slab| slab.len() * cells.words())),
            later,
        );
        parts.into_par_iter().for_each(|(slab, points, placed, other_points, other_placed, careful, mut triangles)| {
            let (from, others_from) = (cells.cells_in(slab.clone()).start, cells.extras_in(slab.clone()).start);
            let mut smooth = RowPoints::default();
            for row in slab.clone() {
                if cancelled() {
                    return;
                }
                let (j, k) = cells.row_at(row);
                let own = |all: Range<usize>, from: usize| all.start - from..all.end - from;
                let firsts = own(cells.cells_in(row..row + 1), from);
                let others = own(cells.extras_in(row..row + 1), others_from);
                let words = (row - slab.start) * cells.words();
                let into = RowSlots {
                    points: &mut points[firsts.clone()],
                    placed: &mut placed[firsts],
                    other_points: &mut other_points[others.clone()],
                    other_placed: &mut other_placed[others],
                    careful: &mut careful[words..words + cells.words()],
                };
                placing.row(j, k, into, &mut smooth);
                if rest(slab).contains(&row) {
                    let seen = Seen {
                        firsts: Listed { points, placed, from },
                        others: Listed { points: other_points, placed: other_placed, from: others_from },
                        careful,
                        first_row: slab.start,
                    };
                    joining.row(j, k, &seen, split_off(&mut triangles, slots(row..row + 1)));
                }
            }
        });
    }
    let seen = Seen {
        firsts: Listed { points: &points[..count], placed: &placed[..count], from: 0 },
        others: Listed { points: &points[count..], placed: &placed[count..], from: count },
        careful: &careful,
        first_row: 0,
    };
    slabs.par_iter().zip(first).for_each(|(slab, mut triangles)| {
        for row in first_layer(slab) {
            if cancelled() {
                return;
            }
            let (j, k) = cells.row_at(row);
            joining.row(j, k, &seen, split_off(&mut triangles, slots(row..row + 1)));
        }
    });
    let unsettled = joining.unsettled();
    (Quads { mesh: TriMesh { points, triangles }, unsettled }, placed)
}

/// A list in pieces of these lengths.
fn parted<T>(mut list: &mut [T], lengths: impl Iterator<Item = usize>) -> Vec<&mut [T]> {
    lengths.map(|length| split_off(&mut list, length)).collect()
}
