//! What people rely on of strut, extruded and seeded structures: that every kind closes, that
//! thickness, density and counts are what was asked, that an arrangement repeats.

mod coarser;
mod patterns;

use coarser::run;
use glam::DVec3;
use patterns::{clean, net, seeds, set_holes, set_struts};
use std::f64::consts::PI;
use std::fmt::Debug;
use ulmix_check::Verdict;
use ulmix_core::compose::Composed;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_core::result::Filled;
use ulmix_field::grid::Grid;
use ulmix_field::numeric::low_discrepancy;
use ulmix_formats::{stl, Beam, Limits};
use ulmix_lattice::clean::StrutState;
use ulmix_lattice::{density::DensityCurve, from_mesh, make, BareStructure};
use ulmix_mesh::faces::{Face, FaceForm};
use ulmix_mesh::SignedDistance;
use ulmix_mesh::{Topology, TriMesh};
use ulmix_part::own_shapes;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::{mark, Part};
use ulmix_recipe::grading::{Given, GradedValue, Grading, Source};
use ulmix_recipe::{
    CellKind, CleanUp, DeadEnds, ExtrudedKind, ExtrudedPattern, FaceMark, Joins, Kind, Layout,
    OwnMesh, OwnMeshPattern, OwnShape, OwnStruts, Pattern, Place, PlanarKind, PlanarPattern,
    Recipe, Role, SeededKind, Seeds, Skin, Spread, Structure, StrutSection, SurfaceKind,
    SurfaceNet, Thicken, VoronoiPattern, Zone, Zones,
};

fn cube(side: f64) -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(side))).unwrap()
}

fn recipe(part: &Part, kind: Kind, cell: f64, thicken: Thicken) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    r.structure.cell_mm = [cell; 3];
    r.thicken = thicken;
    r
}

/// No check of a final mesh fails; `of` tells which it is.
fn sound(o: &Outcome, of: impl Debug) {
    let failed: Vec<_> =
        o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
    assert!(failed.is_empty(), "{of:?}: {failed:?}");
}

/// What is known of the part's filling without a mesh.
fn without_mesh(part: &Part, recipe: &Recipe) -> Filled {
    Pipeline::new(0).estimate(part, recipe, &Unwatched).unwrap().0.fill
}

fn bare(part: &Part, s: &Structure) -> std::sync::Arc<dyn BareStructure> {
    make::structure(part, s, Joins::default(), &|| false).unwrap()
}

/// Over one whole cell.
fn density(part: &Part, s: &Structure, thickness: f64) -> f64 {
    let b = bare(part, s);
    let points = b.cell_points();
    DensityCurve::new(b, &points).density(thickness)
}

#[test]
fn every_kind_closes_and_its_density_is_foreseen() {
    let part = cube(21.0);
    for kind in Kind::all().into_iter().filter(|k| !matches!(k, Kind::Surface(_))) {
        let mut r = recipe(&part, kind, 7.0, Thicken::Thickness { thickness_mm: 1.1 });
        r.structure.rotation_deg = [0.0, 0.0, 11.0];
        let o = run(&part, &r);
        sound(&o, kind);
        let (got, estimated) = (o.report.fill_density_percent, o.linked.fill.density_percent);
        assert!((got - estimated).abs() < 1.0, "{kind:?}: {got} for {estimated}");
    }
}

#[test]
fn openings_are_as_wide_as_geometry_says() {
    let part = cube(32.0);
    let (cell, thickness_mm) = (8.0, 1.0);
    let opening = |kind: Kind, change: &dyn Fn(&mut Recipe)| {
        let mut r = recipe(&part, kind, cell, Thicken::Thickness { thickness_mm });
        r.joins.blend_mm = 0.0;
        change(&mut r);
        without_mesh(&part, &r).opening_mm
    };
    let plain = |kind: Kind| opening(kind, &|_| ());
    // A square window; the triangles of an octahedron; the hexagons of a truncated one; the neck of
    // a channel.
    let windows = [
        (Kind::Cell(CellKind::Cubic), cell),
        (Kind::Cell(CellKind::Octet), cell / 6f64.sqrt()),
        (Kind::Cell(CellKind::Kelvin), cell * 1.5f64.sqrt() / 2.0),
        (Kind::Surface(SurfaceKind::SchwarzP), 2.0 * 0.2357 * cell),
    ];
    for (kind, window) in windows {
        let told = plain(kind);
        assert!(
            (told / (window - thickness_mm) - 1.0).abs() < 0.06,
            "{kind:?}: {told} for {}",
            window - thickness_mm
        );
    }
    // Struts that grow thicker toward the surface leave less there.
    let thicker = |r: &mut Recipe| r.gradings = vec![thicker(Source::Surface, 1.5, 8.0)];
    let cubic = Kind::Cell(CellKind::Cubic);
    assert!((plain(cubic) - opening(cubic, &thicker) - 1.5).abs() < 0.05);
    // Upright ribbons leave the way up as wide as it was.
    let tall = |r: &mut Recipe| {
        r.joins.section = StrutSection::Rectangular { taller_mm: 2.0, turn_deg: 0.0 }
    };
    assert!((opening(cubic, &tall) - plain(cubic)).abs() < 0.5);
}

