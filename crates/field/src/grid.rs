//! The regular grid on which a shape is sampled, and one bit per sample.

use glam::{DVec3, UVec3};
use ulmix_mesh::topology::UnionFind;
use ulmix_mesh::{parallel, Bounds};

/// Half the thickness of a wall that signs on a grid keep whole, in steps: such a wall is as thick
/// as a cell's diagonal is long.
pub const HELD: f64 = 0.85;

/// Samples at `origin + step · (i, j, k)`.
#[derive(Clone, Debug, PartialEq)]
pub struct Grid {
    /// Place of the first sample. mm.
    pub origin: DVec3,
    /// Distance of neighbouring samples. mm.
    pub step: f64,
    /// Samples along each axis; the outermost layer lies outside the sampled box.
    pub size: UVec3,
}

impl Grid {
    /// Covers `bounds` with at least one step of room on every side. The grid is shifted by odd
    /// fractions of a step, so that flat faces of a part do not lie on its planes.
    pub fn covering(bounds: &Bounds, step: f64) -> Grid {
        let shift = DVec3::new(0.382_0, 0.427_3, 0.454_7) * step;
        let origin = bounds.min - step - shift;
        let size = ((bounds.max - origin) / step).ceil().max(DVec3::ONE).as_uvec3() + 3;
        Grid { origin, step, size }
    }

    /// Place of a sample. mm.
    #[inline]
    pub fn at(&self, i: u32, j: u32, k: u32) -> DVec3 {
        self.origin + self.step * DVec3::new(i as f64, j as f64, k as f64)
    }

    /// Place of a sample by its number among all of them, x first. mm.
    #[inline]
    pub fn nth(&self, n: usize) -> DVec3 {
        let [nx, ny, _] = self.size.to_array().map(|n| n as usize);
        self.at((n % nx) as u32, (n / nx % ny) as u32, (n / (nx * ny)) as u32)
    }

    /// Samples of the whole grid.
    pub fn samples(&self) -> u64 {
        self.size.x as u64 * self.size.y as u64 * self.size.z as u64
    }

    /// 64-bit words in a row of samples along x, padded to whole bytes of 8 rows.
    #[inline]
    pub fn words(&self) -> usize {
        self.size.x.div_ceil(64) as usize
    }
}

/// The bits of word `w` of a row that lie from number `first` of the row up to `end`. The word
/// holds some of them.
#[inline]
pub fn bits_between(w: usize, first: usize, end: usize) -> u64 {
    let low = first.max(64 * w) - 64 * w;
    let high = end.min(64 * w + 64) - 64 * w;
    (!0 >> (64 - (high - low))) << low
}

/// One bit per grid sample, rows along x in whole words.
#[derive(Clone, PartialEq)]
pub struct Bits {
    words: usize,
    rows: usize,
    layers: usize,
    data: Vec<u64>,
}

impl Bits {
    /// No bit set, one for every sample of a grid.
    pub fn new(grid: &Grid) -> Bits {
        let (words, rows, layers) = (grid.words(), grid.size.y as usize, grid.size.z as usize);
        Bits { words, rows, layers, data: vec![0; words * rows * layers] }
    }

    /// Words of a row along x; sample `i` is bit `i % 64` of word `i / 64`.
    #[inline]
    pub fn row(&self, j: usize, k: usize) -> &[u64] {
        let at = (k * self.rows + j) * self.words;
        &self.data[at..at + self.words]
    }

    /// Is the bit of this sample set?
    #[inline]
    pub fn get(&self, i: u32, j: u32, k: u32) -> bool {
        self.row(j as usize, k as usize)[i as usize / 64] >> (i % 64) & 1 == 1
    }

    /// Are all eight corners of the cell at a sample held?
    #[inline]
    pub fn all_around(&self, at: UVec3) -> bool {
        let at =
            at.min(UVec3::new(64 * self.words as u32, self.rows as u32, self.layers as u32) - 2);
        let (w, b) = (at.x as usize / 64, at.x % 64);
        let start = (at.z as usize * self.rows + at.y as usize) * self.words + w;
        let pair = |from: usize| {
            let next = if b == 63 { self.data[from + 1] << 1 } else { 0 };
            (self.data[from] >> b | next) & 3
        };
        let (up, on) = (self.rows * self.words, self.words);
        pair(start) & pair(start + on) & pair(start + up) & pair(start + up + on) == 3
    }

