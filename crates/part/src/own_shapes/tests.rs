use super::*;
use crate::part::Part;
use crate::sheet::shell_for;
use ulmix_mesh::faces::{faces, FaceForm, Faces};
use ulmix_mesh::Topology;
use ulmix_recipe::{Mend, PartStep, ProfilePoint, Section, Unit};

fn revolved(points: &[[f64; 3]], axis_mm: f64) -> OwnShape {
    let points =
        points.iter().map(|&[x, y, bow_mm]| ProfilePoint { at_mm: [x, y], bow_mm }).collect();
    OwnShape::Revolved { points, axis_mm, steps: 96, sheet: false }
}

fn lofted(sections: &[(f64, [f64; 2], f64, f64)]) -> OwnShape {
    let section = |&(height, size, round, turn): &_| Section::rounded(height, size, round, turn);
    OwnShape::Loft {
        sections: sections.iter().map(section).collect(),
        smooth: false,
        sheet: false,
        open: false,
    }
}

/// Some sections as curves through points.
fn drawn(loft: OwnShape, which: &[usize], curve: &[[f64; 2]]) -> OwnShape {
    let OwnShape::Loft { mut sections, smooth, sheet, open } = loft else { unreachable!() };
    which.iter().for_each(|&n| sections[n].curve_mm = curve.to_vec());
    OwnShape::Loft { sections, smooth, sheet, open }
}

#[test]
fn drawn_sections_may_be_hollow_and_open_ones_make_a_sheet() {
    // A crescent: its caps are not convex.
    let crescent = [[10.0, 0.0], [0.0, 8.0], [-10.0, 0.0], [0.0, 4.0]];
    let tall =
        drawn(lofted(&[(0.0, [1.0; 2], 0.0, 0.0), (9.0, [1.0; 2], 0.0, 0.0)]), &[0, 1], &crescent);
    tall.validate().unwrap();
    let m = mesh(&tall);
    let cap = m.volume() / 9.0;
    assert!(Topology::of(&m).sound() && cap > 40.0 && cap < 80.0, "{cap}");
    let OwnShape::Loft { sections, smooth, .. } = tall else { unreachable!() };
    let open = OwnShape::Loft { sections, smooth, sheet: false, open: true };
    open.validate().unwrap();
    let m = mesh(&open);
    let t = Topology::of(&m);
    assert!(t.components == 1 && t.open_edges > 0 && ulmix_mesh::holes::holes(&m).len() == 1);
    // Points that are straight above each other: a wall as high as the loft along the whole
    // curve.
    let long: f64 = m.area() / 9.0;
    assert!(long > 3.0 * 10.0 && long < 50.0, "{long}");
    assert!(lofted(&[(0.0, [1.0; 2], 0.0, 0.0), (9.0, [1.0; 2], 0.0, 0.0)]).validate().is_ok());
    let bow_tie = [[0.0, 0.0], [10.0, 10.0], [10.0, 0.0], [0.0, 10.0]];
    let refused =
        drawn(lofted(&[(0.0, [1.0; 2], 0.0, 0.0), (9.0, [1.0; 2], 0.0, 0.0)]), &[1], &bow_tie)
            .validate();
    assert!(refused.unwrap_err().message().contains("section 2"));
}

#[test]
fn a_smooth_loft_passes_its_sections_and_never_goes_beyond_them() {
    let OwnShape::Loft { mut sections, .. } = lofted(&[
        (0.0, [20.0, 20.0], 0.0, 0.0),
        (10.0, [40.0, 20.0], 50.0, 30.0),
        (30.0, [40.0, 10.0], 100.0, 30.0),
    ]) else {
        unreachable!()
    };
    sections[2].middle_mm = [5.0, 0.0];
    let m = mesh(&OwnShape::Loft { sections, smooth: true, sheet: false, open: false });
    assert!(Topology::of(&m).sound());
    // Above the second section nothing is wider than what both say, turned by 30° and moved by
    // 5.
    let back = glam::DQuat::from_rotation_z(-30f64.to_radians());
    let upper = m.points.iter().filter(|p| p.z >= 10.0);
    let across = upper
        .map(|p| (back * *p).x)
        .fold([f64::INFINITY, f64::NEG_INFINITY], |[a, b], x| [a.min(x), b.max(x)]);
    assert!(across[0] > -20.0 - 1e-9 && across[1] < 20.0 + 5.0 && across[1] > 20.0, "{across:?}");
}

