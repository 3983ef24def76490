//! The cells that the surface passes, numbered in the order of layers, rows and x, so that all that
//! is asked of them is an array lookup. [`find`] finds them.

mod find;

use super::slots::Slots;
use super::tables::{tables, Loops};
use super::words::rank;
use super::{Edge, EdgeCrossing, Shape};
use crate::grid::Grid;
use glam::{DVec3, IVec3, UVec3, Vec3};
use std::ops::Range;

/// Cells with corners on both sides. The cell `(i, j, k)` has its low corner at that sample and
/// owns the three grid edges that start there.
pub(super) struct Cells {
    words: usize,
    rows: usize,
    /// The layers that were looked at, and how many the grid has.
    layers: Range<usize>,
    of_grid: usize,
    /// One bit per cell.
    mask: Vec<u64>,
    /// Cells before each word of `mask`.
    rank: Vec<u32>,
    kind: Vec<CellCase>,
    /// One bit per cell of the grid: some cell around its low corner is not smooth, so that its own
    /// three edges need hits.
    exact: Vec<u64>,
    /// Cells with several vertices, in order: their number and that of their second vertex. A
    /// cell's first vertex has the cell's number; the others come after all those.
    several: Vec<[u32; 2]>,
    /// What lies before each row of cells, and all of it at the end.
    before: Vec<Count>,
    /// Cells with hits of their own before each word of `mask`, and hits before each of those
    /// cells.
    exact_rank: Vec<u32>,
    first_hit: Vec<u32>,
}

/// A cell's corner signs, and what else is known of it.
#[derive(Clone, Copy)]
pub(super) struct CellCase(u16);

impl CellCase {
    /// Corner signs.
    #[inline(always)]
    fn config(self) -> u8 {
        self.0 as u8
    }

    /// Number of its sign pattern and rule, into tables of 512.
    #[inline(always)]
    pub(super) fn pattern(self) -> usize {
        (self.0 & (TURNED | 255)) as usize
    }

    #[inline(always)]
    pub(super) fn is_smooth(self) -> bool {
        self.0 & SMOOTH != 0
    }

    #[inline(always)]
    pub(super) fn has_several(self) -> bool {
        self.0 & SEVERAL != 0
    }
}

/// The cell uses the opposite rule on ambiguous faces.
const TURNED: u16 = 1 << 8;
/// A smooth field alone decides in the cell.
const SMOOTH: u16 = 1 << 9;
/// The cell has more than one vertex.
const SEVERAL: u16 = 1 << 10;

impl Cells {
    /// Does the cell touch one that has more than a smooth field?
    pub(super) fn beside_exact(&self, i: u32, j: u32, k: u32) -> bool {
        (0..8).any(|n| {
            let (i, j, k) = (i + (n & 1), j + (n >> 1 & 1), k + (n >> 2));
            let within = (i as usize) < 64 * self.words
                && (j as usize) < self.rows
                && self.layers.contains(&(k as usize));
            within && self.is_exact(self.row_number(j, k), i)
        })
    }

    /// Words of a row.
    pub(super) fn words(&self) -> usize {
        self.words
    }

    /// Along y and z, of a row's number.
    pub(super) fn row_at(&self, row: usize) -> (u32, u32) {
        ((row % self.rows) as u32, (self.layers.start + row / self.rows) as u32)
    }

    pub(super) fn row_number(&self, j: u32, k: u32) -> usize {
        (k as usize - self.layers.start) * self.rows + j as usize
    }

    /// Numbers of the rows of some layers.
    pub(super) fn rows_of(&self, layers: Range<usize>) -> Range<usize> {
        (layers.start - self.layers.start) * self.rows..(layers.end - self.layers.start) * self.rows
    }

    /// How many rows there are.
    fn all_rows(&self) -> usize {
        self.rows * self.layers.len()
    }

    /// Has the cell at `i`, or one before it along some axes, more than a smooth field?
    pub(super) fn is_exact(&self, row: usize, i: u32) -> bool {
        self.exact[row * self.words + i as usize / 64] >> (i % 64) & 1 == 1
    }

    /// Corner signs of a cell.
    #[inline(always)]
    pub(super) fn config(&self, cell: usize) -> u8 {
        self.kind[cell].config()
    }

