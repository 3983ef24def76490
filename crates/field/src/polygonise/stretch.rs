//! Some layers of the grid as a mesh of their own, so that a surface need never be held whole.
//!
//! A stretch holds the triangles of the edges that start in its layers. Triangles of the lowest
//! layer also ask for vertices of the layer below, which the stretch before has as well, in the
//! same order: see [`LayerStretch::below`].

use super::cells::Cells;
use super::{repair, slabs, Care, Shape};
use crate::grid::{Bits, Grid};
use std::ops::Range;
use ulmix_mesh::{parallel, TriMesh};

/// A mesh of some layers of cells, open where others continue it.
pub struct LayerStretch {
    /// Triangles of these layers. mm.
    pub mesh: TriMesh,
    /// The mesh's points in the layer of cells below the stretch, in order; empty where there is no
    /// such layer. The points are those of [`LayerStretch::last`] of the stretch before, whose
    /// places count: what repair did to the points may differ here.
    pub below: Vec<u32>,
    /// The mesh's points in the last layer of cells of the stretch, in order.
    pub last: Vec<u32>,
}

/// Layers that are looked at on both sides of a stretch: two so that signs are told as in the
/// whole, and two more so that repair sees what lies around.
const AROUND: usize = 4;
/// Layers of a stretch at least, so that those around it add little.
const LEAST: usize = 32;
/// Layers that are looked at for a stretch, at least.
pub const LEAST_LAYERS: usize = LEAST + 2 * AROUND;

/// Layers of cells in stretches of about so many `triangles`.
pub fn stretches(bits: &Bits, triangles: u64) -> Vec<Range<usize>> {
    let layers = bits.layers() - 1;
    let of_layer: Vec<u64> = parallel::map(layers, |k| 2 * cut_edges(bits, k));
    let mut out: Vec<Range<usize>> = Vec::new();
    let (mut start, mut sum) = (0, 0);
    for (k, count) in of_layer.iter().enumerate() {
        if sum + count > triangles && k - start >= LEAST && layers - k >= LEAST {
            out.push(start..k);
            (start, sum) = (k, 0);
        }
        sum += count;
    }
    out.push(start..layers);
    out
}

/// Edges from a layer's samples that the surface cuts.
fn cut_edges(bits: &Bits, k: usize) -> u64 {
    let of_row = |j: usize| {
        let (row, right, up) = (bits.row(j, k), bits.row(j + 1, k), bits.row(j, k + 1));
        let of_word = |w: usize| {
            let cuts = [row[w] ^ super::words::shifted(row, w), row[w] ^ right[w], row[w] ^ up[w]];
            cuts.iter().map(|c| c.count_ones() as u64).sum::<u64>()
        };
        (0..row.len()).map(of_word).sum::<u64>()
    };
    (0..bits.rows() - 1).map(of_row).sum()
}

