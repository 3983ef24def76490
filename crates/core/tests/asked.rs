//! Each promise of a recipe, kept and broken: the final mesh held against what was asked.

mod patterns;

use glam::DVec3;
use patterns::{clean, seeds, set_form, set_struts};
use ulmix_check::{worst, Check, CheckGroup, Verdict};
use ulmix_core::pipeline::judge::FileMesh;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, RunError, Unwatched};
use ulmix_lattice::clean::StrutState;
use ulmix_mesh::{Topology, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::{
    CellKind, ExtrudedKind, Form, Joins, Kind, Layout, OwnFill, OwnStruts, Place, PlanarKind,
    Recipe, Role, SeededKind, Skin, Stand, StrutSection, SurfaceKind, Thicken, Zone,
};

fn run(part: &Part, recipe: &Recipe) -> Outcome {
    Pipeline::new(0).run(part, recipe, Quality::Final, &Unwatched).unwrap()
}

fn block(size: DVec3) -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, size)).unwrap()
}

fn recipe(part: &Part, kind: Kind, cell: f64, thickness_mm: f64) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    r.structure.cell_mm = [cell; 3];
    r.thicken = Thicken::Thickness { thickness_mm };
    r
}

fn check<'a>(o: &'a Outcome, id: &str) -> &'a Check {
    let checks = o.report.checks.as_ref().unwrap();
    checks.iter().find(|c| c.id == id).unwrap_or_else(|| panic!("no check {id} among {checks:#?}"))
}

/// Struts by the places of their ends. mm.
fn own_struts(struts: impl IntoIterator<Item = [[f64; 3]; 2]>) -> OwnStruts {
    let nodes_mm: Vec<[f64; 3]> = struts.into_iter().flatten().collect();
    let struts = (0..nodes_mm.len() as u32 / 2).map(|n| [2 * n, 2 * n + 1]).collect();
    OwnStruts { name: "given".into(), nodes_mm, struts }
}

/// Measured over asked.
fn gauged(o: &Outcome) -> f64 {
    let g = o.report.gauged[0].expect("something is measured");
    g.median_mm / g.asked_mm
}

#[test]
fn struts_of_every_cell_measure_what_was_asked() {
    use CellKind::*;
    for kind in
        [Cubic, BodyCentred, FaceCentred, Octet, Kelvin, Diamond, RhombicDodecahedron, ReEntrant]
    {
        let part = block(DVec3::splat(22.0));
        let o = run(&part, &recipe(&part, Kind::Cell(kind), 10.0, 1.0));
        // A polygon's section is within its circle: at four steps by two to four percent.
        assert!((gauged(&o) - 0.98).abs() < 0.03, "{kind:?}: {}", gauged(&o));
        assert_eq!(check(&o, "thickness").verdict, Verdict::Pass, "{kind:?}");
    }
}

#[test]
fn bars_nets_on_the_surface_necks_and_thin_plates_measure_what_was_asked() {
    let part = block(DVec3::splat(24.0));
    let mut bars = recipe(&part, Kind::Cell(CellKind::Cubic), 12.0, 1.6);
    bars.joins.section = StrutSection::Rectangular { taller_mm: 1.4, turn_deg: 20.0 };
    let bars = run(&part, &bars);
    assert!((gauged(&bars) - 1.0).abs() < 0.01, "a bar of 1.6 by 3.0 mm: {}", gauged(&bars));

    // All points on the surface: no strut is whole but where it runs inward.
    let ball = Part::prepare(&TriMesh::sphere(16.0, 5)).unwrap();
    let mut net = recipe(&ball, Kind::Seeded(SeededKind::Voronoi), 9.0, 1.0);
    patterns::net(&mut net).as_mut().unwrap().inner = false;
    net.joins.net_mm = 0.4;
    let net = run(&ball, &net);
    assert!((gauged(&net) - 0.98).abs() < 0.04, "{}", gauged(&net));

    let mut network = recipe(&part, Kind::Surface(SurfaceKind::SchwarzP), 12.0, 3.0);
    set_form(&mut network, Form::Network);
    assert!((gauged(&run(&part, &network)) - 1.0).abs() < 0.04);

    // Walls of a plate that is hardly thicker than they are.
    let plate = block(DVec3::new(40.0, 30.0, 2.0));
    let planar = Kind::Planar(PlanarKind::PlanarVoronoi);
    for kind in [Kind::Extruded(ExtrudedKind::Hexagons), planar] {
        let o = run(&plate, &recipe(&plate, kind, 8.0, 1.0));
        assert!((gauged(&o) - 1.0).abs() < 0.01, "{kind:?}: {}", gauged(&o));
    }
}

