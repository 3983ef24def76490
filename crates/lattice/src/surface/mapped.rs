//! Surfaces whose cells change their size from place to place.
//!
//! The surface repeats in a space of its own, to which a [`CellMap`] leads. A distance there is not
//! one in the part: across the surface it is longer or shorter by the ratio of the level value's
//! gradients in both. Thickness is told there and brought back by that ratio, so that walls keep
//! their thickness in mm while cells grow and shrink.

use super::thick::Periodic;
use super::Surface;
use crate::cell_map::CellMap;
use crate::grid_field::{distance, reduced, weighted, COUNT};
use crate::level::expansion;
use crate::levels::Levels;
use crate::{batches, BareStructure, Facts, Gauge, GridField, Lattice, Met, Segment, Station};
use glam::{DMat3, DVec3};
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::polygonise::RowPoints;
use ulmix_recipe::Form;
use wide::f32x8;

/// A surface in one of its forms among cells of several sizes, before it is given thickness.
#[derive(Clone)]
pub struct MappedSurface {
    shared: Arc<MappedShared>,
}

struct MappedShared {
    /// The surface among cells of the largest size.
    periodic: Periodic,
    map: CellMap,
    levels: Levels,
    /// Size of the smallest cells over that of the largest.
    least: f64,
    facts: Facts,
}

impl MappedSurface {
    /// A surface of cells of the largest size, led through a map; `least` is the size of the
    /// smallest cells over that of the largest.
    pub fn new(periodic: Periodic, map: CellMap, least: f64, facts: Facts) -> MappedSurface {
        let levels = Levels::of(&periodic, 1.5 * periodic.cell());
        MappedSurface { shared: Arc::new(MappedShared { periodic, map, levels, least, facts }) }
    }
}

impl MappedShared {
    fn surface(&self) -> &Surface {
        self.periodic.surface()
    }

    fn walls(&self) -> bool {
        self.periodic.form() == Form::Walls
    }

    /// Where a place of the part lies among cells of one size, in the surface's own axes, and how
    /// that changes by the place.
    fn led(&self, p: DVec3) -> (DVec3, DMat3) {
        let surface = self.surface();
        self.map.at(surface.turn * (p - surface.shift))
    }

    /// The thickness at which a place becomes material, in mm, and the direction in which that
    /// grows, unit.
    fn needed(&self, p: DVec3) -> (f64, DVec3) {
        let surface = self.surface();
        let (at, slopes) = self.led(p);
        let (d, g) = surface.distance_at_phases(at * surface.wave);
        let gradient = slopes.transpose() * g;
        let wider = g.length() / gradient.length().max(1e-12);
        let (measure, outward) = if self.walls() { (d.abs(), d.signum()) } else { (-d, -1.0) };
        let normal = surface.turn.transpose() * gradient.normalize_or(DVec3::Z) * outward;
        (wider * self.levels.thickness(measure), normal)
    }
}

impl BareStructure for MappedSurface {
    fn measure(&self, p: DVec3) -> f64 {
        0.5 * self.shared.needed(p).0
    }

    fn level(&self, thickness: f64) -> f64 {
        0.5 * thickness
    }

    fn cell(&self) -> f64 {
        self.shared.least * self.shared.periodic.cell()
    }

    fn opening(&self, thickness: f64) -> f64 {
        self.shared.least * self.shared.periodic.opening(thickness / self.shared.least)
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        let (periodic, least) = (&self.shared.periodic, self.shared.least);
        let [smallest, largest] = [least, 1.0].map(|size| periodic.thicken(thickness / size));
        Box::new(MappedLattice { shared: self.shared.clone(), thickness, smallest, largest })
    }

    fn facts(&self) -> Option<&Facts> {
        Some(&self.shared.facts)
    }

    fn gauge(&self) -> Gauge {
        self.shared.periodic.gauge()
    }

