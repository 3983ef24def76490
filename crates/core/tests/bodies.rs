//! Parts of several bodies, each with its own role.

use glam::DVec3;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use ulmix_check::Verdict;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_formats::{stl, Limits};
use ulmix_mesh::crossing::crossing_pairs;
use ulmix_mesh::{Bvh, Topology, TriMesh};
use ulmix_part::{Part, PartError};
use ulmix_recipe::{
    Beside, FileMark, Joins, Mend, PartStep, Place, Recipe, Role, Skin, Thicken, Unit, Zone,
};

/// Why a part was refused.
type Refused = Box<dyn std::error::Error>;

/// A cube of 20 mm and another body beside it, from files of their own.
fn cube_and(other: &TriMesh, role: Option<Role>) -> Part {
    let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0));
    let mark = FileMark { name: "other.stl".into(), sha256: "b".into() };
    let step = PartStep {
        beside: vec![Beside { file: mark, unit: Unit::Mm }],
        roles: role.map(|r| ("other".to_owned(), r)).into_iter().collect(),
        ..PartStep::plain(Unit::Mm)
    };
    let file = |sha256: Option<&str>| {
        Ok::<_, Refused>(stl::write(if sha256.is_some() { other } else { &cube }))
    };
    Part::of(&step, file, &Limits::default()).unwrap()
}

fn run(part: &Part, change: impl Fn(&mut Recipe)) -> Outcome {
    let mut recipe = Recipe::for_part(&part.mesh.bounds());
    recipe.structure.cell_mm = [7.0; 3];
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.4 };
    recipe.joins = Joins::default();
    change(&mut recipe);
    let o = Pipeline::new(0).run(part, &recipe, Quality::Final, &Unwatched).unwrap();
    let bad: Vec<_> =
        o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
    assert!(bad.is_empty(), "{bad:?}");
    o
}

fn slab(from: f64, to: f64) -> TriMesh {
    TriMesh::cuboid(DVec3::new(from, 0.0, 0.0), DVec3::new(to, 20.0, 20.0))
}

#[test]
fn lattice_and_solid_body_become_one() {
    // Face to face, and one running into the other.
    for from in [20.0, 17.0] {
        let part = cube_and(&slab(from, 26.0), Some(Role::KeepSolid));
        let names: Vec<_> = part.facts.list.iter().map(|b| b.name.as_str()).collect();
        assert_eq!((names.as_slice(), part.facts.bodies), (["Part", "other"].as_slice(), 1));
        assert!((part.facts.volume_mm3 / 10400.0 - 1.0).abs() < 0.01, "{}", part.facts.volume_mm3);
        let o = run(&part, |_| ());
        let solid = 400.0 * (26.0 - from);
        let asked = solid + o.linked.fill.density_percent / 100.0 * 400.0 * from;
        assert!(
            (o.report.volume_mm3 / asked - 1.0).abs() < 0.02,
            "{} of {asked}",
            o.report.volume_mm3
        );
        // The solid body's own faces hold.
        let bvh = Bvh::new(&o.solid.mesh);
        for n in 0..60 {
            let (u, v) =
                (2.0 + 16.0 * (n as f64 * 0.618).fract(), 2.0 + 16.0 * (n as f64 * 0.414).fract());
            let d = bvh.nearest(DVec3::new(26.0, u, v), 1.0).unwrap().distance_squared.sqrt();
            assert!(d < 0.01, "{d}");
        }
    }
}

#[test]
fn a_body_kept_clear_is_cut_out_and_a_reference_is_not() {
    let ball = TriMesh::sphere(6.0, 5).mapped(|p| p + DVec3::new(20.0, 10.0, 10.0));
    let solid = |r: &mut Recipe| r.zones.rest = Role::KeepSolid;
    let cut = run(&cube_and(&ball, Some(Role::KeepClear)), solid).report.volume_mm3;
    assert!((cut - (8000.0 - 0.5 * ball.volume())).abs() < 2.0, "{cut}");
    let beside = cube_and(&ball, Some(Role::Reference));
    assert!((beside.facts.volume_mm3 - 8000.0).abs() < 1e-6 && beside.facts.list.len() == 2);
    assert!((run(&beside, solid).report.volume_mm3 - 8000.0).abs() < 0.1);
}

#[test]
fn bodies_apart_stay_two_and_without_roles_are_filled_alike() {
    let part = cube_and(&slab(30.0, 50.0), None);
    assert_eq!(part.facts.bodies, 2);
    let o = run(&part, |_| ());
    assert!((o.report.fill_density_percent - o.linked.fill.density_percent).abs() < 1.0);
}