#[test]
fn the_chosen_step_sees_a_thin_skin_beside_thick_walls_and_a_coarse_one_is_told() {
    let part = Part::prepare(&TriMesh::sphere(16.0, 5)).unwrap();
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 16.0, 3.0);
    r.zones.skins = vec![Skin { id: 1, name: "Hull".into(), faces: None, depth_mm: 0.8 }];
    let o = run(&part, &r);
    assert!(o.step_mm <= 0.8 / 3.0, "{}", o.step_mm);
    for id in ["skins", "true_curved", "resolution", "density", "thickness", "reached"] {
        assert_eq!(check(&o, id).verdict, Verdict::Pass, "{:?}", check(&o, id));
    }
    r.mesh.step_mm = Some(1.0);
    let o = run(&part, &r);
    let (steps, skin) = (check(&o, "resolution"), check(&o, "skins"));
    assert_eq!((steps.verdict, steps.figure.as_str()), (Verdict::Fail, "0.8 through “Hull”"));
    assert!(steps.hint.as_ref().unwrap().contains("0.26 mm or less"), "{steps:?}");
    assert!(
        skin.value < 99.5 && skin.verdict != Verdict::Pass && skin.place_mm.is_some(),
        "{skin:?}"
    );
    assert!(
        o.report.notes.iter().any(|n| n.text.contains("“Hull”")),
        "the estimate's note is the report's: {:?}",
        o.report.notes
    );
    assert!(worst(o.report.checks.as_ref().unwrap()) == Verdict::Fail);
    // Twice as coarse is fewer than one and a half steps of the walls, too; two steps are worth a
    // look.
    r.mesh.step_mm = Some(0.4);
    assert_eq!(check(&run(&part, &r), "resolution").verdict, Verdict::Look);
}

#[test]
fn curved_faces_that_are_kept_follow_the_asked_tolerance() {
    let egg = TriMesh::sphere(14.0, 6).mapped(|p| p * DVec3::new(1.6, 1.0, 0.7));
    let part = Part::prepare(&egg).unwrap();
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 12.0, 3.0);
    r.zones.skins = vec![Skin { id: 2, name: "Skin".into(), faces: None, depth_mm: 3.0 }];
    for tolerance in [0.05, 0.015] {
        r.mesh.tolerance_mm = tolerance;
        r.mesh.reduce_mm = 0.2 * tolerance;
        let o = run(&part, &r);
        let c = check(&o, "true_curved");
        assert!(
            c.verdict == Verdict::Pass && c.value <= tolerance,
            "{tolerance} at a step of {}: {c:?}",
            o.step_mm
        );
        assert!(
            c.value > 0.1 * tolerance,
            "the step is no finer than it must be: {c:?} at {}",
            o.step_mm
        );
    }
    r.mesh.step_mm = Some(1.5);
    let o = run(&part, &r);
    assert!(
        check(&o, "true_curved").value > 0.02 && check(&o, "true_curved").verdict != Verdict::Pass
    );
}

#[test]
fn places_without_lattice_are_found() {
    let rod = block(DVec3::new(80.0, 10.0, 10.0));
    let mut r = recipe(&rod, Kind::Cell(CellKind::Cubic), 8.0, 1.2);
    let struts = (0..10).flat_map(|n| {
        let x = 2.0 + 4.0 * n as f64;
        [[[x, 0.0, 0.0], [x + 4.0, 10.0, 10.0]], [[x + 4.0, 10.0, 10.0], [x + 4.0, 0.0, 0.0]]]
    });
    set_struts(&mut r, own_struts(struts));
    let o = run(&rod, &r);
    let c = check(&o, "reached");
    assert!(c.verdict == Verdict::Fail && c.value > 25.0, "{c:?}");
    assert!(c.place_mm.unwrap()[0] > 70.0, "the empty end: {c:?}");
}