    fn station(&self, p: DVec3, thickness: f64) -> Option<Station> {
        let MappedShared { periodic, map, .. } = &*self.shared;
        let Surface { turn, shift, .. } = *periodic.surface();
        let back = |q: DVec3| shift + turn.transpose() * q;
        let among = periodic.station(back(self.shared.led(p).0), thickness)?;
        let foot = map.back(turn * (among.foot - shift), turn * (p - shift))?;
        let out = map.at(foot).1.inverse();
        let ray = |(direction, to): (DVec3, f64)| {
            ((turn.transpose() * (out * (turn * direction))).normalize_or(direction), to)
        };
        Some(Station { foot: back(foot), rays: among.rays.into_iter().map(ray).collect() })
    }

    fn bytes(&self) -> usize {
        let MappedShared { periodic, map, levels, .. } = &*self.shared;
        std::mem::size_of::<MappedShared>() + periodic.bytes() + map.bytes() + levels.bytes()
    }
}

/// A surface among cells of several sizes, with thickness.
struct MappedLattice {
    shared: Arc<MappedShared>,
    /// As asked. mm.
    thickness: f64,
    /// The same among cells of one size, where all are as the smallest, and as the largest. Those
    /// of the smallest are drawn as large as the largest.
    smallest: Box<dyn Lattice>,
    largest: Box<dyn Lattice>,
}

impl Lattice for MappedLattice {
    fn value(&self, p: DVec3) -> f64 {
        0.5 * (self.shared.needed(p).0 - self.thickness)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.shared.needed(p).1
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a> {
        Box::new(MappedGrid { lattice: self, grid, reach })
    }

    fn allows_overshoot(&self, step: f64) -> bool {
        let step = SHEARED * step;
        self.smallest.allows_overshoot(step / self.shared.least)
            && self.largest.allows_overshoot(step)
    }
}

/// How much a cell may be narrower along one of its directions than in the mean.
const SHEARED: f64 = 1.4;
const LANES: usize = 8;

struct MappedGrid<'a> {
    lattice: &'a MappedLattice,
    grid: &'a Grid,
    /// Signs are taken as if the lattice reached this much further. mm.
    reach: f64,
}

/// Places of eight samples among cells of one size, each within half a turn of zero, and how they
/// change by the place in the surface's axes: by row, then by column.
struct MappedEight {
    phases: [f32x8; 3],
    slopes: [[f32x8; 3]; 3],
}

