//! What people rely on of several structures in one part: each zone holds its own at its own
//! density, the whole is one sound mesh with a sharp or a blended border, and an edit redoes only
//! what depends on it.

mod coarser;
mod redone;

use coarser::run;
use glam::DVec3;
use proptest::prelude::*;
use redone::Redone;
use ulmix_check::Verdict;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Stage, Unwatched};
use ulmix_lattice::make;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::{
    CellKind, ExtrudedKind, Filling, Joins, Kind, OwnFill, Place, Recipe, Role, SeededKind, Skin,
    Structure, SurfaceKind, Thicken, Zone,
};

const SIDE: f64 = 24.0;

fn cube() -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(SIDE))).unwrap()
}

fn upper_half(blend_mm: f64, kind: Kind, cell: f64, thicken: Thicken) -> Zone {
    let structure = Structure { cell_mm: [cell; 3], ..Structure::of_kind(kind) };
    let place = Place::Box {
        centre_mm: [12.0, 12.0, 24.0],
        size_mm: [40.0, 40.0, 24.0],
        rotation_deg: [0.0; 3],
    };
    let own = Some(Box::new(OwnFill {
        structure,
        thicken,
        joins: Joins::default(),
        blend_mm,
        gradings: Vec::new(),
        loose_ends: false,
    }));
    Zone { own, ..Zone::new(1, "Top", Role::Fill, place) }
}

fn recipe(part: &Part, kind: Kind, percent: f64, zone: Zone) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure = Structure { cell_mm: [8.0; 3], ..Structure::of_kind(kind) };
    r.thicken = Thicken::RelativeDensity { percent };
    r.zones.list = vec![zone];
    r
}

/// Solid share of a slab of the cube, from samples of the mesh. Percent.
fn solid_between(mesh: &TriMesh, low: f64, high: f64) -> f64 {
    const N: usize = 40;
    let distance = SignedDistance::new(mesh, &Topology::of(mesh));
    let middle = |n: usize| (n as f64 + 0.5) / N as f64;
    let at = |n: usize| {
        DVec3::new(
            middle(n % N) * SIDE,
            middle(n / N % N) * SIDE,
            low + middle(n / (N * N)) * (high - low),
        )
    };
    let inside = (0..N * N * N).filter(|n| distance.inside(at(*n))).count();
    100.0 * inside as f64 / (N * N * N) as f64
}

fn sound(o: &Outcome) {
    let failed: Vec<_> =
        o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
    assert!(failed.is_empty(), "{failed:?}");
}

#[test]
fn each_zone_has_its_own_structure_at_its_own_density() {
    let part = cube();
    let dense = Thicken::RelativeDensity { percent: 40.0 };
    let zone = upper_half(0.0, Kind::Surface(SurfaceKind::SchwarzP), 6.0, dense);
    let o = run(&part, &recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 15.0, zone));
    sound(&o);
    let own = o.linked.own[0].as_ref().unwrap();
    assert!(
        (o.linked.fill.density_percent - 15.0).abs() < 0.5
            && (own.density_percent - 40.0).abs() < 0.5
    );
    assert!((own.fill_volume_mm3 / (SIDE * SIDE * 12.0) - 1.0).abs() < 0.01);
    let (below, above) =
        (solid_between(&o.solid.mesh, 0.0, 12.0), solid_between(&o.solid.mesh, 12.0, SIDE));
    assert!((below - 15.0).abs() < 1.0 && (above - 40.0).abs() < 1.0, "{below} {above}");
    assert!(
        (o.report.fill_density_percent - 27.5).abs() < 1.0,
        "{}",
        o.report.fill_density_percent
    );
}