#[test]
fn bodies_of_a_lattice_that_is_apart_are_its_own() {
    let part = block(DVec3::splat(20.0));
    // Columns that stand in a solid floor, and in nothing where that is a body of its own.
    let mut r = recipe(&part, Kind::Cell(CellKind::Cubic), 6.0, 1.6);
    let columns = [4.0, 10.0, 16.0]
        .into_iter()
        .flat_map(|x| [4.0, 10.0, 16.0].map(|y| [[x, y, -1.0], [x, y, 21.0]]));
    set_struts(&mut r, own_struts(columns));
    clean(&mut r).keep_loose = true;
    let floor = Place::Box {
        centre_mm: [10.0, 10.0, 1.0],
        size_mm: [22.0, 22.0, 4.0],
        rotation_deg: [0.0; 3],
    };
    r.zones.list = vec![Zone::new(1, "Floor", Role::KeepSolid, floor)];
    assert_eq!(check(&run(&part, &r), "bodies").verdict, Verdict::Pass);
    r.mesh.apart_mm = Some(0.0);
    let o = run(&part, &r);
    let c = check(&o, "bodies");
    assert_eq!((c.verdict, c.value, c.limit.as_deref()), (Verdict::Look, 10.0, Some("2")), "{c:?}");
}

#[test]
fn removed_pieces_are_listed_with_their_places_and_much_of_them_is_told() {
    let part = block(DVec3::new(30.0, 20.0, 20.0));
    let struts = [
        [[-1.0, 10.0, 10.0], [31.0, 10.0, 10.0]],
        [[5.0, 3.0, -1.0], [5.0, 3.0, 21.0]],
        [[25.0, 17.0, -1.0], [25.0, 17.0, 21.0]],
    ];
    let mut r = recipe(&part, Kind::Cell(CellKind::Cubic), 10.0, 4.0);
    set_struts(&mut r, own_struts(struts));
    clean(&mut r).keep_loose = true;
    // A piece of a tenth of the largest is no crumb, whatever the limit.
    r.mesh.crumb_mm3 = Some(1e4);
    let o = run(&part, &r);
    assert_eq!(o.report.crumbs_removed, 0);
    assert_eq!(check(&o, "bodies").value, 3.0);
    // In percent of what holds together dust is removed, and listed.
    let lone = TriMesh::cuboid(DVec3::ZERO, DVec3::new(90.0, 40.0, 40.0));
    let part = Part::prepare(&lone).unwrap();
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 10.0, 1.0);
    r.structure.rotation_deg = [17.0, 31.0, 5.0];
    let o = run(&part, &r);
    assert!(
        o.report.crumbs_removed > 0 && o.report.crumbs.len() == o.report.crumbs_removed.min(12)
    );
    assert!(o.report.crumbs.windows(2).all(|w| w[0].volume_mm3 >= w[1].volume_mm3));
    let bounds = part.mesh.bounds().grown(0.1);
    assert!(o
        .report
        .crumbs
        .iter()
        .all(|c| bounds.distance_squared(DVec3::from(c.place_mm)) == 0.0));
    assert_eq!(check(&o, "removed").verdict, Verdict::Pass);
}