#[test]
fn a_net_of_points_on_the_surface_covers_it_and_leaves_the_inside_empty() {
    let part = Part::prepare(&TriMesh::sphere(20.0, 5)).unwrap();
    let mut r = recipe(
        &part,
        Kind::Seeded(SeededKind::Voronoi),
        8.0,
        Thicken::Thickness { thickness_mm: 1.4 },
    );
    *seeds(&mut r) = Seeds { layout: Layout::Surface, surface_count: Some(60), ..Seeds::default() };
    net(&mut r).as_mut().unwrap().inner = false;
    let o = run(&part, &r);
    sound(&o, "");
    assert_eq!(o.linked.fill.structure.as_ref().unwrap().surface_seeds, 60);
    assert!(o.solid.mesh.points.iter().all(|p| p.length() > 20.0 - 1.5));
    let around = o.solid.mesh.points.iter().map(|p| p.normalize()).collect::<Vec<_>>();
    let near = |d: DVec3| around.iter().any(|p| p.dot(d) > 0.9);
    assert!([DVec3::X, DVec3::NEG_X, DVec3::Y, DVec3::NEG_Y, DVec3::Z, DVec3::NEG_Z]
        .into_iter()
        .all(near));
}

#[test]
fn holes_in_voronoi_walls_join_what_they_close_off() {
    let part = cube(24.0);
    let with = |holes: f64| {
        let mut r = recipe(
            &part,
            Kind::Seeded(SeededKind::VoronoiWalls),
            8.0,
            Thicken::Thickness { thickness_mm: 0.8 },
        );
        set_holes(&mut r, holes);
        // An arrangement in which no wall across an edge of the cube stands alone.
        seeds(&mut r).random = 2;
        let o = run(&part, &r);
        sound(&o, holes);
        let (got, estimated) = (o.report.fill_density_percent, o.linked.fill.density_percent);
        assert!((got - estimated).abs() < 1.0, "{holes}: {got} for {estimated}");
        (Topology::of(&o.solid.mesh).components, got, o.linked.fill.opening_mm)
    };
    let (whole, pierced) = (with(0.0), with(0.7));
    // The outside, and a hollow for each cell that does not reach it.
    assert!(whole.0 > 3 && pierced.0 == 1, "{whole:?} {pierced:?}");
    assert!(pierced.1 < whole.1 - 2.0 && whole.2 == 0.0 && pierced.2 > 0.5);
}

#[test]
fn struts_from_a_file_are_cut_at_the_part_closed_and_foreseen() {
    let part = cube(20.0);
    // A grid of bars that reach beyond the cube, with a strut far away that cannot matter.
    let mut beams = Vec::new();
    let radii = [0.6; 2];
    for n in 0..9 {
        let (u, v) = (4.0 + 6.0 * (n % 3) as f64, 4.0 + 6.0 * (n / 3) as f64);
        for ends in [
            [[-5.0, u, v], [25.0, u, v]],
            [[u, -5.0, v], [u, 25.0, v]],
            [[u, v, -5.0], [u, v, 25.0]],
        ] {
            beams.push(Beam { ends: ends.map(DVec3::from), radii });
        }
    }
    beams.push(Beam { ends: [DVec3::splat(90.0), DVec3::splat(99.0)], radii });
    let found = OwnStruts::of("bars.3mf", &beams).unwrap().unwrap();
    assert_eq!((found.own.struts.len(), found.cell_mm, found.thickness_mm), (28, 30.0, 1.2));
    let mut r =
        recipe(&part, Kind::Cell(CellKind::Cubic), 6.0, Thicken::Thickness { thickness_mm: 1.0 });
    found.fill(&mut r, 20.0);
    let o = run(&part, &r);
    sound(&o, "");
    assert_eq!(o.linked.fill.structure.as_ref().unwrap().struts, 27);
    assert!((o.report.fill_density_percent - o.linked.fill.density_percent).abs() < 1.0);
    // 27 bars of 20 mm that pass through each other in 27 places: what three crossing cylinders
    // share is taken off.
    let (bar, shared) = (PI * 0.36 * 20.0, 0.6f64.powi(3));
    let joined = 3.0 * 16.0 / 3.0 * shared - 8.0 * (2.0 - 2f64.sqrt()) * shared;
    let want = 27.0 * (bar - joined);
    assert!((o.report.volume_mm3 / want - 1.0).abs() < 0.06, "{} for {want}", o.report.volume_mm3);
    let mut broken = r.clone();
    let Pattern::OwnStruts(p) = &mut broken.structure.pattern else { panic!("own struts") };
    p.own.struts[3] = [2, 400];
    assert!(broken.validate(&part.mesh.bounds()).unwrap_err().message().contains("Strut 4"));
}

