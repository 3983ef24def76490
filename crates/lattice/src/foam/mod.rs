//! Foam sheet: a random, two-sided labyrinth surface that meets the part's surface at a right
//! angle, of one cell size or of smaller cells in places.
//!
//! | module | idea |
//! |---|---|
//! | `cells` | the part on the cells of a grid, with shares of faces and volumes |
//! | `lengths` | the length of waves by place |
//! | `relax` | noise relaxed into a labyrinth (Swift & Hohenberg 1977) |
//! | `field` | the relaxed field as a smooth function |
//! | `contact` | the angle at which the sheet meets the part's surface |

mod cells;
mod contact;
mod field;
mod lengths;
mod relax;

use super::site::Site;
use super::sizes::CellSizes;
use super::surface::turn;
use super::{BareStructure, Facts, GridField, Lattice};
use cells::FoamCells;
use field::FoamField;
use glam::{DVec3, UVec3, Vec3};
use lengths::Lengths;
use std::f64::consts::TAU;
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::numeric::median;
use ulmix_field::polygonise::RowPoints;
use ulmix_part::Part;
use ulmix_recipe::{FoamPattern, Structure};

/// A grid on which noise is relaxed: cells to the shortest wave, steps, and the time of each.
type Pass = (f64, usize, f64);
/// First noise becomes a labyrinth; on a finer grid it then comes to stand upright on the part's
/// surface.
const FULL: [Pass; 2] = [(8.0, 20, 0.5), (16.0, 1, 0.5)];
/// Passes where waves are of different lengths: the longest waves make time steps dear.
const GRADED: [Pass; 2] = [(6.0, 20, 0.5), (10.0, 1, 0.5)];
/// While values are chosen: the same pattern, not yet wholly at rest.
const DRAFT: [Pass; 1] = [(6.0, 5, 1.0)];
const GRADED_DRAFT: [Pass; 1] = [(5.0, 5, 1.0)];
/// Most cells of the finer grid: where a part would need more, waves get fewer cells each.
const MOST_CELLS: f64 = 16e6;
/// Free cells around the part.
const MARGIN: f64 = 6.0;

/// The sheet before it is given thickness.
#[derive(Clone)]
pub struct Foam {
    sheet: Arc<Sheet>,
    cell: f64,
    facts: Facts,
    /// Points of the sheet.
    samples: Arc<Vec<DVec3>>,
}

/// The sheet as the zeros of a field.
struct Sheet {
    field: FoamField,
    /// Where waves are of different lengths.
    lengths: Option<Lengths>,
}

impl Sheet {
    /// Signed distance in mm, and the gradient of the field: of a plane wave the distance is exact,
    /// and it ends at a quarter of a wave, `share` of a cell long.
    fn distance(&self, (u, g): (f64, DVec3), share: f64) -> (f64, DVec3) {
        let slope = g.length();
        // Per wave.
        let per_wave = (g * self.field.scale).length() * share;
        let phase = u.abs().atan2(per_wave / TAU);
        let wave =
            if slope > 1e-300 { per_wave / slope } else { self.field.scale.min_element() * share };
        (u.signum() * phase / TAU * wave, g)
    }

    fn share(&self, p: DVec3) -> f64 {
        self.lengths.as_ref().map_or(1.0, |l| l.at(p / self.field.scale) as f64)
    }

    fn at(&self, p: DVec3) -> (f64, DVec3) {
        self.distance(self.field.at(p), self.share(p))
    }

    /// The nearest zero by Newton steps; `None` when there is none near.
    fn foot(&self, mut p: DVec3, near: f64) -> Option<DVec3> {
        let start = p;
        for _ in 0..12 {
            let (d, g) = self.at(p);
            let step = g.normalize_or_zero() * d;
            p -= step;
            if p.distance(start) > near || step == DVec3::ZERO {
                return None;
            }
            if d.abs() < 1e-6 * near {
                return Some(p);
            }
        }
        None
    }
}