#[test]
fn a_density_that_joins_alone_exceed_is_answered_by_the_nearest_and_said() {
    let part = block(DVec3::splat(24.0));
    let mut r = recipe(&part, Kind::Cell(CellKind::Octet), 8.0, 1.0);
    r.joins = Joins { node_mm: 5.0, ..Joins::default() };
    r.thicken = Thicken::RelativeDensity { percent: 3.0 };
    let (linked, cost) = Pipeline::new(0).estimate(&part, &r, &Unwatched).unwrap();
    let least = 24.0 / 1000.0;
    assert!(
        linked.fill.thickness_mm >= 0.999 * least && cost.step_mm >= 24.0 / 4001.0,
        "{linked:?} {cost:?}"
    );
    assert!(linked.fill.density_percent > 10.0);
    r.mesh.step_mm = Some(0.25);
    let o = run(&part, &r);
    assert!(
        o.report.notes.iter().any(|n| n.text.contains("3 % cannot be reached")),
        "{:?}",
        o.report.notes
    );
    assert_ne!(check(&o, "density").verdict, Verdict::Pass);
}

#[test]
fn a_strut_as_thick_as_many_are_long_fills_no_more_than_itself() {
    let part = block(DVec3::splat(20.0));
    let mut r = recipe(&part, Kind::Cell(CellKind::Cubic), 10.0, 4.0);
    // One long strut, of which most are short: their median says little of what is between them.
    let components = (0..20).map(|n| [[10.0, 10.0, n as f64], [10.0, 10.0, n as f64 + 1.0]]);
    set_struts(&mut r, own_struts(components));
    let o = run(&part, &r);
    let column = std::f64::consts::PI * 4.0 * 20.0;
    assert!(
        (o.report.volume_mm3 / column - 1.0).abs() < 0.03,
        "{} for {column}",
        o.report.volume_mm3
    );
    assert_eq!(check(&o, "density").verdict, Verdict::Pass, "{:?}", check(&o, "density"));
    // Cells of many seed points are smaller than the recipe's.
    let mut many = recipe(&part, Kind::Seeded(SeededKind::Voronoi), 10.0, 6.0);
    seeds(&mut many).count = Some(200);
    let Err(RunError::Recipe(e)) = Pipeline::new(0).run(&part, &many, Quality::Final, &Unwatched)
    else {
        panic!("it is refused")
    };
    assert!(e.field == "thicken.thickness_mm" && e.hint().contains("fewer seed points"), "{e:?}");
}

#[test]
fn what_does_not_fit_is_refused_with_what_would() {
    let part = block(DVec3::splat(100.0));
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 1.0, 0.08);
    r.joins.blend_mm = 0.0;
    let small = Pipeline::new(0).with_memory(Box::new(|| 4096.0));
    let (_, cost) = small.estimate(&part, &r, &Unwatched).unwrap();
    assert!((cost.step_mm - 0.0266).abs() < 0.0011, "never coarsened in silence: {cost:?}");
    let Err(RunError::TooLarge(e)) = small.run(&part, &r, Quality::Final, &Unwatched) else {
        panic!("it is refused")
    };
    assert!(e.message().contains("4.0 GB may be used") && e.field == "mesh.step_mm", "{e:?}");
    assert!(
        e.hint().contains("through walls, which loses them") && e.hint().contains("cells of about"),
        "{e:?}"
    );
    assert!(cost.notes.iter().any(|n| n.text.contains("It fits with a grid step")), "{cost:?}");
    // A draft is made all the same.
    assert!(small.run(&part, &r, Quality::Drag, &Unwatched).is_ok());
}

#[test]
fn as_asked_comes_with_limits_and_only_for_finals() {
    let part = block(DVec3::splat(20.0));
    let r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 8.0, 1.2);
    let o = run(&part, &r);
    let asked: Vec<&Check> =
        o.report.checks.iter().flatten().filter(|c| c.group == CheckGroup::AsAsked).collect();
    assert!(
        asked.len() >= 4
            && asked
                .iter()
                .all(|c| c.limit.is_some() && (c.hint.is_some() == (c.verdict != Verdict::Pass)))
    );
    let draft = Pipeline::new(0).run(&part, &r, Quality::Draft, &Unwatched).unwrap();
    assert!(draft.report.checks.is_none() && draft.report.gauged.is_empty());
}