#[test]
fn nets_are_cleaned_as_asked_and_what_was_found_is_told() {
    let part = cube(24.0);
    let mut r = recipe(
        &part,
        Kind::Seeded(SeededKind::Neighbours),
        7.0,
        Thicken::Thickness { thickness_mm: 1.2 },
    );
    let before = without_mesh(&part, &r).structure.unwrap();
    // Of two points each is often among the other's nearest.
    assert!(
        before.duplicates > 20 && before.drawn_apart == 0 && before.cut_short == 0,
        "{before:?}"
    );
    let lengths = before.lengths.unwrap();
    assert!(lengths.counts.iter().sum::<usize>() >= before.struts);
    *clean(&mut r) = CleanUp {
        dead_ends: DeadEnds::Removed,
        least_left: 0.3,
        most_at_node: 4,
        ..CleanUp::default()
    };
    let o = run(&part, &r);
    sound(&o, "");
    let after = o.linked.fill.structure.unwrap();
    assert!(after.drawn_apart > 0 && after.cut_short > 0 && after.degree <= 4.0, "{after:?}");
    let net = Pipeline::new(0).skeleton(&part, &r, None, &Unwatched).unwrap().unwrap();
    assert_eq!(net.0.struts.len(), after.struts);
    assert!(
        !net.1.contains(&StrutState::DeadEnd)
            && net.1.contains(&StrutState::Cut)
            && net.1.contains(&StrutState::Inside)
    );
    clean(&mut r).most_at_node = 2;
    assert!(r.validate(&part.mesh.bounds()).unwrap_err().message().contains("at a node"));
}

fn own_mesh(r: &mut Recipe) -> &mut OwnMesh {
    let Pattern::OwnMesh(p) = &mut r.structure.pattern else { panic!("no own mesh") };
    &mut p.own
}

/// One octet cell, cut out of its lattice by a cube: a solid with flat ends in the cube's sides.
fn cut_out(side: f64, thickness_mm: f64) -> TriMesh {
    let part = cube(side);
    let mut r =
        recipe(&part, Kind::Cell(CellKind::Octet), side, Thicken::Thickness { thickness_mm });
    r.structure.shift_mm = [0.5 * side; 3];
    r.mesh.step_mm = Some(0.15);
    r.mesh.reduce_mm = 0.02;
    run(&part, &r).solid.mesh.clone()
}

#[test]
fn a_cell_cut_out_of_a_lattice_and_brought_in_again_is_that_lattice() {
    let cut = cut_out(8.0, 1.2);
    let found = from_mesh::read("cell.stl", &stl::write(&cut), &Limits::default()).unwrap();
    assert!((DVec3::from(found.cell_mm) - 8.0).abs().max_element() < 1e-5);
    assert_eq!(found.own.apart, [false; 3]);
    // Balls in round struts are as wide as those; along the cell's sides struts are cut.
    assert!((1.0..1.25).contains(&found.thickness_mm), "{}", found.thickness_mm);

    // Another part, in which it lies turned and shifted.
    let part = Part::prepare(&TriMesh::sphere(11.0, 5)).unwrap();
    let mut r = recipe(
        &part,
        Kind::Cell(CellKind::Cubic),
        8.0,
        Thicken::Thickness { thickness_mm: found.thickness_mm },
    );
    (r.structure.rotation_deg, r.structure.shift_mm) = ([10.0, 20.0, 30.0], [1.0, 2.0, 3.0]);
    r.mesh.step_mm = Some(0.28);
    r.structure.pattern = Pattern::OwnMesh(OwnMeshPattern { own: found.own.clone() });
    let o = run(&part, &r);
    sound(&o, "");
    let mut same = r.clone();
    same.structure.choose(Kind::Cell(CellKind::Octet));
    same.thicken = Thicken::Thickness { thickness_mm: 1.2 };
    let (own, octet) = (o.solid.mesh.volume(), run(&part, &same).solid.mesh.volume());
    assert!((own / octet - 1.0).abs() < 0.02, "{own} {octet}");

    // Grown to a density, with cells of another size along each axis.
    r.structure.cell_mm = [8.0, 7.0, 9.0];
    for percent in [12.0, 35.0] {
        r.thicken = Thicken::RelativeDensity { percent };
        let o = run(&part, &r);
        sound(&o, percent);
        assert!(
            (o.report.fill_density_percent - percent).abs() < 1.0,
            "{percent}: {}",
            o.report.fill_density_percent
        );
    }

    let mut broken = r.clone();
    own_mesh(&mut broken).triangles[3] = [0, 1, 4_000_000];
    assert!(broken.validate(&part.mesh.bounds()).unwrap_err().message().contains("Triangle 4"));
    own_mesh(&mut r).points[5] = [0.0, f32::NAN, 0.0];
    assert!(r.validate(&part.mesh.bounds()).is_err());
}

#[test]
fn relative_density_is_reached_by_struts_walls_and_cells() {
    let part = cube(20.0);
    for kind in [
        Kind::Cell(CellKind::Kelvin),
        Kind::Extruded(ExtrudedKind::Hexagons),
        Kind::Seeded(SeededKind::Voronoi),
        Kind::Seeded(SeededKind::VoronoiWalls),
    ] {
        let r = recipe(&part, kind, 7.0, Thicken::RelativeDensity { percent: 22.0 });
        // On the grid that is chosen; struts of a coarser one lose more of their section to chords.
        let o = Pipeline::new(0).run(&part, &r, Quality::Final, &Unwatched).unwrap();
        let got = 100.0 * o.solid.mesh.volume() / 8000.0;
        assert!((got - 22.0).abs() < 1.0, "{kind:?}: {got}");
    }
}

