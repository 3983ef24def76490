//! Parts made ready: triangles made anew, sheets given thickness, pockets filled.

use glam::DVec3;
use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
use ulmix_formats::{stl, Limits};
use ulmix_mesh::{Bvh, Topology, TriMesh};
use ulmix_part::own_shapes;
use ulmix_part::{mark, Part};
use ulmix_recipe::{Mend, OwnShape, PartStep, Pocket, Recipe, Role, Shell, Thicken, Unit};

/// Why a part was refused.
type Refused = Box<dyn std::error::Error>;

fn part(mesh: &TriMesh, change: impl FnOnce(&mut PartStep)) -> Result<Part, Refused> {
    let mut step = PartStep::plain(Unit::Mm);
    change(&mut step);
    Part::of(&step, |_| Ok(stl::write(mesh)), &Limits::default())
}

fn mended(mesh: &TriMesh, mend: Mend) -> Part {
    part(mesh, |s| s.mend = mend).unwrap()
}

#[test]
fn a_bracket_of_even_triangles_is_the_same_bracket() {
    let bracket = ulmix_part::demo::keel_bracket().0;
    let even = mended(&bracket, Mend { even_mm: 4.0, ..Mend::default() });
    let t = Topology::of(&even.mesh);
    assert!(t.sound() && t.components == 1);
    assert!(
        (even.facts.volume_mm3 / bracket.volume() - 1.0).abs() < 2e-3,
        "{}",
        even.facts.volume_mm3
    );
    // Round rims are divided anew: chords of 4 mm on radii of 18 mm.
    assert!((DVec3::from(even.facts.size_mm) - bracket.bounds().size()).abs().max_element() < 0.15);
    assert!(
        even.facts.changes.len() == 1 && even.facts.changes[0].contains("of one size"),
        "{:?}",
        even.facts.changes
    );
    // Its faces are still what they were.
    let plain = Part::prepare(&bracket).unwrap();
    for face in plain.faces().list.iter().take(12) {
        let (again, lost) = even.surface_of(&[mark(face)]);
        assert!(
            lost == 0 && (again.area() / face.area - 1.0).abs() < 0.03,
            "{:?} {} {}",
            face.kind,
            face.area,
            again.area()
        );
    }
    let refused = part(&bracket, |s| s.mend.even_mm = 0.07).err().unwrap().to_string();
    assert!(refused.contains("million triangles"), "{refused}");
}

#[test]
fn a_number_of_triangles_is_kept_to() {
    let ball = TriMesh::sphere(20.0, 6);
    let few = mended(&ball, Mend { fewer_to: 3000, ..Mend::default() });
    assert!(
        few.facts.triangles <= 3000 && few.facts.triangles > 2800 && few.facts.closed,
        "{}",
        few.facts.triangles
    );
    let off = Bvh::new(&ball).nearest(few.mesh.middle(0), 1.0).unwrap().distance_squared.sqrt();
    assert!(off < 0.1, "{off}");
}

#[test]
fn an_open_hull_becomes_a_shell_that_is_filled() {
    let ball = TriMesh::sphere(30.0, 5);
    let hull = ball.filtered(|t| ball.middle(t).z > 0.0);
    let first = Part::first_shell(&stl::write(&hull), Unit::Mm, &Limits::default()).unwrap();
    assert_eq!(first, Some(Shell { thickness_mm: 1.5, front_percent: 50.0 }));
    let shell = part(&hull, |step| step.shell = first).unwrap();
    assert!(
        shell.facts.closed && (shell.facts.volume_mm3 / (1.5 * hull.area()) - 1.0).abs() < 0.01
    );
    // A flat one too, which encloses nothing by itself.
    let flat = own_shapes::mesh(&OwnShape::FreeForm {
        across: 2,
        points_mm: vec![[0.0, 0.0, 0.0], [40.0, 0.0, 0.0], [0.0, 30.0, 0.0], [40.0, 30.0, 0.0]],
    });
    assert!(part(&flat, |_| ()).err().unwrap().to_string().contains("flat"));
    let plate =
        part(&flat, |s| s.shell = Some(Shell { thickness_mm: 4.0, front_percent: 100.0 })).unwrap();
    assert!((plate.facts.volume_mm3 - 4800.0).abs() < 1e-3 && plate.facts.min_mm[2].abs() < 1e-9);
    let mut recipe = Recipe::for_part(&plate.mesh.bounds());
    recipe.structure.cell_mm = [6.0; 3];
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.0 };
    let made = Pipeline::new(0).run(&plate, &recipe, Quality::Final, &Unwatched).unwrap();
    assert!(Topology::of(&made.solid.mesh).sound());
    let share = 100.0 * made.report.volume_mm3 / plate.facts.volume_mm3;
    assert!((share - made.linked.fill.density_percent).abs() < 1.0, "{share}");
}

