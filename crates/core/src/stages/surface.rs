//! The surface of a shape. The surface of a draft is as the grid gives it. The surface of a final
//! mesh is made and reduced a stretch of layers at a time: memory follows what is left, not what
//! the grid gives.

use super::finish::{faithful, smooth_lattice};
use super::shape::LazyShape;
use super::{or_cancelled, Keyed, Made, StageInput};
use crate::compose::Composed;
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::rc::Rc;
use std::sync::Arc;
use ulmix_field::grid::Bits;
use ulmix_field::polygonise::{polygonise, polygonise_stretch, stretches, Care};
use ulmix_mesh::reduce::{points_within, Gathered, Reducer, Stretch};
use ulmix_mesh::{parallel, Bounds, TriMesh};

/// Triangles of a stretch, where nothing else is asked for.
pub(crate) const STRETCH: u64 = 800_000;

/// What the surface of a draft follows from.
#[derive(Serialize)]
pub(crate) struct DraftSurfaceInput<'a> {
    pub shape: Keyed<Rc<LazyShape<'a>>>,
    pub signs: Keyed<Arc<Bits>>,
    /// Every place is looked at by itself, for struts with sharp edges.
    pub sharp: bool,
}

impl StageInput for DraftSurfaceInput<'_> {
    type Output = TriMesh;
    const NAME: &'static str = "draft surface";
    const STAGE: Stage = Stage::Surface;

    fn compute(self, watch: &dyn Watch) -> Result<Made<TriMesh>, RunError> {
        let shape = self.shape.composed();
        let smooth = (!self.sharp).then(|| self.shape.smooth());
        let cancelled = || watch.cancelled();
        let grid = &shape.zoned.grid;
        let mesh =
            or_cancelled(polygonise(grid, &self.signs, smooth, shape, Care::Quick, &cancelled))?;
        Ok(Made::weighed(mesh, mesh_bytes))
    }
}

/// What the reduced surface of a final mesh follows from.
#[derive(Clone, Serialize)]
pub(crate) struct ReducedSurfaceInput<'a> {
    pub shape: Keyed<Rc<LazyShape<'a>>>,
    pub signs: Keyed<Arc<Bits>>,
    /// Every place is looked at by itself, for struts with sharp edges.
    pub sharp: bool,
    /// Greatest deviation that reduction may cause. mm.
    pub reduce_mm: f64,
    /// Rounds in which the lattice is smoothed before.
    pub rounds: usize,
}

impl ReducedSurfaceInput<'_> {
    /// The surface with the grid's own triangles kept in some boxes.
    pub(crate) fn keeping(&self, kept: &[Bounds], watch: &dyn Watch) -> Option<Gathered> {
        let source = SurfaceSource {
            signs: &self.signs,
            smooth: (!self.sharp).then(|| self.shape.smooth()),
            shape: self.shape.composed(),
            reduce_mm: self.reduce_mm,
            rounds: self.rounds,
            stretch: STRETCH,
        };
        source.surface(kept, &|| watch.freed(), &|| watch.cancelled())
    }
}

impl StageInput for ReducedSurfaceInput<'_> {
    type Output = Gathered;
    const NAME: &'static str = "reduced surface";
    const STAGE: Stage = Stage::Surface;

    fn compute(self, watch: &dyn Watch) -> Result<Made<Gathered>, RunError> {
        let surface = or_cancelled(self.keeping(&[], watch))?;
        Ok(Made::weighed(surface, |s| mesh_bytes(&s.mesh) + 2 * s.labels.len()))
    }
}

fn mesh_bytes(m: &TriMesh) -> usize {
    m.points.len() * 24 + m.triangles.len() * 12
}

/// What a surface is made from.
struct SurfaceSource<'a> {
    signs: &'a Bits,
    /// Where a smooth field alone decides, if somewhere.
    smooth: Option<&'a Bits>,
    shape: &'a Composed<'a>,
    /// Greatest deviation that reduction may cause. mm.
    reduce_mm: f64,
    /// Rounds in which the lattice is smoothed before.
    rounds: usize,
    /// Triangles of a stretch as the grid gives them, about.
    stretch: u64,
}

