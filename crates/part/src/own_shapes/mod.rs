//! Meshes of [`OwnShape`]s, closed and outward; sheets are grids along two directions.
//!
//! | module | idea |
//! |---|---|
//! | `first` | shapes to begin with |
//! | `loft` | a surface through outlines at several heights |
//! | `free_form` | a sheet over a grid of control points |

mod first;
mod free_form;
mod loft;

pub use first::first_shapes;

use crate::builder::{circle, flat, revolve, rounded_rectangle, Builder};
use glam::{DVec2, DVec3};
use serde::Serialize;
use std::f64::consts::{FRAC_PI_2, PI, TAU};
use ulmix_mesh::weld::weld;
use ulmix_mesh::TriMesh;
use ulmix_recipe::profile::{self, arc, AROUND};
use ulmix_recipe::OwnShape;
use utoipa::ToSchema;

/// Of a shape that [`OwnShape::validate`] accepts.
pub fn mesh(shape: &OwnShape) -> TriMesh {
    if let Some(grid) = grid(shape) {
        return welded(&free_form::sheet(&grid));
    }
    welded(&match *shape {
        OwnShape::Box { size_mm: [x, y, z], round_mm } => {
            let (half, up) = (DVec3::new(x, y, z) * 0.5, DVec3::Z * (0.5 * z));
            if round_mm > 0.0 {
                rounded(half, round_mm).mapped(|p| p + up)
            } else {
                TriMesh::cuboid(up - half, up + half)
            }
        }
        OwnShape::HollowBox { size_mm: [x, y, z], wall_mm, open, corner_mm } => {
            hollow(DVec3::new(x, y, z), wall_mm, open, corner_mm)
        }
        OwnShape::Sphere { diameter_mm } => {
            let r = 0.5 * diameter_mm;
            let profile: Vec<DVec2> = arc(DVec2::new(0.0, r), r, -FRAC_PI_2, FRAC_PI_2, AROUND / 2)
                .map(on_axis)
                .collect();
            revolve(&profile, AROUND)
        }
        OwnShape::Cylinder { diameter_mm, height_mm, .. } => {
            let r = 0.5 * diameter_mm;
            revolve(
                &[(0.0, 0.0), (r, 0.0), (r, height_mm), (0.0, height_mm)].map(DVec2::from),
                AROUND,
            )
        }
        OwnShape::Cone { bottom_mm, top_mm, height_mm, .. } => {
            let mut profile = vec![
                DVec2::ZERO,
                DVec2::new(0.5 * bottom_mm, 0.0),
                DVec2::new(0.5 * top_mm, height_mm),
            ];
            if top_mm > 0.0 {
                profile.push(DVec2::new(0.0, height_mm));
            }
            revolve(&profile, AROUND)
        }
        OwnShape::Tube { diameter_mm, bore_mm, height_mm } => {
            let (r, b) = (0.5 * diameter_mm, 0.5 * bore_mm);
            revolve(&[(b, 0.0), (r, 0.0), (r, height_mm), (b, height_mm)].map(DVec2::from), AROUND)
        }
        OwnShape::Torus { diameter_mm, thickness_mm } => {
            let r = 0.5 * thickness_mm;
            revolve(&circle(DVec2::new(0.5 * diameter_mm - r, 0.0), r, AROUND / 2), AROUND)
        }
        OwnShape::Plate { size_mm: [x, y, z], corner_mm, hole_mm } => {
            plate(DVec2::new(x, y) * 0.5, z, corner_mm, 0.5 * hole_mm)
        }
        OwnShape::Geodesic { diameter_mm, parts } => geodesic(0.5 * diameter_mm, parts as usize),
        OwnShape::Revolved { ref points, axis_mm, steps, .. } => {
            revolve(&profile::outline(points, axis_mm, false).unwrap_or_default(), steps as usize)
        }
        OwnShape::Loft { ref sections, smooth, .. } => loft::loft(sections, smooth),
        OwnShape::FreeForm { .. } => TriMesh::default(),
    })
}