#[test]
fn a_mesh_that_is_turned_on_the_bed_is_sound_as_it_leaves() {
    let shapes: [(TriMesh, Kind); 5] = [
        (TriMesh::sphere(11.0, 5), Kind::Surface(SurfaceKind::Gyroid)),
        (TriMesh::cuboid(DVec3::ZERO, DVec3::new(24.0, 18.0, 12.0)), Kind::Cell(CellKind::Octet)),
        (
            TriMesh::sphere(11.0, 4).mapped(|p| p * DVec3::new(1.4, 1.0, 0.7)),
            Kind::Seeded(SeededKind::Voronoi),
        ),
        (
            TriMesh::cuboid(DVec3::ZERO, DVec3::new(26.0, 20.0, 9.0)),
            Kind::Extruded(ExtrudedKind::Triangles),
        ),
        (TriMesh::sphere(10.0, 4), Kind::Surface(SurfaceKind::SplitP)),
    ];
    for (n, (mesh, kind)) in shapes.into_iter().enumerate() {
        let part = Part::prepare(&mesh).unwrap();
        let mut r = recipe(&part, kind, 8.0, 1.0);
        r.structure.rotation_deg = [11.0, 23.0, 5.0];
        r.mesh.apart_mm = (n % 2 == 1).then_some(0.0);
        r.zones.skins = vec![Skin { id: 3, name: "Skin".into(), faces: None, depth_mm: 0.9 }];
        r.mesh.step_mm = Some(0.4);
        // The surface is made once; only its end is another for every turn.
        let pipeline = Pipeline::new(1 << 28);
        for turn in 0..5 {
            let down = [
                (turn as f64 * 2.4).sin(),
                (turn as f64 * 1.7).cos(),
                (turn as f64 * 0.9).sin() - 0.4,
            ];
            r.stand = Some(Stand { down, turn_deg: 37.0 * turn as f64, ..Stand::default() });
            let o = pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap();
            let leaving = o.solid.as_it_leaves();
            assert!(
                leaving.bounds().min.z.abs() < 1e-6,
                "it stands on the bed: {:?}",
                leaving.bounds()
            );
            let bodies = [&leaving.triangles[..], &[]];
            let split = o
                .solid
                .apart
                .map_or(bodies, |a| leaving.triangles.split_at(a.lattice_triangles).into());
            for triangles in split.into_iter().filter(|t| !t.is_empty()) {
                let body =
                    TriMesh { points: leaving.points.clone(), triangles: triangles.to_vec() };
                // As a file holds it: corners by their places alone.
                let read = ulmix_formats::read(
                    &ulmix_formats::stl::write(&body),
                    &ulmix_formats::Limits::default(),
                )
                .unwrap()
                .mesh;
                assert!(Topology::of(&read).sound(), "{kind:?}, turn {turn}");
                let crossing =
                    ulmix_mesh::crossing::crossing_pairs(&read, &ulmix_mesh::Bvh::new(&read));
                assert!(
                    crossing.is_empty(),
                    "{kind:?}, turn {turn}: {} pairs cross",
                    crossing.len()
                );
            }
            let back = o.solid.placing.unwrap().of_mesh(&o.solid.mesh);
            let off = back
                .points
                .iter()
                .zip(&leaving.points)
                .map(|(a, b)| a.distance(*b))
                .fold(0.0, f64::max);
            assert!(off < 1e-9, "the part's axes and the bed's hold the same mesh: {off}");
        }
    }
}

