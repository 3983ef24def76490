//! Smoothing that neither shrinks nor swells: a mesh's short waves are damped, its volume stays.
//!
//! Each round moves points toward the middle of their neighbours and then back by a little more
//! (λ|μ filter, Taubin 1995). What little volume that changes is given back along the points'
//! normals.

use crate::groups::{corners_at_points, Groups};
use crate::parallel;
use crate::TriMesh;
use glam::DVec3;

/// Forward and back: waves longer than about 14 edges pass (1/λ + 1/μ = 0.1).
const FORWARD: f64 = 0.5;
const BACK: f64 = -1.0 / 1.9;
/// Rings of points over which smoothing grows from nothing, beside those that stay, to all of it.
const RINGS: u8 = 4;

/// Smooths a closed mesh in so many rounds. Points that are `kept` stay where they are, and those
/// beside them move less. Does nothing more when cancelled.
pub fn smooth(
    mesh: &mut TriMesh,
    kept: &[bool],
    rounds: usize,
    cancelled: &(dyn Fn() -> bool + Sync),
) {
    let corners = corners_at_points(mesh);
    let share = shares(mesh, &corners, kept);
    let before = mesh.volume();
    for _ in 0..rounds {
        for factor in [FORWARD, BACK] {
            if cancelled() {
                return;
            }
            let step = |v: usize| {
                let p = mesh.points[v];
                if share[v] == 0.0 {
                    return p;
                }
                let around = corners.get(v);
                let sum: DVec3 = around
                    .iter()
                    .flat_map(|&c| others(mesh, c))
                    .map(|q| mesh.points[q as usize])
                    .sum();
                p + (sum / (2 * around.len()) as f64 - p) * (factor * share[v])
            };
            mesh.points = parallel::map(mesh.points.len(), step);
        }
    }
    // The volume follows an offset nearly straight: what is left after two steps is of its square.
    for _ in 0..2 {
        give_back(mesh, &corners, &share, before);
    }
}

/// The other two points of a corner's triangle.
fn others(mesh: &TriMesh, corner: u32) -> [u32; 2] {
    let tri = mesh.triangles[corner as usize / 3];
    [tri[(corner as usize + 1) % 3], tri[(corner as usize + 2) % 3]]
}

/// By how much every point takes part: 0 for those that are kept, 1 some rings away.
fn shares(mesh: &TriMesh, corners: &Groups, kept: &[bool]) -> Vec<f64> {
    let mut ring: Vec<u8> = kept.iter().map(|k| if *k { 0 } else { RINGS }).collect();
    for next in 1..RINGS {
        let beside = |v: usize| {
            corners
                .get(v)
                .iter()
                .flat_map(|&c| others(mesh, c))
                .any(|q| ring[q as usize] == next - 1)
        };
        ring =
            parallel::map(ring.len(), |v| if ring[v] > next && beside(v) { next } else { ring[v] });
    }
    ring.into_iter().map(|r| r as f64 / RINGS as f64).collect()
}

/// Offsets the points that take part so that the mesh has a volume.
fn give_back(mesh: &mut TriMesh, corners: &Groups, share: &[f64], volume: f64) {
    // Of a point the change of the volume as it moves is a third of its triangles' areas.
    let area = |v: usize| {
        let of = |&c: &u32| {
            let [a, b, c] = mesh.corners(c as usize / 3);
            (b - a).cross(c - a)
        };
        corners.get(v).iter().map(of).sum::<DVec3>() / 6.0
    };
    let areas: Vec<DVec3> =
        parallel::map(share.len(), |v| if share[v] > 0.0 { area(v) } else { DVec3::ZERO });
    let gain: f64 = areas.iter().zip(share).map(|(a, s)| a.length() * s).sum();
    let offset = (volume - mesh.volume()) / gain;
    if offset.is_finite() {
        parallel::map_mut(&mut mesh.points, |v, p| {
            *p += areas[v].normalize_or_zero() * (offset * share[v]);
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Topology;

    /// A ball with ripples.
    fn bumpy(seed: u64) -> TriMesh {
        let mut state = seed;
        let mut ball = TriMesh::sphere(10.0, 5);
        for p in &mut ball.points {
            state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
            *p *= 1.0 + 0.01 * ((state >> 40) as f64 / (1u64 << 24) as f64 - 0.5);
        }
        ball
    }

    #[test]
    fn ripples_go_and_shape_and_volume_stay() {
        let rough = bumpy(5);
        let off = |m: &TriMesh| {
            (m.points.iter().map(|p| (p.length() - 10.0).powi(2)).sum::<f64>()
                / m.points.len() as f64)
                .sqrt()
        };
        let mut m = rough.clone();
        smooth(&mut m, &vec![false; rough.points.len()], 10, &|| false);
        assert!((m.volume() / rough.volume() - 1.0).abs() < 1e-6, "{}", m.volume());
        assert!(off(&m) < 0.4 * off(&rough), "{} of {}", off(&m), off(&rough));
        assert!(Topology::of(&m).sound());
    }

    #[test]
    fn what_is_kept_stays_and_edges_are_rounded_more_with_every_round() {
        let cube = crate::remesh::remesh(
            &TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0)),
            &crate::remesh::RemeshOptions { edge: 0.5, crease_degrees: 30.0, cancelled: &|| false },
        );
        let low: Vec<bool> = cube.points.iter().map(|p| p.z < 1e-9).collect();
        let rounded = |rounds: usize| {
            let mut m = cube.clone();
            smooth(&mut m, &low, rounds, &|| false);
            assert!(m
                .points
                .iter()
                .zip(&cube.points)
                .zip(&low)
                .all(|((p, q), low)| !low || p == q));
            assert!((m.volume() / 1000.0 - 1.0).abs() < 0.001, "{}", m.volume());
            // From the upper corner.
            m.points.iter().map(|p| p.distance(DVec3::splat(10.0))).fold(f64::INFINITY, f64::min)
        };
        let found = [0, 2, 8, 30].map(rounded);
        assert!(found[0] < 1e-9 && found.windows(2).all(|w| w[1] > w[0] + 0.02), "{found:?}");
    }
}