#[test]
fn a_pocket_is_filled_by_the_faces_around_it() {
    let size_mm = [40.0, 30.0, 20.0];
    let hollow = own_shapes::mesh(&OwnShape::HollowBox {
        size_mm,
        wall_mm: 4.0,
        open: true,
        corner_mm: 0.0,
    });
    let plain = Part::prepare(&hollow).unwrap();
    let inside = |p: DVec3| p.x.abs() < 16.5 && p.y.abs() < 11.5 && p.z > 3.9;
    // The rim around the opening lies higher than the middle of any wall.
    let faces: Vec<_> = plain
        .faces()
        .list
        .iter()
        .filter(|f| inside(f.place) && f.place.z < 19.0)
        .map(mark)
        .collect();
    assert_eq!(faces.len(), 5);
    let pocket = |faces: Vec<_>| Pocket { id: 1, name: "Pocket 1".into(), faces };
    let filled = part(&hollow, |s| s.pockets = vec![pocket(faces.clone())]).unwrap();
    assert_eq!((filled.facts.list.len(), filled.facts.bodies), (2, 1));
    assert!(
        (filled.facts.list[1].volume_mm3 - 32.0 * 22.0 * 16.0).abs() < 1e-3,
        "{:?}",
        filled.facts.list[1]
    );
    // Bodies within each other's boxes are weighed by points.
    assert!((filled.facts.volume_mm3 - 24_000.0).abs() < 100.0, "{}", filled.facts.volume_mm3);
    // Faces are still those of what came in.
    assert_eq!(filled.faces().list.len(), plain.faces().list.len());
    // The walls stay solid, and lattice fills the pocket.
    let walls_solid = part(&hollow, |s| {
        s.pockets = vec![pocket(faces.clone())];
        s.roles = [("Part".to_owned(), Role::KeepSolid)].into();
    })
    .unwrap();
    let mut recipe = Recipe::for_part(&walls_solid.mesh.bounds());
    recipe.structure.cell_mm = [8.0; 3];
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.2 };
    let made = Pipeline::new(0).run(&walls_solid, &recipe, Quality::Final, &Unwatched).unwrap();
    let t = Topology::of(&made.solid.mesh);
    assert!(t.sound() && t.components == 1, "{}", t.components);
    let expected = hollow.volume() + made.linked.fill.density_percent / 100.0 * 32.0 * 22.0 * 16.0;
    assert!(
        (made.report.volume_mm3 / expected - 1.0).abs() < 0.01,
        "{} {expected}",
        made.report.volume_mm3
    );
    // One face encloses nothing, and that is said.
    let open = part(&hollow, |s| s.pockets = vec![pocket(faces[..1].to_vec())]).unwrap();
    assert!(open.facts.defects[0].contains("do not enclose anything"), "{:?}", open.facts.defects);
}

#[test]
fn a_body_left_as_it_is_is_no_material_and_leaves_beside() {
    let mut both = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0));
    both.append(&TriMesh::sphere(4.0, 3).mapped(|p| p + DVec3::X * 40.0));
    let p = part(&both, |s| s.roles = [("Part 2".to_owned(), Role::Alongside)].into()).unwrap();
    assert!((p.facts.volume_mm3 - 8000.0).abs() < 1e-6);
    let [(name, ball)] = &p.alongside()[..] else { panic!() };
    assert!(name == "Part 2" && ball.triangles.len() == TriMesh::sphere(4.0, 3).triangles.len());
}

#[test]
fn faces_end_where_the_recipe_says() {
    // Sides of an icosahedron turn by 41.8°.
    let ball = own_shapes::mesh(&OwnShape::Geodesic { diameter_mm: 20.0, parts: 1 });
    let faces = |crease: Option<f64>| {
        part(&ball, |step| step.crease_deg = crease.unwrap_or(step.crease_deg)).unwrap()
    };
    let (first, low, high) = (faces(None), faces(Some(41.0)), faces(Some(43.0)));
    assert_eq!([&first, &low, &high].map(|p| p.faces().list.len()), [20, 20, 1]);
    // What follows from faces is made anew.
    assert!(first.key != low.key && first.key == faces(Some(28.0)).key);
}
