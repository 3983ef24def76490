//! A few blocks of a final mesh, made and reduced before the run, from which its triangles are
//! estimated.

use super::curve::SURVEYED;
use super::finish::{faithful, smooth_lattice};
use super::shape::{composed, ShapedFilling, ShapedTie};
use super::zones::ZonesOnGrid;
use super::{or_cancelled, Keyed, Made, StageInput, CODE};
use crate::compose::Composed;
use crate::error::RunError;
use crate::result::Linked;
use crate::watch::{Stage, Watch};
use glam::{DVec3, IVec3, UVec3};
use serde::Serialize;
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::polygonise::{polygonise, Care, Edge, EdgeCrossing, RowPoints, Shape};
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::{parallel, Bounds, TriMesh};
use ulmix_part::sample::scatter;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::key_of;

/// All that the counts of blocks follow from.
#[derive(Serialize)]
pub(crate) struct BlocksOf {
    /// The linked values, whose key follows from the part, its zones and all fillings.
    pub linked: Keyed<Arc<Linked>>,
    /// Step of the grid. mm.
    pub step: f64,
    /// Greatest deviation that reduction may cause. mm.
    pub reduce_mm: f64,
    /// Rounds in which the lattice is smoothed.
    pub rounds: usize,
    /// Triangles that the laws tell, before reduction and after.
    pub by_laws: [u64; 2],
}

impl BlocksOf {
    /// Key of the result.
    pub(crate) fn key(&self) -> String {
        key_of(&[&CODE, &BlocksInput::NAME, self])
    }
}

/// What blocks are made from.
#[derive(Serialize)]
#[serde(transparent)]
pub(crate) struct BlocksInput<'a> {
    pub of: BlocksOf,
    /// What the key of `linked` stands for.
    #[serde(skip)]
    pub run: ProbedRun<'a>,
}

/// The shape of which blocks are made.
pub(crate) struct ProbedRun<'a> {
    pub part: &'a Part,
    /// Regions with fillings that stand past the part's surface.
    pub regions: Regions,
    /// Zones on the grid of the survey.
    pub survey: &'a ZonesOnGrid,
    pub fillings: &'a [ShapedFilling<'a>],
    pub ties: &'a [ShapedTie<'a>],
}

impl StageInput for BlocksInput<'_> {
    type Output = Found;
    const NAME: &'static str = "blocks";
    const STAGE: Stage = Stage::Thickness;

    fn compute(self, watch: &dyn Watch) -> Result<Made<Found>, RunError> {
        let zoned = &self.run.survey.zoned;
        let points = scatter(&zoned.inside, &zoned.grid, SURVEYED);
        let probe = or_cancelled(probe(&self, &points, &|| watch.cancelled()))?;
        let found = Found::of(&probe, self.of.by_laws, self.of.linked.area_mm2());
        Ok(Made::new(found, 64))
    }
}

/// Cells of the grid along a block.
const INNER: u32 = 40;
/// Cells around a block: what is cut off at the rim does not count.
const AROUND: u32 = 4;
/// Blocks that are made at most, and how many at a time.
const BLOCKS: usize = 16;
const AT_ONCE: usize = 2;
/// Triangles before reduction of which no more are needed.
const ENOUGH: f64 = 120_000.0;

/// Triangles and the area that they cover, in blocks spread evenly over the part.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Probe {
    /// mm².
    pub area: f64,
    /// Triangles as the grid gives them, and as reduction leaves them.
    pub raw: f64,
    pub left: f64,
}

/// How many times as many triangles as the laws say there are in blocks of a mesh, before reduction
/// and after.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Found {
    pub raw: f64,
    pub kept: f64,
}

impl Default for Found {
    /// As the laws say.
    fn default() -> Found {
        Found { raw: 1.0, kept: 1.0 }
    }
}

