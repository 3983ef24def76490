//! The cells that the surface passes: found a word of 64 at a time, numbered in the order of
//! layers, rows and x, so that everything after is an array lookup.

use super::tables::{tables, Loops};
use super::{Edge, Hit, Shape};
use crate::grid::{Bits, Grid};
use glam::{IVec3, UVec3};
use rayon::prelude::*;

/// Cells with corners on both sides. The cell `(i, j, k)` has its low corner at that sample and owns
/// the three grid edges that start there.
pub struct Cells {
    words: usize,
    rows: usize,
    layers: usize,
    /// One bit per cell.
    mask: Vec<u64>,
    /// Cells before each word of `mask`.
    rank: Vec<u32>,
    /// Corner signs per cell.
    pub config: Vec<u8>,
    /// A smooth field alone decides in the cell.
    pub smooth: Vec<bool>,
    turned: Vec<bool>,
    pub first_vertex: Vec<u32>,
    pub first_hit: Vec<u32>,
    pub vertex_count: usize,
    pub hit_count: usize,
}

impl Cells {
    pub fn find(grid: &Grid, bits: &Bits, smooth: Option<&Bits>) -> Cells {
        let (words, rows, layers) = (bits.words(), bits.rows() - 1, bits.layers() - 1);
        let mut mask = vec![0u64; words * rows * layers];
        mask.par_chunks_mut(words * rows).enumerate().for_each(|(k, layer)| {
            for (j, out) in layer.chunks_mut(words).enumerate() {
                let quad = [bits.row(j, k), bits.row(j + 1, k), bits.row(j, k + 1), bits.row(j + 1, k + 1)];
                for (w, slot) in out.iter_mut().enumerate() {
                    let (mut any, mut all) = (0, !0);
                    for row in quad {
                        let shifted = shifted(row, w);
                        any |= row[w] | shifted;
                        all &= row[w] & shifted;
                    }
                    *slot = any & !all;
                }
                // Cells need a sample on both ends.
                let last = grid.size.x as usize - 1;
                out[last / 64] &= !(!0u64 << (last % 64));
            }
        });
        let mut rank = Vec::with_capacity(mask.len() + 1);
        let mut total = 0u32;
        for w in &mask {
            rank.push(total);
            total += w.count_ones();
        }
        rank.push(total);
        let mut cells = Cells {
            words,
            rows,
            layers,
            mask,
            rank,
            config: Vec::new(),
            smooth: vec![false; total as usize],
            turned: vec![false; total as usize],
            first_vertex: Vec::new(),
            first_hit: Vec::new(),
            vertex_count: 0,
            hit_count: 0,
        };
        cells.config = cells.corners(bits);
        if let Some(bits) = smooth {
            cells.smooth = cells.corners(bits).into_iter().map(|c| c == 255).collect();
        }

        let t = tables();
        let mut turned = std::mem::take(&mut cells.turned);
        cells.par_rows_mut(
            &mut turned,
            |c| c as u32,
            |j, k, _, slots| {
                let mut at = 0;
                cells.each_in_row(j, k, |i, index| {
                    let face = t.pinch[cells.config[index] as usize];
                    if face != 255 {
                        let mut other = IVec3::new(i as i32, j as i32, k as i32);
                        other[face as usize / 2] += if face & 1 == 1 { 1 } else { -1 };
                        let neighbour = cells.find_index(other);
                        slots[at] = neighbour.is_some_and(|o| t.pinch[cells.config[o] as usize] == face ^ 1);
                    }
                    at += 1;
                });
            },
        );
        cells.turned = turned;

        let (mut vertices, mut hits) = (0u32, 0u32);
        cells.first_vertex.reserve(total as usize + 1);
        cells.first_hit.reserve(total as usize + 1);
        for c in 0..total as usize {
            cells.first_vertex.push(vertices);
            cells.first_hit.push(hits);
            vertices += cells.loops(c).count as u32;
            hits += cells.cut(c).count_ones();
        }
        cells.first_vertex.push(vertices);
        cells.first_hit.push(hits);
        (cells.vertex_count, cells.hit_count) = (vertices as usize, hits as usize);
        cells
    }

    /// Which of every cell's eight corner samples are set.
    fn corners(&self, bits: &Bits) -> Vec<u8> {
        let mut out = vec![0; self.config_len()];
        self.par_rows_mut(
            &mut out,
            |c| c as u32,
            |j, k, _, slots| {
                let (j, k) = (j as usize, k as usize);
                let quad = [bits.row(j, k), bits.row(j + 1, k), bits.row(j, k + 1), bits.row(j + 1, k + 1)];
                let mut at = 0;
                self.each_in_row(j as u32, k as u32, |i, _| {
                    let (w, b) = (i as usize / 64, i % 64);
                    slots[at] = quad.iter().enumerate().fold(0, |c, (n, row)| {
                        let two = (row[w] >> b & 1) | (shifted(row, w) >> b & 1) << 1;
                        c | (two as u8) << (2 * n)
                    });
                    at += 1;
                });
            },
        );
        out
    }

