//! Values that change from place to place, on meshes as they leave.

use glam::DVec3;
use proptest::prelude::*;
use ulmix_check::Verdict;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality};
use ulmix_core::watch::Unwatched;
use ulmix_field::numeric::low_discrepancy;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::grading::{
    Given, GradedValue, Grading, GradingSource, Source, SourceRule, ValueCurve, ValuePoint,
};
use ulmix_recipe::{
    CellKind, ExtrudedKind, FoamKind, Form, Kind, Pattern, Recipe, SeededKind, SurfaceKind, Thicken,
};

fn block(x: f64) -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(x, 24.0, 24.0))).unwrap()
}

fn recipe(part: &Part, kind: Kind, cell: f64) -> Recipe {
    in_form(part, kind, Form::Walls, cell)
}

/// A recipe of a kind; of a surface in one of its forms.
fn in_form(part: &Part, kind: Kind, form: Form, cell: f64) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    if let Pattern::Surface(p) = &mut r.structure.pattern {
        p.form = form;
    }
    r.structure.cell_mm = [cell; 3];
    r.thicken = Thicken::Thickness { thickness_mm: 1.2 };
    r
}

/// Along x, from the part's face at 0.
fn along_x(points: &[[f64; 2]], smooth: bool) -> GradingSource {
    let from = Source::Direction { from_mm: [0.0; 3], along: [1.0, 0.0, 0.0] };
    GradingSource::new(from, ValueCurve { points: points.to_vec(), smooth })
}

fn thickness(sources: Vec<GradingSource>) -> Grading {
    Grading::new(1, GradedValue::Thickness, sources)
}

fn run(part: &Part, r: &Recipe, quality: Quality) -> Outcome {
    Pipeline::new(0).run(part, r, quality, &Unwatched).unwrap_or_else(|e| panic!("{e:?}"))
}

fn sound(o: &Outcome, what: &str) {
    let t = Topology::of(&o.solid.mesh);
    let broken = [t.open_edges, t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices];
    assert_eq!(broken, [0; 4], "{what}");
}

fn no_check_fails(o: &Outcome, what: &str) {
    let checks = o.report.checks.as_ref().unwrap();
    let failed: Vec<_> = checks.iter().filter(|c| c.verdict == Verdict::Fail).collect();
    assert!(failed.is_empty(), "{what}: {failed:?}");
}

fn gauge_passes(o: &Outcome, what: &str) {
    let checks = o.report.checks.as_ref().unwrap();
    let gauge = checks.iter().find(|c| c.id == "thickness").unwrap();
    assert!(gauge.verdict == Verdict::Pass, "{what}: {gauge:?}");
}

/// What is estimated without a mesh is what is there.
fn is_as_dense_as_estimated(o: &Outcome, what: &str) {
    let (got, estimated) = (o.report.fill_density_percent, o.linked.fill.density_percent);
    assert!((got - estimated).abs() < 1.0, "{what}: {got} for {estimated}");
}

fn inside(o: &Outcome) -> SignedDistance {
    SignedDistance::new(&o.solid.mesh, &Topology::of(&o.solid.mesh))
}

/// Solid share between two places along x. Percent.
fn share(solid: &SignedDistance, [low, high]: [f64; 2]) -> f64 {
    const N: u64 = 30_000;
    let place =
        |i| DVec3::new(low, 0.0, 0.0) + low_discrepancy(i) * DVec3::new(high - low, 24.0, 24.0);
    100.0 * (1..=N).filter(|i| solid.inside(place(*i))).count() as f64 / N as f64
}

/// Kinds of every family, with a cell size that leaves room for walls of 2 mm.
fn families() -> Vec<(Kind, Form, f64)> {
    let gyroid = Kind::Surface(SurfaceKind::Gyroid);
    vec![
        (gyroid, Form::Walls, 12.0),
        (gyroid, Form::Network, 12.0),
        (Kind::Cell(CellKind::BodyCentred), Form::Walls, 12.0),
        (Kind::Extruded(ExtrudedKind::Hexagons), Form::Walls, 10.0),
        (Kind::Seeded(SeededKind::Voronoi), Form::Walls, 10.0),
        (Kind::Seeded(SeededKind::VoronoiWalls), Form::Walls, 10.0),
        (Kind::Foam(FoamKind::FoamSheet), Form::Walls, 12.0),
    ]
}

