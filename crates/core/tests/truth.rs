//! The final mesh against the part and against what was asked.

mod coarser;
mod patterns;

use coarser::run;
use glam::DVec3;
use patterns::set_form;
use proptest::prelude::*;
use ulmix_check::Verdict;
use ulmix_mesh::{Bvh, Topology, TriMesh};
use ulmix_part::demo::keel_bracket;
use ulmix_part::Part;
use ulmix_recipe::{Form, Joins, Kind, Place, Recipe, Role, Skin, SurfaceKind, Thicken, Zone};

const KINDS: [SurfaceKind; 8] = [
    SurfaceKind::Gyroid,
    SurfaceKind::SchwarzP,
    SurfaceKind::SchwarzD,
    SurfaceKind::Iwp,
    SurfaceKind::Neovius,
    SurfaceKind::Frd,
    SurfaceKind::SplitP,
    SurfaceKind::Lidinoid,
];

/// One skin all around, or none.
fn skin(recipe: &mut Recipe, depth_mm: f64) {
    recipe.zones.skins = if depth_mm > 0.0 {
        vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm }]
    } else {
        vec![]
    };
}

fn cube(side: f64) -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(side))).unwrap()
}

/// Where the part turns by more than 30°: the ends of those edges.
fn sharp_edges(m: &TriMesh) -> Vec<[DVec3; 2]> {
    let mut sides: Vec<(u32, u32, usize)> = Vec::new();
    for (t, tri) in m.triangles.iter().enumerate() {
        for c in 0..3 {
            let (a, b) = (tri[c], tri[(c + 1) % 3]);
            sides.push((a.min(b), a.max(b), t));
        }
    }
    sides.sort_unstable();
    let unit = |t: usize| m.area_vector(t).normalize();
    sides
        .windows(2)
        .filter(|w| (w[0].0, w[0].1) == (w[1].0, w[1].1) && unit(w[0].2).dot(unit(w[1].2)) < 0.85)
        .map(|w| [m.points[w[0].0 as usize], m.points[w[0].1 as usize]])
        .collect()
}

#[test]
fn where_nothing_is_removed_the_bracket_stays_true() {
    let (mesh, mut recipe) = keel_bracket();
    let part = Part::prepare(&mesh).unwrap();
    skin(&mut recipe, 60.0);
    recipe.mesh.step_mm = Some(0.35);
    let o = run(&part, &recipe);
    // The run-out of the fillet, below, is told.
    let failed = o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail);
    let told: Vec<_> = failed
        .filter(|c| c.id != "true_flat" || c.place_mm.is_none_or(|p| !(40.0..48.2).contains(&p[0])))
        .collect();
    assert!(told.is_empty(), "{told:?}");
    assert!((o.report.volume_mm3 / mesh.volume() - 1.0).abs() < 2e-4);
    let result = Bvh::new(&o.solid.mesh);
    let off = |p: DVec3| result.nearest(p, 1e3).unwrap().distance_squared.sqrt();
    let mut worst_edge = 0.0f64;
    // Where the fillet runs out on the sole, steps lower than two of the grid show in few samples.
    let run_out =
        |p: DVec3| p.x > 40.0 && p.x < 48.1 && p.z < 22.0 + 2.0 * o.step_mm && p.y.abs() > 26.5;
    for [a, b] in sharp_edges(&mesh) {
        for p in (0..=8).map(|s| a.lerp(b, s as f64 / 8.0)).filter(|p| !run_out(*p)) {
            worst_edge = worst_edge.max(off(p));
        }
    }
    assert!(worst_edge <= 0.01, "sharp edges off by {worst_edge} mm");
    let mut worst_face = 0.0f64;
    let mut worst_curve = 0.0f64;
    for t in 0..mesh.triangles.len() {
        let [a, b, c] = mesh.corners(t);
        let n = mesh.area_vector(t).normalize();
        for (u, v) in [(0.33, 0.33), (0.1, 0.8), (0.8, 0.1), (0.1, 0.1)] {
            let d = off(a + (b - a) * u + (c - a) * v);
            // The bracket's flat faces are the ones that look along an axis.
            let worst =
                if n.abs().max_element() > 0.999_999 { &mut worst_face } else { &mut worst_curve };
            *worst = worst.max(d);
        }
    }
    assert!(worst_face <= 0.01, "flat faces off by {worst_face} mm");
    assert!(worst_curve <= 0.035, "curved faces off by {worst_curve} mm");
    let back = o
        .solid
        .mesh
        .points
        .iter()
        .filter(|p| !run_out(**p))
        .map(|&p| part.distance.value(p).abs())
        .fold(0.0, f64::max);
    assert!(back <= 0.035, "the result leaves the part by {back} mm");
}

