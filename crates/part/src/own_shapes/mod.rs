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
mod tests;
