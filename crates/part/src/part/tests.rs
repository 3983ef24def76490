use super::*;

#[test]
fn small_defects_are_told_and_leave_an_inside() {
    let ball = TriMesh::sphere(20.0, 4);
    let mut broken = ball.filtered(|t| t != 100 && t != 101);
    broken.triangles[7].swap(0, 1);
    let p = Part::prepare(&broken).unwrap();
    assert!(!p.facts.closed && p.facts.defects.len() == 2, "{:?}", p.facts.defects);
    assert!(p.distance.inside(DVec3::ZERO) && !p.distance.inside(DVec3::X * 21.0));
    assert!(Part::prepare(&ball).unwrap().facts.defects.is_empty());
}

#[test]
fn corners_are_where_sharp_edges_turn() {
    let b = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
    assert_eq!(Part::prepare(&b).unwrap().corners.len(), 8);
    assert!(Part::prepare(&TriMesh::sphere(20.0, 4)).unwrap().corners.is_empty());
}

#[test]
fn faces_are_found_again_on_a_slightly_changed_part() {
    let (mesh, _) = crate::demo::keel_bracket();
    let (old, new) = (
        Part::prepare(&mesh).unwrap(),
        Part::prepare(&mesh.clone().mapped(|p| p * 1.01 + 0.3)).unwrap(),
    );
    for f in old.faces().list.iter().take(12) {
        let (again, lost) = new.surface_of(&[mark(f)]);
        assert!(
            lost == 0 && (again.area() / f.area / 1.0201 - 1.0).abs() < 1e-6,
            "{:?} at {}: {lost}, {} of {}",
            f.kind,
            f.place,
            again.area(),
            f.area
        );
    }
    let far = FaceMark { place_mm: [500.0; 3], ..mark(&old.faces().list[0]) };
    assert_eq!(new.surface_of(&[far]).1, 1);
}

#[test]
fn what_encloses_nothing_is_refused() {
    let flat = TriMesh::cuboid(DVec3::ZERO, DVec3::new(10.0, 10.0, 0.0));
    assert!(Part::prepare(&flat).is_err_and(|e| e.to_string().contains("flat")));
    let huge = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(1e8));
    assert!(Part::prepare(&huge).is_err());
    let mut none = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
    none.triangles.clear();
    assert!(Part::prepare(&none).is_err());
}