fn welded(made: &TriMesh) -> TriMesh {
    weld(made, 1e-7 * made.bounds().size().max_element()).mesh
}

/// The places that a sheet is spanned over: along U in every row, rows along V. What closes around
/// ends where it begins. `None` for a solid.
fn grid(shape: &OwnShape) -> Option<Vec<Vec<DVec3>>> {
    match *shape {
        OwnShape::Cylinder { diameter_mm, height_mm, sheet: true } => {
            let r = 0.5 * diameter_mm;
            Some(turned(&[DVec2::new(r, 0.0), DVec2::new(r, height_mm)], AROUND))
        }
        OwnShape::Cone { bottom_mm, top_mm, height_mm, sheet: true } => Some(turned(
            &[DVec2::new(0.5 * bottom_mm, 0.0), DVec2::new(0.5 * top_mm, height_mm)],
            AROUND,
        )),
        OwnShape::Revolved { ref points, axis_mm, steps, sheet: true } => Some(turned(
            &profile::outline(points, axis_mm, true).unwrap_or_default(),
            steps as usize,
        )),
        OwnShape::Loft { ref sections, smooth, sheet, open } if sheet || open => {
            Some(loft::levels(sections, smooth, open))
        }
        OwnShape::FreeForm { across, ref points_mm } => {
            let points: Vec<DVec3> = points_mm.iter().map(|p| DVec3::from(*p)).collect();
            Some(free_form::grid(&points, across as usize))
        }
        _ => None,
    }
}

/// The two directions of a sheet, as lines along it through its middle. mm.
#[derive(Clone, Debug, PartialEq, Serialize, ToSchema)]
pub struct Directions {
    /// Places along the first direction.
    pub u_mm: Vec<[f64; 3]>,
    /// Places along the second direction.
    pub v_mm: Vec<[f64; 3]>,
}

/// `None` for a solid.
pub fn directions(shape: &OwnShape) -> Option<Directions> {
    let grid = grid(shape)?;
    let row = &grid[grid.len() / 2];
    // What closes around shows its seam, where U begins and ends; other sheets their middle.
    let closed = row.first()?.distance(*row.last()?) < 1e-9;
    let column = if closed { 0 } else { row.len() / 2 };
    Some(Directions {
        u_mm: row.iter().map(|p| p.to_array()).collect(),
        v_mm: grid.iter().map(|row| row[column].to_array()).collect(),
    })
}

/// An open profile turned about z, cut along itself into about square pieces.
fn turned(profile: &[DVec2], steps: usize) -> Vec<Vec<DVec3>> {
    let widest = profile.iter().map(|p| p.x).fold(0.0, f64::max);
    let component = (TAU * widest / steps as f64).max(1e-9);
    let mut rows: Vec<DVec2> = Vec::new();
    for pair in profile.windows(2) {
        let parts = (pair[0].distance(pair[1]) / component).round().clamp(1.0, 400.0) as usize;
        rows.extend((0..parts).map(|i| pair[0].lerp(pair[1], i as f64 / parts as f64)));
    }
    rows.extend(profile.last());
    let around = |p: &DVec2| {
        let at = |i: usize| {
            let (sin, cos) = (TAU * (i % steps) as f64 / steps as f64).sin_cos();
            DVec3::new(p.x * cos, p.x * sin, p.y)
        };
        (0..=steps).map(at).collect()
    };
    rows.iter().map(around).collect()
}

/// Rounding leaves a pole's radius a hair off zero.
fn on_axis(p: DVec2) -> DVec2 {
    if p.x.abs() < 1e-12 * p.y.abs().max(1.0) {
        DVec2::new(0.0, p.y)
    } else {
        p
    }
}