    /// Sets the bit of this sample.
    #[inline]
    pub fn set(&mut self, i: u32, j: u32, k: u32) {
        let at = (k as usize * self.rows + j as usize) * self.words + i as usize / 64;
        self.data[at] |= 1 << (i % 64);
    }

    /// Sets the samples of a row from `first` up to `end`.
    pub fn set_between(&mut self, first: usize, end: usize, j: u32, k: u32) {
        let at = (k as usize * self.rows + j as usize) * self.words;
        if first < end {
            (first / 64..end.div_ceil(64))
                .for_each(|w| self.data[at + w] |= bits_between(w, first, end));
        }
    }

    /// The bits that are set in either.
    pub fn or(mut self, other: &Bits) -> Bits {
        self.data.iter_mut().zip(&other.data).for_each(|(own, more)| *own |= more);
        self
    }

    /// Words of a row.
    #[inline]
    pub fn words(&self) -> usize {
        self.words
    }

    /// Rows of a layer, along y.
    #[inline]
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Layers, along z.
    #[inline]
    pub fn layers(&self) -> usize {
        self.layers
    }

    /// Memory that the bits take.
    pub fn bytes(&self) -> usize {
        self.data.len() * 8
    }

    /// Bits that are set.
    pub fn count(&self) -> u64 {
        parallel::runs(self.data.len(), 1 << 16, |run| {
            self.data[run].iter().map(|w| w.count_ones() as u64).sum::<u64>()
        })
        .into_iter()
        .sum()
    }

    /// Changes every word: `f(word number, row, layer, word)`.
    pub fn par_words_mut(&mut self, f: impl Fn(usize, usize, usize, &mut u64) + Sync) {
        let (words, rows) = (self.words, self.rows);
        parallel::chunks_mut(&mut self.data, words * rows, |k, layer| {
            layer.iter_mut().enumerate().for_each(|(n, word)| f(n % words, n / words, k, word));
        });
    }

    /// The samples whose 26 neighbours are held too.
    pub fn eroded(&self) -> Bits {
        let mut out = self.clone();
        let along_x = |j: usize, k: usize, w: usize| {
            let row = self.row(j, k);
            let before = if w > 0 { row[w - 1] >> 63 } else { 0 };
            let after = row.get(w + 1).map_or(0, |next| next << 63);
            row[w] & (row[w] << 1 | before) & (row[w] >> 1 | after)
        };
        out.par_words_mut(|w, j, k, word| {
            if *word == 0 {
                return;
            }
            if j == 0 || k == 0 || j + 1 == self.rows || k + 1 == self.layers {
                *word = 0;
                return;
            }
            *word = (0..9).fold(*word, |m, n| m & along_x(j + n % 3 - 1, k + n / 3 - 1, w));
        });
        out
    }

    /// Changes every row: `f(row, layer, words)`.
    pub fn par_rows_mut(&mut self, f: impl Fn(usize, usize, &mut [u64]) + Sync) {
        let (words, rows) = (self.words, self.rows);
        parallel::chunks_mut(&mut self.data, words, |n, row| f(n % rows, n / rows, row));
    }

    /// Changes groups of `depth` whole layers: `f(first layer, words)`.
    pub fn par_layers_mut(&mut self, depth: usize, f: impl Fn(usize, &mut [u64]) + Sync) {
        let span = self.rows * self.words * depth;
        parallel::chunks_mut(&mut self.data, span, |n, words| f(n * depth, words));
    }
}

