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
use ulmix_mesh::TriMesh;

/// Layers of a slab.
const DEPTH: usize = 8;

/// Some layers with room for what is theirs.
struct Slab<'a> {
    layers: Range<usize>,
    points: &'a mut [DVec3],
    placed: &'a mut [Placed],
    triangles: &'a mut [[u32; 3]],
}

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
    slabs(cells, &mut points, &mut placed, &mut triangles).into_par_iter().for_each(|slab| {
        let start = slab.layers.start;
        let first = cells.first_vertex(0, start as u32);
        let mut smooth = RowPoints::default();
        let mut rows = Rows::default();
        let mut triangles = slab.triangles;
        for (j, k) in rows_of(cells, slab.layers.clone()) {
            if cancelled() {
                return;
            }
            let own = cells.vertices_of(j, k);
            let own = own.start - first..own.end - first;
            placing.row(j, k, &mut slab.points[own.clone()], &mut slab.placed[own], &mut smooth);
            let (slots, rest) = std::mem::take(&mut triangles).split_at_mut(2 * cells.cuts_of(j, k).len());
            triangles = rest;
            // Triangles of the first layer ask for vertices of the slab before: they come later.
            if k as usize > start {
                joining.row(j, k, &Seen { points: slab.points, placed: slab.placed, first }, &mut rows, slots);
            }
        }
    });
    let seen = Seen { points: &points, placed: &placed, first: 0 };
    slabs(cells, &mut [], &mut [], &mut triangles).into_par_iter().for_each(|slab| {
        let mut rows = Rows::default();
        let mut triangles = slab.triangles;
        for (j, k) in rows_of(cells, slab.layers.start..slab.layers.start + 1) {
            let (slots, rest) = std::mem::take(&mut triangles).split_at_mut(2 * cells.cuts_of(j, k).len());
            triangles = rest;
            if !cancelled() {
                joining.row(j, k, &seen, &mut rows, slots);
            }
        }
    });
    let unsettled = joining.unsettled();
    (Quads { mesh: TriMesh { points, triangles }, unsettled }, placed)
}

fn rows_of(cells: &Cells, layers: Range<usize>) -> impl Iterator<Item = (u32, u32)> {
    let rows = cells.rows() as u32;
    layers.flat_map(move |k| (0..rows).map(move |j| (j, k as u32)))
}

/// All layers, with the slots of each; lists of vertices may be left out.
fn slabs<'a>(
    cells: &Cells,
    mut points: &'a mut [DVec3],
    mut placed: &'a mut [Placed],
    mut triangles: &'a mut [[u32; 3]],
) -> Vec<Slab<'a>> {
    let mut out = Vec::with_capacity(cells.layers().div_ceil(DEPTH));
    for start in (0..cells.layers()).step_by(DEPTH) {
        let layers = start..(start + DEPTH).min(cells.layers());
        let vertices = cells.vertices_in(layers.clone()).len();
        let cuts = cells.cuts_in(layers.clone()).len();
        let mut slab = Slab { layers, points: &mut [], placed: &mut [], triangles: &mut [] };
        if !points.is_empty() {
            (slab.points, points) = points.split_at_mut(vertices);
            (slab.placed, placed) = placed.split_at_mut(vertices);
        }
        (slab.triangles, triangles) = triangles.split_at_mut(2 * cuts);
        out.push(slab);
    }
    out
}