#[test]
fn every_shape_is_sound_and_has_its_textbook_volume() {
    let size_mm = [60.0, 40.0, 12.0];
    let r = 5.0f64;
    // A rounded box: the inner box, its six slabs, twelve quarter cylinders and one ball.
    let [x, y, z] = size_mm.map(|s| s - 2.0 * r);
    let round = x * y * z
        + 2.0 * r * (x * y + y * z + z * x)
        + PI * r * r * (x + y + z)
        + 4.0 / 3.0 * PI * r.powi(3);
    let circle: Vec<[f64; 2]> =
        (0..12).map(|n| (DVec2::from_angle(TAU * n as f64 / 12.0) * 10.0).to_array()).collect();
    let cases = [
        (OwnShape::Box { size_mm, round_mm: 0.0 }, 28_800.0, 1),
        (OwnShape::Box { size_mm, round_mm: r }, round, 1),
        (
            OwnShape::HollowBox { size_mm, wall_mm: 2.0, open: true, corner_mm: 0.0 },
            28_800.0 - 56.0 * 36.0 * 10.0,
            1,
        ),
        (
            OwnShape::HollowBox { size_mm, wall_mm: 2.0, open: false, corner_mm: 0.0 },
            28_800.0 - 56.0 * 36.0 * 8.0,
            2,
        ),
        // Four corners outside lose (4 - π) r², and inside as much less as the radius is
        // smaller.
        (
            OwnShape::HollowBox { size_mm, wall_mm: 2.0, open: true, corner_mm: 5.0 },
            (2400.0 - (4.0 - PI) * 25.0) * 12.0 - (56.0 * 36.0 - (4.0 - PI) * 9.0) * 10.0,
            1,
        ),
        (
            OwnShape::HollowBox { size_mm, wall_mm: 2.0, open: false, corner_mm: 1.5 },
            (2400.0 - (4.0 - PI) * 2.25) * 12.0 - 56.0 * 36.0 * 8.0,
            2,
        ),
        (OwnShape::Sphere { diameter_mm: 20.0 }, 4.0 / 3.0 * PI * 1000.0, 1),
        (OwnShape::Cylinder { diameter_mm: 20.0, height_mm: 15.0, sheet: false }, PI * 1500.0, 1),
        (
            OwnShape::Cone { bottom_mm: 20.0, top_mm: 0.0, height_mm: 15.0, sheet: false },
            PI * 500.0,
            1,
        ),
        (
            OwnShape::Cone { bottom_mm: 20.0, top_mm: 10.0, height_mm: 12.0, sheet: false },
            PI * 4.0 * 175.0,
            1,
        ),
        (
            OwnShape::Tube { diameter_mm: 20.0, bore_mm: 12.0, height_mm: 15.0 },
            PI * (100.0 - 36.0) * 15.0,
            1,
        ),
        (OwnShape::Torus { diameter_mm: 40.0, thickness_mm: 8.0 }, 2.0 * PI * PI * 16.0 * 16.0, 1),
        (
            OwnShape::Plate { size_mm, corner_mm: 6.0, hole_mm: 4.0 },
            (2400.0 - (4.0 - PI) * 36.0 - 4.0 * PI * 4.0) * 12.0,
            1,
        ),
        (OwnShape::Plate { size_mm, corner_mm: 0.0, hole_mm: 0.0 }, 28_800.0, 1),
        (OwnShape::Geodesic { diameter_mm: 20.0, parts: 24 }, 4.0 / 3.0 * PI * 1000.0, 1),
        // A square of 6 around a radius of 10, about an axis off the drawing's (Pappus), and a
        // ball of two points.
        (
            revolved(
                &[[11.0, 0.0, 0.0], [17.0, 0.0, 0.0], [17.0, 6.0, 0.0], [11.0, 6.0, 0.0]],
                4.0,
            ),
            2.0 * PI * 10.0 * 36.0,
            1,
        ),
        (revolved(&[[0.0, -10.0, 10.0], [0.0, 10.0, 0.0]], 0.0), 4.0 / 3.0 * PI * 1000.0, 1),
        // Frustum of a pyramid, and a prism of an ellipse that turns by a quarter.
        (
            lofted(&[(0.0, [20.0, 30.0], 0.0, 0.0), (12.0, [10.0, 15.0], 0.0, 0.0)]),
            4.0 * (600.0 + 300.0 + 150.0),
            1,
        ),
        (
            lofted(&[(0.0, [20.0, 30.0], 100.0, 0.0), (5.0, [20.0, 30.0], 100.0, 90.0)]),
            PI * 150.0 * 5.0,
            1,
        ),
        // A drawn circle of 12 points that turns, and one that shrinks to an ellipse: a
        // frustum.
        (
            drawn(
                lofted(&[(0.0, [1.0; 2], 0.0, 0.0), (6.0, [1.0; 2], 0.0, 45.0)]),
                &[0, 1],
                &circle,
            ),
            PI * 100.0 * 6.0,
            1,
        ),
        (
            drawn(
                lofted(&[(0.0, [1.0; 2], 0.0, 0.0), (6.0, [10.0; 2], 100.0, 0.0)]),
                &[0],
                &circle,
            ),
            PI * 175.0 * 2.0,
            1,
        ),
    ];
    for (shape, volume, components) in cases {
        let m = mesh(&shape);
        let t = Topology::of(&m);
        assert!(t.sound() && t.components == components, "{shape:?}");
        assert!((m.volume() / volume - 1.0).abs() < 4e-3, "{shape:?}: {} for {volume}", m.volume());
    }
}

