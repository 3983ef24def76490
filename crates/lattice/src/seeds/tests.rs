use super::*;
use crate::make::own_points;
use crate::members::Frame;
use crate::region::{Scaled, Shadow};
use crate::relaxing::NoCache;
use crate::sizes::{CellSizes, GradedValues};
use crate::voronoi::diagram;
use glam::DMat3;
use ulmix_mesh::TriMesh;
use ulmix_part::point_location::PointLocator;
use ulmix_part::Part;
use ulmix_recipe::OwnPoints;

const STILL: Frame = Frame { turn: DMat3::IDENTITY, shift: DVec3::ZERO, flat: false };

fn in_ball(seeds: &Seeds) -> (Part, Scattered) {
    let part = Part::prepare(&TriMesh::sphere(10.0, 3)).unwrap();
    let scale = DVec3::splat(2.0);
    let given = own_points(seeds, STILL, scale);
    let sides = PointLocator::new(&part, 2000);
    let region = Scaled { part: &part, sides: &sides, frame: STILL, scale, sizes: None };
    let s = scatter(&region, seeds, given, &NoCache, &|| false).unwrap();
    drop(sides);
    (part, s)
}

fn unevenness(s: &Scattered, region: &dyn SeedRegion) -> f64 {
    s.unevenness(&diagram(s.points(), &s.bounds).volumes, region)
}

/// A region in which all cells are of one size.
const ALIKE: Shadow = Shadow { low: DVec3::ZERO, high: DVec3::ONE };

#[test]
fn the_count_is_exact_and_inside_and_repeats() {
    for spread in [Spread::Even, Spread::Loose] {
        for count in [1, 7, 300] {
            let seeds = Seeds { count: Some(count), spread, rounds: 2, ..Seeds::default() };
            let (part, s) = in_ball(&seeds);
            let inside = s.points().iter().filter(|p| part.distance.inside(**p * 2.0)).count();
            assert_eq!((inside, s.inside), (count as usize, count as usize), "{spread:?}");
            assert_eq!(in_ball(&seeds).1.points(), s.points());
            assert_ne!(in_ball(&Seeds { random: 2, ..seeds }).1.points(), s.points());
        }
    }
}

#[test]
fn own_points_stay_where_they_are_and_own_the_cells() {
    let mut random = Random::new(7, 0);
    // Some lie outside the ball, and most of them crowd on one side.
    let place = |random: &mut Random| {
        [
            random.unit().powi(2) * 20.0 - 9.0,
            random.unit() * 20.0 - 10.0,
            random.unit() * 20.0 - 10.0,
        ]
    };
    let points_mm: Vec<[f64; 3]> = (0..120).map(|_| place(&mut random)).collect();
    let own = OwnPoints { name: "t".into(), points_mm: points_mm.clone() };
    let s = in_ball(&Seeds { own: Some(own), rounds: 0, ..Seeds::default() }).1;
    let local: Vec<DVec3> = points_mm.iter().map(|p| DVec3::from(*p) / 2.0).collect();
    let is_own = |p: &DVec3| local.iter().any(|q| q.distance(*p) < 1e-9);
    assert!(s.inside > 20 && s.inside < 120 && s.points()[..s.inside].iter().all(is_own));
    assert_eq!(s.points().iter().filter(|p| is_own(p)).count(), 120);
    // Cells of all points fill the ball: each place is in the cell of the point nearest to it.
    let volume: f64 = VoronoiCells::default()
        .facts(s.points(), s.points().len(), &s.bounds)
        .iter()
        .map(|f| f.volume)
        .sum();
    let size = s.bounds.high - s.bounds.low;
    assert!((volume / (size.x * size.y * size.z) - 1.0).abs() < 1e-6, "{volume}");
}