impl Sheet {
    /// Relaxes a sheet in the part, and gives the cells that it was relaxed on last. `None` when
    /// cancelled.
    fn relaxed(
        site: Site,
        pattern: &FoamPattern,
        s: &Structure,
        sizes: Option<CellSizes>,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<(Sheet, FoamCells)> {
        let part = site.part;
        let scale = DVec3::from(s.cell_mm);
        let least = sizes.as_ref().map_or(1.0, CellSizes::least);
        let passes: &[Pass] = match (site.draft, sizes.is_some()) {
            (false, false) => &FULL,
            (false, true) => &GRADED,
            (true, false) => &DRAFT,
            (true, true) => &GRADED_DRAFT,
        };
        let bounds = part.mesh.bounds();
        let finest = passes[passes.len() - 1].0;
        let per_unit = finest / least;
        let size = bounds.size() / scale + 2.0 * MARGIN / per_unit;
        let coarser = ((size.x * size.y * size.z * per_unit.powi(3)) / MOST_CELLS).cbrt().max(1.0);
        let grid = |per_wave: f64| {
            let step = coarser * least / per_wave;
            // Not on the grid's own planes.
            let origin = bounds.min / scale - step * (MARGIN + 0.37);
            let size = (bounds.size() / scale / step).ceil().as_uvec3()
                + UVec3::splat(2 * MARGIN as u32 + 1);
            Grid { origin, step, size }
        };
        let lengths = sizes.map(|sizes| Lengths { sizes, scale });
        // Shifting and turning the structure moves the noise that it grows from.
        let anchor = (bounds.centre() + DVec3::from(s.shift_mm)) / scale;
        let mut made: Option<(FoamField, FoamCells)> = None;
        for &(per_wave, steps, time) in passes {
            let cells = FoamCells::of(part, scale, grid(per_wave), cancelled)?;
            let start = match &made {
                None => {
                    relax::noise(&cells, pattern.random, lengths.as_ref(), |p| p - anchor, turn(s))
                }
                Some((rough, _)) => rough.on(&cells),
            };
            let relaxed = relax::relax(&cells, lengths.as_ref(), start, (steps, time), cancelled)?;
            made = Some((FoamField::new(part, &cells, scale, relaxed), cells));
        }
        made.map(|(field, cells)| (Sheet { field, lengths }, cells))
    }

    /// The shortest wave over the cell size.
    fn least(&self) -> f64 {
        self.lengths.as_ref().map_or(1.0, Lengths::least)
    }

    /// Points of the sheet, well inside the part.
    fn samples(&self, part: &Part, cells: &FoamCells, near: f64) -> Vec<DVec3> {
        let every = (cells.count() / 6000).max(1);
        let inside = (0..cells.share.len()).filter(|&n| cells.share[n] == 1.0).step_by(every);
        let mut samples: Vec<DVec3> =
            inside.filter_map(|n| self.foot(cells.place(n) * self.field.scale, near)).collect();
        samples.retain(|p| part.distance.value(*p) < -0.25 * near);
        samples.truncate(1000);
        samples
    }
}

impl Foam {
    /// Relaxes a sheet in the part. `None` when cancelled.
    pub fn new(
        site: Site,
        pattern: &FoamPattern,
        s: &Structure,
        sizes: Option<CellSizes>,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<Foam> {
        let part = site.part;
        let (sheet, cells) = Sheet::relaxed(site, pattern, s, sizes, cancelled)?;
        let cell = sheet.least() * s.smallest();
        let near = 0.5 * cell;
        let samples = Arc::new(sheet.samples(part, &cells, near));
        // A draft is not at rest there yet.
        let contact = if site.draft { None } else { contact::angles(part, &sheet, near) };
        let facts = Facts { contact, components: 1, ..Facts::default() };
        Some(Foam { sheet: Arc::new(sheet), cell, facts, samples })
    }
}

impl BareStructure for Foam {
    fn measure(&self, p: DVec3) -> f64 {
        self.sheet.at(p).0.abs()
    }

