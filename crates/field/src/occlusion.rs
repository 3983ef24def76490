//! How open the surroundings of a point on the surface are: shade for the picture.
//!
//! A fixed set of directions is walked through the grid's signs from every point; what meets
//! material soon counts as hidden. The pattern is the same everywhere, so there is no noise and no
//! flicker, and drawing it costs the screen nothing.

use crate::grid::{Bits, Grid};
use glam::DVec3;
use ulmix_mesh::groups::corners_at_points;
use ulmix_mesh::{parallel, TriMesh};

/// Distances along a direction, in steps of the grid.
const STOPS: [f64; 4] = [1.8, 3.4, 6.2, 11.0];
const DIRECTIONS: usize = 18;

/// 255 for a point that sees nothing but open space, less the more is hidden.
pub fn openness(mesh: &TriMesh, grid: &Grid, signs: &Bits) -> Vec<u8> {
    let normals = mesh.point_normals();
    let rays = directions();
    parallel::map_list(&mesh.points, |at, &p| {
        let n = normals[at].normalize_or_zero();
        let start = (p - grid.origin) / grid.step + n * 0.6;
        let (mut open, mut all) = (0.0, 0.0);
        for &d in &rays {
            let along = d.dot(n);
            if along < 0.12 {
                continue;
            }
            all += along;
            let met = STOPS.iter().position(|&s| solid_at(signs, grid, start + d * s));
            open += along * met.map_or(1.0, |i| i as f64 / STOPS.len() as f64 * 0.8);
        }
        if all > 0.0 {
            (255.0 * open / all).round() as u8
        } else {
            255
        }
    })
}

/// Rounds in which the openness of neighbouring points is evened.
const ROUNDS: usize = 10;

/// Openness that passes smoothly from point to point of large faces: their points are far apart, and
/// what lies beside one of them would show as a streak across all of the face. Only points that are
/// on such faces change, toward the mean of their neighbours there, of which near ones count more.
pub fn evened(
    mesh: &TriMesh,
    openness: Vec<u8>,
    on_face: &(dyn Fn(usize) -> bool + Sync),
) -> Vec<u8> {
    let corners = corners_at_points(mesh);
    let mut values: Vec<f32> = openness.iter().map(|v| *v as f32).collect();
    for _ in 0..ROUNDS {
        values = parallel::map(values.len(), |v| {
            if !on_face(v) {
                return values[v];
            }
            let (mut sum, mut weight) = (0.0, 0.0);
            for &corner in corners.get(v) {
                let triangle = mesh.triangles[corner as usize / 3];
                for other in
                    triangle.into_iter().map(|p| p as usize).filter(|&o| o != v && on_face(o))
                {
                    let near = 1.0 / (mesh.points[v].distance(mesh.points[other]) as f32).max(1e-6);
                    sum += near * values[other];
                    weight += near;
                }
            }
            if weight > 0.0 {
                0.5 * (values[v] + sum / weight)
            } else {
                values[v]
            }
        });
    }
    values.into_iter().map(|v| v.round() as u8).collect()
}

/// The border of the grid is outside, so clamping to it answers "open" for what lies beyond.
fn solid_at(signs: &Bits, grid: &Grid, sample: DVec3) -> bool {
    let s = (sample + 0.5).as_uvec3().min(grid.size - 1);
    signs.get(s.x, s.y, s.z)
}

/// Towards the faces and edges of a cube, turned so that none lies along the grid.
fn directions() -> [DVec3; DIRECTIONS] {
    let turn = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.31, 0.53, 0.17);
    let mut out = [DVec3::Z; DIRECTIONS];
    let all = (0..27).map(|i| DVec3::new((i % 3) as f64, (i / 3 % 3) as f64, (i / 9) as f64) - 1.0);
    for (slot, d) in out.iter_mut().zip(all.filter(|d| (1.0..2.5).contains(&d.length_squared()))) {
        *slot = turn * d.normalize();
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::Bounds;

    #[test]
    fn a_pit_is_darker_than_a_flat() {
        let grid = Grid::covering(&Bounds { min: DVec3::ZERO, max: DVec3::splat(40.0) }, 1.0);
        let mut bits = Bits::new(&grid);
        let solid = |p: DVec3| p.z < 20.0 && !((p.x - 20.0).hypot(p.y - 20.0) < 4.0 && p.z > 8.0);
        for k in 1..30 {
            for j in 1..grid.size.y - 1 {
                for i in 1..grid.size.x - 1 {
                    if solid(grid.at(i, j, k)) {
                        bits.set(i, j, k);
                    }
                }
            }
        }
        let up = |x: f64, y: f64, z: f64| TriMesh {
            points: vec![DVec3::new(x, y, z), DVec3::new(x + 0.1, y, z), DVec3::new(x, y + 0.1, z)],
            triangles: vec![[0, 1, 2]],
        };
        let flat = openness(&up(8.0, 8.0, 20.0), &grid, &bits)[0];
        let pit = openness(&up(20.0, 20.0, 8.0), &grid, &bits)[0];
        assert!(flat > 235 && pit < 140, "{flat} {pit}");
    }

    #[test]
    fn evening_keeps_what_is_even_and_what_lies_beside_large_faces() {
        let mesh = TriMesh::sphere(4.0, 3);
        let points = mesh.points.len();
        assert_eq!(evened(&mesh, vec![90; points], &|_| true), vec![90; points]);
        let uneven: Vec<u8> = (0..points).map(|v| if v % 2 == 0 { 40 } else { 200 }).collect();
        let upper = |v: usize| mesh.points[v].z > 0.0;
        let even = evened(&mesh, uneven.clone(), &upper);
        let spread = |values: &[u8]| {
            let of = (0..points).filter(|v| mesh.points[*v].z > 1.0).map(|v| values[v]);
            of.clone().max().unwrap() - of.min().unwrap()
        };
        assert!(spread(&even) * 3 < spread(&uneven), "{} of {}", spread(&even), spread(&uneven));
        assert!((0..points).all(|v| upper(v) || even[v] == uneven[v]));
    }
}
