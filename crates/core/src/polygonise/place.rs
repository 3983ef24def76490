//! One vertex per loop, placed row by row.

use super::cells::Cells;
use super::tables::{edge_corners, tables};
use super::vertex::{Placed, Planes, MARGIN};
use super::{Care, Hit, RowPoints, Shape};
use crate::grid::Grid;
use glam::{DVec3, IVec3, Vec3};
use std::collections::BTreeMap;

/// What the vertices of any row are placed from.
pub struct Placing<'a> {
    pub grid: &'a Grid,
    pub cells: &'a Cells,
    hits: &'a [Hit],
    shape: &'a dyn Shape,
    care: Care,
    roomy: bool,
    /// Points to pass through, by rows of cells.
    pins: BTreeMap<(i32, i32), Vec<DVec3>>,
}

impl<'a> Placing<'a> {
    pub fn new(grid: &'a Grid, cells: &'a Cells, hits: &'a [Hit], shape: &'a dyn Shape, care: Care) -> Placing<'a> {
        let mut pins: BTreeMap<_, Vec<DVec3>> = BTreeMap::new();
        if care == Care::Full {
            for p in shape.pins() {
                let low = ((p - grid.origin) / grid.step).floor().as_ivec3();
                pins.entry((low.y, low.z)).or_default().push(p);
            }
        }
        Placing { grid, cells, hits, shape, care, roomy: shape.roomy(), pins }
    }

    /// Fills the slots of a row of cells, in the order of cells and loops. `smooth` is room to work in.
    pub fn row(&self, j: u32, k: u32, points: &mut [DVec3], placed: &mut [Placed], smooth: &mut RowPoints) {
        let (cells, grid, t) = (self.cells, self.grid, tables());
        smooth.begin(j, k, points.len());
        let (mut at, mut any) = (0, false);
        cells.each_in_row(j, k, |i, index| {
            any |= cells.is_smooth(index);
            let pattern = cells.pattern(index);
            for l in 0..t.loops[pattern].count as usize {
                smooth.set(at, i, &t.starts[pattern][l]);
                at += 1;
            }
        });
        if any {
            smooth.pad();
            self.shape.project(smooth);
        }
        at = 0;
        cells.each_in_row(j, k, |i, index| {
            let loops = &t.loops[cells.pattern(index)];
            let corner = grid.at(i, j, k);
            for l in 0..loops.count as usize {
                if cells.is_smooth(index) {
                    let local = smooth.local(at).clamp(Vec3::splat(-MARGIN as f32), Vec3::splat(1.0 + MARGIN as f32));
                    points[at] = corner + local.as_dvec3() * grid.step;
                    let left = local.min_element() < 0.0 || local.max_element() > 1.0;
                    if left && (!self.roomy || cells.beside_exact(i, j, k)) {
                        let mean = Vec3::from(t.starts[cells.pattern(index)][l].mean);
                        placed[at] = Placed::at(local.as_dvec3(), mean.as_dvec3(), false);
                    }
                } else {
                    let low = IVec3::new(i as i32, j as i32, k as i32);
                    let spot = self.planes(low, index, loops.edges[l]).place();
                    let p = corner + spot.local * grid.step;
                    points[at] = if spot.on_face || self.care == Care::Quick { p } else { self.shape.confine(p) };
                    let shift = (points[at] - p) / grid.step;
                    placed[at] = Placed::at(spot.local, spot.mean - shift, spot.crease);
                }
                at += 1;
            }
        });
        for &pin in self.pins.get(&(j as i32, k as i32)).into_iter().flatten() {
            self.pin(pin, points, placed);
        }
    }

    /// Moves the one vertex of a pin's cell, which is of the row, onto the pin.
    fn pin(&self, p: DVec3, points: &mut [DVec3], placed: &mut [Placed]) {
        let (cells, grid) = (self.cells, self.grid);
        let local = (p - grid.origin) / grid.step;
        let low = local.floor();
        let Some(cell) = cells.find_index(low.as_ivec3()) else { return };
        let low_at = low.as_uvec3();
        let v = cells.vertex_of(low_at) - cells.first_vertex(low_at.y, low_at.z);
        if cells.loops(cell).count == 1 && placed[v].crease() && points[v].distance(p) < grid.step {
            let mean = (points[v] - grid.origin) / grid.step + placed[v].to_mean();
            points[v] = p;
            placed[v] = Placed::at(local - low, mean - low, true);
        }
    }

    /// Hits of a loop of the cell at `at`, in steps from its low corner.
    fn planes(&self, at: IVec3, index: usize, edges: u16) -> Planes {
        let mut planes = Planes::default();
        let mut mask = edges;
        while mask != 0 {
            let e = mask.trailing_zeros() as usize;
            mask &= mask - 1;
            let (axis, b, c) = (e / 4, e as i32 & 1, e as i32 >> 1 & 1);
            let mut off = [0i32; 3];
            off[(axis + 1) % 3] = b;
            off[(axis + 2) % 3] = c;
            let hit = &self.hits[self.cells.hit_of(at + IVec3::from(off), axis, index, e)];
            let mut p = DVec3::from(off.map(|o| o as f64));
            // Hits run from the inside sample.
            let from_low = self.cells.config(index) >> edge_corners(e).0 & 1 == 1;
            p[axis] = if from_low { hit.t as f64 } else { 1.0 - hit.t as f64 };
            planes.add(p, hit.normal, hit.firm);
        }
        planes
    }
}
