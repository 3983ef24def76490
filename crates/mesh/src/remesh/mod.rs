//! Triangles of one size: isotropic remeshing by splitting, collapsing, flipping and smoothing
//! (Botsch & Kobbelt 2004), drawn back onto the surface it began with.
//!
//! Sharp edges, borders of faces (where a plane runs into a rounding, say), rims and edges of more
//! than two triangles are lines: they are divided evenly along themselves and never left. Points
//! where lines end, meet or turn sharply stay where they are.
//!
//! | module | idea |
//! |---|---|
//! | `work` | the mesh while it changes: triangles around every point, lines, pinned points |
//! | `steps` | splitting, collapsing, flipping, smoothing |

mod steps;
mod work;

use crate::faces::faces;
use crate::half_edges::{half_edges, HalfEdge};
use crate::{Bvh, TriMesh};
use glam::DVec3;
use std::collections::{HashMap, HashSet};
use work::RemeshState;

/// How a mesh is given other triangles.
pub struct RemeshOptions<'a> {
    /// Length of edges that is aimed at.
    pub edge: f64,
    /// Edges that turn by more are kept sharp. Degrees.
    pub crease_degrees: f64,
    /// Asked between rounds; ends with the mesh as it is then.
    pub cancelled: &'a (dyn Fn() -> bool + Sync),
}

/// Rounds after which edges hardly change any more.
const ROUNDS: usize = 7;

/// About how many triangles edges of a length give.
pub fn triangles_at(mesh: &TriMesh, edge: f64) -> f64 {
    mesh.area() / (0.75f64.sqrt() * 0.5 * edge * edge)
}

/// A mesh of the same surface with edges of about one length. Triangles join as before: what was
/// closed is closed. Points of equal place must be one.
pub fn remesh(mesh: &TriMesh, options: &RemeshOptions) -> TriMesh {
    let mut work = RemeshState::new(mesh, options.crease_degrees);
    let surface = Bvh::new(mesh);
    let lines = Bvh::new(&work.lines_as_triangles());
    for _ in 0..ROUNDS {
        if (options.cancelled)() {
            break;
        }
        work.compact();
        work.collapse(options.edge * 4.0 / 5.0, options.edge * 4.0 / 3.0);
        work.split(options.edge * 4.0 / 3.0);
        work.flip();
        work.smooth(&surface, &lines);
    }
    work.flip();
    work.finish()
}

/// Every triangle in four, by the middles of its sides.
pub fn quartered(mesh: &TriMesh) -> TriMesh {
    let mut out = mesh.clone();
    let mut middles: HashMap<Edge, u32> = HashMap::with_capacity(3 * mesh.triangles.len() / 2);
    let points = &mut out.points;
    let mut middle = |a: u32, b: u32| {
        *middles.entry(edge(a, b)).or_insert_with(|| {
            points.push((mesh.points[a as usize] + mesh.points[b as usize]) * 0.5);
            points.len() as u32 - 1
        })
    };
    let cut = mesh.triangles.iter().flat_map(|&[a, b, c]| {
        let (k, l, m) = (middle(a, b), middle(b, c), middle(c, a));
        [[a, k, m], [k, b, l], [m, l, c], [k, l, m]]
    });
    out.triangles = cut.collect();
    out
}

type Edge = (u32, u32);

fn edge(a: u32, b: u32) -> Edge {
    (a.min(b), a.max(b))
}