    pub fn loops(&self, cell: usize) -> &'static Loops {
        let t = tables();
        let table = if self.turned[cell] { &t.turned } else { &t.plain };
        &table[self.config[cell] as usize]
    }

    /// Which of the cell's own three edges are cut: bits x, y, z.
    pub fn cut(&self, cell: usize) -> u8 {
        let c = self.config[cell];
        let from = |corner: u8| (c ^ c >> corner) & 1;
        from(1) | from(2) << 1 | from(4) << 2
    }

    /// Number of a cell that the surface passes.
    pub fn index(&self, c: IVec3) -> usize {
        let word = (c.z as usize * self.rows + c.y as usize) * self.words + c.x as usize / 64;
        let below = self.mask[word] & !(!0u64 << (c.x % 64));
        (self.rank[word] + below.count_ones()) as usize
    }

    /// Number of a cell, if the surface passes it.
    pub fn find_index(&self, c: IVec3) -> Option<usize> {
        let within = c.min_element() >= 0
            && (c.x as usize) < self.words * 64
            && (c.y as usize) < self.rows
            && (c.z as usize) < self.layers;
        let set = within && {
            let word = (c.z as usize * self.rows + c.y as usize) * self.words + c.x as usize / 64;
            self.mask[word] >> (c.x % 64) & 1 == 1
        };
        set.then(|| self.index(c))
    }

    /// Number of the hit on the edge along `axis` from sample `owner`; `cell` is the asking cell
    /// and `edge` the edge's number there.
    pub fn hit_of(&self, owner: IVec3, axis: usize, cell: usize, edge: usize) -> usize {
        let owner = if edge.is_multiple_of(4) { cell } else { self.index(owner) };
        let before = self.cut(owner) & ((1 << axis) - 1);
        (self.first_hit[owner] + before.count_ones()) as usize
    }

    /// Calls `f(i, number)` for the cells of a row.
    pub fn each_in_row(&self, j: u32, k: u32, mut f: impl FnMut(u32, usize)) {
        let start = (k as usize * self.rows + j as usize) * self.words;
        let mut index = self.rank[start] as usize;
        for w in 0..self.words {
            let mut m = self.mask[start + w];
            while m != 0 {
                f(64 * w as u32 + m.trailing_zeros(), index);
                m &= m - 1;
                index += 1;
            }
        }
    }

    /// Splits `out` by rows and fills the parts in parallel: `first` gives a cell's first slot, and
    /// `f(j, k, start, slots)` fills the slots of one row.
    pub fn par_rows_mut<T: Send>(
        &self,
        out: &mut [T],
        first: impl Fn(usize) -> u32 + Sync,
        f: impl Fn(u32, u32, usize, &mut [T]) + Sync,
    ) {
        let total = out.len();
        let start_of = |row: usize| {
            let cell = self.rank[row * self.words] as usize;
            if cell == self.config_len() {
                total
            } else {
                first(cell) as usize
            }
        };
        self.fill_rows(0, self.rows * self.layers, 0, out, &start_of, &f);
    }

    fn config_len(&self) -> usize {
        self.rank.last().map_or(0, |r| *r as usize)
    }

    fn fill_rows<T: Send>(
        &self,
        from: usize,
        to: usize,
        offset: usize,
        out: &mut [T],
        start_of: &(impl Fn(usize) -> usize + Sync),
        f: &(impl Fn(u32, u32, usize, &mut [T]) + Sync),
    ) {
        if out.is_empty() {
            return;
        }
        if to - from == 1 {
            return f((from % self.rows) as u32, (from / self.rows) as u32, offset, out);
        }
        let mid = (from + to) / 2;
        let at = start_of(mid) - offset;
        let (l, r) = out.split_at_mut(at);
        let mut left = || self.fill_rows(from, mid, offset, l, start_of, f);
        let mut right = || self.fill_rows(mid, to, offset + at, r, start_of, f);
        if to - from > 64 {
            rayon::join(left, right);
        } else {
            left();
            right();
        }
    }

    /// The exact hit of every cut edge of a cell that is not smooth.
    pub fn hits(&self, grid: &Grid, shape: &dyn Shape, cancelled: &(dyn Fn() -> bool + Sync)) -> Vec<Hit> {
        let mut out = vec![Hit { t: 0.5, normal: [0.0; 3], firm: false }; self.hit_count];
        self.par_rows_mut(
            &mut out,
            |c| self.first_hit[c],
            |j, k, _, slots| {
                if cancelled() {
                    return;
                }
                let mut at = 0;
                self.each_in_row(j, k, |i, index| {
                    let cut = self.cut(index);
                    let low_at = UVec3::new(i, j, k);
                    for axis in 0..3 {
                        if cut >> axis & 1 == 0 {
                            continue;
                        }
                        if !self.smooth[index] || self.beside_exact(low_at.as_ivec3(), axis) {
                            let mut high_at = low_at;
                            high_at[axis] += 1;
                            let from_low = self.config[index] & 1 == 1;
                            let (inside_at, outside_at) = if from_low { (low_at, high_at) } else { (high_at, low_at) };
                            let at_sample = |s: UVec3| grid.at(s.x, s.y, s.z);
                            let (inside, outside) = (at_sample(inside_at), at_sample(outside_at));
                            slots[at] = shape.hit(&Edge { inside, outside, inside_at, outside_at });
                        }
                        at += 1;
                    }
                });
            },
        );
        out
    }

    /// Does one of the other three cells around the edge along `axis` from `low` need its hit?
    fn beside_exact(&self, low: IVec3, axis: usize) -> bool {
        let (u, v) = ((axis + 1) % 3, (axis + 2) % 3);
        [(1, 0), (0, 1), (1, 1)].into_iter().any(|(du, dv)| {
            let mut c = low;
            c[u] -= du;
            c[v] -= dv;
            !self.smooth[self.index(c)]
        })
    }
}

/// Word `w` of a row moved down by one sample.
fn shifted(row: &[u64], w: usize) -> u64 {
    row[w] >> 1 | row.get(w + 1).copied().unwrap_or(0) << 63
}