impl SurfaceSource<'_> {
    /// The reduced surface; in boxes the grid's triangles stay. `freed` is called where much memory
    /// is free again. `None` when cancelled.
    fn surface(
        &self,
        kept: &[Bounds],
        freed: &dyn Fn(),
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<Gathered> {
        let SurfaceSource { signs, smooth, shape, reduce_mm, rounds, stretch } = *self;
        let grid = &shape.zoned.grid;
        // Smoothing passes from layer to layer: there the surface is made whole.
        let most = if rounds > 0 { u64::MAX } else { stretch };
        let mut reducer = Reducer::new(reduce_mm, faithful(grid.step), cancelled);
        for layers in stretches(signs, most) {
            let made =
                polygonise_stretch(grid, signs, smooth, shape, Care::Full, layers, cancelled)?;
            let mut mesh = made.mesh;
            let owners: Vec<_> = parallel::map_list(&mesh.points, |_, &p| shape.owner(p));
            let on_exact = shape.all_on_exact(&mesh.points);
            if rounds > 0 {
                smooth_lattice(&mut mesh, &owners, &on_exact, rounds, cancelled);
            }
            if cancelled() {
                return None;
            }
            let labels = owners.iter().map(|owner| *owner as u8).collect();
            let kept = points_within(kept, &mesh.points);
            reducer.add(Stretch {
                mesh,
                labels,
                faithful: on_exact,
                kept,
                below: &made.below,
                last: &made.last,
            });
            freed();
        }
        let surface = reducer.finish();
        (!cancelled()).then_some(surface)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_field::grid::Grid;
    use ulmix_lattice::make;
    use ulmix_mesh::{Topology, TriMesh};
    use ulmix_part::zoned::{Regions, Zoned};
    use ulmix_part::Part;
    use ulmix_recipe::{Joins, Structure, Zones};

    #[test]
    fn many_stretches_give_the_surface_that_one_gives() {
        let part =
            Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(18.0, 14.0, 60.0))).unwrap();
        let regions = Regions::of(&part, &Zones::default());
        let zoned =
            Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.4), &|| false)
                .unwrap();
        let structure = Structure { cell_mm: [7.0; 3], ..Structure::default() };
        let lattice =
            make::structure(&part, &structure, Joins::default(), &|| false).unwrap().thicken(1.3);
        let shape = Composed::new(&part, &zoned, &regions, &*lattice, 0.0);
        let signs = shape.signs();
        let of = |stretch: u64, kept: &[Bounds]| {
            let source = SurfaceSource {
                signs: &signs,
                smooth: Some(&zoned.fill),
                shape: &shape,
                reduce_mm: 0.02,
                rounds: 0,
                stretch,
            };
            source.surface(kept, &|| (), &|| false).unwrap()
        };
        let (whole, parts) = (of(u64::MAX, &[]), of(20_000, &[]));
        assert_eq!(whole.raw_triangles, parts.raw_triangles);
        assert!(Topology::of(&whole.mesh).sound() && Topology::of(&parts.mesh).sound());
        assert!((whole.mesh.volume() / parts.mesh.volume() - 1.0).abs() < 1e-4);
        let ratio = parts.mesh.triangles.len() as f64 / whole.mesh.triangles.len() as f64;
        assert!((0.95..1.05).contains(&ratio), "{ratio}");
        // In a box all points of the grid stay, whichever stretches it reaches into.
        let middle = Bounds { min: DVec3::new(2.0, 2.0, 10.0), max: DVec3::new(9.0, 9.0, 50.0) };
        let within = |g: &Gathered| {
            g.mesh.points.iter().filter(|p| middle.distance_squared(**p) == 0.0).count()
        };
        let (all, one, many) = (
            of(20_000, &[part.mesh.bounds().grown(1.0)]),
            of(u64::MAX, &[middle]),
            of(20_000, &[middle]),
        );
        assert_eq!((within(&one), within(&many)), (within(&all), within(&all)));
        assert!(within(&all) > 2 * within(&parts));
    }
}
