//! Edges, fans and pieces: closed, manifold, oriented, how many bodies.

use crate::TriMesh;
use rayon::prelude::*;

/// One side of an edge: the triangle and corner it starts at.
#[derive(Clone, Copy)]
struct Side {
    key: u64,
    corner: u32,
    forward: bool,
}

/// Counts that decide whether a mesh is a closed, 2-manifold, consistently oriented surface.
///
/// The test is direct: every directed edge once, its reverse once, one fan of triangles at
/// every vertex. (Pairing half-edges alone passes edges used by four triangles.)
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Topology {
    /// Edges with a triangle on one side only.
    pub open_edges: usize,
    /// Edges shared by more than two triangles.
    pub non_manifold_edges: usize,
    /// Edges whose two triangles run through it the same way.
    pub flipped_edges: usize,
    /// Vertices at which more than one fan of triangles meets.
    pub non_manifold_vertices: usize,
    /// Edge-connected piece of every triangle, numbered by first triangle.
    pub piece_of: Vec<u32>,
    pub pieces: usize,
}

impl Topology {
    pub fn of(mesh: &TriMesh) -> Topology {
        let mut sides: Vec<Side> = mesh
            .triangles
            .par_iter()
            .enumerate()
            .flat_map_iter(|(t, tri)| {
                (0..3).map(move |c| {
                    let (a, b) = (tri[c], tri[(c + 1) % 3]);
                    Side { key: (a.min(b) as u64) << 32 | a.max(b) as u64, corner: 3 * t as u32 + c as u32, forward: a < b }
                })
            })
            .collect();
        sides.par_sort_unstable_by_key(|s| (s.key, s.corner));

        let mut out = Topology::default();
        let mut pieces = UnionFind::new(mesh.triangles.len());
        let mut fans = UnionFind::new(mesh.triangles.len() * 3);
        for run in sides.chunk_by(|a, b| a.key == b.key) {
            match run {
                [_] => out.open_edges += 1,
                [a, b] => {
                    out.flipped_edges += (a.forward == b.forward) as usize;
                    pieces.join(a.corner / 3, b.corner / 3);
                    join_fans(&mut fans, a, b);
                }
                many => {
                    out.non_manifold_edges += 1;
                    for b in &many[1..] {
                        pieces.join(many[0].corner / 3, b.corner / 3);
                        join_fans(&mut fans, &many[0], b);
                    }
                }
            }
        }
        let mut fans_at = vec![0u32; mesh.points.len()];
        for corner in 0..mesh.triangles.len() * 3 {
            if fans.root(corner as u32) == corner as u32 {
                fans_at[mesh.triangles[corner / 3][corner % 3] as usize] += 1;
            }
        }
        out.non_manifold_vertices = fans_at.iter().filter(|&&n| n > 1).count();
        let mut number = vec![u32::MAX; mesh.triangles.len()];
        out.piece_of = (0..mesh.triangles.len() as u32)
            .map(|t| {
                let slot = &mut number[pieces.root(t) as usize];
                if *slot == u32::MAX {
                    *slot = out.pieces as u32;
                    out.pieces += 1;
                }
                *slot
            })
            .collect();
        out
    }

    /// No open and no shared-by-many edge.
    pub fn closed(&self) -> bool {
        self.open_edges == 0 && self.non_manifold_edges == 0
    }

    /// Closed, one fan everywhere, one orientation.
    pub fn sound(&self) -> bool {
        self.closed() && self.flipped_edges == 0 && self.non_manifold_vertices == 0
    }
}

/// Piece of every triangle, numbered by first triangle, where pieces are joined by shared points;
/// and how many there are. On a 2-manifold the same as [`Topology`]'s, and far cheaper.
pub fn pieces_by_points(mesh: &TriMesh) -> (Vec<u32>, usize) {
    let mut sets = UnionFind::new(mesh.points.len());
    for t in &mesh.triangles {
        sets.join(t[0], t[1]);
        sets.join(t[1], t[2]);
    }
    let mut number = vec![u32::MAX; mesh.points.len()];
    let mut count = 0;
    let piece_of = mesh.triangles.iter().map(|t| {
        let slot = &mut number[sets.root(t[0]) as usize];
        if *slot == u32::MAX {
            *slot = count;
            count += 1;
        }
        *slot
    });
    (piece_of.collect(), count as usize)
}