#[test]
fn sheets_are_one_open_surface_of_even_pieces_and_become_shells() {
    let sheeted = |shape: OwnShape| match shape {
        OwnShape::Revolved { points, axis_mm, steps, .. } => {
            OwnShape::Revolved { points, axis_mm, steps, sheet: true }
        }
        OwnShape::Loft { sections, smooth, open, .. } => {
            OwnShape::Loft { sections, smooth, sheet: true, open }
        }
        other => other,
    };
    let square = [-10.0, 10.0].map(|y| [-10.0, 10.0].map(|x| [x, y, 0.0]));
    let cases = [
        (OwnShape::Cylinder { diameter_mm: 20.0, height_mm: 15.0, sheet: true }, PI * 300.0, 2),
        (
            OwnShape::Cone { bottom_mm: 20.0, top_mm: 8.0, height_mm: 8.0, sheet: true },
            PI * 14.0 * 10.0,
            2,
        ),
        // A bowl: a quarter of a circle from the axis on.
        (
            sheeted(revolved(&[[0.0, -10.0, 10.0 - 50f64.sqrt()], [10.0, 0.0, 0.0]], 0.0)),
            TAU * 100.0,
            1,
        ),
        (
            sheeted(lofted(&[(0.0, [20.0, 20.0], 0.0, 0.0), (5.0, [20.0, 20.0], 0.0, 0.0)])),
            400.0,
            2,
        ),
        (OwnShape::FreeForm { across: 2, points_mm: square.concat() }, 400.0, 1),
    ];
    for (shape, area, rims) in cases {
        shape.validate().unwrap();
        let m = mesh(&shape);
        let t = Topology::of(&m);
        assert!(
            t.components == 1
                && t.flipped_edges + t.non_manifold_edges + t.non_manifold_vertices == 0,
            "{shape:?}"
        );
        assert_eq!(ulmix_mesh::holes::holes(&m).len(), rims, "{shape:?}");
        assert!((m.area() / area - 1.0).abs() < 4e-3, "{shape:?}: {} for {area}", m.area());
        let shell = ulmix_mesh::shell::thicken(&m, 0.5, 0.5);
        assert!(
            Topology::of(&shell).sound() && (shell.volume() / (0.5 * area) - 1.0).abs() < 0.01,
            "{shape:?}"
        );
    }
    let ragged = OwnShape::FreeForm { across: 3, points_mm: vec![[0.0; 3]; 7] };
    assert!(ragged.validate().is_err());
}