impl Found {
    /// How far the laws are off for a result with a surface of `area_mm2`, of which they tell
    /// `by_laws` triangles before reduction and after.
    pub(crate) fn of(probe: &Probe, by_laws: [u64; 2], area_mm2: f64) -> Found {
        let times = |count: f64, law: u64| {
            let found = count / probe.area * area_mm2 / law as f64;
            // Of a part that no block meets nothing is known.
            Some(found).filter(|f| f.is_finite() && *f > 0.0).unwrap_or(1.0)
        };
        Found { raw: times(probe.raw, by_laws[0]), kept: times(probe.left, by_laws[1]) }
    }
}

/// Makes blocks of a final mesh. `points` lie evenly in the part, and tell which blocks hold any of
/// it. `None` when cancelled.
fn probe(
    input: &BlocksInput,
    points: &[DVec3],
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Probe> {
    let (run, step) = (&input.run, input.of.step);
    let whole = Grid::covering(&run.part.mesh.bounds().grown(run.regions.most_proud()), step);
    let block_of = |p: &DVec3| ((*p - whole.origin) / (step * INNER as f64)).floor().as_ivec3();
    let mut blocks: Vec<[i32; 3]> = points.iter().map(|p| block_of(p).to_array()).collect();
    blocks.sort_unstable();
    blocks.dedup();
    let mut sum = Probe::default();
    for some in spread(blocks.len()).chunks(AT_ONCE) {
        let made = parallel::map_list(some, |_, &n| {
            block(input, &whole, IVec3::from(blocks[n]), cancelled)
        });
        for one in made.into_iter().collect::<Option<Vec<_>>>()? {
            sum = Probe {
                area: sum.area + one.area,
                raw: sum.raw + one.raw,
                left: sum.left + one.left,
            };
        }
        if sum.raw >= ENOUGH {
            break;
        }
    }
    Some(sum)
}

/// Up to [`BLOCKS`] of so many numbers, of which any first ones lie evenly among all.
fn spread(among: usize) -> Vec<usize> {
    const GOLDEN: f64 = 0.618_033_988_749_895;
    // Multiples of the golden ratio, by their fractions: layers of a structure do not line up with
    // those.
    let fraction = |n: &usize| (*n as f64 * GOLDEN).fract();
    let mut all: Vec<usize> = (0..among).collect();
    all.sort_by(|a, b| fraction(a).total_cmp(&fraction(b)));
    all.truncate(BLOCKS);
    all
}

/// One block, counted by its place among all.
fn block(
    input: &BlocksInput,
    whole: &Grid,
    at: IVec3,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Probe> {
    let (run, BlocksOf { step, reduce_mm, rounds, .. }) = (&input.run, &input.of);
    let step = *step;
    let low = at.as_dvec3() * INNER as f64 - AROUND as f64;
    let grid = Grid {
        origin: whole.origin + step * low,
        step,
        size: UVec3::splat(INNER + 2 * AROUND + 1),
    };
    let inner = Bounds {
        min: grid.at(AROUND, AROUND, AROUND),
        max: grid.at(AROUND + INNER, AROUND + INNER, AROUND + INNER),
    };
    let zoned = Zoned::sample(run.part, &run.regions, grid, cancelled)?;
    let zones = ZonesOnGrid { regions: run.regions.clone(), zoned };
    let shape = composed(run.part, &zones, run.fillings, run.ties);
    let mut signs = shape.signs();
    let mut smooth = shape.smooth().into_owned();
    let grid = &zones.zoned.grid;
    clear_rim(&mut signs, grid);
    clear_rim(&mut smooth, grid);
    let cut_off = CutOff { shape: &shape, last: grid.size - 1 };
    let mut mesh = polygonise(grid, &signs, Some(&smooth), &cut_off, Care::Quick, cancelled)?;
    let owners: Vec<_> = mesh.points.iter().map(|&p| shape.owner(p)).collect();
    let exact = shape.all_on_exact(&mesh.points);
    if *rounds > 0 {
        smooth_lattice(&mut mesh, &owners, &exact, *rounds, cancelled);
    }
    let labels: Vec<u8> = owners.iter().map(|owner| *owner as u8).collect();
    let faithful = (&exact[..], faithful(step));
    let options =
        ReduceOptions { error: *reduce_mm, labels: Some(&labels), faithful, kept: &[], cancelled };
    let left = within(&reduce(&mesh, &options).mesh, &inner).len();
    let raw = within(&mesh, &inner);
    let area = raw.iter().map(|&t| 0.5 * mesh.area_vector(t).length()).sum();
    Some(Probe { area, raw: raw.len() as f64, left: left as f64 })
}

/// A shape that planes cut off at the rim of its grid. Flat cuts keep few triangles after
/// reduction, so that they hardly change a block's count.
struct CutOff<'a> {
    shape: &'a Composed<'a>,
    /// The last sample along each axis.
    last: UVec3,
}

impl Shape for CutOff<'_> {
    fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]) {
        self.shape.edge_crossings(edges, out);
        for (crossing, e) in out.iter_mut().zip(edges) {
            if e.outside_at.min_element() == 0 || e.outside_at.cmpeq(self.last).any() {
                *crossing = EdgeCrossing {
                    t: 0.5,
                    normal: (e.outside - e.inside).normalize().as_vec3().to_array(),
                    constrained: true,
                };
            }
        }
    }
    fn value(&self, p: DVec3) -> f64 {
        self.shape.value(p)
    }
    fn project(&self, row: &mut RowPoints) {
        self.shape.project(row);
    }
    fn allows_overshoot(&self) -> bool {
        self.shape.allows_overshoot()
    }
}