    /// Of the cells of a row.
    pub(super) fn kinds(&self, row: usize) -> &[CellCase] {
        &self.kind[self.cells_in(row..row + 1)]
    }

    pub(super) fn loops(&self, cell: usize) -> &'static Loops {
        &tables().loops[self.kind[cell].pattern()]
    }

    pub(super) fn is_smooth(&self, cell: usize) -> bool {
        self.kind[cell].is_smooth()
    }

    /// The middle of a loop's cut edges, in steps from the cell's low corner.
    pub(super) fn mean(&self, cell: usize, of: usize) -> DVec3 {
        Vec3::from(tables().starts[self.kind[cell].pattern()][of].mean).as_dvec3()
    }

    /// The edges that are cut of the cell's own three: bits x, y, z.
    pub(super) fn cut(&self, cell: usize) -> u8 {
        cut_edges(self.config(cell))
    }

    fn word(&self, c: IVec3) -> usize {
        self.row_number(c.y as u32, c.z as u32) * self.words + c.x as usize / 64
    }

    /// Number of a cell that the surface passes.
    pub(super) fn index(&self, c: IVec3) -> usize {
        let word = self.word(c);
        rank(self.rank[word], self.mask[word], c.x as u32 % 64)
    }

    /// Number of a cell, if the surface passes it.
    pub(super) fn find_index(&self, c: IVec3) -> Option<usize> {
        let within = c.min_element() >= 0
            && (c.x as usize) < self.words * 64
            && (c.y as usize) < self.rows
            && self.layers.contains(&(c.z as usize));
        let set = within && self.mask[self.word(c)] >> (c.x % 64) & 1 == 1;
        set.then(|| self.index(c))
    }

    /// Number of the hit on the edge along `axis` from sample `owner`; `cell` is the asking cell
    /// and `edge` the edge's number there.
    pub(super) fn hit_of(&self, owner: IVec3, axis: usize, cell: usize, edge: usize) -> usize {
        let word = self.word(owner);
        let own_hits = self.mask[word] & self.exact[word];
        let first = self.first_hit[rank(self.exact_rank[word], own_hits, owner.x as u32 % 64)];
        let owner = if edge.is_multiple_of(4) { cell } else { self.index(owner) };
        let before = self.cut(owner) & ((1 << axis) - 1);
        (first + before.count_ones()) as usize
    }

    /// Calls `f(i, number)` for the cells of a row.
    #[inline(always)]
    pub(super) fn each_in_row(&self, j: u32, k: u32, mut f: impl FnMut(u32, usize)) {
        let start = self.row_number(j, k) * self.words;
        let mut index = self.rank[start] as usize;
        for (w, &word) in self.mask[start..start + self.words].iter().enumerate() {
            let mut m = word;
            while m != 0 {
                f(64 * w as u32 + m.trailing_zeros(), index);
                m &= m - 1;
                index += 1;
            }
        }
    }

    /// Along x, of the cells of a row.
    pub(super) fn places_in_row(&self, j: u32, k: u32, out: &mut [u32]) {
        let mut out = out.iter_mut();
        let start = self.row_number(j, k) * self.words;
        for (w, &word) in self.mask[start..start + self.words].iter().enumerate() {
            let mut m = word;
            for slot in out.by_ref().take(word.count_ones() as usize) {
                *slot = 64 * w as u32 + m.trailing_zeros();
                m &= m - 1;
            }
        }
    }

    /// Calls `f` for the cells of a row that need hits on their own edges.
    fn each_exact_in_row(&self, j: u32, k: u32, mut f: impl FnMut(u32, usize)) {
        let start = self.row_number(j, k) * self.words;
        for w in start..start + self.words {
            let mut m = self.mask[w] & self.exact[w];
            while m != 0 {
                let bit = m.trailing_zeros();
                f(64 * (w - start) as u32 + bit, rank(self.rank[w], self.mask[w], bit));
                m &= m - 1;
            }
        }
    }

    /// First cell of each row.
    fn cell_starts(&self) -> impl Fn(usize) -> usize + Sync + '_ {
        |row| self.rank[row * self.words] as usize
    }

    pub(super) fn rows(&self) -> usize {
        self.rows
    }

    /// The layers whose vertices can be placed: those ask for hits one layer up.
    pub(super) fn placeable(&self) -> Range<usize> {
        let end = self.layers.end;
        self.layers.start..if end == self.of_grid { end } else { end - 1 }
    }

    /// The layers whose triangles can be made: those ask for vertices one layer down.
    pub(super) fn joinable(&self) -> Range<usize> {
        let Range { start, end } = self.placeable();
        (if start == 0 { 0 } else { start + 1 })..end
    }

    /// The layers that were looked at.
    pub(super) fn layers(&self) -> Range<usize> {
        self.layers.clone()
    }

    /// Numbers of the cells in some rows: those of their first vertices too.
    pub(super) fn cells_in(&self, rows: Range<usize>) -> Range<usize> {
        self.rank[rows.start * self.words] as usize..self.rank[rows.end * self.words] as usize
    }

    /// Numbers of the other vertices in some rows.
    pub(super) fn extras_in(&self, rows: Range<usize>) -> Range<usize> {
        let number = |row: usize| self.cell_count() + self.before[row].extras as usize;
        number(rows.start)..number(rows.end)
    }

    /// Numbers of the cut edges in some rows.
    pub(super) fn cuts_in(&self, rows: Range<usize>) -> Range<usize> {
        self.before[rows.start].cut as usize..self.before[rows.end].cut as usize
    }

    pub(super) fn cell_count(&self) -> usize {
        self.rank.last().map_or(0, |r| *r as usize)
    }

    pub(super) fn vertex_count(&self) -> usize {
        self.cell_count() + self.before.last().map_or(0, |all| all.extras as usize)
    }

    pub(super) fn has_several(&self, cell: usize) -> bool {
        self.kind[cell].has_several()
    }

    /// The vertex of a cell of a row at one of its edges.
    pub(super) fn vertex_at(&self, row: usize, cell: usize, edge: usize) -> usize {
        if !self.has_several(cell) {
            return cell;
        }
        match self.loops(cell).of_edge[edge] as usize {
            0 => cell,
            later => {
                let of_row = &self.several
                    [self.before[row].several as usize..self.before[row + 1].several as usize];
                let at = of_row.partition_point(|[c, _]| (*c as usize) < cell);
                of_row[at][1] as usize + later - 1
            }
        }
    }

    /// The cells of 64 places in a row that the surface passes, and how many there are before them.
    #[inline(always)]
    pub(super) fn word_of(&self, row: usize, word: usize) -> (u64, u32) {
        (self.mask[row * self.words + word], self.rank[row * self.words + word])
    }

    pub(super) fn cut_count(&self) -> usize {
        self.before.last().map_or(0, |all| all.cut as usize)
    }

    /// Splits `out` by rows and fills the parts in parallel: `start_of` gives a row's first slot,
    /// and `f(j, k, slots)` fills the slots of one row.
    pub(super) fn par_rows_mut<S: Slots>(
        &self,
        out: S,
        start_of: &(impl Fn(usize) -> usize + Sync),
        f: impl Fn(u32, u32, S) + Sync,
    ) {
        self.fill_rows(0, self.all_rows(), out, start_of, &f);
    }

    fn fill_rows<S: Slots>(
        &self,
        from: usize,
        to: usize,
        out: S,
        start_of: &(impl Fn(usize) -> usize + Sync),
        f: &(impl Fn(u32, u32, S) + Sync),
    ) {
        if out.is_empty() {
            return;
        }
        if to - from == 1 {
            let (j, k) = self.row_at(from);
            return f(j, k, out);
        }
        let mid = (from + to) / 2;
        let (l, r) = out.split(start_of(mid) - start_of(from), mid - from);
        let left = || self.fill_rows(from, mid, l, start_of, f);
        let right = || self.fill_rows(mid, to, r, start_of, f);
        if to - from > 64 {
            rayon::join(left, right);
        } else {
            left();
            right();
        }
    }

    /// The exact hit of every cut edge that a cell asks for that is not smooth.
    pub(super) fn edge_crossings(
        &self,
        grid: &Grid,
        shape: &dyn Shape,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Vec<EdgeCrossing> {
        let count = self.before.last().map_or(0, |all| all.crossings as usize);
        let mut out = vec![EdgeCrossing { t: 0.5, normal: [0.0; 3], constrained: false }; count];
        let starts = |row: usize| self.before[row].crossings as usize;
        self.par_rows_mut(&mut out[..], &starts, |j, k, slots| {
            if cancelled() {
                return;
            }
            let mut edges = Vec::with_capacity(slots.len());
            self.each_exact_in_row(j, k, |i, index| {
                let cut = self.cut(index);
                let low_at = UVec3::new(i, j, k);
                for axis in (0..3).filter(|axis| cut >> axis & 1 == 1) {
                    let mut high_at = low_at;
                    high_at[axis] += 1;
                    let from_low = self.config(index) & 1 == 1;
                    let (inside_at, outside_at) =
                        if from_low { (low_at, high_at) } else { (high_at, low_at) };
                    let at_sample = |s: UVec3| grid.at(s.x, s.y, s.z);
                    let (inside, outside) = (at_sample(inside_at), at_sample(outside_at));
                    edges.push(Edge { inside, outside, inside_at, outside_at });
                }
            });
            shape.edge_crossings(&edges, slots);
        });
        out
    }
}

