//! Seed points of a structure: an exact number inside the part, and as dense ones around it, so
//! that the cells at its surface are whole.
//!
//! Even points are the least crowded of five times as many (weighted sample elimination, Yuksel
//! 2015); loose ones may be asked to keep a distance (random sequential addition). Where cells are
//! of different sizes points are as dense as one over the size's cube, and crowding is measured by
//! the smaller of two sizes. The relaxation that follows is [`super::relaxing`].

use super::elimination::{eliminated, PLANAR, SPATIAL};
use super::region::SeedRegion;
use super::relaxing::{relaxed, Ground, RelaxationCache, Relaxed};
use super::spacing::Spaced;
use super::voronoi::{DiagramBounds, VoronoiCells};
use glam::DVec3;
use std::sync::Arc;
use ulmix_field::numeric::low_discrepancy;
use ulmix_field::numeric::Random;
use ulmix_mesh::parallel;
use ulmix_mesh::PointGrid;
use ulmix_recipe::seeds::MOST_SEEDS;
use ulmix_recipe::{Layout, Seeds, Spread};

/// Points in a space in which cells are as wide as long as high.
pub struct Scattered {
    state: Arc<Relaxed>,
    /// Points inside the part.
    pub inside: usize,
    /// Points on its surface.
    pub on_surface: usize,
    /// Edge of a cube of a cell's volume.
    pub cell: f64,
    /// Size of the cells if all were alike; 0 without points inside. mm.
    pub alike: f64,
    /// The box in which cells end.
    pub bounds: DiagramBounds,
}

impl Scattered {
    /// The points, inside the part first, then those on its surface.
    pub fn points(&self) -> &[DVec3] {
        &self.state.points
    }

    /// The cells that the points own.
    pub fn cells(&self) -> &VoronoiCells {
        &self.state.cells
    }

    /// Rounds in which they were relaxed: no more once nothing moves.
    pub fn rounds(&self) -> u32 {
        self.state.rounds
    }

    /// How far one of them went in one of the last rounds at most, in cells.
    pub fn moved(&self) -> f64 {
        self.state.moved
    }

    /// Distance of the two nearest points of those inside the part and on its surface, in cells; 0
    /// for a single one.
    pub fn closest(&self) -> f64 {
        let grid = PointGrid::new(self.points());
        let near = |n: usize| {
            grid.nearest(self.points()[n], 1, |m| m as usize == n)
                .first()
                .map_or(f64::INFINITY, |f| f.0)
        };
        let least = parallel::map(self.inside + self.on_surface, near)
            .into_iter()
            .fold(f64::INFINITY, f64::min);
        if least.is_finite() {
            least / self.cell
        } else {
            0.0
        }
    }

    /// Standard deviation over mean of the volumes of the inner points' cells, each over that of a
    /// cell of the size there. `volumes` are those of all cells. Where all points lie on the
    /// surface it is that of the areas around them.
    pub fn unevenness(&self, volumes: &[f64], region: &dyn SeedRegion) -> f64 {
        let inner = &self.points()[..self.inside];
        let room: Vec<f64> = match self.inside {
            0 => self.areas(region),
            _ => parallel::map_list(inner, |n, p| volumes[n] / region.size(*p).powi(3)),
        };
        let n = room.len().max(1) as f64;
        let mean = room.iter().sum::<f64>() / n;
        let spread = room.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / n;
        if mean > 0.0 {
            spread.sqrt() / mean
        } else {
            0.0
        }
    }

    /// The areas around the points on the surface, up to a factor that all have in common: of each
    /// point the square of its mean distance from those around it, in cells of the size there.
    fn areas(&self, region: &dyn SeedRegion) -> Vec<f64> {
        /// As many lie around a point where all areas are alike.
        const AROUND: usize = 6;
        let points = &self.points()[..self.on_surface];
        let grid = PointGrid::new(points);
        let area = |n: usize, p: &DVec3| {
            let near = grid.nearest(*p, AROUND, |m| m as usize == n);
            let mean = near.iter().map(|f| f.0).sum::<f64>() / near.len().max(1) as f64;
            (mean / region.size(*p)).powi(2)
        };
        parallel::map_list(points, area)
    }
}