/// Triangles whose middles lie in a box.
fn within(mesh: &TriMesh, inner: &Bounds) -> Vec<usize> {
    (0..mesh.triangles.len()).filter(|&t| inner.distance_squared(mesh.middle(t)) == 0.0).collect()
}

/// The polygoniser asks for a grid whose outermost samples lie outside.
fn clear_rim(signs: &mut Bits, grid: &Grid) {
    let last = (grid.size - 1).to_array().map(|n| n as usize);
    signs.par_words_mut(|w, j, k, word| {
        if [0, last[1]].contains(&j) || [0, last[2]].contains(&k) {
            *word = 0;
        }
        for i in [0, last[0]].into_iter().filter(|i| i / 64 == w) {
            *word &= !(1 << (i % 64));
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pipeline::{plain, Pipeline};
    use ulmix_part::sample::scatter;
    use ulmix_part::Part;
    use ulmix_recipe::{Kind, Recipe, Role, SurfaceKind};

    /// Blocks of a recipe on a grid of a step in mm.
    fn probed(part: &Part, change: &dyn Fn(&mut Recipe), step: f64) -> Probe {
        let mut r = plain(part, Kind::Surface(SurfaceKind::Gyroid), 10.0, 1.5);
        r.mesh.step_mm = Some(step);
        change(&mut r);
        Pipeline::new(0).probed(part, &r, &|input| {
            let zoned = &input.run.survey.zoned;
            probe(input, &scatter(&zoned.inside, &zoned.grid, SURVEYED), &|| false).unwrap()
        })
    }

    fn cuboid(size: DVec3) -> Part {
        Part::prepare(&TriMesh::cuboid(DVec3::ZERO, size)).unwrap()
    }

    #[test]
    fn faces_along_the_grid_have_two_triangles_a_square_and_nearly_none_when_reduced() {
        let solid = |r: &mut Recipe| r.zones.rest = Role::KeepSolid;
        let p = probed(&cuboid(DVec3::new(40.0, 36.0, 30.0)), &solid, 0.5);
        // Few cells lie at edges.
        assert!((p.raw * 0.25 / p.area / 2.0 - 1.0).abs() < 0.03, "{p:?}");
        assert!(p.left < 0.05 * p.raw, "{p:?}");
    }

    #[test]
    fn surfaces_at_all_angles_have_three_triangles_a_square() {
        let p = probed(&Part::prepare(&TriMesh::sphere(20.0, 6)).unwrap(), &|_| (), 0.5);
        assert!((p.raw * 0.25 / p.area / 3.0 - 1.0).abs() < 0.05, "{p:?}");
        // Without an error none of them goes.
        let all = probed(
            &Part::prepare(&TriMesh::sphere(20.0, 4)).unwrap(),
            &|r| r.mesh.reduce_mm = 0.0,
            0.5,
        );
        assert_eq!(all.raw, all.left);
    }

    #[test]
    fn blocks_end_where_enough_is_known_and_repeat_on_any_number_of_threads() {
        let part = cuboid(DVec3::splat(60.0));
        let with = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| probed(&part, &|_| (), 0.4))
        };
        let p = with(1);
        assert_eq!(p, with(3));
        // Two blocks of that are far more than a half of enough.
        assert!((ENOUGH..2.0 * ENOUGH).contains(&p.raw), "{p:?}");
    }

    #[test]
    fn first_blocks_lie_evenly_among_all() {
        for among in [0, 1, 7, 16, 17, 40, 1000] {
            let some = spread(among);
            assert_eq!(some.len(), among.min(BLOCKS));
            let mut each = some.clone();
            each.sort_unstable();
            each.dedup();
            assert!(each.len() == some.len() && each.iter().all(|n| *n < among), "{some:?}");
            if among >= 40 {
                let halves = some[..8].iter().filter(|n| **n < among / 2).count();
                assert!((3..=5).contains(&halves), "{some:?}");
            }
        }
    }

    #[test]
    fn the_outermost_samples_are_cleared_and_no_others() {
        let grid = Grid { origin: DVec3::ZERO, step: 1.0, size: UVec3::new(67, 5, 4) };
        let mut bits = Bits::new(&grid);
        let all = || (0..4).flat_map(|k| (0..5).flat_map(move |j| (0..67).map(move |i| (i, j, k))));
        all().for_each(|(i, j, k)| bits.set(i, j, k));
        clear_rim(&mut bits, &grid);
        let inner = |(i, j, k): (u32, u32, u32)| {
            (1..66).contains(&i) && (1..4).contains(&j) && (1..3).contains(&k)
        };
        assert!(all().all(|at| bits.get(at.0, at.1, at.2) == inner(at)));
    }

    #[test]
    fn what_is_cut_off_ends_flat_whatever_is_inside() {
        let part = Part::prepare(&TriMesh::sphere(30.0, 4)).unwrap();
        let regions = Regions::of(&part, &ulmix_recipe::Zones::default());
        let grid = Grid { origin: DVec3::splat(-8.0), step: 0.5, size: UVec3::splat(33) };
        let zoned = Zoned::sample(&part, &regions, grid.clone(), &|| false).unwrap();
        let structure = ulmix_recipe::Structure { cell_mm: [9.0; 3], ..Default::default() };
        let lattice =
            ulmix_lattice::make::structure(&part, &structure, Default::default(), &|| false)
                .unwrap()
                .thicken(2.0);
        let shape = Composed::new(&part, &zoned, &regions, &*lattice, 0.0);
        let (mut signs, mut smooth) = (shape.signs(), shape.smooth().into_owned());
        clear_rim(&mut signs, &grid);
        clear_rim(&mut smooth, &grid);
        let cut_off = CutOff { shape: &shape, last: grid.size - 1 };
        let mesh =
            polygonise(&grid, &signs, Some(&smooth), &cut_off, Care::Quick, &|| false).unwrap();
        assert!(ulmix_mesh::Topology::of(&mesh).closed());
        // Half a step from the rim lie the caps, and nothing past them.
        let (low, high) = (-8.0 + 0.25, 8.0 - 0.25);
        let bounds = mesh.bounds();
        assert!(
            (bounds.min - low).abs().max_element() < 1e-3
                && (bounds.max - high).abs().max_element() < 1e-3,
            "{bounds:?}"
        );
        let on_cap = |p: &DVec3| {
            (p - low).abs().min_element() < 1e-3 || (p - high).abs().min_element() < 1e-3
        };
        let flat =
            |t: usize| mesh.area_vector(t).normalize_or_zero().abs().max_element() > 1.0 - 1e-6;
        let caps: Vec<usize> =
            (0..mesh.triangles.len()).filter(|&t| mesh.corners(t).iter().all(on_cap)).collect();
        assert!(
            caps.len() > 1000 && caps.iter().filter(|&&t| flat(t)).count() * 20 > caps.len() * 19,
            "{}",
            caps.len()
        );
    }
}