#[test]
fn a_band_along_a_blended_border_holds_as_much_as_either_side_and_joins_them() {
    let part = cube();
    let percent = 20.0;
    let asked = Thicken::RelativeDensity { percent };
    use CellKind::{BodyCentred, Octet};
    for (around, own) in [
        (Kind::Surface(SurfaceKind::Gyroid), Kind::Surface(SurfaceKind::SchwarzD)),
        (Kind::Surface(SurfaceKind::Gyroid), Kind::Cell(Octet)),
        (Kind::Cell(BodyCentred), Kind::Cell(Octet)),
        (Kind::Seeded(SeededKind::Voronoi), Kind::Extruded(ExtrudedKind::Hexagons)),
    ] {
        for blend in [4.0, 8.0] {
            let mut r = recipe(&part, around, percent, upper_half(blend, own, 7.0, asked));
            // Walls that pass a corner of the cube alone are no matter of the border.
            r.mesh.crumb_mm3 = Some(2.0);
            let o = run(&part, &r);
            sound(&o);
            assert_eq!(Topology::of(&o.solid.mesh).components, 1, "{around:?} {own:?} {blend}");
            assert!(
                (o.report.fill_density_percent - percent).abs() < 1.0,
                "{around:?} {own:?} {blend}: {}",
                o.report.fill_density_percent
            );
            // Halves of the band, and the middle alone.
            let held = |low: f64, high: f64| {
                solid_between(&o.solid.mesh, 12.0 + low * blend, 12.0 + high * blend)
            };
            let (lower, middle, upper) = (held(-0.5, 0.0), held(-0.15, 0.15), held(0.0, 0.5));
            let all = [lower, middle, upper];
            assert!(
                all.iter().all(|share| *share > 0.65 * percent && *share < 1.6 * percent),
                "{around:?} {own:?} {blend}: {all:?}"
            );
        }
    }
}

#[test]
fn struts_of_neighbouring_zones_meet_unless_loose_ends_are_asked_for() {
    let part = cube();
    let thick = |thickness_mm: f64| Thicken::Thickness { thickness_mm };
    let mut zone = upper_half(0.0, Kind::Cell(CellKind::Cubic), 6.0, thick(1.0));
    let mut r = recipe(&part, Kind::Cell(CellKind::Cubic), 15.0, zone.clone());
    // No upright strut of one half stands on one of the other, and no level one lies at the border.
    r.structure.shift_mm = [4.0; 3];
    r.thicken = thick(1.4);
    for (loose_ends, blend_mm, components) in [(true, 0.0, 2), (false, 0.0, 1), (false, 0.8, 1)] {
        let own = zone.own.as_mut().unwrap();
        own.structure.shift_mm = [3.0; 3];
        (own.loose_ends, own.joins.blend_mm, r.joins.blend_mm) = (loose_ends, blend_mm, blend_mm);
        r.zones.list = vec![zone.clone()];
        let o = run(&part, &r);
        let t = Topology::of(&o.solid.mesh);
        assert!(
            t.sound() && t.components == components,
            "{loose_ends} {blend_mm}: {} pieces",
            t.components
        );
        assert_eq!(o.solid.crossings.as_ref().map(Vec::len), Some(0));
        let ties = o.linked.own[0].as_ref().unwrap().ties;
        assert_eq!(ties > 0, !loose_ends, "{ties}");
        if !loose_ends {
            // Along the border between two ends, as thick as either of them there.
            let distance = SignedDistance::new(&o.solid.mesh, &t);
            let (own, other) = (DVec3::new(9.0, 9.0, 12.0), DVec3::new(8.0, 8.0, 12.0));
            for (p, radius) in [(own.lerp(other, 0.5), 0.6), (DVec3::new(11.0, 9.0, 12.0), -1.0)] {
                let d = distance.value(p);
                assert!(if radius > 0.0 { (-0.9..-0.4).contains(&d) } else { d > 0.0 }, "{p}: {d}");
            }
        }
    }
}

#[test]
fn borders_are_flat_where_they_are_sharp() {
    let part = cube();
    let thin = Thicken::RelativeDensity { percent: 10.0 };
    let zone = upper_half(0.0, Kind::Surface(SurfaceKind::Gyroid), 8.0, thin);
    let r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 60.0, zone);
    let o = run(&part, &r);
    sound(&o);
    // The thick walls below end in the border's plane, exactly, where the thin ones above do not go
    // on.
    let thick = |filling: &Filling, thickness| {
        make::structure(&part, filling.structure, filling.joins, &|| false)
            .unwrap()
            .thicken(thickness)
    };
    let lattices: Vec<_> =
        r.fillings().iter().zip(o.linked.fills()).map(|(f, l)| thick(f, l.thickness_mm)).collect();
    let at = |n: usize| {
        DVec3::new((n % 300) as f64 + 0.5, (n / 300) as f64 + 0.5, 150.0) * (SIDE / 300.0)
    };
    let ends = (0..300 * 300)
        .filter(|n| lattices[0].value(at(*n)) < 0.0 && lattices[1].value(at(*n)) > 0.0)
        .count();
    let expected = ends as f64 / (300.0 * 300.0) * SIDE * SIDE;
    let mesh = &o.solid.mesh;
    let flat = (0..mesh.triangles.len())
        .filter(|t| mesh.corners(*t).iter().all(|p| (p.z - 12.0).abs() < 1e-3));
    let area: f64 = flat.map(|t| mesh.area_vector(t).z / 2.0).sum();
    assert!(expected > 200.0 && (area / expected - 1.0).abs() < 0.04, "{area} for {expected}");
}