#[test]
fn thickness_is_true_at_both_ends_and_between_in_every_family() {
    let part = block(60.0);
    for (kind, form, cell) in families() {
        let mut r = in_form(&part, kind, form, cell);
        r.gradings = vec![thickness(vec![along_x(&[[5.0, 2.0], [55.0, 0.9]], false)])];
        let o = run(&part, &r, Quality::Final);
        let what = format!("{kind:?} {form:?}");
        sound(&o, &what);
        let [least, most] = o.linked.fill.thickness_range_mm.expect("graded");
        assert!((least - 0.9).abs() < 1e-6 && (most - 2.0).abs() < 1e-6, "{what}");
        no_check_fails(&o, &what);
        gauge_passes(&o, &what);
        // What is estimated without a mesh is what is there, and the thick end holds more.
        is_as_dense_as_estimated(&o, &what);
        let solid = inside(&o);
        let (thick, thin) = (share(&solid, [0.0, 15.0]), share(&solid, [45.0, 60.0]));
        assert!(thick > 1.5 * thin, "{what}: {thick} {thin}");
    }
}

#[test]
fn values_in_percent_follow_a_density_that_is_asked_for() {
    let part = block(60.0);
    let kind = Kind::Surface(SurfaceKind::Gyroid);
    for percent in [15.0, 28.0] {
        let mut r = recipe(&part, kind, 12.0);
        r.thicken = Thicken::RelativeDensity { percent };
        let source = along_x(&[[0.0, 150.0], [60.0, 60.0]], true);
        r.gradings = vec![Grading { given: Given::Percent, ..thickness(vec![source]) }];
        let o = run(&part, &r, Quality::Final);
        sound(&o, "percent");
        let got = o.report.fill_density_percent;
        assert!((got - percent).abs() < 1.0, "{got} for {percent}");
    }
}

#[test]
fn a_thickness_that_falls_to_nothing_ends_and_leaves_what_is_thicker_whole() {
    let part = block(60.0);
    for kind in [Kind::Surface(SurfaceKind::Gyroid), Kind::Cell(CellKind::Cubic)] {
        let mut r = recipe(&part, kind, 12.0);
        let source = along_x(&[[20.0, 1.6], [50.0, 0.0]], false);
        r.gradings = vec![Grading { ends_mm: 0.6, ..thickness(vec![source]) }];
        for quality in [Quality::Draft, Quality::Final] {
            let o = run(&part, &r, quality);
            sound(&o, "ends");
            let most = o.solid.mesh.bounds().max.x;
            // Members are thinner than 0.6 mm beyond x = 38.75.
            assert!((36.0..42.0).contains(&most), "{kind:?} {quality:?}: {most}");
            if quality == Quality::Final {
                let pieces = Topology::of(&o.solid.mesh).components;
                assert_eq!(pieces, 1, "{kind:?}");
            }
        }
    }
}

#[test]
fn cells_have_the_size_that_is_asked_at_each_place() {
    let part = block(80.0);
    for kind in [SeededKind::Voronoi, SeededKind::VoronoiWalls] {
        let mut r = recipe(&part, Kind::Seeded(kind), 8.0);
        r.thicken = Thicken::Thickness { thickness_mm: 0.6 };
        let asked = |x: f64| 3.0 + 6.0 * (x / 80.0);
        let source = along_x(&[[0.0, asked(0.0)], [80.0, asked(80.0)]], false);
        r.gradings = vec![Grading::new(1, GradedValue::CellSize, vec![source])];
        let cells = Pipeline::new(0).seed_cells(&part, &r, None, &Unwatched).unwrap();
        // The size of the cells in slabs, from the number of their points.
        let slabs = 8;
        let sizes: Vec<[f64; 2]> = (0..slabs)
            .map(|n| {
                let [low, high] = [n, n + 1].map(|n| 80.0 * n as f64 / slabs as f64);
                let held = cells.points.iter().filter(|p| (low..high).contains(&p.x)).count();
                let size = ((high - low) * 24.0 * 24.0 / held as f64).cbrt();
                [asked(0.5 * (low + high)), size]
            })
            .collect();
        assert!(correlation(&sizes) > 0.95, "{kind:?}: {sizes:?}");
        for [asked, size] in sizes {
            assert!((size / asked - 1.0).abs() < 0.15, "{kind:?}: {size} for {asked}");
        }
    }
}

