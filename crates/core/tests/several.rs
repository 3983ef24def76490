//! What people rely on of several structures in one part: each zone holds its own at its own density, the
//! whole is one sound mesh with a sharp or a blended border, and an edit redoes only what depends on it.

use glam::DVec3;
use std::sync::Mutex;
use ulmix_core::lattice::make;
use ulmix_core::part::Part;
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Stage, Unwatched, Watch};
use ulmix_core::recipe::{
    CellKind, ExtrudedKind, Filling, Joins, Kind, OwnFill, Place, Recipe, Role, SeededKind, Structure, SurfaceKind, Thicken, Zone,
};
use ulmix_core::report::Verdict;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};

const SIDE: f64 = 24.0;

fn cube() -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(SIDE))).unwrap()
}

fn upper_half(blend_mm: f64, kind: Kind, cell: f64, thicken: Thicken) -> Zone {
    let structure = Structure { kind, cell_mm: [cell; 3], ..Structure::default() };
    let place = Place::Box { centre_mm: [12.0, 12.0, 24.0], size_mm: [40.0, 40.0, 24.0], rotation_deg: [0.0; 3] };
    let own = Some(Box::new(OwnFill { structure, thicken, joins: Joins::default(), blend_mm }));
    Zone { own, ..Zone::new("Top", Role::Fill, place) }
}

fn recipe(part: &Part, kind: Kind, percent: f64, zone: Zone) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure = Structure { kind, cell_mm: [8.0; 3], ..Structure::default() };
    r.thicken = Thicken::RelativeDensity { percent };
    r.zones.list = vec![zone];
    r
}

fn run(part: &Part, recipe: &Recipe) -> Outcome {
    Pipeline::new(0).run(part, recipe, Quality::Final, &Unwatched).unwrap()
}

/// Solid share of a slab of the cube, from samples of the mesh. Percent.
fn solid_between(mesh: &TriMesh, low: f64, high: f64) -> f64 {
    const N: usize = 40;
    let distance = SignedDistance::new(mesh, &Topology::of(mesh));
    let middle = |n: usize| (n as f64 + 0.5) / N as f64;
    let at = |n: usize| DVec3::new(middle(n % N) * SIDE, middle(n / N % N) * SIDE, low + middle(n / (N * N)) * (high - low));
    let inside = (0..N * N * N).filter(|n| distance.inside(at(*n))).count();
    100.0 * inside as f64 / (N * N * N) as f64
}

fn sound(o: &Outcome) {
    let failed: Vec<_> = o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
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
    assert!((o.linked.fill.density_percent - 15.0).abs() < 0.5 && (own.density_percent - 40.0).abs() < 0.5);
    assert!((own.fill_volume_mm3 / (SIDE * SIDE * 12.0) - 1.0).abs() < 0.01);
    let (below, above) = (solid_between(&o.solid.mesh, 0.0, 12.0), solid_between(&o.solid.mesh, 12.0, SIDE));
    assert!((below - 15.0).abs() < 1.0 && (above - 40.0).abs() < 1.0, "{below} {above}");
    assert!((o.report.fill_density_percent - 27.5).abs() < 1.0, "{}", o.report.fill_density_percent);
}

