//! Cells that repeat, of a size that changes from place to place: surfaces, struts and walls that
//! stand upright, each led through the same map.

use super::cell_map::CellMap;
use super::members::{Frame, StrutSource};
use super::net::Net;
use super::region::box_of;
use super::sizes::CellSizes;
use super::skeleton::{CellNodes, Skeleton};
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
pub(super) struct MappedGround<'a> {
    part: &'a Part,
    /// The structure with the cell size of where cells are largest.
    structure: &'a Structure,
    frame: Frame,
    sizes: &'a CellSizes,
    sides: PointLocator<'a>,
    map: CellMap,
}

/// Most cells of struts or walls that are laid one by one.
const MOST_CELLS: usize = 60_000;
/// Samples of the map along the smallest side of the largest cells.
const ALONG_CELL: f64 = 3.0;
/// How many places are asked for their side of the part, about.
const PLACES: usize = 20_000;
/// Places in the part's box at which the size of cells is held against what is asked.
const ASKED: u64 = 6000;
/// Sizes that differ by no more from what is asked are as asked.
const AS_ASKED: f64 = 0.1;

impl<'a> MappedGround<'a> {
    pub(super) fn new(
        part: &'a Part,
        structure: &'a Structure,
        frame: Frame,
        sizes: &'a CellSizes,
    ) -> MappedGround<'a> {
        let (min, max) = box_of(part, |p| frame.turned(p));
        let share = |local: DVec3| sizes.share(frame.back(local));
        let step = structure.smallest() / ALONG_CELL;
        let map = CellMap::of(&Bounds { min, max }, &share, step, frame.flat);
        MappedGround { part, structure, frame, sizes, sides: PointLocator::new(part, PLACES), map }
    }

    /// What is known of a net, with how well the map keeps the asked sizes in the part.
    fn facts(&self, known: Facts) -> Facts {
        Facts { sizes: Some(self.fit()), ..known }
    }

    /// How well the map keeps the asked sizes in the part.
    fn fit(&self) -> SizeFit {
        let MappedGround { part, structure, frame, sizes, .. } = *self;
        let bounds = part.mesh.bounds();
        let of_largest = structure.smallest();
        let asked = |n: usize| {
            let p = bounds.min + low_discrepancy(n as u64 + 1) * bounds.size();
            let share = sizes.share(p);
            self.sides.inside(p).then(|| {
                let mut found = self.map.shares(frame.turned(p));
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
    fn struts(&self, unit: &[UnitStrut], cell: DVec3) -> Skeleton {
        let MappedGround { frame, ref map, .. } = *self;
        let starts = MapStarts::of(map, cell);
        let (low, high) = (starts.low, starts.high);
        let size = (high - low).to_array().map(|n| n as usize + 1);
        let mut of_unit = CellNodes::default();
        let mut number = |p: DVec3| of_unit.number(CellNodes::key(p), || p) as usize;
        let ends: Vec<[usize; 2]> = unit.iter().map(|strut| strut.map(&mut number)).collect();
        let nodes = of_unit.places;
        let far = nodes.iter().map(|p| ((*p - 0.5) * cell).length()).fold(0.0, f64::max);
        let placed = |p: DVec3| if frame.flat { p } else { frame.back(p) };
        let of_cell = |n: usize| -> Vec<[([i64; 3], DVec3); 2]> {
            let index = [n % size[0], n / size[0] % size[1], n / (size[0] * size[1])];
            let at = low + DVec3::from(index.map(|i| i as f64));
            let middle = (at + 0.5) * cell;
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
                let of = |n: usize, p: DVec3| (CellNodes::key(nodes[n] + at), p);
                (frame.flat || self.reaches([a, b])).then(|| [of(e[0], a), of(e[1], b)])
            };
            ends.iter().filter_map(strut).collect()
        };
        let found = parallel::flat_map(size.iter().product(), of_cell);
        let mut nodes = CellNodes::default();
        let mut number = |(key, p)| nodes.number(key, || p);
        let struts = found.into_iter().map(|strut| strut.map(&mut number)).collect();
        Skeleton { nodes: nodes.places, struts }.filtered(|_| true)
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
struct MapStarts {
    /// Numbers of the cells that the map reaches.
    low: DVec3,
    high: DVec3,
    by_cell: HashMap<[i64; 3], DVec3>,
}

impl MapStarts {
    fn of(map: &CellMap, cell: DVec3) -> MapStarts {
        let cell = DVec3::select(cell.cmpgt(DVec3::ZERO), cell, DVec3::INFINITY);
        let mut by_cell = HashMap::new();
        let (mut low, mut high) = (DVec3::INFINITY, DVec3::NEG_INFINITY);
        for (place, at) in map.samples() {
            let at = (at / cell).floor();
            (low, high) = (low.min(at), high.max(at));
            by_cell.entry(at.to_array().map(|v| v as i64)).or_insert(place);
        }
        MapStarts { low, high, by_cell }
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
pub(super) fn surface(ground: MappedGround, pattern: &SurfacePattern) -> MappedSurface {
    let anchor = ground.part.mesh.bounds().centre();
    let periodic = Periodic::new(pattern, ground.structure, anchor);
    let facts = ground.facts(Facts::default());
    MappedSurface::new(periodic, ground.map, ground.sizes.least(), facts)
}

/// Struts of cells of several sizes, as far as they reach into the part. `opening` is that among
/// cells of the largest size, in mm.
pub(super) fn cells(ground: &MappedGround, unit: &[UnitStrut], joins: Joins, opening: f64) -> Net {
    let MappedGround { structure, sizes, .. } = *ground;
    let net = ground.struts(unit, DVec3::from(structure.cell_mm));
    listed(&net, Frame::OF_PART, joins, structure.smallest(), sizes.least())
        .with_opening(sizes.least() * opening)
        .with_facts(ground.facts(net.facts()))
        .with_skeleton(net)
}

/// Walls on a pattern whose cells are of several sizes in the plane. `opening` is that among cells
/// of the largest size, in mm.
pub(super) fn extruded(
    ground: &MappedGround,
    kind: ExtrudedKind,
    joins: Joins,
    opening: f64,
) -> Net {
    let MappedGround { structure, sizes, frame, .. } = *ground;
    let (lines, ratio) = unit::pattern(kind);
    let [x, y, _] = structure.cell_mm;
    let net = ground.struts(&lines, DVec3::new(x, y * ratio, 0.0));
    listed(&net, frame, joins, x.min(y), sizes.least())
        .with_opening(sizes.least() * opening)
        .with_facts(ground.facts(Facts::default()))
}

/// A net of struts in a frame, whose cells are at most so large, in mm, and at least a share of that.
fn listed(net: &Skeleton, frame: Frame, joins: Joins, cell: f64, least: f64) -> Net {
    let struts: Vec<[DVec3; 2]> = net.struts.iter().map(|e| net.ends(*e)).collect();
    let source = StrutSource::Struts { inner: struts.len(), struts, ends: Vec::new() };
    Net::new(frame, source, joins, cell).with_smallest(least * cell)
}
