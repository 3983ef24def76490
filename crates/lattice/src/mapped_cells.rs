//! Cells that repeat, of a size that changes from place to place: surfaces, struts and walls that
//! stand upright, each led through the same map.

use super::cell_map::CellMap;
use super::members::{Frame, StrutSource};
use super::net::Net;
use super::region::box_of;
use super::sizes::CellSizes;
use super::skeleton::Skeleton;
use super::surface::{MappedSurface, Periodic};
use super::unit::{self, UnitStrut};
use super::{Facts, SizeFit};
use glam::DVec3;
use std::collections::HashMap;
use ulmix_field::numeric::low_discrepancy;
use ulmix_mesh::{parallel, Bounds};
use ulmix_part::point_location::PointLocator;
use ulmix_part::Part;
use ulmix_recipe::{ExtrudedKind, Joins, RecipeError, RecipeFault, Structure, SurfacePattern};

/// What cells of several sizes are made in.
pub(super) struct Ground<'a> {
    pub part: &'a Part,
    /// The structure with the cell size of where cells are largest.
    pub structure: &'a Structure,
    pub frame: Frame,
    pub sizes: &'a CellSizes,
    pub sides: PointLocator<'a>,
}

/// Most cells of struts or walls that are laid one by one.
const MOST_CELLS: usize = 60_000;
/// Samples of the map along the smallest side of the largest cells.
const ALONG_CELL: f64 = 3.0;
/// Of about how many places the side of the part is asked.
const PLACES: usize = 20_000;
/// Places in the part's box at which the size of cells is held against what is asked.
const ASKED: u64 = 6000;
/// Sizes that differ by no more from what is asked are as asked.
const AS_ASKED: f64 = 0.1;