#[test]
fn points_on_the_surface_alone_are_told_how_uneven_they_are() {
    let of = |spread: Spread, rounds: u32| {
        let seeds = Seeds {
            layout: Layout::Surface,
            spread,
            rounds,
            surface_count: Some(400),
            ..Seeds::default()
        };
        let (_, s) = in_ball(&seeds);
        assert_eq!(s.inside, 0);
        unevenness(&s, &ALIKE)
    };
    let [loose, even] = [of(Spread::Loose, 0), of(Spread::Even, 0)];
    assert!(loose > 0.3 && (0.02..0.2).contains(&even), "{loose} {even}");
}

#[test]
fn points_on_the_surface_lie_there_evenly_and_those_inside_keep_away() {
    let closest = |points: &[DVec3]| {
        let grid = PointGrid::new(points);
        (0..points.len())
            .map(|n| grid.nearest(points[n], 1, |m| m as usize == n)[0].0)
            .fold(f64::INFINITY, f64::min)
    };
    for (layout, spread, rounds) in [
        (Layout::Surface, Spread::Even, 0),
        (Layout::Surface, Spread::Even, 4),
        (Layout::Both, Spread::Even, 3),
        (Layout::Both, Spread::Loose, 0),
    ] {
        let seeds = Seeds { layout, spread, rounds, surface_count: Some(200), ..Seeds::default() };
        let (part, s) = in_ball(&seeds);
        let end = s.inside + s.on_surface;
        assert_eq!(s.on_surface, 200);
        let away: Vec<f64> = s.points().iter().map(|p| part.distance.value(*p * 2.0)).collect();
        assert!(away[..s.inside].iter().all(|d| *d < 0.0) && away[end..].iter().all(|d| *d > 0.0));
        assert!(away[s.inside..end].iter().all(|d| d.abs() < 1e-9), "{layout:?} {rounds}");
        // Places of an even share of the ball's surface: 314 units for 200 points.
        if spread == Spread::Even {
            let side = (100.0 * std::f64::consts::PI / 200.0f64).sqrt();
            let share = closest(&s.points()[s.inside..end]) / side;
            assert!(share > 0.5, "{layout:?} {rounds}: {share}");
        }
        if layout == Layout::Both {
            // Half of what the surface's cells take is missing inside.
            let want = 4.0 / 3.0 * std::f64::consts::PI * 125.0 - 100.0;
            assert!((s.inside as f64 / want - 1.0).abs() < 0.03, "{}", s.inside);
            let grid = PointGrid::new(&s.points()[s.inside..end]);
            let near = |p: &DVec3| grid.nearest(*p, 1, |_| false)[0].0;
            assert!(rounds > 0 || s.points()[..s.inside].iter().all(|p| near(p) >= APART));
        } else {
            assert_eq!(s.inside, 0);
        }
    }
    // Loose ones are as many on either half, within four standard deviations.
    let seeds = Seeds {
        layout: Layout::Surface,
        spread: Spread::Loose,
        rounds: 0,
        surface_count: Some(4000),
        ..Seeds::default()
    };
    let s = in_ball(&seeds).1;
    let upper = |axis: usize| s.points()[..4000].iter().filter(|p| p[axis] > 0.0).count() as f64;
    assert!((0..3).all(|axis| (upper(axis) - 2000.0).abs() < 4.0 * 1000f64.sqrt()));
    // As many as cover it, when no number is given: an area of 100 π of cells' sides.
    let s = in_ball(&Seeds { layout: Layout::Surface, ..Seeds::default() }).1;
    assert!(
        (s.on_surface as f64 / (100.0 * std::f64::consts::PI) - 1.0).abs() < 0.03,
        "{}",
        s.on_surface
    );
    // From above both halves of the ball are seen as discs, and cells have their size in those.
    let s = in_ball(&Seeds {
        layout: Layout::Surface,
        from_above: true,
        rounds: 0,
        ..Seeds::default()
    })
    .1;
    assert!(
        (s.on_surface as f64 / (50.0 * std::f64::consts::PI) - 1.0).abs() < 0.03,
        "{}",
        s.on_surface
    );
    assert!((s.cell - 1.0).abs() < 0.01, "{}", s.cell);
}

