//! Two triangles around every cut edge of a row.

use super::cells::Cells;
use super::vertex::Placed;
use super::words::shifted;
use super::Shape;
use crate::grid::{Bits, Grid};
use glam::DVec3;
use std::sync::atomic::{AtomicU64, Ordering};
use ulmix_mesh::TriMesh;

/// A mesh whose triangles `2q` and `2q + 1` are the halves of quad `q`.
pub(super) struct Quads {
    pub mesh: TriMesh,
    /// One bit a quad: a vertex of it lies at a crease or has left its cell.
    pub unsettled: Vec<u64>,
}

/// The four cells around a cell's own edge along each axis, in order around it: how many rows back
/// they lie along y and along z and cells back along x, and the edge's number there.
const AROUND: [[(usize, usize, u32, usize); 4]; 3] = [
    [(0, 0, 0, 0), (1, 0, 0, 1), (1, 1, 0, 3), (0, 1, 0, 2)],
    [(0, 0, 0, 4), (0, 1, 0, 5), (0, 1, 1, 7), (0, 0, 1, 6)],
    [(0, 0, 0, 8), (0, 0, 1, 9), (1, 0, 1, 11), (1, 0, 0, 10)],
];

/// Placed vertices: first ones of cells, and others. Each list begins with the vertex of that
/// number.
pub(super) struct Seen<'a> {
    pub firsts: Listed<'a>,
    pub others: Listed<'a>,
    /// By place of rows from `first_row` on: see [`super::place::RowSlots::careful`].
    pub careful: &'a [u64],
    pub first_row: usize,
}

/// A stretch of the vertices.
pub(super) struct Listed<'a> {
    pub points: &'a [DVec3],
    pub placed: &'a [Placed],
    pub from: usize,
}

impl Seen<'_> {
    /// Places of a row's word at which the cell or the one before it asks for care.
    fn careful(&self, row: usize, w: usize, words: usize) -> u64 {
        let at = (row - self.first_row) * words + w;
        let before = if w > 0 { self.careful[at - 1] >> 63 } else { 0 };
        self.careful[at] | self.careful[at] << 1 | before
    }

    fn list(&self, vertex: usize) -> (&Listed<'_>, usize) {
        let list = if vertex < self.others.from { &self.firsts } else { &self.others };
        (list, vertex - list.from)
    }

    fn placed(&self, vertex: usize) -> Placed {
        let (list, n) = self.list(vertex);
        list.placed[n]
    }

    fn point(&self, vertex: usize) -> DVec3 {
        let (list, n) = self.list(vertex);
        list.points[n]
    }
}

/// What the quads of any row are made from.
pub(super) struct Joining<'a> {
    grid: &'a Grid,
    bits: &'a Bits,
    cells: &'a Cells,
    /// Decides how quads at creases are split, where given.
    shape: Option<&'a dyn Shape>,
    /// Rows share words, and the order of setting bits does not matter.
    unsettled: Vec<AtomicU64>,
}

/// 64 places of the row of cells in work and of the three before it.
struct Word {
    /// The rows, by y and z whether a row back.
    rows: [[usize; 2]; 2],
    /// Number of the word among those of the rows.
    number: usize,
    /// Signs of the samples where the places' cells begin.
    here: u64,
    /// By row, the cells that the surface passes, and how many come before them.
    four: [[(u64, u32); 2]; 2],
}

impl<'a> Joining<'a> {
    pub(super) fn new(
        grid: &'a Grid,
        bits: &'a Bits,
        cells: &'a Cells,
        shape: Option<&'a dyn Shape>,
    ) -> Joining<'a> {
        let unsettled = (0..cells.cut_count().div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        Joining { grid, bits, cells, shape, unsettled }
    }

    /// Of all rows joined so far: see [`Quads::unsettled`].
    pub(super) fn unsettled(self) -> Vec<u64> {
        self.unsettled.into_iter().map(AtomicU64::into_inner).collect()
    }

    /// Fills a row's slots, 64 places at a time: around their edges along x, then along y, then
    /// along z, and then around those that ask for care. `seen` holds the row's vertices and those
    /// of the three rows before it.
    pub(super) fn row(&self, j: u32, k: u32, seen: &Seen, slots: &mut [[u32; 3]]) {
        let cells = self.cells;
        // The border of the grid is outside: no cut edge asks beyond it.
        let row_back = |y: u32, z: u32| cells.row_number(j.saturating_sub(y), k.saturating_sub(z));
        let rows = [[row_back(0, 0), row_back(0, 1)], [row_back(1, 0), row_back(1, 1)]];
        let first = cells.cuts_in(rows[0][0]..rows[0][0] + 1).start;
        let (j, k) = (j as usize, k as usize);
        let beside = [self.bits.row(j, k), self.bits.row(j + 1, k), self.bits.row(j, k + 1)];
        let (points, from) = (seen.firsts.points, seen.firsts.from as u32);
        let mut done = 0;
        for (w, &here) in beside[0].iter().enumerate() {
            let cuts = [here ^ shifted(beside[0], w), here ^ beside[1][w], here ^ beside[2][w]];
            if cuts == [0; 3] {
                continue;
            }
            let word = Word {
                rows,
                number: w,
                here,
                four: rows.map(|pair| pair.map(|row| cells.word_of(row, w))),
            };
            let careful = rows
                .as_flattened()
                .iter()
                .fold(0, |all, &row| all | seen.careful(row, w, cells.words()));
            let plain = cuts.map(|cut| cut & !careful);
            let number =
                |cuts: [u64; 3]| cuts.iter().map(|c| c.count_ones() as usize).sum::<usize>();
            let (all, those) = (number(cuts), number(plain));
            let (halves, rest) = slots[2 * done..2 * (done + all)].split_at_mut(2 * those);
            let mut halves = halves.as_chunks_mut::<2>().0.iter_mut();
            let mut join_all = |_: u32, quad: [u32; 4]| {
                // Spelled out: `array::map` over points is left as calls through memory.
                let point = |n: usize| &points[(quad[n] - from) as usize];
                let along = squared(point(0), point(2)) <= squared(point(1), point(3));
                join(quad, along, halves.next().expect("two triangles a cut edge"));
            };
            word.along::<0>(plain[0], &mut join_all);
            word.along::<1>(plain[1], &mut join_all);
            word.along::<2>(plain[2], &mut join_all);
            if those < all {
                self.careful_word(
                    &word,
                    cuts.map(|cut| cut & careful),
                    seen,
                    first + done + those,
                    rest,
                );
            }
            done += all;
        }
    }