/// Edges that turn by more than an angle, lie between two faces, or do not join two triangles that
/// face alike.
fn lines(mesh: &TriMesh, crease_degrees: f64) -> HashSet<Edge> {
    let face = faces(mesh, crease_degrees).of;
    let turned = crease_degrees.to_radians().cos();
    let unit = |t: u32| mesh.area_vector(t as usize).normalize_or_zero();
    let smooth = |run: &[HalfEdge]| match run {
        [s, t] if s.upward != t.upward => {
            let [s, t] = [s, t].map(HalfEdge::triangle);
            let (m, n) = (unit(s), unit(t));
            // A triangle without area has no say.
            m == DVec3::ZERO
                || n == DVec3::ZERO
                || (m.dot(n) >= turned && face[s as usize] == face[t as usize])
        }
        _ => false,
    };
    let all = half_edges(mesh);
    all.chunk_by(|a, b| a.edge == b.edge)
        .filter(|run| !smooth(run))
        .map(|run| run[0].edge.into())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Topology;

    fn even(mesh: &TriMesh, edge: f64) -> TriMesh {
        remesh(mesh, &RemeshOptions { edge, crease_degrees: 30.0, cancelled: &|| false })
    }

    /// Mean and spread of edge lengths over the mean, and the least angle of any triangle in
    /// degrees.
    fn edges(m: &TriMesh) -> (f64, f64, f64) {
        let mut all = Vec::new();
        let mut least = f64::MAX;
        for t in 0..m.triangles.len() {
            let p = m.corners(t);
            for c in 0..3 {
                let (u, v) = (p[(c + 1) % 3] - p[c], p[(c + 2) % 3] - p[c]);
                all.push(u.length());
                least = least.min(u.angle_between(v).to_degrees());
            }
        }
        let mean = all.iter().sum::<f64>() / all.len() as f64;
        let spread =
            (all.iter().map(|l| (l - mean).powi(2)).sum::<f64>() / all.len() as f64).sqrt() / mean;
        (mean, spread, least)
    }

    #[test]
    fn a_block_keeps_its_faces_edges_and_corners() {
        let block = TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 20.0, 10.0));
        for length in [1.5, 4.0] {
            let m = even(&block, length);
            let t = Topology::of(&m);
            assert!(t.sound() && t.components == 1);
            assert!(
                (m.volume() - 6000.0).abs() < 1e-6 && (m.area() - 2200.0).abs() < 1e-6,
                "{} {}",
                m.volume(),
                m.area()
            );
            let (mean, spread, least) = edges(&m);
            assert!(
                (mean / length - 1.0).abs() < 0.2 && spread < 0.25 && least > 12.0,
                "{mean} {spread} {least}"
            );
            for c in &block.points {
                assert!(m.points.contains(c), "{c}");
            }
        }
    }

    #[test]
    fn a_round_part_comes_finer_and_coarser_and_stays_on_its_surface() {
        // Slivers as long as the part: a cylinder of 48 flats.
        let mut tube = TriMesh::default();
        let ring = |n: usize, z: f64| {
            let (y, x) = (n as f64 / 48.0 * std::f64::consts::TAU).sin_cos();
            DVec3::new(10.0 * x, 10.0 * y, z)
        };
        for n in 0..48 {
            tube.points.extend([ring(n, 0.0), ring(n, 60.0)]);
        }
        for n in 0..48u32 {
            let (a, b) = (2 * n, 2 * ((n + 1) % 48));
            tube.triangles.extend([[a, b, b + 1], [a, b + 1, a + 1]]);
        }
        for length in [1.0, 2.5] {
            let m = even(&tube, length);
            let t = Topology::of(&m);
            assert_eq!(
                (t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices, t.components),
                (0, 0, 0, 1)
            );
            let rims = crate::holes::holes(&m);
            assert!(
                rims.len() == 2
                    && rims.iter().all(|r| r.rim.iter().all(|v| {
                        let z = m.points[*v as usize].z;
                        z.abs() < 1e-9 || (z - 60.0).abs() < 1e-9
                    }))
            );
            let from = Bvh::new(&tube);
            let off = m
                .points
                .iter()
                .map(|p| from.nearest(*p, 1e9).unwrap().distance_squared.sqrt())
                .fold(0.0, f64::max);
            assert!(off < 1e-9, "{off}");
            let (mean, spread, least) = edges(&m);
            assert!(
                (mean / length - 1.0).abs() < 0.2 && spread < 0.25 && least > 15.0,
                "{mean} {spread} {least}"
            );
        }
        let ball = TriMesh::sphere(10.0, 6);
        let coarse = even(&ball, 3.0);
        assert!(
            Topology::of(&coarse).sound() && coarse.triangles.len() * 10 < ball.triangles.len()
        );
        assert!((triangles_at(&ball, 3.0) / coarse.triangles.len() as f64 - 1.0).abs() < 0.3);
    }

    #[test]
    fn quarters_are_the_same_surface() {
        let ball = TriMesh::sphere(10.0, 3);
        let fine = quartered(&ball);
        assert!(Topology::of(&fine).sound() && fine.triangles.len() == 4 * ball.triangles.len());
        assert!((fine.volume() / ball.volume() - 1.0).abs() < 1e-12);
    }

    #[test]
    fn edges_of_three_triangles_and_slivers_break_nothing() {
        // Three sheets on one edge, one of them folded over flat.
        let p = |x: f64, y: f64, z: f64| DVec3::new(x, y, z);
        let points = vec![
            p(0., 0., 0.),
            p(0., 10., 0.),
            p(10., 0., 0.),
            p(-10., 0., 0.),
            p(0., 0., 10.),
            p(5., 0., 1e-9),
        ];
        let m = TriMesh { points, triangles: vec![[0, 2, 1], [0, 1, 3], [0, 1, 4], [0, 5, 2]] };
        let out = even(&m, 2.0);
        assert!((out.area() / m.area() - 1.0).abs() < 1e-6);
        assert!(
            Topology::of(&out).non_manifold_edges > 1 && out.points.iter().all(|p| p.is_finite())
        );
        assert!(even(&TriMesh::default(), 1.0).triangles.is_empty());
    }
}