/// What a row of cells makes.
#[derive(Clone, Copy, Default)]
struct Count {
    /// Cells with several vertices, and those of them after their first.
    several: u32,
    extras: u32,
    crossings: u32,
    cut: u32,
    /// Some cell has a pinched face.
    pinched: bool,
}

/// The edges that are cut of the three from a cell's low corner, by the cell's corner signs.
fn cut_edges(config: u8) -> u8 {
    let from = |corner: u8| (config ^ config >> corner) & 1;
    from(1) | from(2) << 1 | from(4) << 2
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grid::Bits;
    use crate::numeric::Random;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn bits_by_chance(grid: &Grid, seed: u32, share: f64) -> Bits {
        let mut bits = Bits::new(grid);
        let mut random = Random::new(seed, 0);
        let size = grid.size;
        for (k, j, i) in (1..size.z - 1).flat_map(|k| {
            (1..size.y - 1).flat_map(move |j| (1..size.x - 1).map(move |i| (k, j, i)))
        }) {
            if random.unit() < share {
                bits.set(i, j, k);
            }
        }
        bits
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn cells_edges_and_places_are_those_that_counting_one_by_one_finds(
            seed in any::<u32>(), share in 0.02..0.98f64, width in 4u32..150,
        ) {
            let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(width, 7, 9) };
            let bits = bits_by_chance(&grid, seed, share);
            let cells = Cells::find(&grid, &bits, None, 0..8);
            let corners = |c: UVec3| -> u8 {
                (0..8).map(|n| (bits.get(c.x + (n & 1), c.y + (n >> 1 & 1), c.z + (n >> 2)) as u8) << n).sum()
            };
            let mut naive: BTreeMap<usize, (UVec3, u8)> = BTreeMap::new();
            for (k, j, i) in (0..8).flat_map(|k| (0..6).flat_map(move |j| (0..width - 1).map(move |i| (k, j, i)))) {
                let c = UVec3::new(i, j, k);
                let found = cells.find_index(c.as_ivec3());
                prop_assert_eq!(found.is_some(), !matches!(corners(c), 0 | 255));
                if let Some(index) = found {
                    naive.insert(index, (c, corners(c)));
                }
            }
            // Each has a number of its own, in the order of rows, and its corners' signs.
            prop_assert_eq!(naive.len(), cells.cell_count());
            prop_assert!(naive.keys().copied().eq(0..cells.cell_count()));
            let mut cuts = 0;
            for (&index, &(c, config)) in &naive {
                prop_assert_eq!(cells.config(index), config);
                prop_assert_eq!(cells.index(c.as_ivec3()), index);
                // Its own edges lead from its low corner.
                let own = (0..3).map(|a| ((config & 1 != config >> (1 << a) & 1) as u8) << a).sum::<u8>();
                prop_assert_eq!(cells.cut(index), own);
                cuts += own.count_ones() as usize;
                let row = cells.row_number(c.y, c.z);
                prop_assert!(cells.cells_in(row..row + 1).contains(&index) && cells.row_at(row) == (c.y, c.z));
            }
            prop_assert_eq!(cells.cuts_in(0..cells.rows_of(0..8).end), 0..cuts);
        }
    }
}
