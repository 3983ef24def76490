//! What is estimated of a final mesh, against what comes out.

mod patterns;

use glam::DVec3;
use patterns::set_form;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_mesh::TriMesh;
use ulmix_part::Part;
use ulmix_recipe::{
    CellKind, ExtrudedKind, Form, Kind, Place, Recipe, Role, SeededKind, Skin, SurfaceKind,
    Thicken, Zone,
};

/// A tube of facets, which walls meet at many angles.
fn tube(outer: f64, inner: f64, length: f64) -> TriMesh {
    const SIDES: usize = 48;
    let point = |n: usize| {
        let (ring, side) = (n / SIDES, n % SIDES);
        let angle = std::f64::consts::TAU * side as f64 / SIDES as f64;
        let radius = if ring < 2 { outer } else { inner };
        DVec3::new(
            radius * angle.cos(),
            radius * angle.sin(),
            if ring == 1 || ring == 2 { length } else { 0.0 },
        )
    };
    // Outside up, the top inward, inside down, the bottom outward.
    let band = |ring: usize| {
        (0..SIDES).flat_map(move |s| {
            let at = |r: usize, s: usize| (r % 4 * SIDES + s % SIDES) as u32;
            let [a, b, c, d] = [at(ring, s), at(ring, s + 1), at(ring + 1, s + 1), at(ring + 1, s)];
            [[a, b, c], [a, c, d]]
        })
    };
    TriMesh {
        points: (0..4 * SIDES).map(point).collect(),
        triangles: (0..4).flat_map(band).collect(),
    }
}

fn recipe(part: &Part, kind: Kind, form: Form, cell: f64, thickness_mm: f64) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    set_form(&mut r, form);
    r.structure.cell_mm = [cell; 3];
    r.thicken = Thicken::Thickness { thickness_mm };
    r
}

fn run(part: &Part, recipe: &Recipe) -> Outcome {
    Pipeline::new(0).run(part, recipe, Quality::Final, &Unwatched).unwrap()
}

/// Triangles over those estimated, before reduction and after.
fn over_estimated(part: &Part, recipe: &Recipe) -> [f64; 2] {
    let estimated = Pipeline::new(0).cost(part, recipe, &Unwatched).unwrap();
    let o = run(part, recipe);
    [
        o.solid.raw_triangles as f64 / estimated.raw_triangles as f64,
        o.report.triangles as f64 / estimated.triangles as f64,
    ]
}

#[test]
fn triangles_of_every_sort_of_structure_are_foreseen_within_a_quarter() {
    let tube = Part::prepare(&tube(20.0, 12.0, 36.0)).unwrap();
    let block = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(40.0, 30.0, 24.0))).unwrap();
    let ball = Part::prepare(&TriMesh::sphere(18.0, 5)).unwrap();
    for (part, kind, form, cell, thickness) in [
        (&tube, Kind::Extruded(ExtrudedKind::Hexagons), Form::Walls, 8.0, 1.2),
        (&tube, Kind::Seeded(SeededKind::VoronoiWalls), Form::Walls, 9.0, 1.2),
        (&tube, Kind::Cell(CellKind::BodyCentred), Form::Network, 8.0, 1.2),
        (&block, Kind::Surface(SurfaceKind::Gyroid), Form::Walls, 10.0, 1.0),
        (&block, Kind::Extruded(ExtrudedKind::Triangles), Form::Walls, 9.0, 1.0),
        (&ball, Kind::Seeded(SeededKind::Voronoi), Form::Network, 8.0, 1.4),
        (&ball, Kind::Surface(SurfaceKind::SchwarzP), Form::Network, 10.0, 3.0),
    ] {
        let [raw, left] = over_estimated(part, &recipe(part, kind, form, cell, thickness));
        assert!(
            (0.8..1.25).contains(&raw) && (0.75..1.33).contains(&left),
            "{kind:?}: {raw} before reduction, {left} after"
        );
    }
}

#[test]
fn triangles_beside_solids_skins_and_other_errors_are_foreseen_too() {
    let part = Part::prepare(&tube(20.0, 11.0, 40.0)).unwrap();
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), Form::Walls, 9.0, 1.2);
    r.zones.list = vec![Zone {
        id: 1,
        name: "Foot".into(),
        role: Role::KeepSolid,
        place: Place::Box {
            centre_mm: [0.0, 0.0, 4.0],
            size_mm: [60.0, 60.0, 8.0],
            rotation_deg: [0.0; 3],
        },
        own: None,
    }];
    r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 1.0 }];
    for reduce_mm in [0.0, 0.004, 0.05] {
        r.mesh.reduce_mm = reduce_mm;
        let [raw, left] = over_estimated(&part, &r);
        assert!(
            (0.8..1.25).contains(&raw) && (0.75..1.33).contains(&left),
            "{reduce_mm} mm: {raw}, {left}"
        );
    }
}

#[test]
fn while_a_value_moves_the_blocks_of_where_it_rested_count() {
    let part = Part::prepare(&tube(20.0, 12.0, 36.0)).unwrap();
    let of = |thickness: f64| {
        recipe(&part, Kind::Extruded(ExtrudedKind::Hexagons), Form::Walls, 8.0, thickness)
    };
    let dragged = |pipeline: &Pipeline, thickness: f64| {
        pipeline.run(&part, &of(thickness), Quality::Drag, &Unwatched).unwrap().cost.triangles
            as f64
    };
    let rested = Pipeline::new(64 << 20);
    let at_rest = rested.cost(&part, &of(1.2), &Unwatched).unwrap();
    // At the same value nothing changes, and beside it the figure follows without new blocks.
    assert_eq!(dragged(&rested, 1.2), at_rest.triangles as f64);
    let truth = Pipeline::new(0).cost(&part, &of(1.3), &Unwatched).unwrap().triangles as f64;
    let (known, by_laws) = (dragged(&rested, 1.3), dragged(&Pipeline::new(64 << 20), 1.3));
    assert!((known / truth - 1.0).abs() < 0.2, "{known} for {truth}");
    assert!(
        (known / truth).ln().abs() < (by_laws / truth).ln().abs(),
        "{by_laws} by laws, {known} for {truth}"
    );
}

#[test]
fn a_part_without_lattice_and_one_that_is_all_cleared_are_foreseen() {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(30.0))).unwrap();
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), Form::Walls, 10.0, 1.0);
    r.zones.rest = Role::KeepSolid;
    r.mesh.step_mm = Some(0.5);
    let estimated = Pipeline::new(0).cost(&part, &r, &Unwatched).unwrap();
    // Faces along the grid cut one edge of it a square: two triangles.
    let faces = 6.0 * 900.0 / 0.25 * 2.0;
    assert!(
        (estimated.raw_triangles as f64 / faces - 1.0).abs() < 0.06,
        "{} for {faces}",
        estimated.raw_triangles
    );
    assert!(estimated.triangles < estimated.raw_triangles / 8, "{}", estimated.triangles);
}