#[test]
fn a_box_keeps_its_twelve_edges() {
    let part = cube(20.0);
    let mut recipe = Recipe::for_part(&part.mesh.bounds());
    skin(&mut recipe, 2.0);
    let o = run(&part, &recipe);
    let bvh = Bvh::new(&o.solid.mesh);
    for [a, b] in sharp_edges(&part.mesh) {
        for s in 0..=40 {
            let d = bvh.nearest(a.lerp(b, s as f64 / 40.0), 1e3).unwrap().distance_squared.sqrt();
            assert!(d < 1e-3, "edge off by {d}");
        }
    }
}

#[test]
fn walls_measure_what_was_asked_from_small_cells_to_large() {
    for (cell, t) in [(4.0, 0.5), (12.0, 1.5), (40.0, 4.0)] {
        for kind in [SurfaceKind::Gyroid, SurfaceKind::SchwarzP, SurfaceKind::SchwarzD] {
            let part = cube(2.5 * cell);
            let mut recipe = Recipe::for_part(&part.mesh.bounds());
            recipe.structure.choose(Kind::Surface(kind));
            recipe.structure.cell_mm = [cell; 3];
            recipe.thicken = Thicken::Thickness { thickness_mm: t };
            let o = run(&part, &recipe);
            let walls = o.report.gauged[0].expect("walls run free inside");
            assert!((walls.median_mm / t - 1.0).abs() < 0.03, "{kind:?} {cell}: {walls:?} for {t}");
            assert!(walls.thinnest_mm > 0.8 * t, "{kind:?} {cell}: {walls:?} for {t}");
        }
    }
}

#[test]
fn relative_density_is_reached_on_the_final_mesh_of_every_kind() {
    for kind in KINDS {
        for form in [Form::Walls, Form::Network, Form::OtherNetwork] {
            let percents: &[f64] = if form == Form::Walls { &[12.0, 40.0] } else { &[40.0] };
            for &percent in percents {
                let part = cube(19.0);
                let mut recipe = Recipe::for_part(&part.mesh.bounds());
                recipe.structure.choose(Kind::Surface(kind));
                set_form(&mut recipe, form);
                recipe.structure.cell_mm = [9.0, 10.0, 11.0];
                recipe.structure.rotation_deg = [0.0, 0.0, 25.0];
                recipe.thicken = Thicken::RelativeDensity { percent };
                recipe.mesh.crumb_mm3 = Some(0.0);
                let o = run(&part, &recipe);
                // The whole cube is the fill zone: its share is the density.
                let got = 100.0 * o.solid.mesh.volume() / 6859.0;
                assert!((got - percent).abs() < 1.0, "{kind:?} {form:?}: {got} for {percent}");
                assert!((o.report.fill_density_percent - got).abs() < 0.2);
                assert!((o.linked.fill.density_percent - percent).abs() < 0.3);
            }
        }
    }
}

#[test]
fn density_counts_the_fill_zone_alone() {
    let (mesh, mut recipe) = keel_bracket();
    let part = Part::prepare(&mesh).unwrap();
    skin(&mut recipe, 2.0);
    recipe.thicken = Thicken::RelativeDensity { percent: 22.0 };
    recipe.mesh.step_mm = Some(0.5);
    let o = run(&part, &recipe);
    assert!(
        (o.report.fill_density_percent - 22.0).abs() < 1.0,
        "{}",
        o.report.fill_density_percent
    );
}