#[test]
fn thin_struts_fill_their_length_times_their_section() {
    let part = cube(40.0);
    // Length of struts in a cell of side 1 (Deshpande, Fleck & Ashby 2001, and geometry).
    for (kind, length) in [
        (CellKind::Cubic, 3.0),
        (CellKind::BodyCentred, 4.0 * 3f64.sqrt()),
        (CellKind::FaceCentred, 6.0 * 2f64.sqrt()),
        (CellKind::Octet, 12.0 * 2f64.sqrt()),
        (CellKind::Kelvin, 6.0 * 2f64.sqrt()),
        (CellKind::Diamond, 4.0 * 3f64.sqrt()),
        (CellKind::RhombicDodecahedron, 8.0 * 3f64.sqrt()),
    ] {
        let s = Structure { cell_mm: [10.0; 3], ..Structure::of_kind(Kind::Cell(kind)) };
        let got = density(&part, &s, 0.5);
        let thin = PI * 0.25 * 0.25 * length / 100.0;
        // Where struts meet they share material.
        assert!(got < 1.01 * thin && got > 0.82 * thin, "{kind:?}: {got} for {thin}");
    }
    for (kind, walls) in [
        (ExtrudedKind::Squares, 2.0),
        (ExtrudedKind::Hexagons, 2.0),
        (ExtrudedKind::Triangles, 2.0 * 3f64.sqrt()),
    ] {
        let s = Structure { cell_mm: [10.0; 3], ..Structure::of_kind(Kind::Extruded(kind)) };
        let got = density(&part, &s, 0.2);
        let thin = walls * 0.02;
        assert!(got < 1.02 * thin && got > 0.95 * thin, "{kind:?}: {got} for {thin}");
    }
}

#[test]
fn struts_and_walls_measure_what_was_asked() {
    let part = cube(40.0);
    for (kind, most) in
        [(Kind::Cell(CellKind::Cubic), 0.05), (Kind::Extruded(ExtrudedKind::Squares), 0.01)]
    {
        let mut r = recipe(&part, kind, 20.0, Thicken::Thickness { thickness_mm: 3.0 });
        r.mesh.step_mm = Some(0.4);
        let walls = run(&part, &r).report.gauged[0].unwrap();
        assert!((walls.median_mm / 3.0 - 1.0).abs() < most, "{kind:?}: {walls:?}");
    }
}

#[test]
fn seed_points_are_counted_and_one_random_number_gives_one_arrangement_on_any_threads() {
    let part = cube(20.0);
    let mut r = recipe(
        &part,
        Kind::Seeded(SeededKind::Voronoi),
        7.0,
        Thicken::Thickness { thickness_mm: 1.2 },
    );
    *seeds(&mut r) =
        Seeds { count: Some(37), random: 5, spread: Spread::Loose, ..Seeds::default() };
    let on = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| run(&part, &r))
    };
    let (one, two) = (on(1), on(2));
    assert!(one.solid.mesh == two.solid.mesh);
    let facts = one.linked.fill.structure.clone().unwrap();
    assert_eq!((facts.seeds, facts.components), (37, 1));
    assert!(facts.degree > 2.9 && facts.shortest_mm > 0.0);
    seeds(&mut r).random = 6;
    assert!(run(&part, &r).solid.mesh != one.solid.mesh);
}

#[test]
fn the_outer_net_lies_on_the_surface_and_closes_the_lattice() {
    let part = Part::prepare(&TriMesh::sphere(12.0, 5)).unwrap();
    let s = |net: bool| {
        let net = net.then(SurfaceNet::default);
        let pattern = Pattern::Voronoi(VoronoiPattern { net, ..VoronoiPattern::default() });
        Structure { pattern, cell_mm: [6.0; 3], ..Structure::default() }
    };
    let ends = |net: bool| {
        let bare = bare(&part, &s(net));
        let skeleton = bare.struts().unwrap().clone();
        let mut degree = vec![0; skeleton.nodes.len()];
        skeleton.struts.iter().flatten().for_each(|n| degree[*n as usize] += 1);
        let outside = skeleton.nodes.iter().filter(|p| part.distance.value(**p) > 1e-6).count();
        (degree.iter().filter(|d| **d == 1).count(), outside)
    };
    assert_eq!(ends(true), (0, 0), "no loose end, nothing beyond the part");
    assert!(ends(false).0 > 20 && ends(false).1 > 20);
}

