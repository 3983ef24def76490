//! The structure of a recipe in a part.

use super::axes::{across, axis_of};
use super::clean::is_on_surface;
use super::course::Rows;
use super::foam::Foam;
use super::mapped_cells::{self, MappedGround};
use super::meeting::meeting;
use super::members::{Frame, StrutSource, WallOpening};
use super::mesh_cell::MeshCell;
use super::net::Net;
use super::opening::{median_hole, nearest_width, of_cells, sampled, TRIANGLE};
use super::outer;
use super::passage::way_through;
use super::region::{box_of, Scaled, SeedRegion, Shadow};
use super::seeds::{scatter, Scattered};
use super::site::Site;
use super::sizes::CellSizes;
use super::skeleton::Skeleton;
use super::surface::{turn, Periodic};
use super::trim::cleaned;
use super::voronoi::{DiagramBounds, DiagramRequest};
use super::{own_cell, unit, BareStructure, Facts};
use glam::{DMat3, DVec3};
use std::sync::Arc;
use ulmix_field::numeric::median;
use ulmix_field::numeric::{low_discrepancy, low_discrepancy_flat};
use ulmix_mesh::parallel;
use ulmix_part::point_location::PointLocator;
use ulmix_part::Part;
use ulmix_recipe::seeds::MOST_SEEDS;
use ulmix_recipe::{
    CleanUp, ExtrudedKind, FaceMark, Joins, OwnMesh, OwnStruts, Pattern, RecipeError, Seeds,
    Structure, StrutLengths, StrutSection,
};

/// The structure as it lies in the part, before it is given thickness. `None` when cancelled.
pub fn structure<'a>(
    site: impl Into<Site<'a>>,
    s: &Structure,
    joins: Joins,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Arc<dyn BareStructure>> {
    let site = site.into();
    let part = site.part;
    // From here on cells are as large as they are anywhere.
    let (sizes, largest) = CellSizes::of(site.sizes, s);
    let s = &largest;
    let frame = frame_of(part, s);
    let ground = |sizes| MappedGround::new(part, s, frame, sizes);
    Some(match &s.pattern {
        Pattern::Surface(p) => match &sizes {
            Some(sizes) => Arc::new(mapped_cells::surface(ground(sizes), p)),
            None => Arc::new(Periodic::new(p, s, part.mesh.bounds().centre())),
        },
        Pattern::FoamSheet(p) => Arc::new(Foam::new(site, p, s, sizes, cancelled)?),
        Pattern::Cell(_) | Pattern::OwnCell(_) => {
            let unit = unit_struts(s)?;
            match (Rows::of(part, s), &sizes) {
                (Some((rows, clean)), _) => Arc::new(bent(part, &unit, s, (&rows, clean), joins)),
                (None, Some(sizes)) => {
                    let opening = cells(&unit, s, frame, joins).opening(0.0);
                    Arc::new(mapped_cells::cells(&ground(sizes), &unit, joins, opening))
                }
                (None, None) => Arc::new(cells(&unit, s, frame, joins)),
            }
        }
        Pattern::Extruded(p) => match &sizes {
            Some(sizes) => {
                let opening = extruded(p.walls, s, frame, joins).opening(0.0);
                Arc::new(mapped_cells::extruded(&ground(sizes), p.walls, of_walls(joins), opening))
            }
            None => Arc::new(extruded(p.walls, s, frame, joins)),
        },
        Pattern::PlanarVoronoi(p) => Arc::new(planar(site, &p.seeds, s, frame, joins, cancelled)?),
        Pattern::VoronoiWalls(_)
        | Pattern::Voronoi(_)
        | Pattern::Delaunay(_)
        | Pattern::Neighbours(_) => {
            Arc::new(seeded(site, s, (frame, sizes.as_ref()), joins, cancelled)?)
        }
        Pattern::OwnStruts(p) => Arc::new(given(part, (&p.own, &p.clean), s, frame, joins)),
        Pattern::OwnMesh(p) => Arc::new(from_mesh(&p.own, s, frame)),
    })
}

/// Refuses cells that are too many to be laid one by one: in rows that bend, or of a graded size.
///
/// # Errors
/// How many there would be, and how many there can be.
pub fn few_enough(site: &Site, s: &Structure) -> Result<(), RecipeError> {
    Rows::few_enough(site.part, s)?;
    let (sizes, s) = CellSizes::of(site.sizes, s);
    let listed = matches!(s.pattern, Pattern::Cell(_) | Pattern::OwnCell(_) | Pattern::Extruded(_));
    match sizes {
        Some(sizes) if listed => mapped_cells::few_enough(site.part, &s, &sizes),
        _ => Ok(()),
    }
}

