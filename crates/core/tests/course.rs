//! What people rely on of strut cells in rows that bend: whole cells from rim to rim, at the places
//! they should have.

use glam::{DQuat, DVec3};
use ulmix_check::Verdict;
use ulmix_core::pipeline::{Pipeline, Quality, RunError, Unwatched};
use ulmix_mesh::TriMesh;
use ulmix_part::own_shapes;
use ulmix_part::{mark, Part};
use ulmix_recipe::{
    BentRows, CellKind, CellPattern, CleanUp, Course, FaceMark, Kind, OwnShape, Pattern, Recipe,
    Structure, Thicken,
};

const ROUND: Course = Course::Polar { about: None, counts: [2, 12, 3] };

/// Bore 20, diameter 40, height 30, its axis along z.
fn tube() -> TriMesh {
    own_shapes::mesh(&OwnShape::Tube { diameter_mm: 40.0, bore_mm: 20.0, height_mm: 30.0 })
}

fn recipe(part: &Part, kind: CellKind, course: Course) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    let rows = Some(BentRows { course, clean: CleanUp::default() });
    let pattern = Pattern::Cell(CellPattern { cell: kind, rows });
    r.structure = Structure { pattern, cell_mm: [5.0; 3], ..Structure::default() };
    r.thicken = Thicken::Thickness { thickness_mm: 1.0 };
    r
}

fn struts(part: &Part, r: &Recipe) -> Vec<[DVec3; 2]> {
    let (net, _) = Pipeline::new(0).skeleton(part, r, None, &Unwatched).unwrap().unwrap();
    net.struts.iter().map(|e| net.ends(*e)).collect()
}

/// The bore's facets lie 0.005 mm nearer to the axis than its corners.
fn is_one_of(v: f64, values: &[f64]) -> bool {
    values.iter().any(|w| (v - w).abs() < 0.01)
}

#[test]
fn whole_cells_go_round_a_tube_however_it_lies() {
    let turn = DQuat::from_euler(glam::EulerRot::XYZ, 0.7, -0.4, 1.1);
    let away = DVec3::new(40.0, -7.0, 12.0);
    for (turn, away) in [(DQuat::IDENTITY, DVec3::ZERO), (turn, away)] {
        let part = Part::prepare(&tube().mapped(|p| turn * p + away)).unwrap();
        let found = struts(&part, &recipe(&part, CellKind::Cubic, ROUND));
        // Outward, round and along the axis.
        assert_eq!(found.len(), 2 * 12 * 4 + 3 * 12 * 4 + 3 * 12 * 3);
        let low = tube().bounds().min.z;
        for p in found.as_flattened() {
            let p = turn.inverse() * (*p - away);
            let (r, z) = (p.x.hypot(p.y), p.z - low);
            assert!(
                is_one_of(r, &[10.0, 15.0, 20.0]) && is_one_of(z, &[0.0, 10.0, 20.0, 30.0]),
                "{p}"
            );
        }
    }
}

#[test]
fn counts_that_nobody_gave_come_nearest_to_the_cell_size() {
    let part = Part::prepare(&tube()).unwrap();
    let r = recipe(&part, CellKind::BodyCentred, Course::Polar { about: None, counts: [0, 0, 4] });
    let o = Pipeline::new(0).run(&part, &r, Quality::Draft, &Unwatched).unwrap();
    // 10 mm outward, 94 mm round the middle.
    assert_eq!(o.linked.fill.structure.unwrap().rows, Some([2, 19, 4]));
}

#[test]
fn rows_around_an_axis_in_the_material_end_there_and_everything_closes() {
    let part = Part::prepare(&own_shapes::mesh(&OwnShape::Cylinder {
        diameter_mm: 30.0,
        height_mm: 20.0,
        sheet: false,
    }))
    .unwrap();
    for kind in [CellKind::Cubic, CellKind::Octet, CellKind::Kelvin] {
        let r = recipe(&part, kind, Course::Polar { about: None, counts: [3, 16, 4] });
        let shortest =
            struts(&part, &r).iter().map(|[a, b]| a.distance(*b)).fold(f64::INFINITY, f64::min);
        assert!(shortest > 0.3, "{kind:?}: {shortest}");
        let o = Pipeline::new(0).run(&part, &r, Quality::Final, &Unwatched).unwrap();
        let failed: Vec<_> =
            o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
        assert!(failed.is_empty(), "{kind:?}: {failed:?}");
        let (got, estimated) = (o.report.fill_density_percent, o.linked.fill.density_percent);
        assert!((got - estimated).abs() < 1.0, "{kind:?}: {got} for {estimated}");
    }
}