#[test]
fn bulk_signs_and_places_agree_with_the_exact_value() {
    let part = cube(20.0);
    let regions = Regions::of(&part, &Zones::default());
    let zoned =
        Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.37), &|| false)
            .unwrap();
    let joins = Joins { blend_mm: 0.8, node_mm: 0.6, ..Joins::default() };
    for kind in [
        Kind::Cell(CellKind::Octet),
        Kind::Extruded(ExtrudedKind::Triangles),
        Kind::Seeded(SeededKind::Voronoi),
        Kind::Seeded(SeededKind::VoronoiWalls),
        Kind::Planar(PlanarKind::PlanarVoronoi),
    ] {
        let s = Structure {
            cell_mm: [7.0, 8.0, 9.0],
            rotation_deg: [10.0, 20.0, 30.0],
            ..Structure::of_kind(kind)
        };
        let lattice = make::structure(&part, &s, joins, &|| false).unwrap().thicken(1.1);
        for reach in [0.0, 0.2] {
            let shape = Composed::new(&part, &zoned, &regions, &*lattice, reach);
            let (signs, grid) = (shape.signs(), &zoned.grid);
            for k in 0..grid.size.z {
                for j in 0..grid.size.y {
                    for i in 0..grid.size.x {
                        let v = lattice.value(grid.at(i, j, k)) - reach;
                        if zoned.fill.get(i, j, k) && v.abs() > 1e-4 {
                            assert_eq!(signs.get(i, j, k), v < 0.0, "{kind:?} at {i} {j} {k}: {v}");
                        }
                    }
                }
            }
        }
    }
}

#[test]
fn a_final_mesh_stays_within_a_step_of_the_exact_struts() {
    let part = cube(20.0);
    let mut r = recipe(
        &part,
        Kind::Seeded(SeededKind::Voronoi),
        7.0,
        Thicken::Thickness { thickness_mm: 1.4 },
    );
    r.mesh.step_mm = Some(0.3);
    let lattice = make::structure(&part, &r.structure, r.joins, &|| false).unwrap().thicken(1.4);
    let solid = run(&part, &r).solid;
    let inner = |p: &&DVec3| p.min_element() > 0.05 && p.max_element() < 19.95;
    let worst =
        solid.mesh.points.iter().filter(inner).map(|p| lattice.value(*p).abs()).fold(0.0, f64::max);
    assert!(worst < 0.15, "{worst}");
}

#[test]
fn cells_are_smaller_around_a_zone_and_the_mesh_is_sound() {
    let part = cube(30.0);
    let place = Place::Sphere { centre_mm: [0.0, 0.0, 15.0], radius_mm: 6.0 };
    for kind in [SeededKind::Voronoi, SeededKind::VoronoiWalls, SeededKind::Delaunay] {
        let mut r =
            recipe(&part, Kind::Seeded(kind), 8.0, Thicken::Thickness { thickness_mm: 0.9 });
        let plain = without_mesh(&part, &r).structure.unwrap();
        r.zones.list = vec![Zone::new(1, "Around", Role::Reference, place.clone())];
        let (of, zone) = (GradedValue::CellSize, [Source::Zone { id: 1 }]);
        r.gradings = vec![Grading::fading(of, Given::Percent, zone, [50.0, 100.0], 12.0)];
        let o = run(&part, &r);
        sound(&o, kind);
        // The total floats with the cell size, and the smallest cells are told.
        let facts = o.linked.fill.structure.as_ref().unwrap();
        assert!(
            facts.seeds as f64 > 1.3 * plain.seeds as f64,
            "{} of {}",
            facts.seeds,
            plain.seeds
        );
        assert!((o.linked.fill.cell_mm / 4.0 - 1.0).abs() < 0.05, "{}", o.linked.fill.cell_mm);
        let (got, estimated) = (o.report.fill_density_percent, o.linked.fill.density_percent);
        assert!((got - estimated).abs() < 1.0, "{kind:?}: {got} for {estimated}");
        // With a count of points it is kept, and cells elsewhere grow.
        seeds(&mut r).count = Some(plain.seeds as u32);
        let kept = without_mesh(&part, &r);
        assert_eq!(kept.structure.unwrap().seeds, plain.seeds);
        assert!(kept.cell_mm > 1.05 * 4.0, "{}", kept.cell_mm);
    }
}

#[test]
fn the_net_at_the_surface_may_be_thicker_than_what_is_inside() {
    let part = cube(30.0);
    let mut r = recipe(
        &part,
        Kind::Seeded(SeededKind::Voronoi),
        10.0,
        Thicken::Thickness { thickness_mm: 1.0 },
    );
    let thin = run(&part, &r);
    r.joins.net_mm = 1.5;
    let thick = run(&part, &r);
    let failed: Vec<_> =
        thick.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
    assert!(failed.is_empty(), "{failed:?}");
    let (got, estimated) = (thick.report.fill_density_percent, thick.linked.fill.density_percent);
    assert!(
        (got - estimated).abs() < 1.0 && got > 1.3 * thin.report.fill_density_percent,
        "{got} for {estimated}"
    );
    // Deep inside nothing has changed.
    let field =
        |r: &Recipe| make::structure(&part, &r.structure, r.joins, &|| false).unwrap().thicken(1.0);
    let (with, without) =
        (field(&r), field(&Recipe { joins: Joins { net_mm: 0.0, ..r.joins }, ..r.clone() }));
    let at =
        |n: u32| DVec3::new((n % 20) as f64, (n / 20 % 20) as f64, (n / 400) as f64) * 0.7 + 8.0;
    let border = (0..8000).map(at).filter(|p| without.value(*p).abs() < 1.0);
    assert!(border.clone().count() > 500);
    assert!(border.clone().all(|p| (with.value(p) - without.value(p)).abs() < 1e-9));
}