impl MappedGrid<'_> {
    /// Eight places led one by one, the last one repeated.
    #[inline]
    fn led(&self, points: &[DVec3]) -> MappedEight {
        let shared = &*self.lattice.shared;
        let wave = shared.surface().wave;
        let mut phases = [[0f32; LANES]; 3];
        let mut slopes = [[[0f32; LANES]; 3]; 3];
        for lane in 0..LANES {
            let (at, by) = shared.led(points[lane.min(points.len() - 1)]);
            let columns = by.to_cols_array_2d();
            for row in 0..3 {
                phases[row][lane] = reduced(at[row] * wave[row]);
                (0..3).for_each(|c| slopes[row][c][lane] = columns[c][row] as f32);
            }
        }
        MappedEight {
            phases: phases.map(f32x8::from),
            slopes: slopes.map(|row| row.map(f32x8::from)),
        }
    }

    /// The field's values and its slopes in the surface's axes.
    #[inline]
    fn field(&self, eight: &MappedEight) -> (f32x8, [f32x8; 3]) {
        let shared = &*self.lattice.shared;
        let surface = shared.surface();
        let [x, y, z] = eight.phases.map(|v| v.sin_cos());
        let at = expansion(surface.kind, [x.0, y.0, z.0], [x.1, y.1, z.1]);
        let wave = surface.wave.as_vec3().to_array();
        let (d, g, length) = distance(wave, surface.sense as f32, at);
        let by = |c: usize| {
            g[0] * eight.slopes[0][c] + g[1] * eight.slopes[1][c] + g[2] * eight.slopes[2][c]
        };
        let gradient = [by(0), by(1), by(2)];
        let [gx, gy, gz] = gradient;
        let inverse = f32x8::ONE / (gx * gx + gy * gy + gz * gz).sqrt().max(f32x8::splat(1e-12));
        let (measure, outward) = if shared.walls() {
            (d.abs(), d.simd_lt(f32x8::ZERO).select(-inverse, inverse))
        } else {
            (-d, -inverse)
        };
        let needed = measure.to_array().map(|m| shared.levels.thickness(m as f64) as f32);
        let value = length * inverse * f32x8::from(needed) - self.lattice.thickness as f32;
        (value * 0.5, gradient.map(|v| v * outward))
    }

    /// Bit i set when sample `i` of eight along x from a place on lies in the lattice. `ends` are
    /// where the first sample and the one after the last are led.
    #[inline]
    fn byte(&self, ends: [&(DVec3, DMat3); 2]) -> u64 {
        let shared = &*self.lattice.shared;
        let wave = shared.surface().wave;
        let step = self.grid.step * LANES as f64;
        let along = shared.surface().turn.x_axis * step;
        let t = COUNT * (1.0 / LANES as f32);
        let [(a, by_a), (b, by_b)] = ends;
        // The cubic that has the places and the slopes of both ends (Hermite 1878).
        let (from, to) = (*by_a * along, *by_b * along);
        let way = *b - *a;
        let mut phases = [f32x8::ZERO; 3];
        for axis in 0..3 {
            let per = wave[axis];
            let (d, m0, m1) = (way[axis] * per, from[axis] * per, to[axis] * per);
            let c2 = (3.0 * d - 2.0 * m0 - m1) as f32;
            let c3 = (m0 + m1 - 2.0 * d) as f32;
            phases[axis] = ((t * c3 + c2) * t + m0 as f32) * t + reduced(a[axis] * per);
        }
        let mut slopes = [[f32x8::ZERO; 3]; 3];
        let (low, high) = (by_a.to_cols_array_2d(), by_b.to_cols_array_2d());
        for (row, slopes) in slopes.iter_mut().enumerate() {
            for (c, slope) in slopes.iter_mut().enumerate() {
                let (low, high) = (low[c][row] as f32, high[c][row] as f32);
                *slope = t * (high - low) + low;
            }
        }
        let (value, _) = self.field(&MappedEight { phases, slopes });
        value.simd_lt(f32x8::splat(self.reach as f32)).to_bitmask() as u64
    }
}