/// A box around the origin with edges and corners rounded: a grid on the box, its rim pressed onto
/// the rounding.
fn rounded(half: DVec3, radius: f64) -> TriMesh {
    const STEPS: usize = 12;
    let inner = half - radius;
    // Places along one axis: an arc, the flat, an arc, as tangents of even angles.
    let places = |h: f64| -> Vec<f64> {
        let rim = (0..=STEPS).map(|i| (PI / 4.0 * (i as f64 / STEPS as f64)).tan() * radius);
        let rim: Vec<f64> = rim.collect();
        rim.iter().rev().map(|t| -h - t).chain(rim.iter().map(|t| h + t)).collect()
    };
    let mut b = Builder::default();
    let press = |p: DVec3| {
        let core = p.clamp(-inner, inner);
        core + (p - core).normalize_or_zero() * radius
    };
    for axis in 0..3 {
        let (u, v) = ((axis + 1) % 3, (axis + 2) % 3);
        let (us, vs) = (places(inner[u]), places(inner[v]));
        for side in [-1.0, 1.0] {
            let at = |i: usize, j: usize| {
                let mut p = DVec3::ZERO;
                (p[axis], p[u], p[v]) = (side * half[axis], us[i], vs[j]);
                press(p)
            };
            for i in 0..us.len() - 1 {
                for j in 0..vs.len() - 1 {
                    let mut quad = [at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)];
                    if side < 0.0 {
                        quad.swap(1, 3);
                    }
                    b.add([quad[0], quad[1], quad[2]]);
                    b.add([quad[0], quad[2], quad[3]]);
                }
            }
        }
    }
    b.mesh
}

/// An icosahedron with each edge in `parts`, its points pushed out onto the sphere: triangles of
/// nearly one size.
fn geodesic(radius: f64, parts: usize) -> TriMesh {
    let golden = 0.5 * (1.0 + 5f64.sqrt());
    let corners: Vec<DVec3> = (0..12)
        .map(|n| {
            let sign = |bit: usize| if n >> bit & 1 == 0 { 1.0 } else { -1.0 };
            let (a, b) = (sign(0), sign(1) * golden);
            [DVec3::new(0.0, a, b), DVec3::new(a, b, 0.0), DVec3::new(b, 0.0, a)][n >> 2]
        })
        .collect();
    let near = |p: DVec3, q: DVec3| (p.distance(q) - 2.0).abs() < 1e-9;
    let mut out = Builder::default();
    for (i, &a) in corners.iter().enumerate() {
        for (j, &b) in corners.iter().enumerate().skip(i + 1).filter(|(_, b)| near(a, **b)) {
            for &c in corners[j + 1..].iter().filter(|c| near(a, **c) && near(b, **c)) {
                let (b, c) = if a.dot(b.cross(c)) > 0.0 { (b, c) } else { (c, b) };
                let at = |u: usize, v: usize| {
                    let p = a * (parts - u - v) as f64 + b * u as f64 + c * v as f64;
                    p.normalize() * radius
                };
                for u in 0..parts {
                    for v in 0..parts - u {
                        out.add([at(u, v), at(u + 1, v), at(u, v + 1)]);
                        if u + v + 1 < parts {
                            out.add([at(u + 1, v), at(u + 1, v + 1), at(u, v + 1)]);
                        }
                    }
                }
            }
        }
    }
    out.mesh
}

/// With corners of a radius around z outside, and of as much less as the wall is thick inside.
fn hollow(size: DVec3, wall: f64, open: bool, corner: f64) -> TriMesh {
    let half = DVec2::new(0.5 * size.x, 0.5 * size.y);
    let (outer, inner) = (outline(half, corner), outline(half - wall, (corner - wall).max(0.0)));
    let top = if open { size.z } else { size.z - wall };
    let mouth: &[&[DVec2]] = &[&inner];
    let mut b = Builder::default();
    b.face(&outer, &[], false, flat(0.0));
    b.wall(&outer, true, flat(0.0), flat(size.z));
    b.face(&outer, if open { mouth } else { &[] }, true, flat(size.z));
    b.wall(&inner, false, flat(wall), flat(top));
    b.face(&inner, &[], true, flat(wall));
    if !open {
        b.face(&inner, &[], false, flat(top));
    }
    b.mesh
}