/// Cells that double along the part, of a kind.
fn doubling(part: &Part, kind: Kind, form: Form) -> Recipe {
    let mut r = in_form(part, kind, form, 10.0);
    r.thicken = Thicken::Thickness { thickness_mm: 1.0 };
    r.gradings = vec![Grading::new(1, GradedValue::CellSize, vec![cells_along_x()])];
    r
}

fn cells_along_x() -> GradingSource {
    along_x(&[[0.0, 6.0], [80.0, 12.0]], false)
}

#[test]
fn cells_that_repeat_double_along_a_part_and_keep_their_thickness() {
    let part = block(80.0);
    let kinds = [
        (Kind::Surface(SurfaceKind::Gyroid), Form::Walls),
        (Kind::Surface(SurfaceKind::Gyroid), Form::Network),
        (Kind::Cell(CellKind::BodyCentred), Form::Walls),
        (Kind::Cell(CellKind::Kelvin), Form::Walls),
        (Kind::Extruded(ExtrudedKind::Hexagons), Form::Walls),
    ];
    for (kind, form) in kinds {
        let what = format!("{kind:?} {form:?}");
        let r = doubling(&part, kind, form);
        let o = run(&part, &r, Quality::Final);
        sound(&o, &what);
        let fit = o.linked.fill.structure.as_ref().and_then(|f| f.sizes).expect("graded");
        assert!(fit.off_percent < 10.0 && fit.beyond_percent < 5.0, "{what}: {fit:?}");
        no_check_fails(&o, &what);
        gauge_passes(&o, &what);
        is_as_dense_as_estimated(&o, &what);
        assert_eq!(Topology::of(&o.solid.mesh).components, 1, "{what}");
    }
}

/// The area of a gyroid in a cell is 3.09 squares of its side (Schoen 1970): walls of a thickness
/// hold 3.09 times that over the size of cells, which tells the size from the mesh alone.
#[test]
fn the_size_of_gyroid_cells_is_told_by_what_walls_hold() {
    let part = block(80.0);
    let mut r = doubling(&part, Kind::Surface(SurfaceKind::Gyroid), Form::Walls);
    r.thicken = Thicken::Thickness { thickness_mm: 0.8 };
    r.mesh.step_mm = Some(0.25);
    let solid = inside(&run(&part, &r, Quality::Final));
    for n in 0..4 {
        let [low, high] = [n, n + 1].map(|n| 20.0 * n as f64);
        let asked = 6.0 + 6.0 * 0.5 * (low + high) / 80.0;
        let size = 3.09 * 0.8 / (share(&solid, [low, high]) / 100.0);
        assert!((size / asked - 1.0).abs() < 0.06, "{size} for {asked}");
    }
}

/// Every node of a cubic lattice away from the surface holds six struts, however cells grow.
#[test]
fn struts_meet_at_every_node_where_cells_grow() {
    let part = block(80.0);
    let r = doubling(&part, Kind::Cell(CellKind::Cubic), Form::Walls);
    let (skeleton, _) = Pipeline::new(0).skeleton(&part, &r, None, &Unwatched).unwrap().unwrap();
    let mut degree = vec![0; skeleton.nodes.len()];
    skeleton.struts.iter().flatten().for_each(|n| degree[*n as usize] += 1);
    let mut seen = 0;
    for (p, degree) in skeleton.nodes.iter().zip(degree) {
        let depth = p.min(DVec3::new(80.0, 24.0, 24.0) - *p).min_element();
        if depth > 0.0 {
            assert_eq!(degree, 6, "{p}");
            seen += 1;
        }
    }
    assert!(seen > 60, "{seen}");
    // Neighbours are as far apart as cells are large there.
    let mut off: Vec<f64> = skeleton
        .struts
        .iter()
        .map(|s| s.map(|n| skeleton.nodes[n as usize]))
        .filter(|[a, b]| part.distance.inside(*a) && part.distance.inside(*b))
        .map(|[a, b]| (a.distance(b) / (6.0 + 6.0 * 0.5 * (a.x + b.x) / 80.0) - 1.0).abs())
        .collect();
    off.sort_by(f64::total_cmp);
    assert!(off[off.len() * 95 / 100] < 0.1, "{}", off[off.len() * 95 / 100]);
}

