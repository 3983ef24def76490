//! A few blocks of a final mesh, made and reduced before the run, from which its triangles are foreseen.

use super::finish::{faithful, smooth_lattice};
use super::plan::smoothing_rounds;
use super::run::Run;
use crate::grid::{Bits, Grid};
use crate::polygonise::{polygonise, Care};
use crate::shape::Side;
use crate::zoned::{Regions, Zoned};
use glam::{DVec3, IVec3, UVec3};
use rayon::prelude::*;
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::{Bounds, TriMesh};

/// Cells of the grid along a block.
const INNER: u32 = 40;
/// Cells around a block: what is at the rim is cut off there and does not count.
const AROUND: u32 = 5;
/// Within so many cells around a block points may still be removed.
const FREE: f64 = 3.0;
/// Blocks that are made at most, and how many at a time.
const BLOCKS: usize = 16;
const AT_ONCE: usize = 2;
/// Triangles before reduction of which no more are needed.
const ENOUGH: f64 = 50_000.0;

/// Triangles and the area that they cover, in blocks spread evenly over the part.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Probe {
    /// mm².
    pub area: f64,
    /// Triangles as the grid gives them, and as reduction leaves them.
    pub raw: f64,
    pub left: f64,
}

/// Makes blocks of a final mesh. `points` lie evenly in the part, and tell which blocks hold any of it. `None` when cancelled.
pub fn probe(run: &Run, points: &[DVec3], cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Probe> {
    let regions = Regions::of(run.part, &run.recipe.zones).standing_proud(run.proud());
    let whole = Grid::covering(&run.part.mesh.bounds().grown(regions.most_proud()), run.step);
    let block_of = |p: &DVec3| ((*p - whole.origin) / (run.step * INNER as f64)).floor().as_ivec3();
    let mut blocks: Vec<[i32; 3]> = points.iter().map(|p| block_of(p).to_array()).collect();
    blocks.sort_unstable();
    blocks.dedup();
    let count = BLOCKS.min(blocks.len());
    // By the golden ratio, so that layers of a structure do not line up with them; each once where there are few.
    let nth = |n: usize| if count < blocks.len() { ((n as f64 * GOLDEN).fract() * blocks.len() as f64) as usize } else { n };
    let mut sum = Probe::default();
    for some in (0..count).collect::<Vec<_>>().chunks(AT_ONCE) {
        let made = some.par_iter().map(|&n| block(run, &regions, &whole, IVec3::from(blocks[nth(n)]), cancelled));
        for one in made.collect::<Option<Vec<_>>>()? {
            sum = Probe { area: sum.area + one.area, raw: sum.raw + one.raw, left: sum.left + one.left };
        }
        if sum.raw >= ENOUGH {
            break;
        }
    }
    Some(sum)
}

const GOLDEN: f64 = 0.618_033_988_749_895;

/// One block, counted by its place among all.
fn block(run: &Run, regions: &Regions, whole: &Grid, at: IVec3, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Probe> {
    let (step, recipe) = (run.step, run.recipe);
    let low = at.as_dvec3() * INNER as f64 - AROUND as f64;
    let grid = Grid { origin: whole.origin + step * low, step, size: UVec3::splat(INNER + 2 * AROUND + 1) };
    let inner = Bounds { min: grid.at(AROUND, AROUND, AROUND), max: grid.at(AROUND + INNER, AROUND + INNER, AROUND + INNER) };
    let zoned = Zoned::sample(run.part, regions, grid, cancelled)?;
    let shape = run.shape(&zoned, regions, Side::All);
    let mut signs = shape.signs();
    clear_rim(&mut signs, &zoned.grid);
    let smooth = shape.smooth();
    let mut mesh = polygonise(&zoned.grid, &signs, Some(&*smooth), &shape, Care::Quick, cancelled)?;
    let owners: Vec<_> = mesh.points.iter().map(|&p| shape.owner(p)).collect();
    let exact = shape.all_on_exact(&mesh.points);
    let rounds = smoothing_rounds(recipe.mesh.smoothing, step, step);
    if rounds > 0 {
        smooth_lattice(&mut mesh, &owners, &exact, rounds, cancelled);
    }
    let labels: Vec<u8> = owners.iter().map(|owner| *owner as u8).collect();
    let kept: Vec<bool> = mesh.points.iter().map(|p| inner.distance_squared(*p) > (FREE * step).powi(2)).collect();
    let faithful = (&exact[..], faithful(step));
    let options = ReduceOptions { error: recipe.mesh.reduce_mm, labels: Some(&labels), faithful, kept: &kept, cancelled };
    let left = reduce(&mesh, &options);
    let within = |mesh: &TriMesh, t: usize| inner.distance_squared(mesh.middle(t)) == 0.0;
    let raw: Vec<usize> = (0..mesh.triangles.len()).filter(|&t| within(&mesh, t)).collect();
    // A triangle along the rim's small ones would not be there but for them.
    let at_rim = |t: &[u32; 3]| t.iter().filter(|v| kept[left.source[**v as usize] as usize]).count() > 1;
    let all_left = left.mesh.triangles.iter().enumerate();
    let left = all_left.filter(|(t, tri)| within(&left.mesh, *t) && !at_rim(tri)).count();
    let area = |t: usize| {
        let [a, b, c] = mesh.corners(t);
        0.5 * (b - a).cross(c - a).length()
    };
    Some(Probe { area: raw.iter().map(|&t| area(t)).sum(), raw: raw.len() as f64, left: left as f64 })
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