#[test]
fn every_family_passes_into_every_other() {
    let part = cube();
    let families = [
        Kind::Surface(SurfaceKind::Gyroid),
        Kind::Cell(CellKind::Octet),
        Kind::Extruded(ExtrudedKind::Hexagons),
        Kind::Seeded(SeededKind::Voronoi),
    ];
    for (n, below) in families.into_iter().enumerate() {
        for blend in [0.0, 4.0] {
            let above = families[(n + 1) % families.len()];
            let zone = upper_half(blend, above, 7.0, Thicken::Thickness { thickness_mm: 1.3 });
            let o = run(&part, &recipe(&part, below, 25.0, zone));
            sound(&o);
            let estimated = o.linked.lattice_volume_mm3() / o.linked.fill_volume_mm3() * 100.0;
            // Where two are mixed it is neither's density.
            let apart = if blend > 0.0 { 4.0 } else { 1.0 };
            let got = o.report.fill_density_percent;
            assert!(
                (got - estimated).abs() < apart,
                "{below:?} {above:?} {blend}: {got} for {estimated}"
            );
        }
    }
}

#[test]
fn a_blended_border_has_no_step() {
    // The same structure, thick above and thin below: over the border its walls grow.
    let part = cube();
    let kind = Kind::Surface(SurfaceKind::Gyroid);
    let zone = upper_half(12.0, kind, 8.0, Thicken::RelativeDensity { percent: 50.0 });
    let o = run(&part, &recipe(&part, kind, 15.0, zone));
    sound(&o);
    let slabs: Vec<f64> = (0..6)
        .map(|n| solid_between(&o.solid.mesh, 4.0 * n as f64, 4.0 * n as f64 + 4.0))
        .collect();
    assert!((slabs[0] - 15.0).abs() < 3.0 && (slabs[5] - 50.0).abs() < 4.0, "{slabs:?}");
    assert!(slabs[1..].windows(2).all(|w| w[1] > w[0] - 1.0), "{slabs:?}");
    assert!((slabs[2] + slabs[3]) / 2.0 > 27.0 && (slabs[2] + slabs[3]) / 2.0 < 38.0, "{slabs:?}");
}

#[test]
fn threads_make_no_difference() {
    let part = cube();
    let zone = upper_half(
        3.0,
        Kind::Cell(CellKind::Kelvin),
        7.0,
        Thicken::Thickness { thickness_mm: 1.2 },
    );
    let r = recipe(&part, Kind::Seeded(SeededKind::Voronoi), 20.0, zone);
    let with = |threads| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| run(&part, &r).solid.mesh.clone())
    };
    assert!(with(1) == with(2));
}

#[test]
fn a_zones_thickness_redoes_neither_zones_nor_skeletons() {
    let part = cube();
    let pipeline = Pipeline::new(256 << 20);
    let mut r = recipe(
        &part,
        Kind::Surface(SurfaceKind::Gyroid),
        20.0,
        upper_half(
            0.0,
            Kind::Seeded(SeededKind::Voronoi),
            8.0,
            Thicken::Thickness { thickness_mm: 1.2 },
        ),
    );
    pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap();
    r.mesh.step_mm = Some(0.4);
    pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap();
    r.zones.list[0].own.as_mut().unwrap().thicken = Thicken::Thickness { thickness_mm: 1.3 };
    let watch = Redone::default();
    pipeline.run(&part, &r, Quality::Final, &watch).unwrap();
    let redone = watch.stages();
    assert!(redone.contains(&Stage::Lattice) && redone.contains(&Stage::Thickness), "{redone:?}");
    assert!(!redone.contains(&Stage::Zones) && !redone.contains(&Stage::Skeleton), "{redone:?}");
}