/// A rectangle, its corners rounded by a radius, 0 for sharp.
fn outline(half: DVec2, corner: f64) -> Vec<DVec2> {
    if corner > 0.0 {
        rounded_rectangle(DVec2::ZERO, half, corner, AROUND / 4)
    } else {
        vec![-half, DVec2::new(half.x, -half.y), half, DVec2::new(-half.x, half.y)]
    }
}

fn plate(half: DVec2, height: f64, corner: f64, hole: f64) -> TriMesh {
    let outline = outline(half, corner);
    // As far from both sides as the corner's rounding asks, and a hole's width.
    let inset = corner.max(2.0 * hole).min(0.5 * half.min_element());
    let holes: Vec<Vec<DVec2>> = if hole > 0.0 {
        let at = |x: f64, y: f64| {
            circle(DVec2::new(x * (half.x - inset), y * (half.y - inset)), hole, AROUND / 2)
        };
        vec![at(1.0, -1.0), at(1.0, 1.0), at(-1.0, 1.0), at(-1.0, -1.0)]
    } else {
        Vec::new()
    };
    let cut: Vec<&[DVec2]> = holes.iter().map(Vec::as_slice).collect();
    let mut b = Builder::default();
    b.face(&outline, &cut, false, flat(0.0));
    b.face(&outline, &cut, true, flat(height));
    b.wall(&outline, true, flat(0.0), flat(height));
    holes.iter().for_each(|h| b.wall(h, false, flat(0.0), flat(height)));
    b.mesh
}

#[cfg(test)]
mod tests {
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
        let section =
            |&(height, size, round, turn): &_| Section::rounded(height, size, round, turn);
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
        let tall = drawn(
            lofted(&[(0.0, [1.0; 2], 0.0, 0.0), (9.0, [1.0; 2], 0.0, 0.0)]),
            &[0, 1],
            &crescent,
        );
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
        assert!(
            across[0] > -20.0 - 1e-9 && across[1] < 20.0 + 5.0 && across[1] > 20.0,
            "{across:?}"
        );
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
            (
                OwnShape::Cylinder { diameter_mm: 20.0, height_mm: 15.0, sheet: false },
                PI * 1500.0,
                1,
            ),
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
            (
                OwnShape::Torus { diameter_mm: 40.0, thickness_mm: 8.0 },
                2.0 * PI * PI * 16.0 * 16.0,
                1,
            ),
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
            assert!(
                (m.volume() / volume - 1.0).abs() < 4e-3,
                "{shape:?}: {} for {volume}",
                m.volume()
            );
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
            .filter_map(
                |k| if let FaceForm::Cylinder { radius } = k { Some(*radius) } else { None },
            )
            .collect();
        assert!(
            tube.len() == 4 && (radii[0] - 10.0).abs() < 1e-3 && (radii[1] - 6.0).abs() < 1e-3,
            "{tube:?}"
        );
        let plate =
            kinds(OwnShape::Plate { size_mm: [60.0, 40.0, 5.0], corner_mm: 6.0, hole_mm: 4.0 });
        assert_eq!(plate.iter().filter(|k| **k == FaceForm::Plane).count(), 6, "{plate:?}");
        assert_eq!(
            plate.iter().filter(|k| matches!(k, FaceForm::Cylinder { .. })).count(),
            8,
            "{plate:?}"
        );
        let cone =
            kinds(OwnShape::Cone { bottom_mm: 20.0, top_mm: 8.0, height_mm: 12.0, sheet: false });
        assert!(cone.iter().any(|k| matches!(k, FaceForm::Cone { .. })), "{cone:?}");
        assert!(matches!(
            kinds(OwnShape::Sphere { diameter_mm: 20.0 })[..],
            [FaceForm::Sphere { .. }]
        ));
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
                let mend =
                    Mend { even_mm: m.bounds().size().max_element() / 40.0, ..Mend::default() };
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
}