/// As [`polygonise`](super::polygonise), for some layers of cells. `None` when cancelled.
pub fn polygonise_stretch(
    grid: &Grid,
    bits: &Bits,
    smooth: Option<&Bits>,
    shape: &dyn Shape,
    care: Care,
    layers: Range<usize>,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<LayerStretch> {
    let total = bits.layers() - 1;
    let known = layers.start.saturating_sub(AROUND)..(layers.end + AROUND).min(total);
    let cells = Cells::find(grid, bits, smooth, known);
    let crossings = cells.edge_crossings(grid, shape, cancelled);
    if cancelled() {
        return None;
    }
    let (mut quads, settled) = slabs::mesh(grid, bits, &cells, &crossings, shape, care, cancelled);
    drop(crossings);
    if care == Care::Full && !cancelled() {
        repair::repair(&mut quads, &settled, grid, &cells, shape);
    }
    (!cancelled()).then(|| cut_out(quads.mesh, &cells, layers))
}

/// What belongs to some of the known layers.
fn cut_out(mut mesh: TriMesh, cells: &Cells, layers: Range<usize>) -> LayerStretch {
    let of = |layers: Range<usize>| {
        [cells.cells_in(cells.rows_of(layers.clone())), cells.extras_in(cells.rows_of(layers))]
    };
    let with_below = layers.start.saturating_sub(1)..layers.end;
    let [firsts, others] = of(with_below.clone());
    let count = cells.cell_count();
    let own = |v: usize| {
        (if v < count { v - firsts.start } else { firsts.len() + v - others.start }) as u32
    };
    let list = |layers: Range<usize>| of(layers).into_iter().flatten().map(own).collect();
    let (below, last) = (list(with_below.start..layers.start), list(layers.end - 1..layers.end));
    if cells.layers() == layers {
        return LayerStretch { mesh, below, last };
    }
    let cuts = cells.cuts_in(cells.rows_of(layers));
    // In place: a copy would be the most that a stretch ever holds.
    mesh.triangles.truncate(2 * cuts.end);
    mesh.triangles.drain(..2 * cuts.start);
    parallel::map_mut(&mut mesh.triangles, |_, t| *t = t.map(|v| own(v as usize)));
    mesh.points.truncate(others.end);
    mesh.points.drain(firsts.end..others.start);
    mesh.points.drain(..firsts.start);
    LayerStretch { mesh, below, last }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::polygonise::{polygonise, Edge, EdgeCrossing, RowPoints};
    use glam::{DVec3, UVec3};
    use proptest::prelude::*;
    use ulmix_mesh::Topology;

    /// A ball, and what a sign grid adds to it: hits fall midway.
    struct Signs;
    impl Shape for Signs {
        fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]) {
            for (crossing, e) in out.iter_mut().zip(edges) {
                *crossing = EdgeCrossing {
                    t: 0.5,
                    normal: (e.outside - e.inside).normalize().as_vec3().to_array(),
                    constrained: false,
                };
            }
        }
        fn value(&self, _: DVec3) -> f64 {
            0.0
        }
        fn project(&self, _: &mut RowPoints) {}
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn stretches_joined_are_the_whole_mesh(seed in any::<u64>(), fill in 0.2..0.8f64, cut in 34usize..60) {
            let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(21, 14, 97) };
            let mut bits = Bits::new(&grid);
            let mut state = seed;
            for (k, j, i) in (1..96).flat_map(|k| (1..13).flat_map(move |j| (1..20).map(move |i| (k, j, i)))) {
                state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
                if (state >> 40) as f64 / (1u64 << 24) as f64 <= fill {
                    bits.set(i, j, k);
                }
            }
            let whole = polygonise(&grid, &bits, None, &Signs, Care::Full, &|| false).unwrap();
            let mut joined = TriMesh::default();
            let mut last: Vec<u32> = Vec::new();
            for layers in [0..cut, cut..96] {
                let s = polygonise_stretch(&grid, &bits, None, &Signs, Care::Full, layers, &|| false).unwrap();
                prop_assert_eq!(s.below.len(), last.len());
                let mut number: Vec<u32> = (joined.points.len() as u32..).take(s.mesh.points.len()).collect();
                for (&own, &before) in s.below.iter().zip(&last) {
                    prop_assert!(s.mesh.points[own as usize].distance(joined.points[before as usize]) < 1e-9);
                    number[own as usize] = before;
                }
                joined.points.extend(&s.mesh.points);
                joined.triangles.extend(s.mesh.triangles.iter().map(|t| t.map(|v| number[v as usize])));
                last = s.last.iter().map(|&v| number[v as usize]).collect();
            }
            prop_assert!(Topology::of(&joined).sound());
            prop_assert_eq!(joined.triangles.len(), whole.triangles.len());
            prop_assert!((joined.volume() - whole.volume()).abs() < 1e-9 * whole.volume().max(1.0));
        }
    }

    #[test]
    fn layers_are_shared_out_by_their_triangles() {
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(70, 40, 200) };
        let mut bits = Bits::new(&grid);
        for (k, j, i) in
            (1..199).flat_map(|k| (1..39).flat_map(move |j| (1..69).map(move |i| (k, j, i))))
        {
            if (i + j + k) % 2 == 0 {
                bits.set(i, j, k);
            }
        }
        let whole =
            polygonise(&grid, &bits, None, &Signs, Care::Quick, &|| false).unwrap().triangles.len()
                as u64;
        let parts = stretches(&bits, whole / 4);
        assert_eq!((parts[0].start, parts.last().unwrap().end), (0, 199));
        assert!(
            parts.windows(2).all(|w| w[0].end == w[1].start) && (3..=5).contains(&parts.len()),
            "{parts:?}"
        );
        let each: Vec<u64> =
            parts.iter().map(|p| p.clone().map(|k| 2 * cut_edges(&bits, k)).sum()).collect();
        assert_eq!(each.iter().sum::<u64>(), whole);
        assert_eq!(stretches(&bits, u64::MAX).first(), Some(&(0..199)));
    }
}
