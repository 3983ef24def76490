//! Cells found a word of 64 at a time, read, and numbered.

use super::{CellCase, Cells, Count, SEVERAL, SMOOTH, TURNED};
use crate::grid::{Bits, Grid};
use crate::polygonise::slots::ByRow;
use crate::polygonise::tables::tables;
use crate::polygonise::words::{gathered, ranks, shifted, transposed};
use glam::IVec3;
use std::ops::Range;
use ulmix_mesh::parallel;
use ulmix_mesh::parted::split_off;

impl Cells {
    /// The cells of some layers. In the lowest of them it is not known which cells share a pinched
    /// face with the layer below, and in the two lowest not whether a neighbour below is smooth.
    pub(crate) fn find(
        grid: &Grid,
        bits: &Bits,
        smooth: Option<&Bits>,
        layers: Range<usize>,
    ) -> Cells {
        let (words, rows) = (bits.words(), bits.rows() - 1);
        let mut mask = vec![0u64; words * rows * layers.len()];
        parallel::chunks_mut(&mut mask, words * rows, |n, layer| {
            let k = layers.start + n;
            for (j, out) in layer.chunks_mut(words).enumerate() {
                let quad = [
                    bits.row(j, k),
                    bits.row(j + 1, k),
                    bits.row(j, k + 1),
                    bits.row(j + 1, k + 1),
                ];
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
        let rank = ranks(mask.iter().copied());
        let mut cells = Cells {
            words,
            rows,
            mask,
            rank,
            kind: Vec::new(),
            several: Vec::new(),
            exact: vec![!0; words * rows * layers.len()],
            layers,
            of_grid: bits.layers() - 1,
            before: Vec::new(),
            exact_rank: Vec::new(),
            first_hit: Vec::new(),
        };
        if let Some(bits) = smooth {
            cells.find_exact(bits);
        }
        let mut counts = cells.read(bits, smooth);
        cells.turn(&mut counts);
        cells.number(&counts);
        cells
    }

    /// Fills `exact` from the samples around which a smooth field alone decides.
    fn find_exact(&mut self, smooth: &Bits) {
        let (words, rows) = (self.words, self.rows);
        // Cells with a corner that is not smooth.
        let mut rough = vec![0u64; self.exact.len()];
        parallel::chunks_mut(&mut rough, words * rows, |n, layer| {
            let k = self.layers.start + n;
            for (j, out) in layer.chunks_mut(words).enumerate() {
                let quad = [
                    smooth.row(j, k),
                    smooth.row(j + 1, k),
                    smooth.row(j, k + 1),
                    smooth.row(j + 1, k + 1),
                ];
                for (w, slot) in out.iter_mut().enumerate() {
                    *slot = !quad.iter().fold(!0, |m, row| m & row[w] & shifted(row, w));
                }
            }
        });
        parallel::chunks_mut(&mut self.exact, words * rows, |k, layer| {
            for (j, out) in layer.chunks_mut(words).enumerate() {
                let row = |dj: usize, dk: usize| {
                    let at = (k.saturating_sub(dk) * rows + j.saturating_sub(dj)) * words;
                    &rough[at..at + words]
                };
                let quad = [row(0, 0), row(1, 0), row(0, 1), row(1, 1)];
                let mut before = 0;
                for (w, slot) in out.iter_mut().enumerate() {
                    let here = quad.iter().fold(0, |m, row| m | row[w]);
                    *slot = here | here << 1 | before >> 63;
                    before = here;
                }
            }
        });
    }

    /// Reads every cell's corners, and counts for every row.
    fn read(&mut self, bits: &Bits, smooth: Option<&Bits>) -> Vec<Count> {
        let vertices = vertex_counts();
        let is_special: [bool; 256] =
            std::array::from_fn(|c| vertices[c] > 1 || tables().pinch[c] != 255);
        let mut kind = vec![CellCase(0); self.cell_count()];
        let mut counts = vec![Count::default(); self.all_rows()];
        self.par_rows_mut(
            (&mut kind[..], ByRow(&mut counts[..])),
            &self.cell_starts(),
            |j, k, (mut slots, ByRow(count))| {
                let row = self.row_number(j, k);
                let (j, k) = (j as usize, k as usize);
                let mut sum = Count::default();
                for w in 0..self.words {
                    let mask = self.mask[row * self.words + w];
                    if mask == 0 {
                        continue;
                    }
                    let corners = corners(bits, j, k, w);
                    let smooth = smooth.map_or(0, |s| {
                        self::corners(s, j, k, w).iter().fold(!0, |m, word| m & word)
                    });
                    let cuts = [1, 2, 4].map(|beside| (corners[0] ^ corners[beside]) & mask);
                    let exact = self.exact[row * self.words + w];
                    sum.cut += cuts.iter().map(|cut| cut.count_ones()).sum::<u32>();
                    sum.crossings += cuts.iter().map(|cut| (cut & exact).count_ones()).sum::<u32>();
                    // Spelled out: `array::map` is left as calls here.
                    let mut gathered_corners = [0; 8];
                    (0..8).for_each(|c| gathered_corners[c] = gathered(corners[c], mask));
                    let mut smooth = gathered(smooth, mask);
                    for (eighth, slots) in
                        split_off(&mut slots, mask.count_ones() as usize).chunks_mut(8).enumerate()
                    {
                        let mut signs = [0; 8];
                        (0..8).for_each(|c| signs[c] = (gathered_corners[c] >> (8 * eighth)) as u8);
                        let patterns = transposed(signs);
                        for (slot, pattern) in slots.iter_mut().zip(patterns) {
                            *slot =
                                CellCase(pattern as u16 | if smooth & 1 == 1 { SMOOTH } else { 0 });
                            smooth >>= 1;
                            if is_special[pattern as usize] {
                                slot.0 |= if vertices[pattern as usize] > 1 { SEVERAL } else { 0 };
                                sum.add_cell(vertices[pattern as usize]);
                                sum.pinched |= tables().pinch[pattern as usize] != 255;
                            }
                        }
                    }
                }
                count[0] = sum;
            },
        );
        self.kind = kind;
        counts
    }

    /// Marks cells that share a pinched face from both sides: few rows have any.
    fn turn(&mut self, counts: &mut [Count]) {
        let pinch = &tables().pinch;
        let vertices = vertex_counts();
        let turned_in = |row: usize| {
            let mut found = Vec::new();
            let (j, k) = self.row_at(row);
            self.each_in_row(j, k, |i, index| {
                let face = pinch[self.config(index) as usize];
                if face != 255 {
                    let mut other = IVec3::new(i as i32, j as i32, k as i32);
                    other[face as usize / 2] += if face & 1 == 1 { 1 } else { -1 };
                    let neighbour = self.find_index(other);
                    if neighbour.is_some_and(|o| pinch[self.config(o) as usize] == face ^ 1) {
                        found.push((row, index));
                    }
                }
            });
            found
        };
        let pinched: Vec<usize> = (0..counts.len()).filter(|&row| counts[row].pinched).collect();
        let turned = parallel::flat_map(pinched.len(), |n| turned_in(pinched[n]));
        for (row, cell) in turned {
            // A pinched cell has one loop, which parts in two.
            self.kind[cell].0 |= TURNED | SEVERAL;
            counts[row].add_cell(vertices[self.kind[cell].pattern()]);
        }
    }

    /// Numbers vertices, hits and cut edges.
    fn number(&mut self, counts: &[Count]) {
        let mut sum = Count::default();
        self.before = Vec::with_capacity(counts.len() + 1);
        for n in counts {
            self.before.push(sum);
            sum = Count {
                several: sum.several + n.several,
                extras: sum.extras + n.extras,
                crossings: sum.crossings + n.crossings,
                cut: sum.cut + n.cut,
                pinched: false,
            };
        }
        self.before.push(sum);
        self.list_several();
        self.exact_rank = ranks(self.mask.iter().zip(&self.exact).map(|(m, e)| m & e));
        let mut first = vec![0u32; *self.exact_rank.last().expect("one at the end") as usize];
        let starts = |row: usize| self.exact_rank[row * self.words] as usize;
        self.par_rows_mut(&mut first[..], &starts, |j, k, slots| {
            let row = self.row_number(j, k);
            let mut slots = slots.iter_mut();
            let mut crossing = self.before[row].crossings;
            self.each_exact_in_row(j, k, |_, cell| {
                *slots.next().expect("one slot a cell") = crossing;
                crossing += self.cut(cell).count_ones();
            });
        });
        self.first_hit = first;
    }

    /// Lists the cells with several vertices, which few rows have, and numbers those.
    fn list_several(&mut self) {
        let cells = &*self;
        let of_row = |row: usize| {
            let mut next = cells.extras_in(row..row).start as u32;
            let several = cells.cells_in(row..row + 1).filter(|&cell| cells.has_several(cell));
            several.map(move |cell| {
                let first = next;
                next += cells.loops(cell).count as u32 - 1;
                [cell as u32, first]
            })
        };
        let has_some = |row: &usize| self.before[row + 1].several > self.before[*row].several;
        let some: Vec<usize> = (0..self.all_rows()).filter(has_some).collect();
        self.several = parallel::flat_map(some.len(), |n| of_row(some[n]));
    }
}

impl Count {
    /// Adds a cell with so many vertices.
    fn add_cell(&mut self, vertices: u8) {
        self.several += (vertices > 1) as u32;
        self.extras += vertices as u32 - 1;
    }
}

/// Samples at the corners of the cells of a word: bit `i` of the n-th word is the sample at corner
/// `n` of cell `i`.
#[inline(always)]
fn corners(bits: &Bits, j: usize, k: usize, w: usize) -> [u64; 8] {
    let mut out = [0; 8];
    for (n, (j, k)) in [(j, k), (j + 1, k), (j, k + 1), (j + 1, k + 1)].into_iter().enumerate() {
        let row = bits.row(j, k);
        (out[2 * n], out[2 * n + 1]) = (row[w], shifted(row, w));
    }
    out
}

/// Vertices by sign pattern: small enough to stay near the processor.
fn vertex_counts() -> [u8; 512] {
    std::array::from_fn(|pattern| tables().loops[pattern].count)
}
