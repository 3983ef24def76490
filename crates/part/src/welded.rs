//! A mesh with its points joined, before anything of it is mended.

use crate::PartError;
use ulmix_mesh::weld::weld;
use ulmix_mesh::{Topology, TriMesh};

/// Pieces of a mesh, open and closed ones, that can be worked on.
const MOST_PIECES: usize = 20_000;
/// Triangles at one point: what looks at all of them for each of them takes the square of their
/// number.
const MOST_AT_A_POINT: u32 = 20_000;
/// Points so near to each other are copies of one. Share of the longest side.
const COPIES: f64 = 1e-6;

/// A mesh whose equal points are one, and copies of a point that lie slightly apart where that
/// closes more of it.
///
/// # Errors
/// Nothing is left of the mesh, or it cannot be worked on: too many pieces, or too many triangles
/// at a point.
pub fn welded(raw: &TriMesh) -> Result<(TriMesh, Topology), PartError> {
    let longest = raw.bounds().size().max_element();
    let mut mesh = weld(raw, 0.0).mesh;
    let mut topology = Topology::of(&mesh);
    if topology.open_edges > 0 {
        // Slightly apart copies of one point are the commonest reason for open edges.
        let closer = weld(&mesh, COPIES * longest).mesh;
        let again = Topology::of(&closer);
        if again.open_edges < topology.open_edges {
            (mesh, topology) = (closer, again);
        }
    }
    if mesh.triangles.is_empty() {
        return Err(PartError::Collapsed);
    }
    if topology.components > MOST_PIECES {
        return Err(PartError::Pieces { found: topology.components, most: MOST_PIECES });
    }
    let mut meeting = vec![0u32; mesh.points.len()];
    mesh.triangles.iter().flatten().for_each(|&v| meeting[v as usize] += 1);
    if let Some(crowded) = meeting.iter().find(|n| **n > MOST_AT_A_POINT) {
        return Err(PartError::AtAPoint { found: *crowded, most: MOST_AT_A_POINT });
    }
    Ok((mesh, topology))
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    #[test]
    fn copies_of_points_are_joined_where_that_closes_more() {
        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        let corners: Vec<DVec3> =
            cube.triangles.iter().flatten().map(|v| cube.points[*v as usize]).collect();
        let separate = |shift: f64| TriMesh {
            points: corners
                .iter()
                .enumerate()
                .map(|(n, p)| p + DVec3::X * shift * (n % 3) as f64)
                .collect(),
            triangles: (0..12).map(|t| [3 * t, 3 * t + 1, 3 * t + 2]).collect(),
        };
        for (shift, open_edges) in [(0.0, 0), (1e-6, 0), (1e-3, 36)] {
            assert_eq!(welded(&separate(shift)).unwrap().1.open_edges, open_edges, "{shift}");
        }
    }

    #[test]
    fn what_cannot_be_worked_on_is_refused_in_words() {
        let said = |mesh: &TriMesh| welded(mesh).map(|_| ()).unwrap_err().to_string();
        let flat = TriMesh { points: vec![DVec3::ZERO, DVec3::X], triangles: vec![[0, 1, 1]] };
        assert!(said(&flat).contains("collapsed to a line"));
        let row = |n: usize| TriMesh {
            points: (0..3 * n)
                .map(|v| DVec3::new((v / 3) as f64, (v % 3) as f64 * 0.4, (v % 3 / 2) as f64 * 0.4))
                .collect(),
            triangles: (0..n as u32).map(|t| [3 * t, 3 * t + 1, 3 * t + 2]).collect(),
        };
        assert!(welded(&row(MOST_PIECES)).is_ok());
        assert!(said(&row(MOST_PIECES + 1)).contains("20001 separate pieces"));
        let around = |n: u32| {
            let turned = |v: u32| {
                glam::DVec2::from_angle(std::f64::consts::TAU * v as f64 / n as f64).extend(0.0)
            };
            TriMesh {
                points: std::iter::once(DVec3::ZERO).chain((0..n).map(turned)).collect(),
                triangles: (1..n).map(|v| [0, v, v + 1]).collect(),
            }
        };
        assert!(
            said(&around(MOST_AT_A_POINT + 2)).contains("triangles of the part meet at one point")
        );
        assert!(welded(&around(MOST_AT_A_POINT + 1)).is_ok());
    }
}
