//! The surface of a final mesh, made and reduced a stretch of layers at a time: memory follows what is left, not what
//! the grid gives.

use super::finish::{faithful, smooth_lattice};
use crate::grid::Bits;
use crate::polygonise::{polygonise_stretch, stretches, Care};
use crate::shape::Composed;
use rayon::prelude::*;
use ulmix_mesh::reduce::{points_within, Gathered, Reducer, Stretch};
use ulmix_mesh::Bounds;

/// Triangles of a stretch as the grid gives them, about.
pub const STRETCH: u64 = 800_000;

/// What a surface is made from.
pub struct Source<'a> {
    pub signs: &'a Bits,
    /// Where a smooth field alone decides, if somewhere.
    pub smooth: Option<&'a Bits>,
    pub shape: &'a Composed<'a>,
    /// Greatest deviation that reduction may cause. mm.
    pub reduce_mm: f64,
    /// Rounds in which the lattice is smoothed before.
    pub rounds: usize,
}

impl Source<'_> {
    /// The reduced surface; in boxes the grid's triangles stay. `freed` is called where much memory is free again. `None` when
    /// cancelled.
    pub fn surface(&self, kept: &[Bounds], freed: &dyn Fn(), cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Gathered> {
        let Source { signs, smooth, shape, reduce_mm, rounds } = *self;
        let grid = &shape.zoned.grid;
        // Smoothing passes from layer to layer: there the surface is made whole.
        let most = if rounds > 0 { u64::MAX } else { STRETCH };
        let mut reducer = Reducer::new(reduce_mm, faithful(grid.step), cancelled);
        for layers in stretches(signs, most) {
            let made = polygonise_stretch(grid, signs, smooth, shape, Care::Full, layers, cancelled)?;
            let mut mesh = made.mesh;
            let owners: Vec<_> = mesh.points.par_iter().map(|&p| shape.owner(p)).collect();
            let on_exact: Vec<bool> = mesh.points.par_iter().map(|&p| shape.on_exact(p)).collect();
            if rounds > 0 {
                smooth_lattice(&mut mesh, &owners, &on_exact, rounds, cancelled);
            }
            if cancelled() {
                return None;
            }
            let labels = owners.iter().map(|owner| *owner as u8).collect();
            let kept = points_within(kept, &mesh.points);
            reducer.add(Stretch { mesh, labels, faithful: on_exact, kept, below: &made.below, last: &made.last });
            freed();
        }
        let surface = reducer.finish();
        (!cancelled()).then_some(surface)
    }
}