/// The bodies of a run that holds lattice and solids apart.
fn lattice_and_solids(o: &Outcome) -> [TriMesh; 2] {
    let [lattice, solids] = &o.report.apart[..] else { panic!("{:?}", o.report.apart) };
    assert_eq!((lattice.name.as_str(), solids.name.as_str()), ("Lattice", "Solids"));
    let of = |lattice_too: bool| o.solid.mesh.filtered(|t| (t < lattice.triangles) == lattice_too);
    let both = [of(true), of(false)];
    assert!(both.iter().all(|m| Topology::of(m).sound()));
    assert!(
        (both[0].volume() - lattice.volume_mm3).abs()
            + (both[1].volume() - solids.volume_mm3).abs()
            < 1e-6
    );
    both
}

#[test]
fn lattice_and_solids_apart_touch_or_overlap_as_asked() {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(24.0))).unwrap();
    let zone = |id, role, place| Zone::new(id, "x", role, place);
    let slab = Place::Box {
        centre_mm: [3.0, 12.0, 12.0],
        size_mm: [6.0, 30.0, 30.0],
        rotation_deg: [0.0; 3],
    };
    let rod =
        Place::Cylinder { base_mm: [15.0, 12.0, -3.0], axis_mm: [0.0, 0.0, 30.0], radius_mm: 2.0 };
    let of = |apart_mm: Option<f64>, skin: bool| {
        run(&part, |r| {
            r.zones.list =
                vec![zone(1, Role::KeepClear, rod.clone()), zone(2, Role::KeepSolid, slab.clone())];
            r.zones.skins.extend(skin.then(|| Skin {
                id: 1,
                name: "s".into(),
                faces: None,
                depth_mm: 1.0,
            }));
            r.mesh.apart_mm = apart_mm;
            r.mesh.step_mm = Some(0.33);
        })
    };
    for skin in [false, true] {
        let whole = of(None, skin).report.volume_mm3;
        let mut solids_alone = None;
        for overlap in [0.0, 0.5] {
            let o = of(Some(overlap), skin);
            let [lattice, solids] = lattice_and_solids(&o);
            // What they share counts once.
            assert!(
                (o.report.volume_mm3 / whole - 1.0).abs() < 0.004,
                "{} of {whole}",
                o.report.volume_mm3
            );
            assert_eq!(lattice.volume() + solids.volume() > 1.01 * whole, overlap > 0.0);
            if !skin {
                assert!((solids.volume() - 6.0 * 24.0 * 24.0).abs() < 0.5, "{}", solids.volume());
            }
            let near = lattice.bounds().min.x;
            // Where something crossed points may have moved by a twentieth of a step.
            assert!((near - (6.0 - overlap)).abs() < 0.05 * o.step_mm, "{near}");
            let to_axis = |p: &DVec3| (p.truncate() - glam::DVec2::new(15.0, 12.0)).length();
            let nearest = lattice.points.iter().map(to_axis).fold(f64::INFINITY, f64::min);
            assert!(nearest > 1.98, "{nearest} at a step of {}", o.step_mm);
            // However far the lattice reaches, the solids stay what they are.
            assert_eq!(solids, *solids_alone.get_or_insert_with(|| solids.clone()));
        }
    }
}

#[test]
fn the_lattice_reaches_into_a_solid_body_only_where_they_meet() {
    for from in [20.0, 17.0] {
        let part = cube_and(&slab(from, 26.0), Some(Role::KeepSolid));
        let [lattice, solids] = lattice_and_solids(&run(&part, |r| r.mesh.apart_mm = Some(0.6)));
        assert!((solids.volume() - 400.0 * (26.0 - from)).abs() < 0.5, "{}", solids.volume());
        let far = lattice.bounds().max.x;
        assert!((far - (from + 0.6)).abs() < 0.03, "{far}");
    }
}

#[test]
fn apart_without_solids_is_the_lattice_alone() {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
    let o = run(&part, |r| r.mesh.apart_mm = Some(0.3));
    assert_eq!(o.report.apart.iter().map(|b| b.name.as_str()).collect::<Vec<_>>(), ["Lattice"]);
    assert!((o.report.volume_mm3 / run(&part, |_| ()).report.volume_mm3 - 1.0).abs() < 1e-9);
}

#[test]
fn a_role_whose_body_is_gone_is_told() {
    let step = PartStep {
        roles: BTreeMap::from([("plate".to_owned(), Role::KeepSolid)]),
        ..PartStep::plain(Unit::Mm)
    };
    let part =
        Part::of(&step, |_| Ok::<_, Refused>(stl::write(&slab(0.0, 20.0))), &Limits::default())
            .unwrap();
    assert_eq!(part.facts.defects, ["The body “plate” has a role and is not there any more"]);
}