fn frame_of(part: &Part, s: &Structure) -> Frame {
    let shift = part.mesh.bounds().centre() + DVec3::from(s.shift_mm);
    Frame { turn: turning(part, s), shift, flat: s.flat() }
}

/// Seed points and the cells around them, to be looked at. mm.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SeedCells {
    /// Inside the part and on its surface.
    pub points: Vec<DVec3>,
    /// By point: all corners of its cell lie in the part.
    pub whole: Vec<bool>,
    /// Edges of their Voronoi cells that reach into the part.
    pub edges: Skeleton,
}

/// The cells that a structure in space grows from; none where it grows from no points. `None` when
/// cancelled.
pub fn seed_cells(
    site: Site,
    s: &Structure,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<SeedCells> {
    let (sizes, s) = CellSizes::of(site.sizes, s);
    let Some(seeds) = s.seeds().filter(|_| !s.flat()) else {
        return Some(SeedCells::default());
    };
    let (frame, scale) = (frame_of(site.part, &s), DVec3::from(s.cell_mm));
    let sides = PointLocator::new(site.part, places_of(site.part, &s));
    let region = Scaled { part: site.part, sides: &sides, frame, scale, sizes: sizes.as_ref() };
    let found = scatter(&region, seeds, own_points(seeds, frame, scale), site.relaxed, cancelled)?;
    let asked = DiagramRequest { edge: &|a, b| region.may_reach(a, b), circles: false };
    let edges =
        region.placed_net(found.cells().diagram(found.points(), &found.bounds, &asked).edges);
    let inside: Vec<bool> = parallel::map_list(&edges.nodes, |_, p| sides.inside(*p));
    let edges = edges.filtered(|e| e.iter().any(|n| inside[*n as usize]));
    let mut whole = found
        .cells()
        .whole(found.points(), found.inside, &found.bounds, &|p| sides.inside(region.placed(p)));
    whole.resize(found.inside + found.on_surface, false);
    Some(SeedCells {
        points: found.points()[..whole.len()].iter().map(|p| region.placed(*p)).collect(),
        whole,
        edges,
    })
}

/// Of how many places sides of the part are asked for, about: vertices of cells are several times
/// as many as points.
fn places_of(part: &Part, s: &Structure) -> usize {
    let cells = || part.facts.volume_mm3 / s.cell_mm.iter().product::<f64>();
    let count = s.seeds().and_then(|seeds| seeds.count);
    10 * count.map_or_else(|| cells().min(MOST_SEEDS as f64) as usize, |n| n as usize)
}

/// Part to the structure's axes.
fn turning(part: &Part, s: &Structure) -> DMat3 {
    let face = s.standing().and_then(|mark| part.face(mark));
    let axes = face.map(|f| across(axis_of(part, f).1));
    turn(s) * axes.map_or(DMat3::IDENTITY, |[x, y, z]| DMat3::from_cols(x, y, z).transpose())
}

/// Faces that a structure follows and that are not found on the part any more, by what they are
/// for.
pub fn lost(part: &Part, s: &Structure) -> Vec<(String, usize)> {
    let missing = |marks: Vec<&FaceMark>| marks.iter().filter(|m| part.face(m).is_none()).count();
    s.followed()
        .into_iter()
        .map(|(what, marks)| (what.to_owned(), missing(marks)))
        .filter(|l| l.1 > 0)
        .collect()
}

/// Most struts that are listed one by one.
pub const MOST_STRUTS: usize = 400_000;

/// The struts of repeating cells that reach into the part; `None` when there would be more than
/// [`MOST_STRUTS`].
fn repeated_struts(
    part: &Part,
    unit: &[unit::UnitStrut],
    s: &Structure,
) -> Option<Vec<[DVec3; 2]>> {
    repeated(part, unit, s, &|strut| reaches(part, strut))
}

/// The struts of cells around the part for which `counts` holds.
fn repeated(
    part: &Part,
    unit: &[unit::UnitStrut],
    s: &Structure,
    counts: Counts,
) -> Option<Vec<[DVec3; 2]>> {
    let frame = frame_of(part, s);
    let cell = DVec3::from(s.cell_mm);
    let (low, high) = box_of(part, |p| frame.local(p) / cell);
    let (low, high) = ((low - 1.0).floor(), (high + 1.0).ceil());
    let count = (high - low).to_array().map(|c| c as usize);
    let cells = count.iter().product::<usize>();
    if cells.saturating_mul(unit.len()) > 20 * MOST_STRUTS {
        return None;
    }
    let found: Vec<[DVec3; 2]> = parallel::flat_map(cells, |n| {
        let at = low
            + DVec3::new(
                (n % count[0]) as f64,
                (n / count[0] % count[1]) as f64,
                (n / (count[0] * count[1])) as f64,
            );
        let placed = unit.iter().map(move |e| e.map(|p| frame.back((p + at) * cell)));
        placed.filter(|strut| counts(*strut)).collect::<Vec<_>>()
    });
    (found.len() <= MOST_STRUTS).then_some(found)
}

/// Tells of a strut by its ends.
type Counts<'a> = &'a (dyn Fn([DVec3; 2]) -> bool + Sync);

/// The struts of a structure of struts in the part; `None` for structures of walls, and when there
/// are more than [`MOST_STRUTS`].
pub fn skeleton_of(part: &Part, s: &Structure, bare: &dyn BareStructure) -> Option<Skeleton> {
    match (unit_struts(s), bare.struts()) {
        (Some(unit), None) => {
            let ends = repeated_struts(part, &unit, s)?;
            let struts = (0..ends.len() as u32).map(|n| [2 * n, 2 * n + 1]).collect();
            // Ends of neighbouring cells are the same but for rounding.
            Some(
                Skeleton { nodes: ends.into_iter().flatten().collect(), struts }
                    .merged(1e-6 * s.smallest()),
            )
        }
        _ => bare.struts().filter(|s| s.struts.len() <= MOST_STRUTS).cloned(),
    }
}

/// By their ends those that count, wherever they lie.
pub fn some_struts(
    part: &Part,
    s: &Structure,
    bare: &dyn BareStructure,
    counts: Counts,
) -> Option<Vec<[DVec3; 2]>> {
    match (unit_struts(s), bare.struts()) {
        (Some(unit), None) => repeated(part, &unit, s, counts),
        _ => {
            let few = bare.struts().filter(|s| s.struts.len() <= MOST_STRUTS);
            few.map(|s| s.struts.iter().map(|e| s.ends(*e)).filter(|e| counts(*e)).collect())
        }
    }
}

/// Does a strut come into the part?
fn reaches(part: &Part, [a, b]: [DVec3; 2]) -> bool {
    let (middle, half) = ((a + b) * 0.5, 0.5 * a.distance(b));
    // Nearer than half its length: some of it may lie inside.
    part.distance.query(middle, half).map_or_else(|| part.distance.inside(middle), |(d, _)| d < 0.0)
        || part.distance.inside(a)
        || part.distance.inside(b)
}

/// Points of a cell at which distances are surveyed.
const SURVEY: u64 = 20_000;

/// Struts of one cell of a structure, in cells; `None` for what is not made of cells of struts.
fn unit_struts(s: &Structure) -> Option<Vec<unit::UnitStrut>> {
    match &s.pattern {
        Pattern::Cell(p) => Some(unit::cell(p.cell)),
        Pattern::OwnCell(p) => Some(own_cell::struts(&p.own)),
        _ => None,
    }
}

fn cells(unit: &[unit::UnitStrut], s: &Structure, frame: Frame, joins: Joins) -> Net {
    let cell = DVec3::from(s.cell_mm);
    let struts: Vec<[DVec3; 2]> = unit.iter().map(|e| e.map(|p| p * cell)).collect();
    let lengths: Vec<f64> = struts.iter().map(|e| e[0].distance(e[1])).collect();
    let meeting = meeting(unit);
    let facts = Facts {
        nodes: meeting.nodes,
        struts: struts.len(),
        degree: 2.0 * struts.len() as f64 / meeting.nodes as f64,
        shortest_mm: lengths.iter().copied().fold(f64::INFINITY, f64::min),
        mean_mm: lengths.iter().sum::<f64>() / lengths.len() as f64,
        longest_mm: lengths.iter().copied().fold(0.0, f64::max),
        components: meeting.components,
        ..Facts::default()
    };
    let net = Net::new(frame, StrutSource::Repeated { struts, cell }, joins, s.smallest());
    let opening = of_cells(|p| net.clearance(p), frame, cell);
    net.with_opening(opening).with_facts(facts).with_cell_points(cell_points(frame, cell))
}

/// A net of struts listed one by one, in the part's axes; those from number `inner` on are the net
/// on its surface.
fn net_of(struts: Vec<[DVec3; 2]>, inner: usize, joins: Joins, cell: f64) -> Net {
    let source = StrutSource::Struts { struts, inner, ends: Vec::new() };
    Net::new(Frame::OF_PART, source, joins, cell)
}

/// A net without one on the surface that would be thicker.
fn alike(net: Skeleton, joins: Joins, cell: f64) -> Net {
    let struts: Vec<[DVec3; 2]> = net.struts.iter().map(|e| net.ends(*e)).collect();
    let inner = struts.len();
    net_of(struts, inner, joins, cell).with_skeleton(net)
}

/// Cells in rows that bend, as far as they reach into the part.
fn bent(
    part: &Part,
    unit: &[unit::UnitStrut],
    s: &Structure,
    (rows, clean): (&Rows, &CleanUp),
    joins: Joins,
) -> Net {
    let straight = cells(unit, s, Frame::OF_PART, joins);
    let cell = s.smallest();
    // Near an axis struts shrink to nothing, and are welded.
    let raw = rows.struts(unit);
    let sides = PointLocator::new(part, raw.nodes.len());
    let weld = |_| clean.weld * cell;
    let (net, facts) = cleaned(part, &sides, raw, Skeleton::default(), cell, &weld, clean);
    let facts = Facts { rows: Some(rows.counts), ..facts };
    alike(net, joins, cell).with_opening(straight.opening(0.0)).with_facts(facts)
}

fn cell_points(frame: Frame, cell: DVec3) -> Vec<DVec3> {
    let spread = if frame.flat { low_discrepancy_flat } else { low_discrepancy };
    (1..=SURVEY).map(|i| frame.back(spread(i) * cell)).collect()
}

/// Walls on a pattern that repeats in the plane.
fn extruded(kind: ExtrudedKind, s: &Structure, frame: Frame, joins: Joins) -> Net {
    let [x, y, _] = s.cell_mm;
    let (lines, ratio) = unit::pattern(kind);
    let cell = DVec3::new(x, y * ratio, 0.0);
    let struts: Vec<[DVec3; 2]> = lines.iter().map(|e| e.map(|p| p * cell)).collect();
    let net = Net::new(frame, StrutSource::Repeated { struts, cell }, of_walls(joins), x.min(y));
    let points = cell_points(frame, cell);
    // The widest round bar that fits between the walls.
    let opening = 2.0 * points.iter().map(|p| net.measure(*p)).fold(0.0, f64::max);
    net.with_opening(opening).with_cell_points(points)
}

/// Walls have no section of their own.
fn of_walls(joins: Joins) -> Joins {
    Joins { section: StrutSection::Round, ..joins }
}

/// Walls between the cells of points in the plane.
fn planar(
    site: Site,
    seeds: &Seeds,
    s: &Structure,
    frame: Frame,
    joins: Joins,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Net> {
    let ([x, y, _], joins) = (s.cell_mm, of_walls(joins));
    let scale = DVec3::new(x, y, 1.0);
    let (low, high) = box_of(site.part, |p| frame.local(p) / scale);
    let region = Shadow { low, high };
    let found = scatter(&region, seeds, own_points(seeds, frame, scale), site.relaxed, cancelled)?;
    let cell = found.cell * x.min(y);
    let (walls, volumes) = walls(&found, scale, 0.0);
    let facts =
        of_points(Facts { components: 1, ..Facts::default() }, &found, &volumes, &region, cell);
    let net = Net::new(frame, walls, joins, cell);
    let sides = PointLocator::new(site.part, found.inside);
    let cells: Vec<_> =
        found.points()[..found.inside].iter().map(|p| (frame.back(*p * scale), cell)).collect();
    let opening = sampled(site.part, &sides, &net, &cells)
        .unwrap_or_else(|| nearest_width(&found) * x.min(y));
    Some(net.with_opening(opening).with_facts(facts))
}

/// Points given one by one, in the structure's axes and in cells of size `scale`.
pub(super) fn own_points(seeds: &Seeds, frame: Frame, scale: DVec3) -> Option<Vec<DVec3>> {
    let own = seeds.own.as_ref()?;
    Some(own.points_mm.iter().map(|p| frame.local(DVec3::from(*p)) / scale).collect())
}

/// Walls between the cells of points, in mm, and the volumes of the cells. The walls' holes are as
/// wide as that share of them, 0 for none.
fn walls(found: &Scattered, scale: DVec3, share: f64) -> (StrutSource, Vec<f64>) {
    let seeds: Vec<DVec3> = found.points().iter().map(|p| *p * scale).collect();
    let b = found.bounds;
    let most = scale.max_element();
    let outer = (b.outer.0, b.outer.1 * most);
    let bounds =
        DiagramBounds { low: b.low * scale, high: b.high * scale, radius: b.radius * most, outer };
    let asked = DiagramRequest { edge: &|_, _| false, circles: share > 0.0 };
    let d = found.cells().diagram(&seeds, &bounds, &asked);
    let hole = |&(middle, radius): &(DVec3, f64)| WallOpening { middle, radius: share * radius };
    (
        StrutSource::Walls { seeds, pairs: d.pairs, holes: d.discs.iter().map(hole).collect() },
        d.volumes,
    )
}

/// What is known of the points and cells that a structure grows from. `cell` is the size of a cell,
/// `volumes` are those of all of them.
fn of_points(
    facts: Facts,
    found: &Scattered,
    volumes: &[f64],
    region: &dyn SeedRegion,
    cell: f64,
) -> Facts {
    Facts {
        seeds: found.inside,
        surface_seeds: found.on_surface,
        alike_mm: found.alike * cell / found.cell,
        closest_mm: found.closest() * cell,
        rounds: found.rounds(),
        moved_mm: found.moved() * cell,
        unevenness: found.unevenness(volumes, region),
        ..facts
    }
}

/// What seed points in space make of their cells.
fn seeded(
    site: Site,
    s: &Structure,
    (frame, sizes): (Frame, Option<&CellSizes>),
    joins: Joins,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Net> {
    let part = site.part;
    let scale = DVec3::from(s.cell_mm);
    let seeds = s.seeds()?;
    let sides = PointLocator::new(part, places_of(part, s));
    let region = Scaled { part, sides: &sides, frame, scale, sizes };
    let found = scatter(&region, seeds, own_points(seeds, frame, scale), site.relaxed, cancelled)?;
    if cancelled() {
        return None;
    }
    let cell = found.cell * s.smallest();
    let least = region.least_size();
    let known = |facts: Facts, volumes: &[f64]| of_points(facts, &found, volumes, &region, cell);
    let opening = |net: &Net| {
        let of_cell = |p: &DVec3| (region.placed(*p), region.size(*p) * cell);
        let cells: Vec<_> = found.points()[..found.inside].iter().map(of_cell).collect();
        sampled(part, &sides, net, &cells)
    };
    if let Pattern::VoronoiWalls(p) = &s.pattern {
        let (walls, volumes) = walls(&found, scale, p.holes);
        let facts =
            known(Facts { nodes: 0, struts: 0, components: 1, ..Facts::default() }, &volumes);
        let hole = median_hole(&walls);
        let net = Net::new(frame, walls, joins, cell).with_smallest(least * cell).with_facts(facts);
        let sampled = Some(&net).filter(|_| hole > 0.0).and_then(opening);
        return Some(net.with_opening(sampled.unwrap_or(hole)));
    }
    let points = found.points();
    let voronoi = if let Pattern::Voronoi(p) = &s.pattern { Some(p) } else { None };
    let surface_net = voronoi.and_then(|p| p.net);
    let inner = surface_net.is_none_or(|net| net.inner);
    let edges = |a: DVec3, b: DVec3| voronoi.is_some() && inner && region.may_reach(a, b);
    let d = found.cells().diagram(
        points,
        &found.bounds,
        &DiagramRequest { edge: &edges, circles: false },
    );
    let outer = surface_net.map_or_else(Skeleton::default, |net| {
        let surface = part.mesh.clone().mapped(|p| region.local(p));
        let sharp: &[[u32; 2]] = if net.edges { &part.sharp_edges } else { &[] };
        outer::net(&surface, points, &d.pairs, sharp)
    });
    // By what is known of the cells, in cells of the smallest size.
    let windows = || match &s.pattern {
        Pattern::Voronoi(_) => {
            let middle = |[a, b]: [u32; 2]| (points[a as usize] + points[b as usize]) * 0.5;
            let over = |n: usize| d.widths[n] / region.size(middle(d.pairs[n]));
            let widths: Vec<f64> = parallel::map(d.pairs.len(), over);
            way_through(&points[..found.inside], &d.pairs, &widths).unwrap_or(0.0)
        }
        Pattern::Delaunay(_) => TRIANGLE * found.cell,
        _ => found.cell,
    };
    let within = |struts: &[[u32; 2]], lengths: &StrutLengths| {
        within_lengths(points, struts, lengths, found.cell, &region)
    };
    let raw = match &s.pattern {
        Pattern::Delaunay(p) => within(&d.pairs, &p.lengths),
        Pattern::Neighbours(p) => within(&nearest(points, p.neighbours as usize), &p.lengths),
        _ => d.edges,
    };
    let clean = s.clean()?;
    let weld = |p: DVec3| clean.weld * cell * sizes.map_or(1.0, |s| s.share(p));
    let (net, facts) =
        cleaned(part, &sides, region.placed_net(raw), region.placed_net(outer), cell, &weld, clean);
    let facts = known(facts, &d.volumes);
    let of_net = |ends: [DVec3; 2]| joins.net_mm > 0.0 && is_on_surface(part, ends, cell);
    let (outer, mut struts): (Vec<[DVec3; 2]>, Vec<_>) =
        net.struts.iter().map(|e| net.ends(*e)).partition(|e| of_net(*e));
    let of_inside = struts.len();
    struts.extend(outer);
    let made = net_of(struts, of_inside, joins, cell).with_smallest(least * cell);
    // Of a net on the surface alone the inside is no opening.
    let sampled = Some(&made).filter(|_| inner).and_then(opening);
    let opening = sampled.unwrap_or_else(|| least * windows() * s.smallest());
    Some(made.with_opening(opening).with_facts(facts).with_skeleton(net))
}

/// Struts from a file, turned and shifted about the middle of the part's box, as far as they reach
/// into the part.
fn given(
    part: &Part,
    (own, clean): (&OwnStruts, &CleanUp),
    s: &Structure,
    frame: Frame,
    joins: Joins,
) -> Net {
    let middle = part.mesh.bounds().centre();
    let raw = Skeleton {
        nodes: own.nodes_mm.iter().map(|p| frame.back(DVec3::from(*p) - middle)).collect(),
        struts: own.struts.clone(),
    };
    let cell = median(raw.struts.iter().map(|e| raw.length(*e)).collect()).unwrap_or(1.0);
    let sides = PointLocator::new(part, raw.nodes.len());
    let weld = |_| clean.weld * cell;
    let (net, facts) = cleaned(part, &sides, raw, Skeleton::default(), cell, &weld, clean);
    // Thickness is limited by the recipe's cell, and must be told apart up to there.
    let nodes: Vec<_> = net.nodes.iter().map(|p| (*p, cell)).collect();
    let made = alike(net, joins, cell.max(s.smallest()));
    let opening = sampled(part, &sides, &made, &nodes).unwrap_or(TRIANGLE * cell);
    made.with_opening(opening).with_smallest(cell).with_facts(facts)
}

/// The cell of a file.
fn from_mesh(own: &OwnMesh, s: &Structure, frame: Frame) -> MeshCell {
    let cell = DVec3::from(s.cell_mm);
    let made = MeshCell::new(own, cell, frame);
    let opening = of_cells(|p| made.measure(p), frame, cell);
    made.with_opening(opening).with_cell_points(cell_points(frame, cell))
}

/// Struts that are neither too short nor too long for the cells between their ends. At the rim of
/// the padding cells are cut open, and touch others far away.
fn within_lengths(
    points: &[DVec3],
    struts: &[[u32; 2]],
    lengths: &StrutLengths,
    cell: f64,
    region: &dyn SeedRegion,
) -> Skeleton {
    let fits = |e: &[u32; 2]| {
        let [a, b] = e.map(|n| points[n as usize]);
        let length = a.distance(b) / (cell * region.size(a).max(region.size(b)));
        (lengths.shortest..=lengths.longest).contains(&length)
    };
    Skeleton { nodes: points.to_vec(), struts: struts.iter().copied().filter(fits).collect() }
}

/// Struts from every point to its nearest ones.
fn nearest(points: &[DVec3], count: usize) -> Vec<[u32; 2]> {
    let grid = ulmix_mesh::PointGrid::new(points);
    parallel::flat_map(points.len(), |own| {
        let n = own as u32;
        let near = grid.nearest(points[own], count, |m| m == n);
        near.into_iter().map(move |(_, m)| [n.min(m), n.max(m)]).collect::<Vec<_>>()
    })
}