#[test]
fn cells_on_the_surface_are_as_wide_as_asked_by_a_ruler() {
    // Neighbours in a pattern of hexagons of area 1 lie so far apart.
    const HEXAGONAL: f64 = 1.0746;
    for rounds in [0, 8] {
        let s = in_ball(&Seeds { layout: Layout::Surface, rounds, ..Seeds::default() }).1;
        let surface = &s.points()[s.inside..s.inside + s.on_surface];
        let grid = PointGrid::new(surface);
        let six = |n: usize| {
            grid.nearest(surface[n], 6, |m| m as usize == n).iter().map(|near| near.0).sum::<f64>()
                / 6.0
        };
        let mean = (0..surface.len()).map(six).sum::<f64>() / surface.len() as f64;
        assert!((mean / HEXAGONAL - 1.0).abs() < 0.08, "{rounds} rounds: {mean}");
    }
}

#[test]
fn loose_points_may_keep_a_distance_and_are_as_many_as_find_a_place() {
    for (layout, count) in [(Layout::Inside, 400), (Layout::Surface, 150)] {
        for apart in [0.0, 0.4, 0.7] {
            let seeds = Seeds {
                layout,
                apart,
                spread: Spread::Loose,
                rounds: 0,
                count: Some(count),
                surface_count: Some(count),
                ..Seeds::default()
            };
            let s = in_ball(&seeds).1;
            assert_eq!(s.inside + s.on_surface, count as usize, "{layout:?} {apart}");
            assert!(
                s.closest() >= apart && (apart > 0.0 || s.closest() < 0.3),
                "{layout:?} {apart}: {}",
                s.closest()
            );
        }
    }
}

#[test]
fn points_from_above_are_as_many_on_every_part_of_the_shadow() {
    // Rings of the ball's shadow of equal area, the outer ones of which are steep.
    let ring = |p: &DVec3| ((p.truncate().length() / 5.0).powi(2) * 4.0).min(3.99) as usize;
    for spread in [Spread::Even, Spread::Loose] {
        let shares = |from_above: bool| {
            let seeds = Seeds {
                layout: Layout::Surface,
                surface_count: Some(2000),
                from_above,
                spread,
                rounds: 0,
                ..Seeds::default()
            };
            let s = in_ball(&seeds).1;
            let mut counts = [0f64; 4];
            s.points()[..2000].iter().for_each(|p| counts[ring(p)] += 1.0 / 2000.0);
            counts
        };
        let (above, even) = (shares(true), shares(false));
        // Four standard deviations of a loose one.
        assert!(above.iter().all(|share| (share - 0.25).abs() < 0.04), "{above:?}");
        // By area: one less the root of what is left of the square of the radius.
        let by_area = |n: f64| (1.0 - n / 4.0).sqrt() - (0.75 - n / 4.0).max(0.0).sqrt();
        assert!((0..4).all(|n| (even[n] - by_area(n as f64)).abs() < 0.04), "{even:?}");
    }
}

#[test]
fn even_points_keep_their_distance_and_relaxing_evens_cells() {
    let of =
        |spread, rounds| in_ball(&Seeds { count: Some(300), spread, rounds, ..Seeds::default() }).1;
    let closest = |s: &Scattered| {
        let grid = PointGrid::new(s.points());
        let d = (0..s.inside).map(|n| grid.nearest(s.points()[n], 1, |m| m as usize == n)[0].0);
        d.fold(f64::INFINITY, f64::min) / s.cell
    };
    assert!(closest(&of(Spread::Even, 0)) > 0.6 && closest(&of(Spread::Loose, 0)) < 0.3);
    let uneven: Vec<f64> = [0, 2, 10].map(|r| unevenness(&of(Spread::Loose, r), &ALIKE)).to_vec();
    assert!(
        uneven[0] > 0.3 && uneven[1] < 0.7 * uneven[0] && uneven[2] < 0.7 * uneven[1],
        "{uneven:?}"
    );
    assert!(unevenness(&of(Spread::Even, 0), &ALIKE) < 0.2);
}

