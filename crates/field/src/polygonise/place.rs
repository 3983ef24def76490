//! One vertex per loop, placed row by row.

use super::cells::Cells;
use super::hold::drawn_in;
use super::tables::{edge_corners, tables};
use super::vertex::{leaves_cell, Placed, Planes, MARGIN};
use super::{Care, EdgeCrossing, RowPoints, Shape};
use crate::grid::Grid;
use glam::{DVec3, IVec3, Vec3};
use std::collections::BTreeMap;
use std::ops::Range;

/// What the vertices of any row are placed from.
pub(super) struct VertexPlacing<'a> {
    pub grid: &'a Grid,
    pub cells: &'a Cells,
    crossings: &'a [EdgeCrossing],
    shape: &'a dyn Shape,
    care: Care,
    allows_overshoot: bool,
    /// Points to pass through, by rows of cells.
    fixed_points: BTreeMap<(i32, i32), Vec<DVec3>>,
}

/// Where the vertices of a row go: the first ones of its cells, and the others.
pub(super) struct RowSlots<'a> {
    pub firsts: PlaceSlots<'a>,
    pub others: PlaceSlots<'a>,
    /// By place of the row: set where a vertex is unsettled or the cell has several.
    pub careful: &'a mut [u64],
}

/// A stretch of the vertices, to be filled.
pub(super) struct PlaceSlots<'a> {
    pub points: &'a mut [DVec3],
    pub placed: &'a mut [Placed],
}

impl PlaceSlots<'_> {
    /// Some of them.
    pub(super) fn stretch(&mut self, of: Range<usize>) -> PlaceSlots<'_> {
        PlaceSlots { points: &mut self.points[of.clone()], placed: &mut self.placed[of] }
    }

    fn set(&mut self, n: usize, (point, placed): (DVec3, Placed)) {
        (self.points[n], self.placed[n]) = (point, placed);
    }
}

impl RowSlots<'_> {
    fn set_careful(&mut self, i: u32) {
        self.careful[i as usize / 64] |= 1 << (i % 64);
    }
}

/// Where planes meet so far past the border, in steps, they are not those of one edge or corner.
const STRAY: f64 = 0.2;

/// Does a place lie in its cell?
#[inline(always)]
fn is_within(local: [f32; 3]) -> bool {
    let [x, y, z] = local.map(|v| (0.0..=1.0).contains(&v));
    x & y & z
}