/// A block with a slanted top: its height is 10 mm at x = 0 and 22 mm at x = 36.
fn wedge() -> (Part, Vec<FaceMark>, Vec<FaceMark>) {
    let block = TriMesh::cuboid(DVec3::ZERO, DVec3::new(36.0, 20.0, 10.0));
    let part =
        Part::prepare(&block.mapped(|p| p + DVec3::Z * if p.z > 5.0 { p.x / 3.0 } else { 0.0 }))
            .unwrap();
    let facing = |up: f64| {
        let looks = part.faces().list.iter().filter(|f| f.direction.z * up > 0.9);
        looks.map(mark).collect::<Vec<_>>()
    };
    let (low, high) = (facing(-1.0), facing(1.0));
    assert_eq!((low.len(), high.len()), (1, 1));
    (part, low, high)
}

#[test]
fn whole_cells_meet_both_of_two_faces_that_are_not_parallel() {
    let (part, from, to) = wedge();
    let r = recipe(&part, CellKind::BodyCentred, Course::Between { from, to, layers: 3 });
    let found = struts(&part, &r);
    let ends = found.as_flattened();
    // In layers: nodes lie at sixths of the way, and on both faces.
    let share = |p: &DVec3| p.z / (10.0 + p.x / 3.0);
    assert!(ends.iter().all(|p| (share(p) * 6.0 - (share(p) * 6.0).round()).abs() < 1e-6));
    for rim in [0.0, 1.0] {
        assert!(ends.iter().filter(|p| (share(p) - rim).abs() < 1e-6).count() > 50);
    }
    let o = Pipeline::new(0).run(&part, &r, Quality::Final, &Unwatched).unwrap();
    assert!(o.report.checks.iter().flatten().all(|c| c.verdict != Verdict::Fail));
    assert_eq!(o.linked.fill.structure.unwrap().rows.unwrap()[2], 3);
}

#[test]
fn without_faces_rows_run_from_the_lowest_to_the_highest_place() {
    let (part, ..) = wedge();
    let found = struts(
        &part,
        &recipe(&part, CellKind::Cubic, Course::Between { from: vec![], to: vec![], layers: 11 }),
    );
    assert!(found.as_flattened().iter().all(|p| (p.z / 2.0 - (p.z / 2.0).round()).abs() < 1e-6));
}

#[test]
fn too_many_cells_and_rows_of_two_are_refused_in_words() {
    let part = Part::prepare(&tube()).unwrap();
    let refused = |counts: [u32; 3]| {
        let r = recipe(&part, CellKind::Octet, Course::Polar { about: None, counts });
        match Pipeline::new(0).run(&part, &r, Quality::Draft, &Unwatched) {
            Err(RunError::Recipe(e)) => e.message(),
            _ => panic!("{counts:?} was not refused"),
        }
    };
    assert!(refused([40, 400, 40]).contains("640000 cells"));
    assert!(refused([2, 2, 2]).contains("do not go round"));
    assert!(refused([0, 5000, 0]).contains("5000"));
}

#[test]
fn recipes_of_straight_rows_stay_as_they_were() {
    let straight = Structure::of_kind(Kind::Cell(CellKind::Cubic));
    let written = serde_json::to_value(straight).unwrap();
    assert!(written["pattern"].get("rows").is_none());
    let rows = Some(BentRows { course: ROUND, clean: CleanUp::default() });
    let pattern = Pattern::Cell(CellPattern { cell: CellKind::Cubic, rows });
    let bent = Structure { pattern, ..Structure::default() };
    let text = serde_json::to_string(&bent).unwrap();
    assert_eq!(serde_json::from_str::<Structure>(&text).unwrap(), bent);
    assert!(serde_json::from_str::<Structure>(&text.replace("\"counts\"", "\"count\"")).is_err());
}