/// Sizes, in samples, of the pieces that set samples form by their sides.
pub fn components(bits: &Bits) -> Vec<u64> {
    // Runs of set samples along rows, by row.
    let (rows, layers) = (bits.rows(), bits.layers());
    let mut first = Vec::with_capacity(rows * layers + 1);
    let mut runs: Vec<[u32; 2]> = Vec::new();
    for k in 0..layers {
        for j in 0..rows {
            first.push(runs.len());
            runs_of(bits.row(j, k), &mut runs);
        }
    }
    first.push(runs.len());
    let mut joined = UnionFind::new(runs.len());
    let mut join = |one: usize, other: usize| {
        let (mut a, mut b) = (first[one], first[other]);
        while a < first[one + 1] && b < first[other + 1] {
            if runs[a][0] < runs[b][1] && runs[b][0] < runs[a][1] {
                joined.join(a as u32, b as u32);
            }
            // The one that ends first meets nothing more.
            if runs[a][1] < runs[b][1] {
                a += 1;
            } else {
                b += 1;
            }
        }
    };
    for row in 0..rows * layers {
        if row % rows > 0 {
            join(row, row - 1);
        }
        if row >= rows {
            join(row, row - rows);
        }
    }
    let mut size = vec![0u64; runs.len()];
    for (n, [from, end]) in runs.iter().enumerate() {
        size[joined.root(n as u32) as usize] += (end - from) as u64;
    }
    size.retain(|n| *n > 0);
    size
}

/// First and past-the-last of every run of set bits in a row.
fn runs_of(row: &[u64], out: &mut Vec<[u32; 2]>) {
    let before = out.len();
    for (w, &word) in row.iter().enumerate() {
        let mut left = word;
        let base = 64 * w as u32;
        while left != 0 {
            let from = left.trailing_zeros();
            let length = (left >> from).trailing_ones();
            left = if from + length == 64 { 0 } else { left & !0 << (from + length) };
            match out[before..].last_mut() {
                Some(last) if last[1] == base + from => last[1] = base + from + length,
                _ => out.push([base + from, base + from + length]),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bits_between_two_places_are_those() {
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(150, 1, 1) };
        for (first, end) in [(0, 1), (0, 64), (5, 65), (63, 131), (64, 128), (70, 72), (9, 9)] {
            let mut bits = Bits::new(&grid);
            bits.set_between(first, end, 0, 0);
            assert!(
                (0..150).all(|i| bits.get(i, 0, 0) == (first..end).contains(&(i as usize))),
                "{first} {end}"
            );
        }
    }

    #[test]
    fn pieces_are_told_apart_by_their_sides() {
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(200, 5, 4) };
        let mut bits = Bits::new(&grid);
        // A ring over two words, its filling's one sample apart from it; and one that touches it by
        // a corner alone.
        for i in 60..70 {
            [1, 3].iter().for_each(|&j| bits.set(i, j, 1));
        }
        [60, 69].iter().for_each(|&i| bits.set(i, 2, 1));
        bits.set(65, 2, 1);
        bits.set(70, 4, 1);
        bits.set(64, 2, 3);
        let mut found = components(&bits);
        found.sort_unstable();
        // The sample in the middle joins both sides of the ring.
        assert_eq!(found, [1, 1, 23]);
        assert_eq!(components(&Bits::new(&grid)), [0; 0]);
    }

    #[test]
    fn cells_are_held_with_all_their_corners() {
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(130, 4, 3) };
        let mut bits = Bits::new(&grid);
        let samples = || {
            (0..3)
                .flat_map(|k| (0..4).flat_map(move |j| (0..130).map(move |i| UVec3::new(i, j, k))))
        };
        // Most are held.
        for at in samples().filter(|at| !(at.x * 7 + at.y * 3 + at.z).is_multiple_of(11)) {
            bits.set(at.x, at.y, at.z);
        }
        for at in samples().filter(|at| at.cmplt(grid.size - 1).all()) {
            let corner = |c: u32| at + UVec3::new(c & 1, c >> 1 & 1, c >> 2);
            let all = (0..8).map(corner).all(|at| bits.get(at.x, at.y, at.z));
            assert_eq!(bits.all_around(at), all, "{at}");
        }
    }

    #[test]
    fn the_border_is_outside_the_box_and_flat_faces_miss_the_planes() {
        let b = Bounds { min: DVec3::splat(-10.0), max: DVec3::new(20.0, 5.0, 0.0) };
        for step in [0.25, 0.3, 1.0, 7.0] {
            let g = Grid::covering(&b, step);
            assert!(g.at(0, 0, 0).cmplt(b.min).all());
            assert!(g.at(g.size.x - 1, g.size.y - 1, g.size.z - 1).cmpgt(b.max).all());
            for axis in 0..3 {
                for face in [b.min[axis], b.max[axis]] {
                    let f = ((face - g.origin[axis]) / step).fract();
                    assert!(f > 1e-3 && f < 0.999, "step {step}: {f}");
                }
            }
        }
    }
}