#[test]
fn a_lattice_cut_off_by_the_part_never_reaches_beyond_it() {
    let (mesh, mut recipe) = keel_bracket();
    let part = Part::prepare(&mesh).unwrap();
    recipe.structure.rotation_deg = [20.0, 0.0, 10.0];
    recipe.mesh.step_mm = Some(0.6);
    let o = run(&part, &recipe);
    let beyond = o.solid.mesh.points.iter().map(|&p| part.distance.value(p)).fold(0.0, f64::max);
    assert!(beyond < 0.06, "{beyond} mm beyond the part");
    assert!((o.solid.mesh.bounds().size() - mesh.bounds().size()).abs().max_element() < 0.01);
}

#[test]
fn threads_do_not_matter() {
    let (mesh, mut recipe) = keel_bracket();
    let part = Part::prepare(&mesh).unwrap();
    recipe.mesh.step_mm = Some(0.8);
    skin(&mut recipe, 1.5);
    recipe.structure.rotation_deg = [15.0, 0.0, 30.0];
    let with = |n: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(n).build().unwrap();
        pool.install(|| run(&part, &recipe))
    };
    let (one, three) = (with(1), with(3));
    assert!(one.solid.mesh == three.solid.mesh && one.solid.owners == three.solid.owners);
    assert_eq!(one.report, three.report);
}

#[test]
fn a_place_kept_clear_is_round_at_size_and_takes_its_volume() {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 26.0, 12.0))).unwrap();
    let mut recipe = Recipe::for_part(&part.mesh.bounds());
    recipe.zones.rest = Role::KeepSolid;
    let place =
        Place::Cylinder { base_mm: [14.0, 12.0, -1.0], axis_mm: [0.0, 0.0, 14.0], radius_mm: 5.0 };
    recipe.zones.list = vec![Zone::new(1, "Bore", Role::KeepClear, place)];
    recipe.mesh.step_mm = Some(0.4);
    let o = run(&part, &recipe);
    assert!(
        o.report.checks.as_ref().unwrap().iter().all(|c| c.verdict == Verdict::Pass),
        "{:?}",
        o.report.checks
    );
    let bore = std::f64::consts::PI * 25.0 * 12.0;
    assert!(
        (o.report.volume_mm3 / (30.0 * 26.0 * 12.0 - bore) - 1.0).abs() < 5e-4,
        "{}",
        o.report.volume_mm3
    );
    assert!((o.linked.zone_mm3[0] / bore - 1.0).abs() < 0.02, "{:?}", o.linked.zone_mm3);
    let off = |p: &DVec3| (p.truncate() - glam::DVec2::new(14.0, 12.0)).length() - 5.0;
    let wall: Vec<f64> = o.solid.mesh.points.iter().map(off).filter(|d| d.abs() < 0.1).collect();
    assert!(
        wall.len() > 40 && wall.iter().all(|d| d.abs() < 0.02),
        "{:?}",
        wall.iter().copied().fold(0.0, f64::max)
    );
    // Middles of the bore's triangles: chords stay within the bound too.
    let m = &o.solid.mesh;
    let middles = (0..m.triangles.len()).map(|t| m.middle(t)).filter(|p| p.z > 0.5 && p.z < 11.5);
    assert!(middles.map(|p| off(&p)).filter(|d| d.abs() < 1.0).all(|d| d.abs() < 0.02));
}

#[test]
fn faces_with_a_depth_take_what_geometry_says_and_skins_leave_the_rest_open() {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 24.0, 18.0))).unwrap();
    let top = part.faces().list.iter().find(|f| f.direction.z > 0.9).map(ulmix_part::mark).unwrap();
    let mut recipe = Recipe::for_part(&part.mesh.bounds());
    recipe.structure.cell_mm = [9.0; 3];
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.2 };
    recipe.zones.list = vec![Zone::new(
        2,
        "Deck",
        Role::KeepSolid,
        Place::Faces { faces: vec![top], depth_mm: 4.0 },
    )];
    recipe.mesh.step_mm = Some(0.5);
    let o = run(&part, &recipe);
    assert!(
        (o.linked.zone_mm3[0] / (30.0 * 24.0 * 4.0) - 1.0).abs() < 0.02,
        "{:?}",
        o.linked.zone_mm3
    );
    let flat = |m: &TriMesh, z: f64| -> f64 {
        let on = |t: &usize| m.corners(*t).iter().all(|p| (p.z - z).abs() < 1e-3);
        (0..m.triangles.len()).filter(on).map(|t| m.area_vector(t).length() * 0.5).sum()
    };
    assert!(
        (flat(&o.solid.mesh, 18.0) / 720.0 - 1.0).abs() < 1e-3,
        "{}",
        flat(&o.solid.mesh, 18.0)
    );
    assert!(flat(&o.solid.mesh, 0.0) < 400.0);
    // As a skin the same faces give the same solid.
    recipe.zones.list.clear();
    recipe.zones.skins =
        vec![Skin { id: 2, name: "Deck".into(), faces: Some(vec![top]), depth_mm: 4.0 }];
    let skinned = run(&part, &recipe);
    assert!((skinned.report.volume_mm3 / o.report.volume_mm3 - 1.0).abs() < 1e-6);
    // A face that is not there is said.
    recipe.zones.skins[0].faces.as_mut().unwrap()[0].place_mm = [900.0; 3];
    assert!(run(&part, &recipe)
        .report
        .notes
        .iter()
        .any(|n| n.text.contains("Deck") && n.text.contains("Pick")));
}