#[test]
fn more_cells_than_can_be_laid_are_refused_and_those_that_lack_their_size_are_told() {
    let part = block(80.0);
    let mut r = doubling(&part, Kind::Cell(CellKind::Cubic), Form::Walls);
    r.thicken = Thicken::Thickness { thickness_mm: 0.1 };
    r.gradings[0].sources = vec![along_x(&[[0.0, 0.4], [80.0, 1.0]], false)];
    let refused =
        Pipeline::new(0).run(&part, &r, Quality::Draft, &Unwatched).err().expect("refused");
    assert!(format!("{refused:?}").contains("TooManyGradedCells"), "{refused:?}");
    // From 4 to 12 mm within 8 mm: no cells can do that, and the place is told.
    let mut r = doubling(&part, Kind::Surface(SurfaceKind::Gyroid), Form::Walls);
    r.gradings[0].sources = vec![along_x(&[[36.0, 4.0], [44.0, 12.0]], false)];
    let o = run(&part, &r, Quality::Draft);
    let note = o.report.notes.iter().find(|n| n.text.contains("a tenth larger")).expect("told");
    assert!(part.distance.inside(note.place_mm.unwrap().into()));
    sound(&o, "torn apart");
}

#[test]
fn sources_that_the_part_does_not_have_are_told() {
    let part = block(40.0);
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 10.0);
    let curve = ValueCurve::smooth([0.0, 2.0], [9.0, 1.0]);
    let gone = GradingSource::new(Source::Zone { id: 9 }, curve);
    r.gradings = vec![thickness(vec![along_x(&[[0.0, 1.0], [9.0, 2.0]], true), gone])];
    let o = run(&part, &r, Quality::Draft);
    let [lost] = &o.linked.lost_sources[..] else { panic!("{:?}", o.linked.lost_sources) };
    assert_eq!((lost.zone, lost.source, lost.faces), (None, 1, 0));
    assert!(o.report.notes.iter().any(|n| n.text.contains("a zone that is gone")));
}

#[test]
fn cells_and_walls_are_graded_together_in_every_family_that_repeats() {
    let part = block(60.0);
    for (kind, form, _) in [0, 2].map(|n| families()[n]) {
        let mut r = doubling(&part, kind, form);
        r.gradings
            .push(Grading { id: 2, ..thickness(vec![along_x(&[[0.0, 0.8], [60.0, 1.8]], true)]) });
        let o = run(&part, &r, Quality::Final);
        let what = format!("{kind:?} {form:?}");
        sound(&o, &what);
        gauge_passes(&o, &what);
    }
}

fn correlation(pairs: &[[f64; 2]]) -> f64 {
    let n = pairs.len() as f64;
    let mean = |i: usize| pairs.iter().map(|p| p[i]).sum::<f64>() / n;
    let (a, b) = (mean(0), mean(1));
    let sum = |f: &dyn Fn(&[f64; 2]) -> f64| pairs.iter().map(f).sum::<f64>();
    sum(&|p| (p[0] - a) * (p[1] - b))
        / (sum(&|p| (p[0] - a).powi(2)) * sum(&|p| (p[1] - b).powi(2))).sqrt()
}

#[test]
fn nothing_is_graded_without_a_source_or_where_the_kind_has_no_use_for_it() {
    let part = block(40.0);
    let r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 10.0);
    let plain = run(&part, &r, Quality::Draft);
    let of = |gradings: Vec<Grading>| run(&part, &Recipe { gradings, ..r.clone() }, Quality::Draft);
    let points = |o: &Outcome| o.solid.mesh.points.clone();
    assert_eq!(points(&of(vec![thickness(Vec::new())])), points(&plain));
    // A zone that is not there gives nothing.
    let curve = ValueCurve::smooth([0.0, 2.0], [9.0, 1.0]);
    let gone = GradingSource::new(Source::Zone { id: 9 }, curve);
    assert_eq!(points(&of(vec![thickness(vec![gone])])), points(&plain));
}