#[test]
fn smoothing_keeps_volume_and_the_faces_of_solids() {
    let part = cube(20.0);
    let solid = Place::Box {
        centre_mm: [10.0, 10.0, 2.0],
        size_mm: [40.0, 40.0, 6.0],
        rotation_deg: [0.0; 3],
    };
    let of = |kind: Kind, smoothing: u32| {
        let mut r = recipe(&part, kind, 7.0, Thicken::Thickness { thickness_mm: 1.3 });
        r.joins.blend_mm = 0.0;
        r.mesh.smoothing = smoothing;
        r.zones.list = vec![Zone::new(2, "Plate", Role::KeepSolid, solid.clone())];
        let o = run(&part, &r);
        let failed: Vec<_> =
            o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
        assert!(failed.is_empty(), "{kind:?} {smoothing}: {failed:?}");
        o
    };
    for kind in [
        Kind::Cell(CellKind::BodyCentred),
        Kind::Seeded(SeededKind::Voronoi),
        Kind::Extruded(ExtrudedKind::Hexagons),
    ] {
        let [plain, smooth] = [0, 5].map(|level| of(kind, level));
        let volume = |o: &Outcome| o.solid.mesh.volume();
        assert!(
            (volume(&smooth) / volume(&plain) - 1.0).abs() < 0.01,
            "{kind:?}: {} {}",
            volume(&plain),
            volume(&smooth)
        );
        // Points on the plate's upper face, and those of the part's sides: as many planes as
        // before, exactly.
        let on_plate = |p: &&DVec3| {
            (p.z - 5.0).abs() < 0.3 && p.x > 1.0 && p.x < 19.0 && p.y > 1.0 && p.y < 19.0
        };
        let off = |o: &Outcome| {
            let flat = o
                .solid
                .mesh
                .points
                .iter()
                .filter(on_plate)
                .filter(|p| (p.z - 5.0).abs() < 1e-5)
                .count();
            let low = o.solid.mesh.points.iter().filter(|p| p.z.abs() < 1e-5).count();
            (flat > 0, low > 0)
        };
        assert_eq!(off(&smooth), (true, true));
        let outside = smooth
            .solid
            .mesh
            .points
            .iter()
            .map(|p| (*p - 10.0).abs().max_element() - 10.0)
            .fold(0.0, f64::max);
        assert!(outside < 0.1 * smooth.step_mm, "{kind:?}: {outside} outside the part");
        // Struts' joins are rounder: less surface.
        assert!(smooth.solid.mesh.area() < plain.solid.mesh.area());
    }
}

#[test]
fn walls_stand_upright_on_a_picked_face_and_run_along_the_axis_of_a_round_one() {
    let turn = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.5, -0.3, 0.9);
    let block = Part::prepare(
        &TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 20.0, 12.0)).mapped(|p| turn * p),
    )
    .unwrap();
    let tube =
        own_shapes::mesh(&OwnShape::Tube { diameter_mm: 40.0, bore_mm: 20.0, height_mm: 30.0 });
    let tube = Part::prepare(&tube.mapped(|p| turn * p)).unwrap();
    let round = |f: &&Face| matches!(f.kind, FaceForm::Cylinder { .. });
    let of = |face: Option<&Face>| mark(face.expect("it has one"));
    let long_side =
        of(block.faces().list.iter().find(|f| f.direction.dot(turn * DVec3::X) > 0.999));
    let bore = of(tube.faces().list.iter().find(round));
    let on_face = |walls: Option<ExtrudedKind>, face: &FaceMark| {
        let upright = Some(*face);
        match walls {
            Some(walls) => Pattern::Extruded(ExtrudedPattern { walls, upright }),
            None => Pattern::PlanarVoronoi(PlanarPattern { upright, ..PlanarPattern::default() }),
        }
    };
    for kind in [Some(ExtrudedKind::Hexagons), Some(ExtrudedKind::Triangles), None] {
        for (part, face, along) in
            [(&block, &long_side, turn * DVec3::X), (&tube, &bore, turn * DVec3::Z)]
        {
            for rotation_deg in [[0.0; 3], [0.0, 0.0, 25.0]] {
                let s = Structure {
                    pattern: on_face(kind, face),
                    cell_mm: [6.0; 3],
                    rotation_deg,
                    ..Structure::default()
                };
                let b = bare(part, &s);
                let spots = (0..60).map(|i| {
                    part.mesh.bounds().centre()
                        + DVec3::new(i as f64 * 0.37, (i * i % 17) as f64 * 0.4, -0.2 * i as f64)
                });
                for p in spots {
                    assert!(
                        (b.measure(p) - b.measure(p + along * 7.0)).abs() < 1e-9,
                        "{kind:?} {p}"
                    );
                }
                // Across it they are no sheet.
                let across = turn * DVec3::Y;
                assert!((0..40)
                    .any(|i| (b.measure(across * (0.3 * i as f64)) - b.measure(DVec3::ZERO))
                        .abs()
                        > 0.3));
            }
        }
    }
    // Once the face is gone the walls stand as the part does, and that is told.
    let mut r = recipe(
        &tube,
        Kind::Extruded(ExtrudedKind::Hexagons),
        6.0,
        Thicken::Thickness { thickness_mm: 1.0 },
    );
    r.structure.pattern = on_face(Some(ExtrudedKind::Hexagons), &long_side);
    let (linked, _) = Pipeline::new(0).estimate(&tube, &r, &Unwatched).unwrap();
    assert_eq!(
        linked.lost_faces.iter().map(|l| (&l.name[..], l.faces)).collect::<Vec<_>>(),
        [("Walls stand on", 1)]
    );
}