impl<'a> Ground<'a> {
    pub(super) fn new(
        part: &'a Part,
        structure: &'a Structure,
        frame: Frame,
        sizes: &'a CellSizes,
    ) -> Ground<'a> {
        Ground { part, structure, frame, sizes, sides: PointLocator::new(part, PLACES) }
    }

    fn map(&self) -> CellMap {
        let Ground { part, structure, frame, sizes, .. } = *self;
        let (min, max) = box_of(part, |p| Frame { flat: false, ..frame }.local(p));
        let share = |local: DVec3| sizes.share(frame.back(local));
        let step = structure.smallest() / ALONG_CELL;
        CellMap::of(&Bounds { min, max }, &share, step, frame.flat)
    }

    /// How well the map keeps the asked sizes in the part.
    fn fit(&self, map: &CellMap) -> SizeFit {
        let Ground { part, structure, frame, sizes, .. } = *self;
        let bounds = part.mesh.bounds();
        let of_largest = structure.smallest();
        let asked = |n: usize| {
            let p = bounds.min + low_discrepancy(n as u64 + 1) * bounds.size();
            let share = sizes.share(p);
            self.sides.inside(p).then(|| {
                let mut found = map.shares(Frame { flat: false, ..frame }.local(p));
                if frame.flat {
                    found.z = found.x;
                }
                let off = (found / share - 1.0).abs().max_element();
                (off, p, [share * of_largest, found.element_product().cbrt() * of_largest])
            })
        };
        let all = parallel::filter_map(ASKED as usize, asked);
        let count = all.len().max(1) as f64;
        let mut offs: Vec<f64> = all.iter().map(|a| a.0).collect();
        offs.sort_by(f64::total_cmp);
        let worst = all.iter().max_by(|a, b| a.0.total_cmp(&b.0));
        let range = |of: usize| {
            let values = || all.iter().map(|a| a.2[of]);
            [values().fold(f64::INFINITY, f64::min), values().fold(0.0, f64::max)]
        };
        SizeFit {
            asked_mm: range(0),
            found_mm: range(1),
            off_percent: 100.0 * offs.get(offs.len() * 95 / 100).copied().unwrap_or(0.0),
            beyond_percent: 100.0 * offs.iter().filter(|o| **o > AS_ASKED).count() as f64 / count,
            worst_at: worst.map_or([0.0; 3], |w| w.1.to_array()),
        }
    }

    /// Does something within a distance of a place lie in the part? What is not sure counts.
    fn near(&self, p: DVec3, within: f64) -> bool {
        !self.sides.apart(p - within, p + within) || self.sides.inside(p)
    }

    /// Does a strut come into the part?
    fn reaches(&self, [a, b]: [DVec3; 2]) -> bool {
        let (middle, half) = ((a + b) * 0.5, 0.5 * a.distance(b));
        let touches = || self.part.distance.query(middle, half).is_some();
        [a, b].into_iter().any(|p| self.sides.inside(p))
            || !self.sides.apart(middle - half, middle + half) && touches()
    }

    /// The struts of cells that reach into the part, each once, and where they lie. Of flat cells
    /// all around it.
    fn struts(&self, map: &CellMap, unit: &[UnitStrut], cell: DVec3) -> Skeleton {
        let Ground { frame, .. } = *self;
        let starts = Starts::of(map, cell);
        let (low, high) = (starts.low, starts.high);
        let size = (high - low).to_array().map(|n| n as usize + 1);
        // Each node of a cell once, with its place told apart by whole numbers.
        const FINE: f64 = 1e4;
        let key = |p: DVec3| (p * FINE).round().to_array().map(|v| v as i64);
        let mut nodes: Vec<DVec3> = Vec::new();
        let mut numbers = HashMap::new();
        let ends: Vec<[usize; 2]> = unit
            .iter()
            .map(|strut| {
                strut.map(|p| {
                    *numbers.entry(key(p)).or_insert_with(|| {
                        nodes.push(p);
                        nodes.len() - 1
                    })
                })
            })
            .collect();
        let far = nodes.iter().map(|p| ((*p - 0.5) * cell).length()).fold(0.0, f64::max);
        let placed = |p: DVec3| if frame.flat { p } else { frame.back(p) };
        let of_cell = |n: usize| -> Vec<[([i64; 3], DVec3); 2]> {
            let index = [n % size[0], n / size[0] % size[1], n / (size[0] * size[1])];
            let at = low + DVec3::from(index.map(|i| i as f64));
            let middle = (at + 0.5) * cell;
            let middle = if frame.flat { middle.with_z(0.0) } else { middle };
            let Some(around) = starts.near(at).and_then(|s| map.back(middle, s)) else {
                return Vec::new();
            };
            // What a step among cells of one size is in the part.
            let back = map.at(around).1.inverse();
            let reach = 1.5
                * far
                * back.x_axis.abs().max(back.y_axis.abs()).max(back.z_axis.abs()).length();
            if !frame.flat && !self.near(frame.back(around), reach) {
                return Vec::new();
            }
            let places: Vec<Option<DVec3>> = nodes
                .iter()
                .map(|p| {
                    let target = (*p + at) * cell;
                    map.back(target, around + back * (target - middle))
                })
                .collect();
            let strut = |e: &[usize; 2]| {
                let [a, b] = [places[e[0]]?, places[e[1]]?].map(placed);
                let of = |n: usize, p: DVec3| (key(nodes[n] + at), p);
                (frame.flat || self.reaches([a, b])).then(|| [of(e[0], a), of(e[1], b)])
            };
            ends.iter().filter_map(strut).collect()
        };
        let found = parallel::flat_map(size.iter().product(), of_cell);
        let mut out = Skeleton::default();
        let mut number = HashMap::new();
        for strut in found {
            let ends = strut.map(|(key, p)| {
                *number.entry(key).or_insert_with(|| {
                    out.nodes.push(p);
                    out.nodes.len() as u32 - 1
                })
            });
            out.struts.push(ends);
        }
        out.filtered(|_| true)
    }
}

/// Refuses more cells than can be laid one by one. `flat` cells reach through the whole part.
///
/// # Errors
/// How many there would be, and how many there can be.
pub(super) fn few_enough(part: &Part, s: &Structure, sizes: &CellSizes) -> Result<(), RecipeError> {
    let [x, y, z] = s.cell_mm;
    let bounds = part.mesh.bounds();
    let (power, volume) = if s.flat() {
        // The area that the part covers from any side, at most.
        (2, bounds.size().element_product() / bounds.size().min_element() * z)
    } else {
        (3, part.facts.volume_mm3)
    };
    let place = |n: u64| bounds.min + low_discrepancy(n) * bounds.size();
    let dense = (1..=ASKED).map(|n| sizes.share(place(n)).powi(-power)).sum::<f64>() / ASKED as f64;
    let cells = (dense * volume / (x * y * z)) as usize;
    if cells <= MOST_CELLS {
        return Ok(());
    }
    let fault = RecipeFault::TooManyGradedCells { cells, most: MOST_CELLS };
    Err(RecipeError::new("gradings", fault))
}