#[test]
fn empty_and_solid_results_are_said() {
    let part = cube(20.0);
    let mut recipe = Recipe::for_part(&part.mesh.bounds());
    recipe.structure.cell_mm = [5.0; 3];
    recipe.thicken = Thicken::Thickness { thickness_mm: 5.0 };
    let o = run(&part, &recipe);
    assert!(
        o.report.notes.iter().any(|n| n.text.contains("solid") || n.text.contains("close")),
        "{:?}",
        o.report.notes
    );
    recipe.thicken = Thicken::Thickness { thickness_mm: 0.004 };
    recipe.mesh.step_mm = Some(1.0);
    let o = run(&part, &recipe);
    assert!(!o.report.notes.is_empty() && !o.cost.notes.is_empty());
    skin(&mut recipe, 15.0);
    let o = run(&part, &recipe);
    assert!(
        o.report.notes.iter().any(|n| n.text.contains("Nothing is hollow")),
        "{:?}",
        o.report.notes
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(11))]
    #[test]
    fn any_recipe_gives_a_closed_manifold(
        kind in proptest::sample::select(Kind::all()),
        form in proptest::sample::select(vec![Form::Walls, Form::Network, Form::OtherNetwork]),
        cell in proptest::array::uniform3(4.0..14.0f64),
        turn in proptest::array::uniform3(-90.0..90.0f64),
        shift in proptest::array::uniform3(-20.0..20.0f64),
        percent in 3.0..80.0f64,
        depth in prop_oneof![Just(0.0), 0.1..5.0f64],
        solid in any::<bool>(),
        ball in any::<bool>(),
        blend in prop_oneof![Just(0.0), 0.0..2.0f64],
        node in prop_oneof![Just(0.0), 0.0..2.0f64],
    ) {
        let mesh = if ball { TriMesh::sphere(11.0, 4) } else { TriMesh::cuboid(DVec3::ZERO, DVec3::new(22.0, 17.0, 13.0)) };
        let part = Part::prepare(&mesh).unwrap();
        let mut r = Recipe::for_part(&mesh.bounds());
        r.structure.choose(kind);
        set_form(&mut r, form);
        r.structure.cell_mm = cell;
        r.structure.rotation_deg = turn;
        r.structure.shift_mm = shift;
        r.thicken = Thicken::RelativeDensity { percent };
        r.joins = Joins { blend_mm: blend, node_mm: node, ..Joins::default() };
        skin(&mut r, depth);
        if solid {
            let name = "post";
            let place = Place::Cylinder { base_mm: [4.0, 5.0, -20.0], axis_mm: [2.0, 0.5, 40.0], radius_mm: 3.3 };
            r.zones.list.push(Zone::new(3, name, Role::KeepSolid, place));
        }
        r.mesh.step_mm = Some(0.6);
        let o = run(&part, &r);
        let t = Topology::of(&o.solid.mesh);
        prop_assert!(t.sound(), "{:?}", (t.open_edges, t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices));
        prop_assert!(o.solid.mesh.volume() > 0.0);
        prop_assert_eq!(o.solid.crossings.as_ref().map(Vec::len), Some(0));
    }
}