    /// The distance value that lies, in the median, half a wall from the sheet; from where it ends
    /// it goes on evenly, so that more thickness is always more material.
    fn level(&self, thickness: f64) -> f64 {
        let measured = (0.5 * thickness).min(0.15 * self.cell);
        let values = self.samples.iter().map(|&p| {
            let n = self.sheet.at(p).1.normalize_or(DVec3::Z);
            0.5 * (self.measure(p + n * measured) + self.measure(p - n * measured))
        });
        median(values.collect()).unwrap_or(measured) + (0.5 * thickness - measured)
    }

    fn cell(&self) -> f64 {
        self.cell
    }

    /// Sheets lie half a wave apart.
    fn opening(&self, thickness: f64) -> f64 {
        0.5 * self.cell - thickness
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        let level = self.level(thickness);
        Box::new(Walls {
            sheet: self.sheet.clone(),
            level,
            thickness,
            opening: self.opening(thickness),
            cell: self.cell,
        })
    }

    fn facts(&self) -> Option<&Facts> {
        Some(&self.facts)
    }

    fn bytes(&self) -> usize {
        self.sheet.field.bytes()
            + self.sheet.lengths.as_ref().map_or(0, Lengths::bytes)
            + 24 * self.samples.len()
    }
}

/// Walls around the sheet.
struct Walls {
    sheet: Arc<Sheet>,
    level: f64,
    thickness: f64,
    opening: f64,
    cell: f64,
}

impl Lattice for Walls {
    fn value(&self, p: DVec3) -> f64 {
        self.sheet.at(p).0.abs() - self.level
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        let (d, g) = self.sheet.at(p);
        // As for any distance: the direction at the nearest point of the sheet.
        let foot = p - g.normalize_or_zero() * d;
        self.sheet.at(foot).1.normalize_or(DVec3::Z) * d.signum()
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a> {
        Box::new(OnGrid { walls: self, grid, reach })
    }

    fn allows_overshoot(&self, step: f64) -> bool {
        self.thickness.min(self.opening) > 2.0 * step && self.cell > 12.0 * step
    }
}

struct OnGrid<'a> {
    walls: &'a Walls,
    grid: &'a Grid,
    reach: f64,
}

/// Newton steps onto the border.
const MOST_STEPS: usize = 4;

impl GridField for OnGrid<'_> {
    fn value(&self, p: DVec3) -> f64 {
        self.walls.value(p)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.walls.normal(p)
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let sheet = &self.walls.sheet;
        let limit = self.walls.level + self.reach;
        let mut out = wanted.clone();
        out.par_rows_mut(|j, k, row| {
            let Some(first) = row.iter().position(|w| *w != 0) else { return };
            let last = row.len()
                - row.iter().rev().position(|w| *w != 0).expect("a word that is not empty");
            let from = self.grid.at(64 * first as u32, j as u32, k as u32);
            sheet.field.along_x(from, self.grid.step, 64 * (last - first), |i, u, g| {
                let (word, bit) = (first + i / 64, 1u64 << (i % 64));
                let share = || sheet.share(from + DVec3::X * (i as f64 * self.grid.step));
                if row[word] & bit != 0 && sheet.distance((u, g), share()).0.abs() >= limit {
                    row[word] &= !bit;
                }
            });
        });
        out
    }