/// Places from which those that are led to a cell are searched.
struct Starts {
    /// Numbers of the cells that the map reaches.
    low: DVec3,
    high: DVec3,
    by_cell: HashMap<[i64; 3], DVec3>,
}

impl Starts {
    fn of(map: &CellMap, cell: DVec3) -> Starts {
        let cell = DVec3::select(cell.cmpgt(DVec3::ZERO), cell, DVec3::INFINITY);
        let mut by_cell = HashMap::new();
        let (mut low, mut high) = (DVec3::INFINITY, DVec3::NEG_INFINITY);
        for (place, at) in map.samples() {
            let at = (at / cell).floor();
            (low, high) = (low.min(at), high.max(at));
            by_cell.entry(at.to_array().map(|v| v as i64)).or_insert(place);
        }
        Starts { low, high, by_cell }
    }

    /// A sample in a cell or beside it; samples may lie farther apart than cells.
    fn near(&self, cell: DVec3) -> Option<DVec3> {
        let [x, y, z] = cell.to_array().map(|v| v as i64);
        let round = |r: i64| {
            let range = move || -r..=r;
            range().flat_map(move |k| {
                range().flat_map(move |j| range().map(move |i| [x + i, y + j, z + k]))
            })
        };
        (0..4).find_map(|r| round(r).find_map(|key| self.by_cell.get(&key).copied()))
    }
}

/// A surface among cells of several sizes.
pub(super) fn surface(ground: &Ground, pattern: &SurfacePattern) -> MappedSurface {
    let Ground { part, structure, sizes, .. } = *ground;
    let periodic = Periodic::new(pattern, structure, part.mesh.bounds().centre());
    let map = ground.map();
    let facts = Facts { sizes: Some(ground.fit(&map)), ..Facts::default() };
    MappedSurface::new(periodic, map, sizes.least(), facts)
}

/// Struts of cells of several sizes, as far as they reach into the part. `opening` is that among
/// cells of the largest size, in mm.
pub(super) fn cells(ground: &Ground, unit: &[UnitStrut], joins: Joins, opening: f64) -> Net {
    let Ground { structure, sizes, .. } = *ground;
    let map = ground.map();
    let net = ground.struts(&map, unit, DVec3::from(structure.cell_mm));
    let facts = Facts { sizes: Some(ground.fit(&map)), ..net.facts() };
    listed(&net, Frame::OF_PART, joins, structure.smallest(), sizes.least())
        .with_opening(sizes.least() * opening)
        .with_facts(facts)
        .with_skeleton(net)
}

/// Walls on a pattern whose cells are of several sizes in the plane. `opening` is that among cells
/// of the largest size, in mm.
pub(super) fn extruded(ground: &Ground, kind: ExtrudedKind, joins: Joins, opening: f64) -> Net {
    let Ground { structure, sizes, frame, .. } = *ground;
    let map = ground.map();
    let (lines, ratio) = unit::pattern(kind);
    let [x, y, _] = structure.cell_mm;
    let net = ground.struts(&map, &lines, DVec3::new(x, y * ratio, 0.0));
    let facts = Facts { sizes: Some(ground.fit(&map)), ..Facts::default() };
    listed(&net, frame, joins, x.min(y), sizes.least())
        .with_opening(sizes.least() * opening)
        .with_facts(facts)
}

/// A net of struts in a frame, whose cells are at most so large, in mm, and at least a share of that.
fn listed(net: &Skeleton, frame: Frame, joins: Joins, cell: f64, least: f64) -> Net {
    let struts: Vec<[DVec3; 2]> = net.struts.iter().map(|e| net.ends(*e)).collect();
    let source = StrutSource::Struts { inner: struts.len(), struts, ends: Vec::new() };
    Net::new(frame, source, joins, cell).with_smallest(least * cell)
}