fn any_source() -> impl Strategy<Value = GradingSource> {
    let place = prop::array::uniform3(-4.0..30.0f64);
    let value = 0.5..2.0f64;
    let points = prop::collection::vec((place.clone(), value.clone()), 1..5).prop_map(|points| {
        let point = |(place_mm, value)| ValuePoint { place_mm, value };
        let points = points.into_iter().map(point).collect();
        GradingSource { from: Source::Points { points }, curve: None, weight: 1.0 }
    });
    let along = prop::array::uniform3(0.1..1.0f64);
    let from = prop_oneof![
        Just(Source::Surface),
        (place.clone(), along.clone())
            .prop_map(|(from_mm, along)| Source::Direction { from_mm, along }),
        (place.clone(), along).prop_map(|(through_mm, along)| Source::Axis { through_mm, along }),
        prop::collection::vec(place, 2..4).prop_map(|points_mm| Source::Line { points_mm }),
    ];
    let steps = prop::collection::vec((1.0..12.0f64, value), 1..4);
    let curved = (from, steps, any::<bool>()).prop_map(|(from, steps, smooth)| {
        let mut x = -2.0;
        let point = |(step, v): (f64, f64)| {
            x += step;
            [x, v]
        };
        GradingSource::new(
            from,
            ValueCurve { points: steps.into_iter().map(point).collect(), smooth },
        )
    });
    prop_oneof![points, curved]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]

    #[test]
    fn every_kind_is_closed_and_manifold_under_any_grading(
        family in 0usize..7,
        sources in prop::collection::vec(any_source(), 1..3),
        rule in prop::sample::select(vec![SourceRule::Least, SourceRule::Greatest, SourceRule::Mean]),
        ends_mm in prop_oneof![Just(0.0), 0.6..1.2f64],
        cells in prop::option::of(any_source()),
    ) {
        let part = block(26.0);
        let (kind, form, cell) = families()[family];
        let mut r = in_form(&part, kind, form, cell);
        r.gradings = vec![Grading { rule, ends_mm, ..thickness(sources) }];
        if let Some(source) = cells {
            let grading = Grading::new(2, GradedValue::CellSize, vec![source]);
            r.gradings.push(Grading { given: Given::Added, ..grading });
        }
        r.mesh.step_mm = Some(0.4);
        for quality in [Quality::Draft, Quality::Final] {
            let o = run(&part, &r, quality);
            let t = Topology::of(&o.solid.mesh);
            prop_assert!(o.solid.mesh.triangles.is_empty() || t.sound());
        }
    }
}

#[test]
fn the_density_that_is_asked_is_there_at_every_place_in_every_family() {
    let part = block(80.0);
    let asked = |x: f64| 15.0 + 20.0 * x / 80.0;
    for (kind, form, _) in [0, 2, 3, 4, 6].map(|n| families()[n]) {
        let what = format!("{kind:?} {form:?}");
        let mut r = in_form(&part, kind, form, 10.0);
        let source = along_x(&[[0.0, asked(0.0)], [80.0, asked(80.0)]], false);
        r.gradings = vec![Grading::new(1, GradedValue::Density, vec![source])];
        r.mesh.step_mm = Some(0.3);
        let o = run(&part, &r, Quality::Final);
        sound(&o, &what);
        let solid = inside(&o);
        // In slabs of two cells.
        let off: Vec<f64> = (0..4)
            .map(|n| {
                let [low, high] = [n, n + 1].map(|n| 20.0 * n as f64);
                share(&solid, [low, high]) - asked(0.5 * (low + high))
            })
            .collect();
        assert!(off.iter().all(|off| off.abs() < 2.0), "{what}: {off:?}");
        is_as_dense_as_estimated(&o, &what);
        // The report finds the same in windows of its own.
        let windows = &o.report.density_windows[0];
        assert!(windows.len() >= 6, "{what}: {}", windows.len());
        let checks = o.report.checks.as_ref().unwrap();
        let by_place = checks.iter().find(|c| c.id == "density_by_place").unwrap();
        assert!(by_place.verdict != Verdict::Fail, "{what}: {by_place:?}");
    }
}

/// Where cells grow, members grow with them, so that the density is what is asked.
#[test]
fn a_density_is_kept_while_cells_double() {
    let part = block(80.0);
    for (kind, form, _) in [0, 2].map(|n| families()[n]) {
        let mut r = doubling(&part, kind, form);
        let even = along_x(&[[0.0, 22.0]], false);
        r.gradings.push(Grading { id: 2, ..Grading::new(2, GradedValue::Density, vec![even]) });
        let o = run(&part, &r, Quality::Final);
        sound(&o, "even");
        let solid = inside(&o);
        for n in 0..4 {
            let found = share(&solid, [20.0 * n as f64, 20.0 * (n + 1) as f64]);
            assert!((found - 22.0).abs() < 2.0, "{kind:?} {form:?}: {found}");
        }
    }
}
