//! Sides of triangles, those on one edge beside each other.

use crate::TriMesh;

/// One of a triangle's three sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct HalfEdge {
    /// The points of its edge, the lower number first.
    pub edge: [u32; 2],
    /// Number of the corner that it begins at: three times the triangle's, and 0 to 2.
    pub corner: u32,
    /// Runs the half-edge from the lower number to the higher?
    pub upward: bool,
}

impl HalfEdge {
    /// Number of the triangle.
    pub fn triangle(&self) -> u32 {
        self.corner / 3
    }
}

/// All sides by their edges, those of one edge in the order of their triangles: `chunk_by` the edge
/// gives runs.
pub fn half_edges(mesh: &TriMesh) -> Vec<HalfEdge> {
    let of = |(t, tri): (usize, &[u32; 3])| {
        let tri = *tri;
        (0..3).map(move |c| {
            let (a, b) = (tri[c], tri[(c + 1) % 3]);
            HalfEdge { edge: [a.min(b), a.max(b)], corner: (3 * t + c) as u32, upward: a < b }
        })
    };
    let mut all: Vec<HalfEdge> = mesh.triangles.iter().enumerate().flat_map(of).collect();
    all.sort_unstable();
    all
}