#[test]
fn bodies_far_apart_and_flat_ones_are_refused_for_what_they_are() {
    let refused = |mesh: &TriMesh| Part::prepare(mesh).err().unwrap().to_string();
    let mut far = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
    far.append(&TriMesh::cuboid(DVec3::X * 9e4, DVec3::new(9e4 + 10.0, 10.0, 10.0)));
    assert!(refused(&far).contains("too far apart"));
    far.append(&TriMesh::cuboid(DVec3::X * 1e6, DVec3::new(1e6 + 10.0, 10.0, 10.0)));
    assert!(refused(&far).contains("can be worked on"));
    // Two sides of a tent without a floor, and the same again from behind: nothing between them.
    let mut flat = TriMesh {
        points: [[0.0; 3], [10.0, 0.0, 0.0], [0.0, 10.0, 3.0], [10.0, 10.0, 3.0]]
            .map(DVec3::from)
            .to_vec(),
        triangles: vec![[0, 1, 2], [1, 3, 2]],
    };
    flat.append(&TriMesh { points: flat.points.clone(), triangles: vec![[0, 2, 1], [1, 2, 3]] });
    assert!(refused(&flat).contains("no volume"));
}

#[test]
fn nothing_left_to_fill_is_refused_in_words() {
    let cube = stl::write(&slab(0.0, 20.0));
    let step = PartStep {
        roles: BTreeMap::from([("Part".to_owned(), Role::Reference)]),
        ..PartStep::plain(Unit::Mm)
    };
    assert!(Part::of(&step, |_| Ok::<_, Refused>(cube.clone()), &Limits::default()).is_err());
}

#[test]
fn holes_are_closed_up_to_a_span_and_crumbs_removed() {
    let block = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0));
    let mut broken = block.filtered(|t| t != 3);
    broken.append(&TriMesh::sphere(0.2, 1).mapped(|p| p + DVec3::splat(24.0)));
    let file = stl::write(&broken);
    let part = |holes_mm: f64, crumbs_mm3: f64| {
        let step = PartStep {
            mend: Mend { holes_mm, crumbs_mm3, ..Mend::default() },
            ..PartStep::plain(Unit::Mm)
        };
        Part::of(&step, |_| Ok::<_, Refused>(file.clone()), &Limits::default()).unwrap()
    };
    assert!(
        !part(5.0, 0.0).facts.closed && part(5.0, 0.0).facts.triangles == broken.triangles.len()
    );
    let mended = part(25.0, 1.0);
    assert!(
        mended.facts.closed && (mended.facts.volume_mm3 - 8000.0).abs() < 1e-6,
        "{:?}",
        mended.facts
    );
    assert_eq!(mended.facts.size_mm, [20.0; 3]);
    assert_eq!(
        mended.facts.changes,
        ["1 hole was closed, the widest of 20.0 mm", "1 crumb was removed"]
    );
}

/// A square bar along a figure of eight in a plane (the lemniscate of Gerono), which passes through
/// itself at a right angle in its middle.
fn figure_of_eight(width: f64) -> TriMesh {
    const AROUND: u32 = 400;
    let mut mesh = TriMesh::default();
    for n in 0..AROUND {
        // Half a turn of an angle off, so that no section lies at the crossing.
        let (s, c) = (std::f64::consts::TAU * (n as f64 + 0.5) / AROUND as f64).sin_cos();
        let across = DVec3::new(-(c * c - s * s), -s, 0.0).normalize() * (0.5 * width);
        let middle = DVec3::new(20.0 * c, 20.0 * s * c, 0.0);
        let up = DVec3::Z * (0.5 * width);
        mesh.points.extend([
            middle + across - up,
            middle + across + up,
            middle - across + up,
            middle - across - up,
        ]);
        for k in 0..4 {
            let at = |n: u32, k: u32| 4 * (n % AROUND) + k % 4;
            let (a, b, c, d) = (at(n, k), at(n + 1, k), at(n + 1, k + 1), at(n, k + 1));
            mesh.triangles.extend([[a, b, c], [a, c, d]]);
        }
    }
    if mesh.volume() < 0.0 {
        mesh.triangles.iter_mut().for_each(|t| t.swap(1, 2));
    }
    mesh
}