#[test]
fn a_lattice_that_stands_proud_has_whole_struts_at_the_surface_and_none_past_skins() {
    let part = cube(20.0);
    let of = |change: &dyn Fn(&mut Recipe)| {
        // Struts along the cube's own edges and faces.
        let mut r = recipe(
            &part,
            Kind::Cell(CellKind::Cubic),
            5.0,
            Thicken::Thickness { thickness_mm: 1.2 },
        );
        r.joins = Joins { proud: true, ..Joins::default() };
        change(&mut r);
        let o = run(&part, &r);
        sound(&o, "");
        let (got, estimated) = (o.report.fill_density_percent, o.linked.fill.density_percent);
        assert!((got - estimated).abs() < 1.0, "{got} for {estimated}");
        o
    };
    let trimmed = of(&|r| r.joins.proud = false);
    assert!(
        trimmed.report.proud_mm3 == 0.0
            && trimmed.solid.mesh.bounds().max.max_element() < 20.0 + 1e-5
    );
    let proud = of(&|_| {});
    let b = proud.solid.mesh.bounds();
    for (low, high) in b.min.to_array().into_iter().zip(b.max.to_array()) {
        assert!((low + 0.6).abs() < 0.03 && (high - 20.6).abs() < 0.03, "{low} {high}");
    }
    // Half of the struts on the faces, three quarters of those on the edges: what was cut off.
    let more = proud.solid.mesh.volume() - trimmed.solid.mesh.volume();
    assert!((proud.report.proud_mm3 / more - 1.0).abs() < 0.1, "{} {more}", proud.report.proud_mm3);
    let skin = of(&|r| {
        r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 1.0 }]
    });
    assert!(skin.solid.mesh.bounds().max.max_element() < 20.0 + 1e-4);
    // Kept solid below: flat there, and proud on the other sides.
    let place = Place::Box {
        centre_mm: [10.0, 10.0, 0.0],
        size_mm: [40.0, 40.0, 6.0],
        rotation_deg: [0.0; 3],
    };
    let plate = of(&|r| r.zones.list = vec![Zone::new(3, "Plate", Role::KeepSolid, place.clone())]);
    let b = plate.solid.mesh.bounds();
    assert!(
        b.min.z.abs() < 1e-4 && (b.max.z - 20.6).abs() < 0.03 && (b.max.x - 20.6).abs() < 0.03,
        "{b:?}"
    );

    // The net of cells on a ball, round struts on the ball itself.
    let ball = Part::prepare(&TriMesh::sphere(20.0, 5)).unwrap();
    let mut r = recipe(
        &ball,
        Kind::Seeded(SeededKind::Voronoi),
        9.0,
        Thicken::Thickness { thickness_mm: 1.4 },
    );
    r.joins.proud = true;
    let o = run(&ball, &r);
    let far = o.solid.mesh.points.iter().map(|p| p.length()).fold(0.0, f64::max);
    assert!((far - 20.7).abs() < 0.05, "{far}");
    assert!(o.report.checks.iter().flatten().all(|c| c.verdict != Verdict::Fail));
}

#[test]
fn rectangular_struts_have_their_width_height_and_turn_and_sharp_edges() {
    let part = cube(30.0);
    // One strut through the middle, along x; own struts are given about the middle of the part's
    // box.
    let own = OwnStruts {
        nodes_mm: vec![[3.0, 15.0, 15.0], [27.0, 15.0, 15.0]],
        struts: vec![[0, 1]],
        name: "One".into(),
    };
    for (taller_mm, turn_deg) in [(0.0, 0.0), (2.0, 0.0), (2.0, 30.0), (3.5, -70.0)] {
        let mut r = recipe(
            &part,
            Kind::Cell(CellKind::Cubic),
            10.0,
            Thicken::Thickness { thickness_mm: 2.0 },
        );
        set_struts(&mut r, own.clone());
        r.joins = Joins {
            section: StrutSection::Rectangular { taller_mm, turn_deg },
            ..Joins::default()
        };
        r.mesh.step_mm = Some(0.37);
        let o = run(&part, &r);
        assert!(o.report.checks.iter().flatten().all(|c| c.verdict != Verdict::Fail));
        let m = &o.solid.mesh;
        let (width, height) = (2.0, 2.0 + taller_mm);
        // Its ends reach half a width further.
        assert!(
            (m.volume() / (width * height * 26.0) - 1.0).abs() < 1e-4,
            "{taller_mm} {turn_deg}: {}",
            m.volume()
        );
        let a = f64::to_radians(turn_deg);
        let (up, across) = (DVec3::new(0.0, -a.sin(), a.cos()), DVec3::new(0.0, a.cos(), a.sin()));
        let farthest =
            |n: DVec3| m.points.iter().map(|p| (*p - 15.0).dot(n).abs()).fold(0.0, f64::max);
        for (n, half) in [(up, 0.5 * height), (across, 0.5 * width), (DVec3::X, 13.0)] {
            assert!(
                (farthest(n) - half).abs() < 1e-3,
                "{taller_mm} {turn_deg}: {} for {half}",
                farthest(n)
            );
        }
        // Corners are where they should be.
        let corner = DVec3::new(28.0, 15.0, 15.0) + up * (0.5 * height) + across * (0.5 * width);
        let nearest = m.points.iter().map(|p| p.distance(corner)).fold(f64::INFINITY, f64::min);
        assert!(nearest < 2e-3, "{taller_mm} {turn_deg}: {nearest}");
    }
}