    fn project(&self, row: &mut RowPoints) {
        let sheet = &self.walls.sheet;
        let step = self.grid.step;
        for n in 0..row.count {
            let corner = self.grid.at(row.i[n], row.j, row.k);
            let place = |local: Vec3| corner + local.as_dvec3() * step;
            let mut p = place(Vec3::from([0, 1, 2].map(|a| row.local[a][n])));
            let (mut d, mut g) = sheet.at(p);
            // The side of the wall meant: plain, or so near the middle that the outer corner must
            // tell.
            let mut side = d;
            if d.abs() < 0.5 * self.walls.level.max(self.reach) {
                side = sheet
                    .at(place(Vec3::from([0, 1, 2].map(|a| (row.outside[n] >> a & 1) as f32))))
                    .0;
            }
            let level = if side < 0.0 { -self.walls.level } else { self.walls.level };
            for round in 0.. {
                p -= g.normalize_or_zero() * (d - level);
                if round == MOST_STEPS || (d - level).abs() < 1e-3 * step {
                    break;
                }
                (d, g) = sheet.at(p);
            }
            let local = ((p - corner) / step).as_vec3();
            (0..3).for_each(|a| row.local[a][n] = local[a]);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::density::DensityCurve;
    use crate::sizes::GradedValues;
    use ulmix_field::numeric::low_discrepancy;
    use ulmix_mesh::TriMesh;
    use ulmix_part::grading::GradedField;
    use ulmix_recipe::grading::{Given, GradedValue, Grading, PlacedGrading, Source};
    use ulmix_recipe::{Pattern, Zones};

    fn foam(part: &Part, random: u32, cell_mm: [f64; 3]) -> Foam {
        let s = Structure { cell_mm, ..Structure::default() };
        Foam::new(part.into(), &FoamPattern { random }, &s, None, &|| false).unwrap()
    }

    #[test]
    fn it_meets_round_and_flat_surfaces_at_a_right_angle() {
        let ball = Part::prepare(&TriMesh::sphere(20.0, 5)).unwrap();
        let block =
            Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(50.0, 34.0, 30.0))).unwrap();
        for part in [&ball, &block] {
            let c = foam(part, 1, [8.0; 3]).facts.contact.unwrap();
            assert!(c.median_deg < 3.0 && c.within_ten_percent > 95.0, "{c:?}");
        }
    }

    #[test]
    fn its_area_is_that_of_its_cell_size_and_its_sides_are_alike() {
        let part = Part::prepare(&TriMesh::sphere(24.0, 5)).unwrap();
        let cell = 8.0;
        let f = foam(&part, 3, [cell; 3]);
        let points: Vec<DVec3> = (1..200_000)
            .map(|i| (low_discrepancy(i) - 0.5) * 48.0)
            .filter(|p| p.length() < 23.0)
            .collect();
        let up =
            points.iter().filter(|p| f.sheet.at(**p).0 > 0.0).count() as f64 / points.len() as f64;
        assert!((up - 0.5).abs() < 0.03, "{up}");
        // Area per volume times the cell size, measured for relaxed fields of this kind: 2.04 to
        // 2.14.
        let curve = DensityCurve::new(Arc::new(f.clone()), &points);
        let area = curve.density(0.4) / 0.4 * cell;
        assert!(area > 1.95 && area < 2.25, "{area}");
        // True thickness, in the median, from foot to foot of the border.
        for t in [0.6, 1.6] {
            let walls = f.thicken(t);
            let mut found: Vec<f64> = f
                .samples
                .iter()
                .map(|&p| {
                    let n = f.sheet.at(p).1.normalize();
                    let reach = |n: DVec3| {
                        (0..400)
                            .map(|i| i as f64 * 0.005)
                            .find(|r| walls.value(p + n * *r) >= 0.0)
                            .unwrap_or(2.0)
                    };
                    reach(n) + reach(-n)
                })
                .collect();
            found.sort_by(f64::total_cmp);
            let median = found[found.len() / 2];
            assert!((median / t - 1.0).abs() < 0.03, "{median} of {t}");
        }
    }

    #[test]
    fn a_random_number_repeats_it() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let at = |random| {
            let f = foam(&part, random, [6.0; 3]);
            (1..300)
                .map(|i| f.sheet.at(low_discrepancy(i) * 20.0).0.to_bits())
                .collect::<Vec<u64>>()
        };
        let one = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
        assert_eq!(at(5), one.install(|| at(5)));
        assert_ne!(at(5), at(6));
    }