#[test]
fn faces_of_own_shapes_are_recognised() {
    let kinds = |shape: OwnShape| {
        faces(&mesh(&shape), 28.0).list.into_iter().map(|f| f.kind).collect::<Vec<_>>()
    };
    let tube = kinds(OwnShape::Tube { diameter_mm: 20.0, bore_mm: 12.0, height_mm: 15.0 });
    let radii: Vec<f64> = tube
        .iter()
        .filter_map(|k| if let FaceForm::Cylinder { radius } = k { Some(*radius) } else { None })
        .collect();
    assert!(
        tube.len() == 4 && (radii[0] - 10.0).abs() < 1e-3 && (radii[1] - 6.0).abs() < 1e-3,
        "{tube:?}"
    );
    let plate = kinds(OwnShape::Plate { size_mm: [60.0, 40.0, 5.0], corner_mm: 6.0, hole_mm: 4.0 });
    assert_eq!(plate.iter().filter(|k| **k == FaceForm::Plane).count(), 6, "{plate:?}");
    assert_eq!(
        plate.iter().filter(|k| matches!(k, FaceForm::Cylinder { .. })).count(),
        8,
        "{plate:?}"
    );
    let cone =
        kinds(OwnShape::Cone { bottom_mm: 20.0, top_mm: 8.0, height_mm: 12.0, sheet: false });
    assert!(cone.iter().any(|k| matches!(k, FaceForm::Cone { .. })), "{cone:?}");
    assert!(matches!(kinds(OwnShape::Sphere { diameter_mm: 20.0 })[..], [FaceForm::Sphere { .. }]));
    assert!(matches!(
        kinds(OwnShape::Torus { diameter_mm: 40.0, thickness_mm: 8.0 })[..],
        [FaceForm::Free]
    ));
}
/// How many faces of each kind there are.
fn counts(found: &Faces) -> [usize; 5] {
    let mut out = [0; 5];
    for face in &found.list {
        out[match face.kind {
            FaceForm::Plane => 0,
            FaceForm::Cylinder { .. } => 1,
            FaceForm::Cone { .. } => 2,
            FaceForm::Sphere { .. } => 3,
            FaceForm::Free => 4,
        }] += 1;
    }
    out
}

#[test]
fn faces_of_every_first_shape_are_the_same_turned_and_of_other_triangles() {
    let turn = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.7, -1.1, 2.3);
    for (name, shape) in first_shapes() {
        let m = mesh(&shape);
        let found = counts(&faces(&m, 28.0));
        let turned = m.clone().mapped(|p| turn * p + DVec3::new(300.0, -20.0, 7.0));
        assert_eq!(counts(&faces(&turned, 28.0)), found, "{name}, turned");
        // Sheets come to have two sides and rims.
        if shell_for(&m).unwrap().is_none() {
            let mend = Mend { even_mm: m.bounds().size().max_element() / 40.0, ..Mend::default() };
            let step = PartStep { shape: Some(shape), mend, ..PartStep::plain(Unit::Mm) };
            let part = Part::of::<Box<dyn std::error::Error>, _>(
                &step,
                |_| Ok(Vec::new()),
                &ulmix_formats::Limits::default(),
            )
            .unwrap();
            assert!(part.mesh.triangles.len() != m.triangles.len());
            assert_eq!(
                counts(part.faces()),
                found,
                "{name}, of {} even triangles",
                part.mesh.triangles.len()
            );
        }
    }
}