#[test]
fn unusable_values_of_a_zone_name_the_zone() {
    let part = cube();
    let mut zone = upper_half(
        0.0,
        Kind::Surface(SurfaceKind::Gyroid),
        8.0,
        Thicken::Thickness { thickness_mm: 1.0 },
    );
    zone.own.as_mut().unwrap().structure.cell_mm[0] = f64::NAN;
    let r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 20.0, zone);
    let e = r.validate(&part.mesh.bounds()).unwrap_err();
    assert_eq!(e.field, "zones.list.0.own.structure.cell_mm");
    assert!(e.message().contains("“Top”"), "{}", e.message());
    let far = Zone {
        place: Place::Sphere { centre_mm: [200.0; 3], radius_mm: 3.0 },
        ..upper_half(0.0, r.structure.kind(), 8.0, r.thicken)
    };
    let o = run(&part, &recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 20.0, far));
    assert!(
        o.report.notes.iter().any(|n| n.text.contains("“Top” fills nothing")),
        "{:?}",
        o.report.notes
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]
    #[test]
    fn any_two_zones_in_any_order_give_a_closed_manifold(
        kinds in proptest::array::uniform3(proptest::sample::select(Kind::all())),
        cell in proptest::array::uniform3(5.0..13.0f64),
        percent in proptest::array::uniform3(15.0..70.0f64),
        turn in proptest::array::uniform3(-90.0..90.0f64),
        at in proptest::array::uniform3(2.0..20.0f64),
        blend in proptest::array::uniform2(prop_oneof![Just(0.0), 0.0..9.0f64]),
        flow in proptest::array::uniform2(prop_oneof![Just(0.0), 0.2..2.0f64]),
        depth in prop_oneof![Just(0.0), 0.2..3.0f64],
        apart in prop_oneof![Just(None), Just(Some(0.0))],
        plain in any::<bool>(),
    ) {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(22.0, 18.0, 14.0))).unwrap();
        let mut r = Recipe::for_part(&part.mesh.bounds());
        let filling = |n: usize| Structure { cell_mm: [cell[n]; 3], ..Structure::of_kind(kinds[n]) };
        let dense = |n: usize| Thicken::RelativeDensity { percent: percent[n] };
        (r.structure, r.thicken) = (filling(0), dense(0));
        let places = [
            Place::Box { centre_mm: at, size_mm: [9.0, 14.0, 8.0], rotation_deg: turn },
            Place::Cylinder { base_mm: [at[2], at[0], -3.0], axis_mm: [1.0, 2.0, 20.0], radius_mm: 5.0 },
        ];
        for (n, place) in places.into_iter().enumerate() {
            let joins = Joins { blend_mm: flow[n], ..Joins::default() };
            let (structure, thicken) = (filling(n + 1), dense(n + 1));
            let own = OwnFill { structure, thicken, joins, gradings: Vec::new(), blend_mm: blend[n], loose_ends: false };
            r.zones.list.push(Zone { own: Some(Box::new(own)), ..Zone::new(n as u32 + 1, "own", Role::Fill, place) });
        }
        if plain {
            // Filled as the rest is, before the others: it hides them.
            let ball = Place::Sphere { centre_mm: [11.0, 9.0, 7.0], radius_mm: 4.0 };
            r.zones.list.insert(0, Zone::new(3, "as the rest", Role::Fill, ball));
        }
        if depth > 0.0 {
            r.zones.skins.push(Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: depth });
        }
        r.mesh.apart_mm = apart;
        r.mesh.step_mm = Some(0.55);
        let o = run(&part, &r);
        let t = Topology::of(&o.solid.mesh);
        prop_assert!(t.sound(), "{:?}", (t.open_edges, t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices));
        prop_assert!(o.solid.mesh.volume() > 0.0);
        // Walls and skins thinner than the step come out in shreds, and the report says so.
        let skin = if depth > 0.0 { depth } else { f64::INFINITY };
        let thinnest = o.linked.fills().map(|f| f.thickness_mm).fold(skin, f64::min);
        if thinnest <= o.step_mm {
            let steps = o.report.checks.as_ref().and_then(|all| all.iter().find(|c| c.id == "resolution"));
            prop_assert!(steps.is_some_and(|c| c.verdict == Verdict::Fail), "{:?}", steps);
        }
        prop_assume!(thinnest > o.step_mm);
        prop_assert_eq!(o.solid.crossings.as_ref().map(Vec::len), Some(0));
    }
}