#[test]
fn triangles_are_joined_on_demand_and_the_file_stays() {
    let ball = stl::write(&TriMesh::sphere(20.0, 6));
    let part = |fewer_mm: f64| {
        let mend = Mend { fewer_mm, ..Mend::default() };
        Part::of(
            &PartStep { mend, ..PartStep::plain(Unit::Mm) },
            |_| Ok::<_, Refused>(ball.clone()),
            &Limits::default(),
        )
        .unwrap()
    };
    let (whole, few) = (part(0.0), part(0.1));
    assert!(few.facts.triangles * 5 < whole.facts.triangles && few.facts.closed);
    assert!((few.facts.volume_mm3 / whole.facts.volume_mm3 - 1.0).abs() < 0.015);
    assert!(
        few.facts.changes.iter().any(|d| d.contains("triangles were joined to")),
        "{:?}",
        few.facts.changes
    );
    assert!(whole.facts.changes.is_empty(), "{:?}", whole.facts.changes);
}

#[test]
fn a_piece_that_crosses_itself_is_wound_anew_and_the_rest_stays() {
    let width = 4.0;
    let eight = figure_of_eight(width);
    let ball = TriMesh::sphere(5.0, 3).mapped(|p| p + DVec3::new(0.0, 0.0, 20.0));
    let mut both = eight.clone();
    both.append(&ball);
    let file = stl::write(&both);
    let part = |rewrap_mm: f64| {
        let mend = Mend { rewrap_mm, ..Mend::default() };
        Part::of(
            &PartStep { mend, ..PartStep::plain(Unit::Mm) },
            |_| Ok::<_, Refused>(file.clone()),
            &Limits::default(),
        )
        .unwrap()
    };
    let crossings = |part: &Part| crossing_pairs(&part.mesh, part.bvh()).len();
    assert!(crossings(&part(0.0)) > 3);
    let mended = part(0.3);
    assert_eq!(crossings(&mended), 0);
    let topology = Topology::of(&mended.mesh);
    assert!(topology.sound() && topology.components == 2);
    // What the bar held twice is held once: where two bars of one width cross at a right angle.
    let expected = eight.volume() - width.powi(3) + ball.volume();
    assert!(
        (mended.facts.volume_mm3 / expected - 1.0).abs() < 0.005,
        "{} {expected}",
        mended.facts.volume_mm3
    );
    // Flat faces stay where they are, and so do all points of the other piece.
    let top = mended.mesh.points.iter().filter(|p| p.z < 10.0).map(|p| p.z).fold(0.0, f64::max);
    assert!((top - 0.5 * width).abs() < 1e-4, "{top}");
    let held: std::collections::HashSet<[u64; 3]> =
        mended.mesh.points.iter().map(|p| p.to_array().map(f64::to_bits)).collect();
    let kept = ball.points.iter().map(|p| p.as_vec3().as_dvec3().to_array().map(f64::to_bits));
    assert!(kept.into_iter().all(|p| held.contains(&p)));
    assert!(
        mended.facts.changes.iter().any(|d| d.contains("wound anew")),
        "{:?}",
        mended.facts.changes
    );
    // Without crossings nothing is touched.
    let plain = stl::write(&ball);
    let mend = Mend { rewrap_mm: 0.3, ..Mend::default() };
    let whole = Part::of(
        &PartStep { mend, ..PartStep::plain(Unit::Mm) },
        |_| Ok::<_, Refused>(plain.clone()),
        &Limits::default(),
    )
    .unwrap();
    assert_eq!(whole.facts.triangles, ball.triangles.len());
}

#[test]
fn work_on_a_part_can_be_stopped_at_every_look_and_goes_on_otherwise() {
    let mut both = TriMesh::sphere(10.0, 4).filtered(|t| t != 7);
    both.append(&TriMesh::cuboid(DVec3::splat(20.0), DVec3::splat(26.0)));
    let file = stl::write(&both);
    let mend =
        Mend { holes_mm: 5.0, crumbs_mm3: 1.0, even_mm: 2.0, fewer_mm: 0.05, ..Mend::default() };
    let step = PartStep { mend, ..PartStep::plain(Unit::Mm) };
    let looks = AtomicUsize::new(0);
    let until = |most: usize| {
        looks.store(0, Ordering::Relaxed);
        let stopped = || looks.fetch_add(1, Ordering::Relaxed) >= most;
        Part::of::<Stopping, _>(&step, |_| Ok(&file), &Limits::until(&stopped)).map(|part| part.key)
    };
    let whole = until(usize::MAX);
    let all = looks.load(Ordering::Relaxed);
    assert!(whole.is_ok() && all > 8, "{all} looks");
    for most in 0..all {
        assert!(matches!(until(most), Err(Stopping(true))), "stopped at look {most} of {all}");
    }
    assert_eq!(until(all).ok(), whole.ok());
}

/// Was it no fault of the part, but somebody who stopped it?
struct Stopping(bool);

impl From<PartError> for Stopping {
    fn from(e: PartError) -> Stopping {
        Stopping(e.is_stopped())
    }
}