#[test]
fn borders_are_flat_where_they_are_sharp() {
    let part = cube();
    let thin = Thicken::RelativeDensity { percent: 10.0 };
    let zone = upper_half(0.0, Kind::Surface(SurfaceKind::Gyroid), 8.0, thin);
    let r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 60.0, zone);
    let o = run(&part, &r);
    sound(&o);
    // The thick walls below end in the border's plane, exactly, where the thin ones above do not go on.
    let thick = |filling: &Filling, thickness| {
        make::structure(&part, filling.structure, filling.joins, &|| false).unwrap().thicken(thickness)
    };
    let lattices: Vec<_> = r.fillings().iter().zip(o.linked.fills()).map(|(f, l)| thick(f, l.thickness_mm)).collect();
    let at = |n: usize| DVec3::new((n % 300) as f64 + 0.5, (n / 300) as f64 + 0.5, 150.0) * (SIDE / 300.0);
    let ends = (0..300 * 300).filter(|n| lattices[0].value(at(*n)) < 0.0 && lattices[1].value(at(*n)) > 0.0).count();
    let expected = ends as f64 / (300.0 * 300.0) * SIDE * SIDE;
    let mesh = &o.solid.mesh;
    let flat = (0..mesh.triangles.len()).filter(|t| mesh.corners(*t).iter().all(|p| (p.z - 12.0).abs() < 1e-4));
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
            let foreseen = o.linked.lattice_volume_mm3() / o.linked.fill_volume_mm3() * 100.0;
            // Where two are mixed it is neither's density.
            let apart = if blend > 0.0 { 4.0 } else { 1.0 };
            let got = o.report.fill_density_percent;
            assert!((got - foreseen).abs() < apart, "{below:?} {above:?} {blend}: {got} for {foreseen}");
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
    let slabs: Vec<f64> = (0..6).map(|n| solid_between(&o.solid.mesh, 4.0 * n as f64, 4.0 * n as f64 + 4.0)).collect();
    assert!((slabs[0] - 15.0).abs() < 3.0 && (slabs[5] - 50.0).abs() < 4.0, "{slabs:?}");
    assert!(slabs[1..].windows(2).all(|w| w[1] > w[0] - 1.0), "{slabs:?}");
    assert!((slabs[2] + slabs[3]) / 2.0 > 27.0 && (slabs[2] + slabs[3]) / 2.0 < 38.0, "{slabs:?}");
}

#[test]
fn threads_make_no_difference() {
    let part = cube();
    let zone = upper_half(3.0, Kind::Cell(CellKind::Kelvin), 7.0, Thicken::Thickness { thickness_mm: 1.2 });
    let r = recipe(&part, Kind::Seeded(SeededKind::Voronoi), 20.0, zone);
    let with = |threads| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| run(&part, &r).solid.mesh.clone())
    };
    assert!(with(1) == with(2));
}

#[derive(Default)]
struct Redone(Mutex<Vec<Stage>>);
impl Watch for Redone {
    fn end(&self, stage: Stage, cached: bool) {
        if !cached {
            self.0.lock().unwrap().push(stage);
        }
    }
}

#[test]
fn a_zones_thickness_redoes_neither_zones_nor_skeletons() {
    let part = cube();
    let pipeline = Pipeline::new(256 << 20);
    let mut r = recipe(
        &part,
        Kind::Surface(SurfaceKind::Gyroid),
        20.0,
        upper_half(0.0, Kind::Seeded(SeededKind::Voronoi), 8.0, Thicken::Thickness { thickness_mm: 1.2 }),
    );
    pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap();
    r.mesh.step_mm = Some(0.4);
    pipeline.run(&part, &r, Quality::Final, &Unwatched).unwrap();
    r.zones.list[0].own.as_mut().unwrap().thicken = Thicken::Thickness { thickness_mm: 1.3 };
    let watch = Redone::default();
    pipeline.run(&part, &r, Quality::Final, &watch).unwrap();
    let redone = watch.0.into_inner().unwrap();
    assert!(redone.contains(&Stage::Lattice) && redone.contains(&Stage::Thickness), "{redone:?}");
    assert!(!redone.contains(&Stage::Zones) && !redone.contains(&Stage::Skeleton), "{redone:?}");
}

#[test]
fn unusable_values_of_a_zone_name_the_zone() {
    let part = cube();
    let mut zone = upper_half(0.0, Kind::Surface(SurfaceKind::Gyroid), 8.0, Thicken::Thickness { thickness_mm: 1.0 });
    zone.own.as_mut().unwrap().structure.cell_mm[0] = f64::NAN;
    let r = recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 20.0, zone);
    let e = r.validate(&part.mesh.bounds()).unwrap_err();
    assert_eq!(e.field, "zones.list.0.own.structure.cell_mm");
    assert!(e.message.contains("“Top”"), "{}", e.message);
    let far = Zone {
        place: Place::Sphere { centre_mm: [200.0; 3], radius_mm: 3.0 },
        ..upper_half(0.0, r.structure.kind, 8.0, r.thicken)
    };
    let o = run(&part, &recipe(&part, Kind::Surface(SurfaceKind::Gyroid), 20.0, far));
    assert!(o.report.notes.iter().any(|n| n.contains("“Top” fills nothing")), "{:?}", o.report.notes);
}