impl<'a> VertexPlacing<'a> {
    pub(super) fn new(
        grid: &'a Grid,
        cells: &'a Cells,
        crossings: &'a [EdgeCrossing],
        shape: &'a dyn Shape,
        care: Care,
    ) -> VertexPlacing<'a> {
        let mut fixed_points: BTreeMap<_, Vec<DVec3>> = BTreeMap::new();
        if care == Care::Full {
            for p in shape.fixed_points() {
                let low = ((p - grid.origin) / grid.step).floor().as_ivec3();
                fixed_points.entry((low.y, low.z)).or_default().push(p);
            }
        }
        VertexPlacing {
            grid,
            cells,
            crossings,
            shape,
            care,
            allows_overshoot: shape.allows_overshoot(),
            fixed_points,
        }
    }

    /// Fills the slots of a row of cells: of their first vertices, and of the others. `smooth` is
    /// room to work in.
    pub(super) fn row(&self, j: u32, k: u32, mut slots: RowSlots, smooth: &mut RowPoints) {
        let (cells, grid, t) = (self.cells, self.grid, tables());
        let row = cells.row_number(j, k);
        let kinds = cells.kinds(row);
        let count = kinds.len();
        smooth.begin(j, k, count + slots.others.points.len());
        let mut starts = smooth.starts();
        cells.places_in_row(j, k, &mut starts.i[..count]);
        let (mut any, mut any_several) = (false, false);
        {
            let [x, y, z] = starts.local.each_mut().map(|list| &mut list[..count]);
            let outside = &mut starts.outside[..count];
            for (n, kind) in kinds.iter().enumerate() {
                let start = &t.starts[kind.pattern()][0];
                [x[n], y[n], z[n]] = start.mean;
                outside[n] = start.outside;
                any |= kind.is_smooth();
                any_several |= kind.has_several();
            }
        }
        let mut other = count;
        for (n, kind) in
            kinds.iter().enumerate().filter(|(_, kind)| any_several && kind.has_several())
        {
            let i = starts.i[n];
            for start in &t.starts[kind.pattern()][1..t.loops[kind.pattern()].count as usize] {
                starts.set(other, i, start);
                other += 1;
            }
            slots.set_careful(i);
        }
        if any {
            smooth.pad();
            self.shape.project(smooth);
        }
        let [x, y, z] = smooth.places().map(|list| &list[..count]);
        let (step, corner) = (grid.step, grid.at(0, j, k));
        // Of all as of smooth ones that stay in their cells: nearly all of them are.
        for (n, (point, &i)) in slots.firsts.points.iter_mut().zip(&smooth.i[..count]).enumerate() {
            let along = grid.origin.x + step * i as f64;
            *point = DVec3::new(
                along + x[n] as f64 * step,
                corner.y + y[n] as f64 * step,
                corner.z + z[n] as f64 * step,
            );
        }
        let first_index = cells.cells_in(row..row + 1).start;
        other = count;
        for (n, kind) in kinds.iter().enumerate() {
            let local = [x[n], y[n], z[n]];
            if kind.is_smooth() && !kind.has_several() && is_within(local) {
                continue;
            }
            let i = smooth.i[n];
            let corner = grid.at(i, j, k);
            slots.firsts.set(n, self.one([i, j, k], first_index + n, 0, local, corner));
            let mut unsettled = slots.firsts.placed[n].unsettled();
            for l in 1..t.loops[kind.pattern()].count as usize {
                let local = smooth.local(other).to_array();
                slots
                    .others
                    .set(other - count, self.one([i, j, k], first_index + n, l, local, corner));
                unsettled |= slots.others.placed[other - count].unsettled();
                other += 1;
            }
            if unsettled {
                slots.set_careful(i);
            }
        }
        for &pin in self.fixed_points.get(&(j as i32, k as i32)).into_iter().flatten() {
            self.pin(pin, &mut slots.firsts);
        }
    }

    /// A vertex of any cell. In steps from the cell's `corner` the smooth field's lies at `local`.
    #[inline(never)]
    fn one(
        &self,
        [i, j, k]: [u32; 3],
        index: usize,
        of: usize,
        local: [f32; 3],
        corner: DVec3,
    ) -> (DVec3, Placed) {
        let (cells, step) = (self.cells, self.grid.step);
        if !cells.is_smooth(index) {
            return self.exact(IVec3::new(i as i32, j as i32, k as i32), index, of, corner);
        }
        let kept =
            Vec3::from(local).clamp(Vec3::splat(-MARGIN as f32), Vec3::splat(1.0 + MARGIN as f32));
        let point = corner + kept.as_dvec3() * step;
        if is_within(local) || self.allows_overshoot && !cells.beside_exact(i, j, k) {
            return (point, Placed::default());
        }
        // Past its cell a vertex may also be past the part's surface.
        let confined = if self.care == Care::Quick { point } else { self.shape.confine(point) };
        let shift = (confined - point) / step;
        (confined, Placed::at(kept.as_dvec3(), cells.mean(index, of) - shift, false))
    }

    /// A vertex of a cell that needs hits.
    fn exact(&self, low: IVec3, index: usize, of: usize, corner: DVec3) -> (DVec3, Placed) {
        let step = self.grid.step;
        let spot = self.planes(low, index, self.cells.loops(index).edges[of]).place();
        let p = corner + spot.local * step;
        // A border that no edge of the loop shows may run through the cell where planes meet.
        let strays =
            || leaves_cell(spot.local) || spot.crease && self.shape.value(p) > STRAY * step;
        let point = match self.care {
            Care::Quick => p,
            Care::Full if spot.on_face => p,
            Care::Full if strays() => drawn_in(self.shape, p, step),
            Care::Full => self.shape.confine(p),
        };
        let shift = (point - p) / step;
        (point, Placed::at(spot.local, spot.mean - shift, spot.crease))
    }

    /// Moves the one vertex of a pin's cell, which is of the row, onto the pin.
    fn pin(&self, p: DVec3, slots: &mut PlaceSlots) {
        let (cells, grid) = (self.cells, self.grid);
        let local = (p - grid.origin) / grid.step;
        let low = local.floor();
        let Some(cell) = cells.find_index(low.as_ivec3()) else { return };
        let row = cells.row_number(low.y as u32, low.z as u32);
        let v = cell - cells.cells_in(row..row + 1).start;
        if !cells.has_several(cell)
            && slots.placed[v].crease()
            && slots.points[v].distance(p) < grid.step
        {
            let mean = (slots.points[v] - grid.origin) / grid.step + slots.placed[v].to_mean();
            slots.points[v] = p;
            slots.placed[v] = Placed::at(local - low, mean - low, true);
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
            let crossing =
                &self.crossings[self.cells.hit_of(at + IVec3::from(off), axis, index, e)];
            let mut p = DVec3::from(off.map(|o| o as f64));
            // Hits run from the inside sample.
            let from_low = self.cells.config(index) >> edge_corners(e).0 & 1 == 1;
            p[axis] = if from_low { crossing.t as f64 } else { 1.0 - crossing.t as f64 };
            planes.add(p, crossing.normal, crossing.constrained);
        }
        planes
    }
}