#[test]
fn cells_of_rectangular_struts_close_and_reach_their_density() {
    let part = cube(20.0);
    for (kind, taller_mm) in
        [(Kind::Cell(CellKind::BodyCentred), 0.8), (Kind::Seeded(SeededKind::Voronoi), 0.0)]
    {
        let mut r = recipe(&part, kind, 7.0, Thicken::RelativeDensity { percent: 20.0 });
        r.joins = Joins {
            section: StrutSection::Rectangular { taller_mm, turn_deg: 20.0 },
            node_mm: 0.4,
            ..Joins::default()
        };
        let o = run(&part, &r);
        sound(&o, kind);
        assert!(
            (o.report.fill_density_percent - 20.0).abs() < 1.0,
            "{kind:?}: {}",
            o.report.fill_density_percent
        );
    }
}

#[test]
fn struts_are_as_thick_everywhere_as_their_grading_says() {
    let part = cube(30.0);
    // From the middle of the cube to the middle of a face.
    let own = OwnStruts {
        nodes_mm: vec![[15.0, 15.0, 15.0], [30.0, 15.0, 15.0]],
        struts: vec![[0, 1]],
        name: "One".into(),
    };
    let mut r =
        recipe(&part, Kind::Cell(CellKind::Cubic), 10.0, Thicken::Thickness { thickness_mm: 2.0 });
    set_struts(&mut r, own);
    r.gradings = vec![thicker(Source::Surface, 3.0, 10.0)];
    r.mesh.step_mm = Some(0.2);
    let o = run(&part, &r);
    assert!(o.report.checks.iter().flatten().all(|c| c.verdict != Verdict::Fail));
    for p in o.solid.mesh.points.iter().filter(|p| p.x > 15.0 && p.x < 29.8) {
        let away = (p.y - 15.0).hypot(p.z - 15.0);
        // The surface of the cube nearest to a point of the strut is the face that it ends at.
        let t = 1.0 - ((30.0 - p.x) / 10.0).min(1.0);
        let radius = 1.0 + 1.5 * t * t * (3.0 - 2.0 * t);
        assert!((away - radius).abs() < 0.05, "{p}: {away} for {radius}");
    }

    // Cells beside a plate, thicker where they grow from it, and as dense as asked all the same.
    let place = Place::Box {
        centre_mm: [15.0, 15.0, 0.0],
        size_mm: [60.0, 60.0, 6.0],
        rotation_deg: [0.0; 3],
    };
    let flat = StrutSection::Rectangular { taller_mm: 0.5, turn_deg: 0.0 };
    for (section, kind) in [
        (StrutSection::Round, Kind::Seeded(SeededKind::Voronoi)),
        (flat, Kind::Cell(CellKind::BodyCentred)),
    ] {
        let mut r = recipe(&part, kind, 9.0, Thicken::RelativeDensity { percent: 15.0 });
        r.joins = Joins { section, ..Joins::default() };
        r.gradings = vec![thicker(Source::Solids, 1.2, 12.0)];
        r.zones.list = vec![Zone::new(4, "Plate", Role::KeepSolid, place.clone())];
        let o = run(&part, &r);
        sound(&o, kind);
        assert!(
            (o.report.fill_density_percent - 15.0).abs() < 1.0,
            "{kind:?} {}",
            o.report.fill_density_percent
        );
        // More material in the layer on the plate than in one far from it.
        let solid = SignedDistance::new(&o.solid.mesh, &Topology::of(&o.solid.mesh));
        let share = |low: f64| {
            let places = (1..20_000u64).map(|i| {
                DVec3::new(0.0, 0.0, low) + low_discrepancy(i) * DVec3::new(30.0, 30.0, 4.0)
            });
            places.filter(|p| solid.inside(*p)).count()
        };
        assert!(
            share(3.05) as f64 > 1.5 * share(25.0) as f64,
            "{kind:?}: {} {}",
            share(3.05),
            share(25.0)
        );
    }
}

/// A thickness that is more by so much at a source, and fades over a distance. mm.
fn thicker(from: Source, more: f64, reach: f64) -> Grading {
    Grading::fading(GradedValue::Thickness, Given::Added, [from], [more, 0.0], reach)
}