#[test]
fn a_file_is_held_against_the_recipe_it_was_made_by_and_against_another() {
    let part = Part::prepare(&TriMesh::sphere(15.0, 5)).unwrap();
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 9.0, 1.2);
    r.zones.skins = vec![Skin { id: 4, name: "Skin".into(), faces: None, depth_mm: 1.0 }];
    r.mesh.step_mm = Some(0.33);
    r.stand = Some(Stand { down: [0.3, -0.2, -1.0], turn_deg: 20.0, ..Stand::default() });
    let pipeline = Pipeline::new(1 << 28);
    let leaves = pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap().solid.as_it_leaves();
    let judged =
        |r: &Recipe, mesh: &TriMesh| pipeline.judge(&part, r, mesh.clone().into(), &Unwatched);
    let found = judged(&r, &leaves).unwrap();
    assert_eq!(worst(found.iter().filter(|c| c.id != "sealed_voids")), Verdict::Pass, "{found:#?}");
    assert!(
        ["density", "thickness", "reached"].iter().all(|id| found.iter().any(|c| c.id == *id)),
        "{found:#?}"
    );
    // Made by thinner walls, it is too heavy for these.
    let verdict = |found: &[Check], id: &str| found.iter().find(|c| c.id == id).unwrap().verdict;
    let thinner = Recipe { thicken: Thicken::Thickness { thickness_mm: 0.9 }, ..r.clone() };
    let found = judged(&thinner, &leaves).unwrap();
    assert_eq!(
        [verdict(&found, "density"), verdict(&found, "thickness")],
        [Verdict::Fail; 2],
        "{found:#?}"
    );
    // An open surface is told to be one, and not measured.
    let found = judged(&r, &leaves.filtered(|t| t != 7)).unwrap();
    assert_eq!(
        [verdict(&found, "open_edges"), verdict(&found, "as_asked")],
        [Verdict::Fail, Verdict::Look]
    );
    // Where it lay on the bed cannot be told of something else.
    let Err(RunError::Recipe(e)) = judged(&r, &TriMesh::sphere(9.0, 3)) else {
        panic!("it is refused")
    };
    assert_eq!(e.field, "stand");
}

#[test]
fn a_file_of_bodies_apart_is_held_against_the_recipe_by_their_names() {
    let part = block(DVec3::new(30.0, 24.0, 20.0));
    for (overlap, stand) in
        [(0.0, None), (0.4, Some(Stand { down: [0.2, 0.1, -1.0], ..Stand::default() }))]
    {
        let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 8.0, 1.2);
        r.zones.skins = vec![Skin { id: 5, name: "Skin".into(), faces: None, depth_mm: 1.2 }];
        (r.mesh.apart_mm, r.mesh.step_mm, r.stand) = (Some(overlap), Some(0.33), stand);
        let pipeline = Pipeline::new(1 << 28);
        let outcome = pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap();
        let mesh = outcome.solid.as_it_leaves();
        let bodies: Vec<(String, usize)> =
            outcome.report.apart.iter().map(|b| (b.name.clone(), b.triangles)).collect();
        assert_eq!(bodies.len(), 2);
        let judged = |r: &Recipe, mesh: &TriMesh, bodies: &[(String, usize)]| {
            pipeline.judge(
                &part,
                r,
                FileMesh { mesh: mesh.clone(), bodies: bodies.to_vec() },
                &Unwatched,
            )
        };
        let found = judged(&r, &mesh, &bodies).unwrap();
        // The same figures as of the run that made it.
        for check in outcome.report.checks.as_ref().unwrap() {
            if ["density", "thickness", "skins", "true_flat", "reached", "bodies", "self_crossing"]
                .contains(&check.id.as_str())
            {
                let same = found
                    .iter()
                    .find(|c| c.id == check.id)
                    .unwrap_or_else(|| panic!("{} is told", check.id));
                assert_eq!(same.verdict, check.verdict, "{overlap}: {same:?} {check:?}");
                assert!(
                    (same.value - check.value).abs() <= 0.02 * check.value.abs() + 0.01,
                    "{overlap}: {same:?} {check:?}"
                );
            }
        }
        // The file's order of bodies tells nothing, their names do.
        let [lattice, solids] = [0..bodies[0].1, bodies[0].1..mesh.triangles.len()]
            .map(|of| mesh.filtered(|t| of.contains(&t)));
        let mut turned = solids.clone();
        turned.append(&lattice);
        let in_turn: Vec<_> = bodies.iter().rev().cloned().collect();
        let density = |found: &[Check]| found.iter().find(|c| c.id == "density").unwrap().value;
        assert!((density(&judged(&r, &turned, &in_turn).unwrap()) - density(&found)).abs() < 0.05);
        // Skins asked for twice as deep are not there.
        let mut deeper = r.clone();
        deeper.zones.skins[0].depth_mm = 2.4;
        let found = judged(&deeper, &mesh, &bodies).unwrap();
        assert_eq!(
            found.iter().find(|c| c.id == "skins").unwrap().verdict,
            Verdict::Fail,
            "{found:#?}"
        );
        let Err(RunError::Recipe(e)) = judged(&r, &mesh, &[]) else {
            panic!("bodies without names are refused")
        };
        assert_eq!(e.field, "mesh.apart_mm");
    }
}