#[test]
fn cells_decide_the_count_when_none_is_given_also_in_a_plane() {
    let (_, s) = in_ball(&Seeds::default());
    assert!((s.inside as f64 / (4.0 / 3.0 * std::f64::consts::PI * 125.0) - 1.0).abs() < 0.03);
    let shadow = Shadow { low: DVec3::ZERO, high: DVec3::new(20.0, 10.0, 0.0) };
    let s = scatter(&shadow, &Seeds { rounds: 3, ..Seeds::default() }, None, &NoCache, &|| false)
        .unwrap();
    assert_eq!(s.inside, 200);
    assert!(
        s.points().iter().all(|p| p.z == 0.0)
            && (s.cell - 1.0).abs() < 1e-12
            && unevenness(&s, &ALIKE) < 0.15
    );
}

#[test]
fn points_are_as_dense_as_asked_near_and_far_and_keep_their_count() {
    use ulmix_part::grading::GradedField;
    use ulmix_recipe::grading::{Given, GradedValue, Grading, PlacedGrading, Source};
    use ulmix_recipe::{Kind, Place, Role, SeededKind, Structure, Zone, Zones};
    let part = Part::prepare(&TriMesh::cuboid(DVec3::splat(-20.0), DVec3::splat(20.0))).unwrap();
    // A slab at one end: sizes depend on x alone.
    let place = Place::Box {
        centre_mm: [-20.0, 0.0, 0.0],
        size_mm: [10.0, 90.0, 90.0],
        rotation_deg: [0.0; 3],
    };
    let zones =
        Zones { list: vec![Zone::new(1, "Slab", Role::Reference, place)], ..Zones::default() };
    let (of, zone) = (GradedValue::CellSize, [Source::Zone { id: 1 }]);
    let grading = Grading::fading(of, Given::Percent, zone, [40.0, 100.0], 20.0);
    let placed = PlacedGrading::new(&grading, &[], &zones);
    let cells =
        Structure { cell_mm: [4.0; 3], ..Structure::of_kind(Kind::Seeded(SeededKind::Voronoi)) };
    let field = GradedField::of(&part, &placed).unwrap();
    let values = field.sampled(&part, 4.0, &|| false).unwrap();
    let graded = GradedValues { values: &values, given: grading.given };
    let sizes = CellSizes::of(Some(graded), &cells).0.unwrap();
    let sides = PointLocator::new(&part, 2000);
    let region = Scaled {
        part: &part,
        sides: &sides,
        frame: STILL,
        scale: DVec3::splat(4.0),
        sizes: Some(&sizes),
    };
    let of = |seeds: &Seeds| scatter(&region, seeds, None, &NoCache, &|| false).unwrap();
    for rounds in [0, 8] {
        let s = of(&Seeds { rounds, ..Seeds::default() });
        assert!((s.cell - 1.0).abs() < 0.01, "{}", s.cell);
        // Points per cell volume where sizes hardly change, near and far, against one over the
        // size's cube.
        let per_cell = |low: f64, high: f64| {
            let inside = s.points()[..s.inside]
                .iter()
                .filter(|p| (low..high).contains(&(p.x * 4.0)))
                .count();
            inside as f64 / ((high - low) * 1600.0 / 64.0)
        };
        let (near, far) = (per_cell(-20.0, -14.0), per_cell(8.0, 20.0));
        assert!(
            (near / 0.4f64.powi(-3) - 1.0).abs() < 0.15 && (far - 1.0).abs() < 0.15,
            "{rounds}: {near} {far}"
        );
        let uneven = unevenness(&s, &region);
        assert!(uneven < 0.3, "{uneven}");
    }
    let counted = of(&Seeds { count: Some(500), ..Seeds::default() });
    let inside = counted.points().iter().filter(|p| part.distance.inside(**p * 4.0)).count();
    assert!(inside == 500 && counted.inside == 500 && counted.cell > 1.0);
    // As many points of cells alike: a thousand cells of the size asked for fill the part.
    assert!((counted.alike - 2f64.cbrt()).abs() < 1e-12, "{}", counted.alike);
}
