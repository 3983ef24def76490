//! Edges, fans and pieces: closed, manifold, oriented, how many bodies.

use crate::groups::{corners_at_points, Groups};
use crate::parallel;
use crate::TriMesh;
use std::ops::Range;

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
    pub component_of: Vec<u32>,
    /// Parts of the mesh that hang together by edges.
    pub components: usize,
}

impl Topology {
    /// Looks at the edges and points of a mesh.
    pub fn of(mesh: &TriMesh) -> Topology {
        /// Points that are looked at together.
        const RUN: usize = 4096;
        let corners = corners_at_points(mesh);
        let counted = parallel::runs(mesh.points.len(), RUN, |run| {
            let (mut sum, mut around) = (Topology::default(), Around::default());
            run.for_each(|v| around.count(mesh, &corners, v as u32, &mut sum));
            sum
        });
        let mut out = counted.into_iter().fold(Topology::default(), |a, b| Topology {
            open_edges: a.open_edges + b.open_edges,
            non_manifold_edges: a.non_manifold_edges + b.non_manifold_edges,
            flipped_edges: a.flipped_edges + b.flipped_edges,
            non_manifold_vertices: a.non_manifold_vertices + b.non_manifold_vertices,
            ..Topology::default()
        });
        // With one fan at every point, what is joined by points is joined by edges.
        (out.component_of, out.components) = if out.non_manifold_vertices == 0 {
            components_by_points(mesh)
        } else {
            components_by_edges(mesh, &corners)
        };
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

/// Sides of triangles at one point.
#[derive(Default)]
struct Around {
    sides: Vec<SideAt>,
    /// A corner joined to each, the least of its fan in the end.
    fan: Vec<u32>,
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct SideAt {
    /// The other end.
    end: u32,
    /// Number of the corner among those at the point.
    corner: u32,
    outgoing: bool,
}

impl Around {
    /// Reads the sides at `v`, in the order of their other ends.
    fn read(&mut self, mesh: &TriMesh, corners: &[u32]) {
        self.sides.clear();
        for (n, &corner) in corners.iter().enumerate() {
            let (t, c) = (mesh.triangles[corner as usize / 3], corner as usize % 3);
            self.sides.push(SideAt { end: t[(c + 1) % 3], corner: n as u32, outgoing: true });
            self.sides.push(SideAt { end: t[(c + 2) % 3], corner: n as u32, outgoing: false });
        }
        self.sides.sort_unstable();
    }

    /// Adds what is found at `v`: its fans, and the edges to points of higher number.
    fn count(&mut self, mesh: &TriMesh, corners: &Groups, v: u32, sum: &mut Topology) {
        let corners = corners.get(v as usize);
        self.read(mesh, corners);
        self.fan.clear();
        self.fan.extend(0..corners.len() as u32);
        let mut fans = corners.len();
        let sides = std::mem::take(&mut self.sides);
        for run in sides.chunk_by(|a, b| a.end == b.end) {
            for side in &run[1..] {
                let (a, b) = (self.least(run[0].corner), self.least(side.corner));
                if a != b {
                    self.fan[a.max(b) as usize] = a.min(b);
                    fans -= 1;
                }
            }
            let end = run[0].end;
            // A side from a point to itself is there twice.
            let uses = if end == v { run.len() / 2 } else { run.len() };
            if end >= v {
                sum.open_edges += (uses == 1) as usize;
                sum.flipped_edges +=
                    (uses == 2 && (end == v || run[0].outgoing == run[1].outgoing)) as usize;
                sum.non_manifold_edges += (uses > 2) as usize;
            }
        }
        sum.non_manifold_vertices += (fans > 1) as usize;
        self.sides = sides;
    }

    /// The least corner of a corner's fan; ways there are halved, so that very many corners at one
    /// point take no square of their number (Tarjan & van Leeuwen 1984).
    fn least(&mut self, mut corner: u32) -> u32 {
        while self.fan[corner as usize] != corner {
            self.fan[corner as usize] = self.fan[self.fan[corner as usize] as usize];
            corner = self.fan[corner as usize];
        }
        corner
    }
}

/// For each point: does more than one fan of triangles meet at it?
pub fn where_fans_meet(mesh: &TriMesh) -> Vec<bool> {
    let corners = corners_at_points(mesh);
    let mut around = Around::default();
    let mut several = |v: usize| {
        let mut found = Topology::default();
        around.count(mesh, &corners, v as u32, &mut found);
        found.non_manifold_vertices > 0
    };
    (0..mesh.points.len()).map(&mut several).collect()
}

fn components_by_edges(mesh: &TriMesh, corners: &Groups) -> (Vec<u32>, usize) {
    let mut sets = UnionFind::new(mesh.triangles.len());
    let mut around = Around::default();
    for v in 0..mesh.points.len() as u32 {
        around.read(mesh, corners.get(v as usize));
        let triangle = |s: &SideAt| corners.get(v as usize)[s.corner as usize] / 3;
        for run in around.sides.chunk_by(|a, b| a.end == b.end) {
            for side in &run[1..] {
                sets.join(triangle(&run[0]), triangle(side));
            }
        }
    }
    numbered(mesh.triangles.len(), |t| sets.root(t as u32))
}

/// Sets in the order of their first members, and how many there are.
fn numbered(members: usize, mut root: impl FnMut(usize) -> u32) -> (Vec<u32>, usize) {
    let mut number = std::collections::HashMap::new();
    let mut last = (u32::MAX, 0);
    let of = (0..members).map(|m| {
        let root = root(m);
        if last.0 != root {
            let next = number.len() as u32;
            last = (root, *number.entry(root).or_insert(next));
        }
        last.1
    });
    (of.collect(), number.len())
}

/// Piece of every triangle, numbered by first triangle, where pieces are joined by shared points;
/// and how many there are. On a 2-manifold the same as [`Topology`]'s, and far cheaper.
pub fn components_by_points(mesh: &TriMesh) -> (Vec<u32>, usize) {
    let mut sets = UnionFind::new(mesh.points.len());
    for t in &mesh.triangles {
        sets.join(t[0], t[1]);
        sets.join(t[1], t[2]);
    }
    numbered(mesh.triangles.len(), |t| sets.root(mesh.triangles[t][0]))
}

/// For each piece: is its volume smaller than `least`? The largest never is.
pub fn small_components(volumes: &[f64], least: f64) -> Vec<bool> {
    let largest = (0..volumes.len()).max_by(|&a, &b| volumes[a].abs().total_cmp(&volumes[b].abs()));
    (0..volumes.len()).map(|p| volumes[p].abs() < least && Some(p) != largest).collect()
}

/// Signed volume of each piece.
pub fn component_volumes(mesh: &TriMesh, component_of: &[u32], components: usize) -> Vec<f64> {
    let o = mesh.points.first().copied().unwrap_or_default();
    // Stretches of a length of their own: sums do not depend on the number of threads.
    let length = (component_of.len() / 8).max(1 << 16);
    let of_stretch = |stretch: Range<usize>| {
        let mut v = vec![0.0; components];
        for t in stretch {
            let [a, b, c] = mesh.corners(t).map(|p| p - o);
            v[component_of[t] as usize] += a.dot(b.cross(c)) / 6.0;
        }
        v
    };
    let sums: Vec<Vec<f64>> = parallel::runs(component_of.len(), length, of_stretch);
    (0..components).map(|component| sums.iter().map(|v| v[component]).sum()).collect()
}

/// Disjoint sets; the smallest member is the root, so results do not depend on order.
pub struct UnionFind(Vec<u32>);

impl UnionFind {
    /// `n` items, each a group of its own.
    pub fn new(n: usize) -> UnionFind {
        UnionFind((0..n as u32).collect())
    }

    /// The item that stands for the group of `i`.
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
        assert_eq!(Topology::of(&apart).components, 2);
        let (component_of, components) = components_by_points(&apart);
        assert_eq!((&component_of, components), (&Topology::of(&apart).component_of, 2));
        let volumes = component_volumes(&apart, &component_of, components);
        assert!(volumes.iter().all(|v| (v - 1.0).abs() < 1e-12), "{volumes:?}");

        // Two boxes that share one corner point: closed, but two fans meet there.
        let mut touching = b.clone();
        touching.append(&TriMesh::cuboid(DVec3::ONE, DVec3::splat(2.0)));
        let touching = crate::weld::weld(&touching, 0.0).mesh;
        let t = Topology::of(&touching);
        assert_eq!((t.non_manifold_vertices, t.open_edges, t.components), (1, 0, 2));
    }

    #[test]
    fn fans_at_a_point_are_told_apart_however_many_triangles_they_have() {
        const AROUND: u32 = 30_000;
        let rim = |turn: f64, n: u32| {
            let (y, x) = (std::f64::consts::TAU * n as f64 / AROUND as f64).sin_cos();
            DVec3::new(x, y, turn)
        };
        let of_fans = |fans: u32| {
            let mut m = TriMesh { points: vec![DVec3::ZERO], triangles: Vec::new() };
            for fan in 0..fans {
                let from = m.points.len() as u32;
                m.points.extend((0..AROUND).map(|n| rim(1.0 + fan as f64, n)));
                // Neighbours are met in no order.
                m.triangles.extend(
                    (0..AROUND)
                        .map(|n| n * 7919 % AROUND)
                        .map(|n| [0, from + n, from + (n + 1) % AROUND]),
                );
            }
            Topology::of(&m)
        };
        let (one, three) = (of_fans(1), of_fans(3));
        assert_eq!((one.non_manifold_vertices, one.open_edges), (0, AROUND as usize));
        assert_eq!((three.non_manifold_vertices, three.open_edges), (1, 3 * AROUND as usize));
    }
}