    #[test]
    fn its_signs_on_a_grid_are_those_of_its_value() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let walls = foam(&part, 5, [6.0, 7.0, 8.0]).thicken(0.9);
        let grid = Grid::covering(&part.mesh.bounds(), 0.7);
        let mut wanted = Bits::new(&grid);
        let all = |f: &mut dyn FnMut(u32, u32, u32)| {
            (0..grid.size.z).for_each(|k| {
                (0..grid.size.y).for_each(|j| (0..grid.size.x).for_each(|i| f(i, j, k)))
            })
        };
        all(&mut |i, j, k| wanted.set(i, j, k));
        let signs = walls.on_grid(&grid, 0.0).signs(&wanted);
        all(&mut |i, j, k| {
            let v = walls.value(grid.at(i, j, k));
            assert!(v.abs() < 1e-6 || signs.get(i, j, k) == (v < 0.0), "{i} {j} {k}: {v}");
        });
    }

    /// A sheet of cells that have a share of their size at the surface, in percent, and grow to it
    /// over a distance in mm.
    fn toward_surface(part: &Part, s: &Structure, percent: f64, reach: f64, draft: bool) -> Foam {
        let (of, shares) = (GradedValue::CellSize, [percent, 100.0]);
        let grading = Grading::fading(of, Given::Percent, [Source::Surface], shares, reach);
        let zones = Zones::default();
        let placed = PlacedGrading::new(&grading, &[], &zones);
        let field = GradedField::of(part, &placed).unwrap();
        let values = field.sampled(part, s.smallest(), &|| false).unwrap();
        let sizes = Some(GradedValues { values: &values, given: grading.given });
        let site = Site { draft, sizes, ..part.into() };
        let pattern = FoamPattern::default();
        let s = Structure { pattern: Pattern::FoamSheet(pattern.clone()), ..s.clone() };
        let (sizes, s) = CellSizes::of(site.sizes, &s);
        Foam::new(site, &pattern, &s, sizes, &|| false).unwrap()
    }

    #[test]
    fn waves_are_as_long_as_asked_near_and_far_and_stand_upright() {
        let part = Part::prepare(&TriMesh::sphere(22.0, 5)).unwrap();
        let s = Structure { cell_mm: [12.0; 3], ..Structure::default() };
        let f = toward_surface(&part, &s, 100.0 / 3.0, 16.0, false);
        let c = f.facts.contact.unwrap();
        assert!(c.median_deg < 3.0 && c.within_ten_percent > 95.0, "{c:?}");
        // Area per volume times the wave's length is the same everywhere, as of waves of one
        // length.
        let area = |low: f64, high: f64| {
            let points = (1..400_000u64).map(|i| (low_discrepancy(i) - 0.5) * 44.0);
            let shell: Vec<DVec3> = points.filter(|p| (low..high).contains(&p.length())).collect();
            let length =
                shell.iter().map(|p| 12.0 * f.sheet.share(*p)).sum::<f64>() / shell.len() as f64;
            let near = shell.iter().filter(|p| f.measure(**p) < 0.1).count();
            near as f64 / shell.len() as f64 / 0.2 * length
        };
        let found = [area(0.0, 8.0), area(10.0, 14.0), area(15.0, 18.0), area(19.0, 21.0)];
        assert!(found.iter().all(|a| (1.75..2.45).contains(a)), "{found:?}");
        let draft = toward_surface(&part, &s, 100.0 / 3.0, 16.0, true);
        // The same labyrinth: most places are on the same side.
        let places =
            || (1..20_000).map(|i| (low_discrepancy(i) - 0.5) * 44.0).filter(|p| p.length() < 21.0);
        let same =
            places().filter(|p| (draft.sheet.at(*p).0 > 0.0) == (f.sheet.at(*p).0 > 0.0)).count();
        assert!(same as f64 > 0.85 * places().count() as f64, "{same} of {}", places().count());
    }

    #[test]
    fn a_share_of_all_is_no_grading() {
        let part = Part::prepare(&TriMesh::sphere(12.0, 4)).unwrap();
        let s = Structure { cell_mm: [8.0; 3], ..Structure::default() };
        let f = toward_surface(&part, &s, 100.0, 5.0, false);
        assert!(f.samples.len() > 300 && f.cell == 8.0);
    }
}