    /// The quads of those of 64 places around which some vertex is unsettled or some cell has
    /// several vertices. The quads are numbered from `first` on.
    fn careful_word(
        &self,
        word: &Word,
        cuts: [u64; 3],
        seen: &Seen,
        first: usize,
        slots: &mut [[u32; 3]],
    ) {
        let cells = self.cells;
        let mut slots = slots.as_chunks_mut::<2>().0.iter_mut().enumerate();
        word.each_quad(cuts, |axis, b, around| {
            let quad = std::array::from_fn(|n| {
                let (y, z, _, edge) =
                    AROUND[axis][if word.here >> b & 1 == 1 { n } else { (4 - n) % 4 }];
                cells.vertex_at(word.rows[y][z], around[n] as usize, edge) as u32
            });
            let placed = quad.map(|v: u32| seen.placed(v as usize));
            let is_unsettled = placed.iter().any(|p| p.unsettled());
            let is_exact = || cells.is_exact(word.rows[0][0], 64 * word.number as u32 + b);
            let creased =
                if is_unsettled && is_exact() { placed.map(Placed::crease) } else { [false; 4] };
            let along = first_diagonal(
                quad.map(|v| seen.point(v as usize)),
                creased,
                self.shape,
                self.grid.step,
            );
            let (n, halves) = slots.next().expect("two triangles a cut edge");
            join(quad, along, halves);
            if is_unsettled {
                self.unsettled[(first + n) / 64]
                    .fetch_or(1 << ((first + n) % 64), Ordering::Relaxed);
            }
        });
    }
}

impl Word {
    /// Calls `f` for cut edges along x, then y, then z: the axis, the place, and the cells around
    /// the edge so that they run counter-clockwise seen from outside.
    #[inline(always)]
    fn each_quad(&self, cuts: [u64; 3], mut f: impl FnMut(usize, u32, [u32; 4])) {
        self.along::<0>(cuts[0], |b, quad| f(0, b, quad));
        self.along::<1>(cuts[1], |b, quad| f(1, b, quad));
        self.along::<2>(cuts[2], |b, quad| f(2, b, quad));
    }

    /// The quads of the edges along one axis. Cells one place back along x come right before, for
    /// the edge is theirs too.
    #[inline(always)]
    fn along<const AXIS: usize>(&self, mut cut: u64, mut f: impl FnMut(u32, [u32; 4])) {
        while cut != 0 {
            let b = cut.trailing_zeros();
            cut &= cut - 1;
            let cell = |n: usize| {
                let (y, z, x, _) = AROUND[AXIS][n];
                let (mask, before) = self.four[y][z];
                before + (mask & !(!0 << b)).count_ones() - x
            };
            let [p, q, r, s] = [cell(0), cell(1), cell(2), cell(3)];
            // The order is that of an edge whose low end is inside.
            let turned = self.here >> b & 1 == 0;
            f(b, [p, either(q, s, turned), r, either(s, q, turned)]);
        }
    }
}

/// One of the two: without a branch, for which one is as good as random.
#[inline(always)]
fn either(first: u32, second: u32, is_second: bool) -> u32 {
    first ^ (first ^ second) & (is_second as u32).wrapping_neg()
}

/// The halves of a quad, split from corner 0 to 2 or 1 to 3.
#[inline(always)]
fn join([a, b, c, d]: [u32; 4], along: bool, halves: &mut [[u32; 3]; 2]) {
    let [a, b, c, d] =
        [either(b, a, along), either(c, b, along), either(d, c, along), either(a, d, along)];
    *halves = [[a, b, c], [a, c, d]];
}

/// The square of the distance.
#[inline(always)]
fn squared(p: &DVec3, q: &DVec3) -> f64 {
    let (x, y, z) = (p.x - q.x, p.y - q.y, p.z - q.z);
    x * x + y * y + z * z
}

/// Is a quad to be split from corner 0 to 2, not from 1 to 3? `creased` are the corners that lie at
/// creases: an edge that passes through two opposite ones lies on that diagonal; with more of them
/// that one does which lies on the border of `shape`. Elsewhere it is the shorter one.
fn first_diagonal(p: [DVec3; 4], creased: [bool; 4], shape: Option<&dyn Shape>, step: f64) -> bool {
    let number = creased.iter().filter(|c| **c).count();
    if number == 2 && creased[0] == creased[2] {
        return creased[0];
    }
    if let Some(shape) = shape.filter(|_| number > 2) {
        let d02 = shape.value((p[0] + p[2]) * 0.5).abs();
        let d13 = shape.value((p[1] + p[3]) * 0.5).abs();
        if (d02 - d13).abs() > 0.02 * step {
            return d02 < d13;
        }
    }
    squared(&p[0], &p[2]) <= squared(&p[1], &p[3])
}