/// Which pieces are smaller than `least`, by their volumes; the largest never is.
pub fn small_pieces(volumes: &[f64], least: f64) -> Vec<bool> {
    let largest = (0..volumes.len()).max_by(|&a, &b| volumes[a].abs().total_cmp(&volumes[b].abs()));
    (0..volumes.len()).map(|p| volumes[p].abs() < least && Some(p) != largest).collect()
}

/// Signed volume of each piece.
pub fn piece_volumes(mesh: &TriMesh, piece_of: &[u32], pieces: usize) -> Vec<f64> {
    let o = mesh.points.first().copied().unwrap_or_default();
    let mut v = vec![0.0; pieces];
    for (t, &piece) in piece_of.iter().enumerate() {
        let [a, b, c] = mesh.corners(t).map(|p| p - o);
        v[piece as usize] += a.dot(b.cross(c)) / 6.0;
    }
    v
}

/// At both ends of a shared edge the two triangles belong to one fan.
fn join_fans(fans: &mut UnionFind, a: &Side, b: &Side) {
    let next = |c: u32| if c % 3 == 2 { c - 2 } else { c + 1 };
    let ends = |s: &Side| if s.forward { (s.corner, next(s.corner)) } else { (next(s.corner), s.corner) };
    let ((a0, a1), (b0, b1)) = (ends(a), ends(b));
    fans.join(a0, b0);
    fans.join(a1, b1);
}

/// Disjoint sets; the smallest member is the root, so results do not depend on order.
pub struct UnionFind(Vec<u32>);

impl UnionFind {
    pub fn new(n: usize) -> UnionFind {
        UnionFind((0..n as u32).collect())
    }

    pub fn root(&mut self, mut i: u32) -> u32 {
        while self.0[i as usize] != i {
            let up = self.0[self.0[i as usize] as usize];
            self.0[i as usize] = up;
            i = up;
        }
        i
    }

    /// True when the two were apart.
    pub fn join(&mut self, a: u32, b: u32) -> bool {
        let (a, b) = (self.root(a), self.root(b));
        let (low, high) = (a.min(b), a.max(b));
        self.0[high as usize] = low;
        a != b
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    #[test]
    fn each_defect_is_counted_as_itself() {
        let b = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        assert!(Topology::of(&b).sound());
        assert_eq!(Topology::of(&b.filtered(|t| t != 3)).open_edges, 3);

        let mut flipped = b.clone();
        flipped.triangles[0].swap(0, 1);
        assert_eq!(Topology::of(&flipped).flipped_edges, 3);

        let mut twice = b.clone();
        twice.triangles.push(b.triangles[0]);
        assert_eq!(Topology::of(&twice).non_manifold_edges, 3);

        let mut apart = b.clone();
        apart.append(&TriMesh::cuboid(DVec3::splat(2.0), DVec3::splat(3.0)));
        assert_eq!(Topology::of(&apart).pieces, 2);
        let (piece_of, pieces) = pieces_by_points(&apart);
        assert_eq!((&piece_of, pieces), (&Topology::of(&apart).piece_of, 2));
        let volumes = piece_volumes(&apart, &piece_of, pieces);
        assert!(volumes.iter().all(|v| (v - 1.0).abs() < 1e-12), "{volumes:?}");

        // Two boxes that share one corner point: closed, but two fans meet there.
        let mut touching = b.clone();
        touching.append(&TriMesh::cuboid(DVec3::ONE, DVec3::splat(2.0)));
        let touching = crate::weld::weld(&touching, 0.0).mesh;
        let t = Topology::of(&touching);
        assert_eq!((t.non_manifold_vertices, t.open_edges, t.pieces), (1, 0, 2));
    }
}
