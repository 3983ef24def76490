//! Vertices and the triangles between them, a few layers of cells at a time: what has just been
//! placed is still near the processor when triangles ask for it.

use super::cells::Cells;
use super::place::{PlaceSlots, RowSlots, VertexPlacing};
use super::quads::{Joining, Listed, Quads, Seen};
use super::vertex::Placed;
use super::{Care, EdgeCrossing, RowPoints, Shape};
use crate::grid::{Bits, Grid};
use glam::DVec3;
use rayon::prelude::*;
use std::ops::Range;
use ulmix_mesh::parted::split_off;
use ulmix_mesh::TriMesh;

/// Layers of a slab.
const DEPTH: usize = 8;

/// Whole when not cancelled. Vertices and triangles of layers of which too little is known stay
/// blank.
pub(super) fn mesh(
    grid: &Grid,
    bits: &Bits,
    cells: &Cells,
    crossings: &[EdgeCrossing],
    shape: &dyn Shape,
    care: Care,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> (Quads, Vec<Placed>) {
    let (to_place, to_join) = (cells.placeable(), cells.joinable());
    let mut points = blank(DVec3::ZERO, cells.vertex_count());
    let mut placed = blank(Placed::default(), points.len());
    let mut triangles = blank([0u32; 3], cells.cut_count() * 2);
    let placing = VertexPlacing::new(grid, cells, crossings, shape, care);
    let joining = Joining::new(grid, bits, cells, (care == Care::Full).then_some(shape));

    // Rows of cells, slab by slab.
    let all = cells.layers();
    let layers = all.clone().step_by(DEPTH).map(|k| k..(k + DEPTH).min(all.end));
    let slabs: Vec<Range<usize>> = layers.map(|layers| cells.rows_of(layers)).collect();
    let slots = |rows: Range<usize>| 2 * cells.cuts_in(rows).len();
    // Triangles of a slab's first layer ask for vertices of the slab before: they come later.
    let first_layer = |slab: &Range<usize>| slab.start..slab.start + cells.rows();
    let rest = |slab: &Range<usize>| slab.start + cells.rows()..slab.end;
    let mut left = &mut triangles[..];
    let (first, later): (Vec<_>, Vec<_>) = slabs
        .iter()
        .map(|slab| {
            (
                split_off(&mut left, slots(first_layer(slab))),
                split_off(&mut left, slots(rest(slab))),
            )
        })
        .unzip();
    let count = cells.cell_count();
    let mut careful = vec![0u64; cells.layers().len() * cells.rows() * cells.words()];
    {
        let (firsts, others) = points.split_at_mut(count);
        let (firsts_placed, others_placed) = placed.split_at_mut(count);
        let of_cells = |slab: &Range<usize>| cells.cells_in(slab.clone());
        let of_others = |slab: &Range<usize>| cells.extras_in(slab.clone());
        let parts = (
            &slabs,
            lists(firsts, firsts_placed, || slabs.iter().map(|slab| of_cells(slab).len())),
            lists(others, others_placed, || slabs.iter().map(|slab| of_others(slab).len())),
            parted(&mut careful, slabs.iter().map(|slab| slab.len() * cells.words())),
            later,
        );
        parts.into_par_iter().for_each(|(slab, mut firsts, mut others, careful, mut triangles)| {
            let (first, first_other) = (of_cells(slab).start, of_others(slab).start);
            let mut smooth = RowPoints::default();
            for row in slab.clone() {
                if cancelled() {
                    return;
                }
                let (j, k) = cells.row_at(row);
                let own = |all: Range<usize>, from: usize| all.start - from..all.end - from;
                let words = (row - slab.start) * cells.words();
                let halves = rest(slab)
                    .contains(&row)
                    .then(|| split_off(&mut triangles, slots(row..row + 1)));
                if !to_place.contains(&(k as usize)) {
                    continue;
                }
                let into = RowSlots {
                    firsts: firsts.stretch(own(of_cells(&(row..row + 1)), first)),
                    others: others.stretch(own(of_others(&(row..row + 1)), first_other)),
                    careful: &mut careful[words..words + cells.words()],
                };
                placing.row(j, k, into, &mut smooth);
                if let Some(halves) = halves.filter(|_| to_join.contains(&(k as usize))) {
                    let seen = Seen {
                        firsts: Listed {
                            points: firsts.points,
                            placed: firsts.placed,
                            from: first,
                        },
                        others: Listed {
                            points: others.points,
                            placed: others.placed,
                            from: first_other,
                        },
                        careful,
                        first_row: slab.start,
                    };
                    joining.row(j, k, &seen, halves);
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
            let halves = split_off(&mut triangles, slots(row..row + 1));
            if to_join.contains(&(k as usize)) {
                joining.row(j, k, &seen, halves);
            }
        }
    });
    let unsettled = joining.unsettled();
    (Quads { mesh: TriMesh { points, triangles }, unsettled }, placed)
}

/// A long list, begun by all threads: where its memory is new to the process, that is half of the
/// work.
fn blank<T: Copy + Send + Sync>(value: T, count: usize) -> Vec<T> {
    (0..count).into_par_iter().with_min_len(1 << 16).map(|_| value).collect()
}

/// Vertices in stretches of these lengths.
fn lists<'a, L: Iterator<Item = usize>>(
    points: &'a mut [DVec3],
    placed: &'a mut [Placed],
    lengths: impl Fn() -> L,
) -> Vec<PlaceSlots<'a>> {
    let both = parted(points, lengths()).into_iter().zip(parted(placed, lengths()));
    both.map(|(points, placed)| PlaceSlots { points, placed }).collect()
}

/// A list in pieces of these lengths.
fn parted<T>(mut list: &mut [T], lengths: impl Iterator<Item = usize>) -> Vec<&mut [T]> {
    lengths.map(|length| split_off(&mut list, length)).collect()
}