/// Layers of cells around the part, in cells of the size there: what lies farther away reaches into
/// it once in a million (see [`OUTER_RADIUS`]).
const PADDING: f64 = 1.5;
/// How far a cell may reach along an axis, in cells. Of points that lie by chance a ball of this
/// radius is empty once in 10¹⁴; of one as wide as the second, which is that of the padding's
/// cells, once in a million.
const RADIUS: f64 = 2.0;
const OUTER_RADIUS: f64 = 1.5;
/// While points are relaxed those of the padding need their middles only about.
const RELAXED_RADIUS: f64 = 1.1;
/// Candidates for an even point.
const CROWD: usize = 5;

/// A point keeps this distance from given ones, in cells.
const APART: f64 = 0.7;

/// Scatters points, or takes those that are `given` and scatters only the padding around the part.
/// Without a count there are as many as unit cells fill the region. `None` when cancelled.
pub fn scatter(
    region: &dyn SeedRegion,
    seeds: &Seeds,
    given: Option<Vec<DVec3>>,
    rest: &dyn RelaxationCache,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Scattered> {
    let least = region.least_size();
    // Large cells that would fill the part as many small ones do.
    let volume = region.volume().max(1e-9) * if least < 1.0 { mean_density(region) } else { 1.0 };
    // Those inside the part first.
    let given = given.map(|points| {
        points.into_iter().partition::<Vec<_>, _>(|p| region.distance(*p, 1e-9) < 0.0)
    });
    let count = given.as_ref().map_or(seeds.count, |(inner, _)| Some(inner.len().max(1) as u32));
    let surface =
        if given.is_none() { surface_points(region, seeds, cancelled)? } else { Vec::new() };
    // Half of the cell of a point on the surface lies inside.
    let (half, most) = (0.5 * surface.len() as f64, MOST_SEEDS as f64);
    let least_inside = if surface.is_empty() { 1.0 } else { 0.0 };
    let inside = match seeds.layout {
        Layout::Surface if !surface.is_empty() => 0,
        _ => count.unwrap_or((volume - half).round().clamp(least_inside, most) as u32) as usize,
    };
    let power = if region.flat() { 1.0 / 2.0 } else { 1.0 / 3.0 };
    let edge = |volume: f64| (volume / (inside as f64 + half)).powf(power);
    let cell = match inside {
        0 => (region.area(seeds.from_above) / surface.len().max(1) as f64).sqrt(),
        _ => edge(volume),
    };
    let alike = if inside == 0 { 0.0 } else { edge(region.volume()) };
    let pad = PADDING * cell;
    let (low, high) = region.bounds();
    let deep = if region.flat() { DVec3::new(1.0, 1.0, 0.0) } else { DVec3::ONE };
    let (low, high) = ((low - pad) * deep, (high + pad) * deep);
    let crowd = crowd(seeds);

    // Those that are there already: the others keep away from them.
    let fixed = given
        .as_ref()
        .map_or_else(|| surface.clone(), |(within, beyond)| [&within[..], beyond].concat());
    let filled = if surface.is_empty() {
        inside
    } else {
        inside.max((volume / cell.powi(3)).ceil() as usize)
    };
    // Each on the surface drives out less than one.
    let wanted = crowd * (filled + surface.len());
    let mut spaced = spaced(seeds, cell);
    let (mut inner, mut outer) =
        candidates(region, seeds.random, wanted, pad, &mut spaced, (low, high), cancelled)?;
    // As dense as those of the part alone.
    outer.truncate(outer.len() * filled / (filled + surface.len()).max(1));
    let grid = PointGrid::new(&fixed);
    let apart =
        |p: &DVec3| fixed.is_empty() || grid.within(*p, APART * cell * region.size(*p)).is_empty();
    outer.retain(apart);
    // Without points that fill the part evenly cells may be far wider.
    let gaps = given.is_some() || inside == 0;
    // How many of the inner points stay, and how many of those lie inside.
    let (kept, found) = match given {
        Some((within, _)) => {
            inner = fixed;
            (inner.len(), within.len())
        }
        None => {
            inner.retain(apart);
            if crowd == 1 || inside == 0 {
                inner.truncate(inside);
            }
            let found = inner.len().min(inside);
            (found, found)
        }
    };
    let around = outer.len() / crowd;
    let reach = cell * if region.flat() { PLANAR } else { SPATIAL };
    let (within, mut points) = (inner.len(), [inner, outer].concat());
    if crowd > 1 {
        let size: Vec<f64> = parallel::map_list(&points, |_, p| region.size(*p));
        let left = eliminated(
            &points,
            &size,
            [(within, kept), (points.len() - within, around)],
            reach,
            cancelled,
        )?;
        points = left.into_iter().map(|n| points[n]).collect();
    }
    let (on_surface, kept) = (surface.len(), kept + surface.len());
    points.splice(found..found, surface);

    let (low, high) = (low - 2.0 * cell * deep, high + 2.0 * cell * deep);
    let thick = if region.flat() { DVec3::new(0.0, 0.0, 0.5) } else { DVec3::ZERO };
    // Cells whose points lie a cell apart reach about that far; a few times as far is never missed.
    let widest = cell.max(if gaps { widest_gap(&points, low, high) } else { 0.0 });
    let outer = (kept, OUTER_RADIUS * widest);
    let bounds =
        DiagramBounds { low: low - thick, high: high + thick, radius: RADIUS * widest, outer };
    let while_relaxed = DiagramBounds { outer: (kept, RELAXED_RADIUS * widest), ..bounds };
    let ground = Ground { region, bounds: while_relaxed, inside: found, kept, pad, cell };
    let state = relaxed(points, seeds.rounds, &ground, rest, cancelled)?;
    Some(Scattered { state, inside: found, on_surface, cell, alike, bounds })
}

/// Candidates for every point that stays.
fn crowd(seeds: &Seeds) -> usize {
    match seeds.spread {
        Spread::Even => CROWD,
        Spread::Loose => 1,
    }
}

/// What keeps loose points apart; even ones are chosen from a crowd.
fn spaced(seeds: &Seeds, cell: f64) -> Spaced {
    Spaced::new(if seeds.spread == Spread::Loose { seeds.apart * cell } else { 0.0 })
}

/// Places by chance inside the region until there are so many, and those that come along within
/// `pad` around it, where they are `spaced`. `None` when cancelled.
fn candidates(
    region: &dyn SeedRegion,
    seed: u32,
    wanted: usize,
    pad: f64,
    spaced: &mut Spaced,
    (low, high): (DVec3, DVec3),
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<(Vec<DVec3>, Vec<DVec3>)> {
    let least = region.least_size();
    let mut random = Random::new(seed, 0);
    let (mut inner, mut outer) = (Vec::new(), Vec::new());
    let most = ((400 * wanted) as f64 / least.powi(3)) as usize + 100_000;
    let mut tried = 0;
    while inner.len() < wanted && tried < most {
        let batch: Vec<DVec3> = (0..4096)
            .map(|_| low + (high - low) * DVec3::new(random.unit(), random.unit(), random.unit()))
            .collect();
        tried += batch.len();
        // Where cells are larger, fewer candidates are taken.
        let chance: Vec<f64> =
            if least < 1.0 { batch.iter().map(|_| random.unit()).collect() } else { Vec::new() };
        let taken = |n: usize, p: DVec3| {
            chance.get(n).is_none_or(|c| *c < (least / region.size(p)).powi(3))
        };
        let far = f64::INFINITY;
        let distance = |n: usize, p: &DVec3| match region.clearly_inside(*p) {
            _ if !taken(n, *p) => far,
            Some(true) => -pad,
            _ => region.distance(*p, pad),
        };
        let distance: Vec<f64> = parallel::map_list(&batch, distance);
        for (p, d) in batch.into_iter().zip(distance) {
            if inner.len() == wanted {
                break;
            } else if d < 0.0 && spaced.take(p, region.size(p)) {
                inner.push(p);
            } else if d >= 0.0 && d < pad * region.size(p) && spaced.take(p, region.size(p)) {
                outer.push(p);
            }
        }
        if cancelled() {
            return None;
        }
    }
    Some((inner, outer))
}

/// Points on the surface of the part, if any are to lie there. `None` when cancelled.
fn surface_points(
    region: &dyn SeedRegion,
    seeds: &Seeds,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Vec<DVec3>> {
    // Where they are even as seen from above, cells have their size there.
    let area = region.area(seeds.from_above);
    if seeds.layout == Layout::Inside || area <= 0.0 {
        return Some(Vec::new());
    }
    let mut random = Random::new(seeds.random, 1);
    let least = region.least_size();
    let most = MOST_SEEDS as f64;
    // Sides of cells cover it: where cells are smaller, more of them.
    let above = seeds.from_above;
    let sample = if least < 1.0 { region.on_surface(4000, above, &mut random) } else { Vec::new() };
    let denser = sample.iter().map(|(p, _)| region.size(*p).powi(-2)).sum::<f64>()
        / sample.len().max(1) as f64;
    let covered = area * if sample.is_empty() { 1.0 } else { denser };
    let count = seeds.surface_count.map_or(covered.round().clamp(1.0, most), |n| n as f64);
    let wanted = count as usize * crowd(seeds);
    let cell = (covered / count).sqrt();
    let mut spaced = spaced(seeds, cell);
    let mut found = Vec::new();
    // Where they are to keep a distance not all may find a place.
    for _ in 0..(400.0 / least.powi(2)) as usize {
        let more = region.on_surface(wanted, above, &mut random);
        let kept = more
            .into_iter()
            .filter(|(p, _)| least == 1.0 || random.unit() < (least / region.size(*p)).powi(2));
        found.extend(kept.filter(|(p, _)| spaced.take(*p, region.size(*p))));
        if found.len() >= wanted {
            break;
        }
        if cancelled() {
            return None;
        }
    }
    found.truncate(wanted);
    let (places, seen): (Vec<DVec3>, Vec<DVec3>) = found.into_iter().unzip();
    if seeds.spread == Spread::Loose {
        return Some(places);
    }
    let sizes: Vec<f64> = places.iter().map(|p| region.size(*p)).collect();
    let kept = eliminated(
        &seen,
        &sizes,
        [(places.len(), count as usize), (0, 0)],
        cell * PLANAR,
        cancelled,
    )?;
    Some(kept.into_iter().map(|n| places[n]).collect())
}

/// How far a place may be from the nearest point, about.
fn widest_gap(points: &[DVec3], low: DVec3, high: DVec3) -> f64 {
    let grid = PointGrid::new(points);
    let gap = |i: usize| {
        grid.nearest(low + low_discrepancy(i as u64 + 1) * (high - low), 1, |_| false)
            .first()
            .map_or(0.0, |n| n.0)
    };
    parallel::map(4000, gap).into_iter().fold(0.0, f64::max)
}

/// Mean over the region of one over the size's cube.
fn mean_density(region: &dyn SeedRegion) -> f64 {
    let (low, high) = region.bounds();
    let density = |i: usize| {
        let p = low + low_discrepancy(i as u64 + 1) * (high - low);
        (region.distance(p, 1e-9) < 0.0).then(|| region.size(p).powi(-3))
    };
    let found: Vec<f64> = parallel::filter_map(60_000, density);
    if found.is_empty() {
        1.0
    } else {
        found.iter().sum::<f64>() / found.len() as f64
    }
}

#[cfg(test)]
mod tests;