impl GridField for MappedGrid<'_> {
    fn value(&self, p: DVec3) -> f64 {
        self.lattice.value(p)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.lattice.normal(p)
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let shared = &*self.lattice.shared;
        let mut out = wanted.clone();
        out.par_words_mut(|w, j, k, word| {
            let mut held = 0;
            // Where the last eight ended the next begin.
            let mut last: Option<(usize, (DVec3, DMat3))> = None;
            for eighth in (0..8).filter(|eighth| *word >> (8 * eighth) & 255 != 0) {
                let led = |n: usize| {
                    let i = 64 * w + 8 * n;
                    shared.led(self.grid.at(i as u32, j as u32, k as u32))
                };
                let from = match last {
                    Some((n, led)) if n == eighth => led,
                    _ => led(eighth),
                };
                let to = led(eighth + 1);
                held |= self.byte([&from, &to]) << (8 * eighth);
                last = Some((eighth + 1, to));
            }
            *word &= held;
        });
        out
    }

    fn values(&self, points: &[DVec3], out: &mut Vec<f64>) {
        out.clear();
        for points in points.chunks(LANES) {
            let (value, _) = self.field(&self.led(points));
            out.extend(value.to_array()[..points.len()].iter().map(|v| *v as f64));
        }
    }

    fn slopes(&self, points: &[DVec3], out: &mut Vec<(f64, DVec3)>) {
        out.clear();
        let turn = self.lattice.shared.surface().turn.as_mat3().to_cols_array_2d();
        for points in points.chunks(LANES) {
            let (value, gradient) = self.field(&self.led(points));
            let slope = [0, 1, 2].map(|axis| weighted(turn[axis], &gradient).to_array());
            let value = value.to_array();
            out.extend((0..points.len()).map(|n| {
                let slope = [0, 1, 2].map(|axis| slope[axis][n] as f64);
                (value[n] as f64, DVec3::from(slope))
            }));
        }
    }

    fn met(&self, segments: &[Segment], out: &mut Vec<Met>) {
        batches::met(self, segments, 1e-4 * self.grid.step, out);
    }

    fn project(&self, row: &mut RowPoints) {
        // A network has one side only.
        let thin = self.lattice.shared.walls().then_some(0.5 * self.lattice.thickness);
        let middle = thin.map_or(f64::NEG_INFINITY, |thin| 0.5 * self.reach - 0.5 * thin);
        batches::project(self, self.grid, |_| middle, row);
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{placed, KINDS};
    use super::*;
    use glam::UVec3;
    use ulmix_field::numeric::{low_discrepancy, median};
    use ulmix_mesh::Bounds;
    use ulmix_recipe::{SurfaceKind, SurfacePattern};

    const BOX: Bounds =
        Bounds { min: DVec3::new(-40.0, -20.0, -20.0), max: DVec3::new(40.0, 20.0, 20.0) };

    /// Cells of 12 mm at one end that are half as large at the other, turned in the part.
    fn doubling(kind: SurfaceKind, form: Form) -> MappedSurface {
        let structure = placed([12.0; 3]);
        let pattern = SurfacePattern { surface: kind, form };
        let share = |p: DVec3| 0.75 + 0.25 * p.x / 40.0;
        let map = CellMap::of(&BOX, &share, 3.0, false);
        let periodic = Periodic::new(&pattern, &structure, DVec3::ONE);
        MappedSurface::new(periodic, map, 0.5, Facts::default())
    }

    /// Places in the box, in the part's axes.
    fn places(bare: &MappedSurface, count: u64) -> Vec<DVec3> {
        let surface = bare.shared.surface();
        let local = (1..=count).map(|n| BOX.min + low_discrepancy(n) * BOX.size());
        local.map(|p| surface.shift + surface.turn.transpose() * p).collect()
    }

    /// From a place in a wall the way to its border both ways, along the normal.
    fn across(lattice: &dyn Lattice, p: DVec3, most: f64) -> Option<f64> {
        let way = lattice.normal(p);
        let to = |sign: f64| {
            let steps = 400;
            let at = |n: usize| p + way * (sign * most * n as f64 / steps as f64);
            let n = (1..=steps).find(|n| lattice.value(at(*n)) > 0.0)?;
            let (low, high) = (lattice.value(at(n - 1)), lattice.value(at(n)));
            Some(most / steps as f64 * (n as f64 - high / (high - low)))
        };
        Some(to(1.0)? + to(-1.0)?)
    }

    /// A map to cells of one size changes nothing.
    #[test]
    fn cells_of_one_size_are_as_they_are_without_a_map() {
        for kind in KINDS {
            for (form, thickness) in [(Form::Walls, 0.6), (Form::OtherNetwork, 1.6)] {
                let pattern = SurfacePattern { surface: kind, form };
                let map = CellMap::of(&BOX, &|_| 0.5, 3.0, false);
                let large = Periodic::new(&pattern, &placed([12.0; 3]), DVec3::ONE);
                let mapped = MappedSurface::new(large, map, 0.5, Facts::default());
                let even =
                    Periodic::new(&pattern, &placed([6.0; 3]), DVec3::ONE).thicken(thickness);
                let lattice = mapped.thicken(thickness);
                let at_border = |p: &DVec3| even.value(*p).abs() < 0.05;
                for p in places(&mapped, 4000).into_iter().filter(at_border) {
                    let (a, b) = (lattice.value(p), even.value(p));
                    assert!((a - b).abs() < 0.05, "{kind:?} {form:?} {a} {b}");
                }
            }
        }
    }

    #[test]
    fn walls_keep_their_thickness_while_cells_double() {
        for kind in KINDS {
            let bare = doubling(kind, Form::Walls);
            // Sheets of the lidinoid lie near to each other.
            let thick = if kind == SurfaceKind::Lidinoid { 0.5 } else { 0.8 };
            for thickness in [0.4, thick] {
                let lattice = bare.thicken(thickness);
                let surface = |p: &DVec3| bare.measure(*p) < 0.02;
                let found: Vec<f64> = places(&bare, 60_000)
                    .iter()
                    .filter(|p| surface(p))
                    .filter_map(|p| across(&*lattice, *p, 2.0 * thickness))
                    .collect();
                assert!(found.len() > 100, "{kind:?}: {}", found.len());
                let middle = median(found).unwrap();
                assert!((middle / thickness - 1.0).abs() < 0.03, "{kind:?} {thickness}: {middle}");
            }
        }
    }

    #[test]
    fn many_at_a_time_are_as_one_by_one() {
        for (kind, form) in [
            (SurfaceKind::Gyroid, Form::Walls),
            (SurfaceKind::SchwarzD, Form::Network),
            (SurfaceKind::Lidinoid, Form::Walls),
        ] {
            let bare = doubling(kind, form);
            let lattice = bare.thicken(1.1);
            let grid =
                Grid { origin: DVec3::new(-9.0, -8.0, -7.0), step: 0.3, size: UVec3::splat(60) };
            let on_grid = lattice.on_grid(&grid, 0.0);
            let points: Vec<DVec3> =
                (1..=203).map(|n| grid.origin + low_discrepancy(n) * 18.0).collect();
            let (mut values, mut slopes) = (Vec::new(), Vec::new());
            on_grid.values(&points, &mut values);
            on_grid.slopes(&points, &mut slopes);
            for (n, p) in points.iter().enumerate() {
                let value = lattice.value(*p);
                assert!((values[n] - value).abs() < 2e-3, "{kind:?} {} {value}", values[n]);
                assert!((slopes[n].0 - value).abs() < 2e-3);
                assert!(
                    slopes[n].1.distance(lattice.normal(*p)) < 2e-2,
                    "{kind:?} {}",
                    slopes[n].1
                );
            }
            let mut all = Bits::new(&grid);
            all.par_words_mut(|_, _, _, word| *word = u64::MAX);
            let signs = on_grid.signs(&all);
            let (mut held, mut wrong) = (0, 0);
            for n in 0..60u32.pow(3) {
                let [i, j, k] = [n % 60, n / 60 % 60, n / 3600];
                let value = lattice.value(grid.at(i, j, k));
                held += (value < 0.0) as usize;
                wrong += (value.abs() > 2e-3 && signs.get(i, j, k) != (value < 0.0)) as usize;
            }
            assert!(wrong == 0 && held > 10_000, "{kind:?}: {wrong} of {held}");
        }
    }

    /// What a gauge measures stands on the narrowest places of a network, wherever they are led.
    #[test]
    fn a_network_is_as_wide_as_asked_where_it_is_narrowest() {
        let bare = doubling(SurfaceKind::Gyroid, Form::Network);
        let lattice = bare.thicken(1.4);
        let mut wide: Vec<f64> = Vec::new();
        for p in places(&bare, 400) {
            let station = bare.station(p, 1.4).expect("the box is mapped");
            assert!(lattice.value(station.foot) < 0.0);
            let (ray, half) = station.rays[0];
            let on = |t: f64| lattice.value(station.foot + ray * t);
            let at = ulmix_field::numeric::root(|t| on(t * 2.0 * half), on(0.0), on(2.0 * half));
            wide.push(at * 2.0);
        }
        let middle = median(wide).unwrap();
        assert!((middle - 1.0).abs() < 0.05, "{middle}");
    }
}