#[test]
fn what_cannot_be_right_is_said_before_the_run_with_its_place() {
    let part = block(DVec3::splat(40.0));
    let mut r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 8.0, 1.2);
    let own = OwnFill {
        structure: r.structure.clone(),
        thicken: Thicken::RelativeDensity { percent: 30.0 },
        joins: r.joins,
        blend_mm: 0.0,
        gradings: Vec::new(),
        loose_ends: false,
    };
    let place = Place::Box {
        centre_mm: [20.0, 20.0, 39.5],
        size_mm: [12.0, 12.0, 1.0],
        rotation_deg: [0.0; 3],
    };
    r.zones.list =
        vec![Zone { own: Some(Box::new(own)), ..Zone::new(2, "Lid", Role::Fill, place) }];
    let (_, cost) = Pipeline::new(0).estimate(&part, &r, &Unwatched).unwrap();
    let note =
        cost.notes.iter().find(|n| n.text.contains("“Lid” holds 0.3 cells")).expect("it is said");
    assert_eq!(note.place_mm, Some([20.0, 20.0, 39.5]));
    // Points on the surface that leave no room inside.
    let mut crowded = recipe(&part, Kind::Seeded(SeededKind::Voronoi), 8.0, 0.4);
    seeds(&mut crowded).layout = Layout::Both;
    seeds(&mut crowded).surface_count = Some(2000);
    let o = Pipeline::new(0).run(&part, &crowded, Quality::Drag, &Unwatched).unwrap();
    assert!(
        o.report.notes.iter().any(|n| n.text.starts_with("No seed point lies inside")),
        "{:?}",
        o.report.notes
    );
}

#[test]
fn cells_are_called_closed_only_where_some_are() {
    let noted = |size: DVec3| {
        let part = block(size);
        let o = run(&part, &recipe(&part, Kind::Seeded(SeededKind::VoronoiWalls), 9.0, 0.9));
        o.report.notes.iter().any(|n| n.text.starts_with("Cells are closed"))
    };
    assert!(noted(DVec3::splat(30.0)));
    // The surface of a thin plate cuts every cell.
    assert!(!noted(DVec3::new(40.0, 30.0, 3.0)));
}

#[test]
fn delaunay_struts_are_drawn_in_the_part_only() {
    // Two legs with a gap between them.
    let mut fork = TriMesh::cuboid(DVec3::ZERO, DVec3::new(10.0, 30.0, 10.0));
    fork.append(&TriMesh::cuboid(DVec3::new(20.0, 0.0, 0.0), DVec3::new(30.0, 30.0, 10.0)));
    fork.append(&TriMesh::cuboid(DVec3::new(0.0, 30.5, 0.0), DVec3::new(30.0, 40.0, 10.0)));
    let part = Part::prepare(&fork).unwrap();
    let r = recipe(&part, Kind::Seeded(SeededKind::Delaunay), 9.0, 1.0);
    let (net, states) = Pipeline::new(0).skeleton(&part, &r, None, &Unwatched).unwrap().unwrap();
    assert!(net.struts.len() > 20);
    for (s, state) in net.struts.iter().zip(states) {
        // Those of a net follow the surface from triangle to triangle.
        let may = if state == StrutState::Net { 0.5 } else { 1e-6 };
        let [a, b] = net.ends(*s);
        let past = (1..10)
            .map(|n| part.distance.value(a.lerp(b, n as f64 / 10.0)))
            .fold(f64::MIN, f64::max);
        assert!(past < may, "{a} to {b} runs {past} mm outside");
    }
}
