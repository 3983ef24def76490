//! Box tree over the triangles of a mesh.
//!
//! A complete binary tree in heap order: children of node `i` are `2i + 1` and `2i + 2`, leaves
//! hold a handful of triangles. The split is the median along the widest axis, so the tree and
//! every answer are the same on any number of threads.

use crate::{Bounds, TriMesh};
use glam::{DVec3, Vec3};
use rayon::prelude::*;

const LEAF: usize = 4;

/// Part of a triangle that is nearest to a query point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Feature {
    Face,
    /// Edge from corner `c` to corner `c + 1`.
    Edge(u8),
    Corner(u8),
}

/// Answer of [`Bvh::nearest`].
#[derive(Clone, Copy, Debug)]
pub struct Nearest {
    pub triangle: u32,
    pub point: DVec3,
    pub distance_squared: f64,
    pub feature: Feature,
}

/// Where a segment passes through a triangle.
#[derive(Clone, Copy, Debug)]
pub struct SegmentHit {
    pub triangle: u32,
    /// 0 at the segment's start, 1 at its end.
    pub t: f64,
}

pub struct Bvh {
    bounds: Bounds,
    boxes: Vec<NodeBox>,
    /// First leaf node; nodes before it are inner.
    first_leaf: usize,
    /// Range of `order` held by leaf `k` is `starts[k]..starts[k + 1]`.
    starts: Vec<u32>,
    order: Vec<u32>,
    corners: Corners,
}

/// A box in 32 bits, no smaller than what it is around.
#[derive(Clone, Copy)]
struct NodeBox {
    min: Vec3,
    max: Vec3,
}

impl NodeBox {
    fn around(b: &Bounds) -> NodeBox {
        let (mut min, mut max) = (b.min.as_vec3(), b.max.as_vec3());
        for axis in 0..3 {
            if min[axis] as f64 > b.min[axis] {
                min[axis] = min[axis].next_down();
            }
            if (max[axis] as f64) < b.max[axis] {
                max[axis] = max[axis].next_up();
            }
        }
        NodeBox { min, max }
    }

    fn union(&self, other: &NodeBox) -> NodeBox {
        NodeBox { min: self.min.min(other.min), max: self.max.max(other.max) }
    }

    #[inline(always)]
    fn overlaps(&self, other: &NodeBox) -> bool {
        self.min.cmple(other.max).all() && other.min.cmple(self.max).all()
    }

    #[inline(always)]
    fn bounds(&self) -> Bounds {
        Bounds { min: self.min.as_dvec3(), max: self.max.as_dvec3() }
    }
}

/// Corners of triangles in the tree's order: in 32 bits where those hold them exactly, as they do what comes from a file.
enum Corners {
    Single(Vec<[Vec3; 3]>),
    Double(Vec<[DVec3; 3]>),
}

impl Corners {
    fn of(mesh: &TriMesh, order: &[u32]) -> Corners {
        let exact = mesh.points.par_iter().with_min_len(4096).all(|p| p.as_vec3().as_dvec3() == *p);
        let corners = order.par_iter().with_min_len(4096).map(|&t| mesh.corners(t as usize));
        if exact {
            Corners::Single(corners.map(|c| c.map(|p| p.as_vec3())).collect())
        } else {
            Corners::Double(corners.collect())
        }
    }

    #[inline(always)]
    fn at(&self, i: usize) -> [DVec3; 3] {
        match self {
            Corners::Single(all) => {
                let [a, b, c] = &all[i];
                [a.as_dvec3(), b.as_dvec3(), c.as_dvec3()]
            }
            Corners::Double(all) => all[i],
        }
    }
}

impl Bvh {
    pub fn new(mesh: &TriMesh) -> Bvh {
        let n = mesh.triangles.len();
        let leaves = n.div_ceil(LEAF).next_power_of_two().max(1);
        // Of the corners: a mesh may have far more points than its triangles use.
        let of_triangle = |t: usize| Bounds::of(mesh.corners(t));
        let around = (0..n).into_par_iter().with_min_len(4096).map(of_triangle).reduce(|| Bounds::EMPTY, Bounds::union);
        // Middles as whole numbers: they sort faster than places, and equal ones go by number.
        let scale = u32::MAX as f64 / (3.0 * around.size().max_element()).max(f64::MIN_POSITIVE);
        let mut items: Vec<Item> = (0..n)
            .into_par_iter()
            .with_min_len(4096)
            .map(|t| {
                let sum = mesh.corners(t).iter().map(|&c| c - around.min).sum::<DVec3>() * scale;
                Item { middle: [sum.x as u32, sum.y as u32, sum.z as u32], triangle: t as u32 }
            })
            .collect();
        split(&mut items, leaves);
        let order: Vec<u32> = items.iter().map(|i| i.triangle).collect();
        let mut starts = vec![0u32; leaves + 1];
        leaf_starts(0, n, &mut starts[..leaves]);
        starts[leaves] = n as u32;
        let corners = Corners::of(mesh, &order);
        let first_leaf = leaves - 1;
        let mut boxes = vec![NodeBox::around(&Bounds::EMPTY); 2 * leaves - 1];
        boxes[first_leaf..].par_iter_mut().with_min_len(1024).enumerate().for_each(|(k, leaf)| {
            let range = starts[k] as usize..starts[k + 1] as usize;
            *leaf = NodeBox::around(&Bounds::of(range.flat_map(|i| corners.at(i))));
        });
        for i in (0..first_leaf).rev() {
            boxes[i] = boxes[2 * i + 1].union(&boxes[2 * i + 2]);
        }
        Bvh { bounds: around, boxes, first_leaf, starts, order, corners }
    }

    pub fn bounds(&self) -> Bounds {
        self.bounds
    }

    fn leaf(&self, node: usize) -> std::ops::Range<usize> {
        let k = node - self.first_leaf;
        self.starts[k] as usize..self.starts[k + 1] as usize
    }

    /// The nearest point of the mesh closer than `sqrt(limit_squared)`, if any.
    pub fn nearest(&self, p: DVec3, limit_squared: f64) -> Option<Nearest> {
        self.nearest_where(p, limit_squared, |_| true)
    }

    /// As [`nearest`](Self::nearest), among the triangles for which `keep` holds.
    pub fn nearest_where(&self, p: DVec3, limit_squared: f64, keep: impl Fn(u32) -> bool) -> Option<Nearest> {
        let mut best: Option<Nearest> = None;
        let mut limit = limit_squared;
        let mut stack = [(0usize, 0.0f64); 64];
        stack[0] = (0, self.node_box(0).distance_squared(p));
        let mut top = 1;
        while top > 0 {
            top -= 1;
            let (node, d) = stack[top];
            if d >= limit {
                continue;
            }
            if node >= self.first_leaf {
                for i in self.leaf(node) {
                    let (point, feature) = nearest_on_triangle(p, &self.corners.at(i));
                    let d2 = p.distance_squared(point);
                    if d2 < limit && keep(self.order[i]) {
                        limit = d2;
                        best = Some(Nearest { triangle: self.order[i], point, distance_squared: d2, feature });
                    }
                }
                continue;
            }
            let (l, r) = (2 * node + 1, 2 * node + 2);
            let (dl, dr) = (self.node_box(l).distance_squared(p), self.node_box(r).distance_squared(p));
            let (near, far) = if dl <= dr { ((l, dl), (r, dr)) } else { ((r, dr), (l, dl)) };
            stack[top] = far;
            stack[top + 1] = near;
            top += 2;
        }
        best
    }

    /// Every place where the segment from `a` to `b` passes through a triangle, unordered.
    pub fn segment_hits(&self, a: DVec3, b: DVec3, out: &mut Vec<SegmentHit>) {
        out.clear();
        let seg = NodeBox::around(&Bounds::of([a, b]));
        self.visit(&mut |bx| bx.overlaps(&seg), &mut |i| {
            if let Some(t) = segment_triangle(a, b, &self.corners.at(i)) {
                out.push(SegmentHit { triangle: self.order[i], t });
            }
        });
    }

    /// Triangles whose boxes overlap `bounds`.
    pub fn overlapping(&self, bounds: Bounds, mut f: impl FnMut(u32)) {
        let single = NodeBox::around(&bounds);
        self.visit(&mut |bx| bx.overlaps(&single), &mut |i| {
            if Bounds::of(self.corners.at(i)).overlaps(&bounds) {
                f(self.order[i]);
            }
        });
    }

    /// What `f` gives for pairs of different triangles whose boxes overlap, each pair once, with their
    /// corners; in no particular order.
    pub fn pairs<T: Send>(&self, f: impl Fn([u32; 2], [&[DVec3; 3]; 2]) -> Option<T> + Sync) -> Vec<T> {
        // Pairs of nodes some levels down are work enough for many threads.
        const TASKS: usize = 512;
        let mut tasks = vec![[0, 0]];
        while tasks.len() < TASKS {
            let mut more = Vec::with_capacity(4 * tasks.len());
            tasks.iter().for_each(|&t| self.split_pair(t, &mut more));
            if more == tasks {
                break;
            }
            tasks = more;
        }
        let none = (Bounds::EMPTY, [DVec3::ZERO; 3]);
        let leaf = |node: usize| {
            let mut out = [none; LEAF];
            out.iter_mut().zip(self.leaf_corners(node)).for_each(|(slot, c)| *slot = (Bounds::of(c), c));
            out
        };
        let walk = |task: [usize; 2]| {
            let mut out = Vec::new();
            let mut stack = vec![task];
            // Pairs with one leaf follow each other.
            let mut own = (usize::MAX, [none; LEAF]);
            while let Some([a, b]) = stack.pop() {
                if a < self.first_leaf || b < self.first_leaf {
                    self.split_pair([a, b], &mut stack);
                    continue;
                }
                if own.0 != a {
                    own = (a, leaf(a));
                }
                let other = if a == b { own.1 } else { leaf(b) };
                for (m, i) in self.leaf(a).enumerate() {
                    let from = if a == b { m + 1 } else { 0 };
                    for (n, j) in self.leaf(b).enumerate().skip(from) {
                        if own.1[m].0.overlaps(&other[n].0) {
                            out.extend(f([self.order[i], self.order[j]], [&own.1[m].1, &other[n].1]));
                        }
                    }
                }
            }
            out
        };
        tasks.into_par_iter().flat_map_iter(walk).collect()
    }

    /// Adds the pairs of nodes one level down that overlap; a pair of leaves stays.
    fn split_pair(&self, [a, b]: [usize; 2], out: &mut Vec<[usize; 2]>) {
        let inner = |n: usize| n < self.first_leaf;
        let mut add = |a: usize, b: usize| {
            if self.boxes[a].overlaps(&self.boxes[b]) {
                out.push([a, b]);
            }
        };
        let (al, ar, bl, br) = (2 * a + 1, 2 * a + 2, 2 * b + 1, 2 * b + 2);
        match (inner(a), inner(b)) {
            (true, true) if a == b => {
                add(al, al);
                add(al, ar);
                add(ar, ar);
            }
            (true, true) => {
                add(al, bl);
                add(al, br);
                add(ar, bl);
                add(ar, br);
            }
            (false, false) => out.push([a, b]),
            // A complete tree has both at one level.
            _ => unreachable!("nodes of one level"),
        }
    }

    fn visit(&self, enter: &mut impl FnMut(&NodeBox) -> bool, leaf: &mut impl FnMut(usize)) {
        let mut stack = [0usize; 64];
        let mut top = 1;
        while top > 0 {
            top -= 1;
            let node = stack[top];
            if !enter(&self.boxes[node]) {
                continue;
            }
            if node >= self.first_leaf {
                self.leaf(node).for_each(&mut *leaf);
            } else {
                stack[top] = 2 * node + 1;
                stack[top + 1] = 2 * node + 2;
                top += 2;
            }
        }
    }

    pub(crate) fn nodes(&self) -> usize {
        self.boxes.len()
    }

    pub(crate) fn children(&self, node: usize) -> Option<[usize; 2]> {
        (node < self.first_leaf).then_some([2 * node + 1, 2 * node + 2])
    }

    pub(crate) fn leaf_corners(&self, node: usize) -> impl Iterator<Item = [DVec3; 3]> + '_ {
        self.leaf(node).map(|i| self.corners.at(i))
    }

    #[inline(always)]
    pub(crate) fn node_box(&self, node: usize) -> Bounds {
        self.boxes[node].bounds()
    }
}

/// A triangle's place while the tree is built.
#[derive(Clone, Copy)]
struct Item {
    middle: [u32; 3],
    triangle: u32,
}

/// Orders `items` so that each of `leaves` equal shares is compact in space.
fn split(items: &mut [Item], leaves: usize) {
    if leaves <= 1 || items.len() <= 1 {
        return;
    }
    let (mut low, mut high) = ([u32::MAX; 3], [0; 3]);
    for item in items.iter() {
        for d in 0..3 {
            low[d] = low[d].min(item.middle[d]);
            high[d] = high[d].max(item.middle[d]);
        }
    }
    let size = [0, 1, 2].map(|d| high[d] - low[d]);
    let axis = if size[0] >= size[1] && size[0] >= size[2] { 0 } else { 1 + (size[2] > size[1]) as usize };
    let mid = items.len() / 2;
    items.select_nth_unstable_by_key(mid, |i| (i.middle[axis] as u64) << 32 | i.triangle as u64);
    let (l, r) = items.split_at_mut(mid);
    if l.len() > 4096 {
        rayon::join(|| split(l, leaves / 2), || split(r, leaves / 2));
    } else {
        split(l, leaves / 2);
        split(r, leaves / 2);
    }
}

fn leaf_starts(from: usize, count: usize, starts: &mut [u32]) {
    if starts.len() == 1 {
        starts[0] = from as u32;
        return;
    }
    let half = starts.len() / 2;
    let (l, r) = starts.split_at_mut(half);
    leaf_starts(from, count / 2, l);
    leaf_starts(from + count / 2, count - count / 2, r);
}

/// Closest point of a triangle (Ericson 2005, Real-Time Collision Detection, 5.1.5) and the
/// part of the triangle that holds it.
pub fn nearest_on_triangle(p: DVec3, &[a, b, c]: &[DVec3; 3]) -> (DVec3, Feature) {
    let (ab, ac, ap) = (b - a, c - a, p - a);
    let (d1, d2) = (ab.dot(ap), ac.dot(ap));
    if d1 <= 0.0 && d2 <= 0.0 {
        return (a, Feature::Corner(0));
    }
    let bp = p - b;
    let (d3, d4) = (ab.dot(bp), ac.dot(bp));
    if d3 >= 0.0 && d4 <= d3 {
        return (b, Feature::Corner(1));
    }
    let vc = d1 * d4 - d3 * d2;
    if vc <= 0.0 && d1 >= 0.0 && d3 <= 0.0 {
        return (a + ab * (d1 / (d1 - d3)), Feature::Edge(0));
    }
    let cp = p - c;
    let (d5, d6) = (ab.dot(cp), ac.dot(cp));
    if d6 >= 0.0 && d5 <= d6 {
        return (c, Feature::Corner(2));
    }
    let vb = d5 * d2 - d1 * d6;
    if vb <= 0.0 && d2 >= 0.0 && d6 <= 0.0 {
        return (a + ac * (d2 / (d2 - d6)), Feature::Edge(2));
    }
    let va = d3 * d6 - d5 * d4;
    if va <= 0.0 && d4 - d3 >= 0.0 && d5 - d6 >= 0.0 {
        return (b + (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6))), Feature::Edge(1));
    }
    let sum = va + vb + vc;
    if sum <= 0.0 {
        return (a, Feature::Corner(0));
    }
    (a + ab * (vb / sum) + ac * (vc / sum), Feature::Face)
}

/// Parameter at which the segment meets the triangle's plane inside it (border included).
fn segment_triangle(a: DVec3, b: DVec3, tri: &[DVec3; 3]) -> Option<f64> {
    let n = (tri[1] - tri[0]).cross(tri[2] - tri[0]);
    let (da, db) = (n.dot(a - tri[0]), n.dot(b - tri[0]));
    if da == db || (da > 0.0) == (db > 0.0) && da != 0.0 && db != 0.0 {
        return None;
    }
    let d = b - a;
    let volume = |p: DVec3, q: DVec3| d.dot((p - a).cross(q - a));
    let (u, v, w) = (volume(tri[1], tri[2]), volume(tri[2], tri[0]), volume(tri[0], tri[1]));
    // The tolerance closes the cracks along shared edges; a duplicate hit there is harmless.
    let eps = 1e-12 * (u.abs() + v.abs() + w.abs());
    let inside = (u >= -eps && v >= -eps && w >= -eps) || (u <= eps && v <= eps && w <= eps);
    inside.then(|| (da / (da - db)).clamp(0.0, 1.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn point() -> impl Strategy<Value = DVec3> {
        (-3.0..3.0f64, -3.0..3.0f64, -3.0..3.0f64).prop_map(|(x, y, z)| DVec3::new(x, y, z))
    }

    proptest! {
        #[test]
        fn nearest_agrees_with_asking_every_triangle(p in point()) {
            let m = TriMesh::sphere(1.5, 3);
            let found = Bvh::new(&m).nearest(p, f64::INFINITY).unwrap();
            let least = (0..m.triangles.len())
                .map(|t| nearest_on_triangle(p, &m.corners(t)).0.distance_squared(p))
                .fold(f64::INFINITY, f64::min);
            prop_assert_eq!(found.distance_squared, least);
        }

        #[test]
        fn a_segment_from_inside_to_outside_is_hit_an_odd_number_of_times(a in point(), b in point()) {
            let m = TriMesh::cuboid(DVec3::splat(-1.0), DVec3::splat(1.0));
            let inside = |p: DVec3| p.abs().max_element() < 1.0;
            let mut hits = Vec::new();
            Bvh::new(&m).segment_hits(a, b, &mut hits);
            prop_assert_eq!(hits.len() % 2 == 1, inside(a) != inside(b));
        }
    }

    #[test]
    fn a_limit_is_kept_and_an_empty_mesh_answers_nothing() {
        let m = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        let far = DVec3::new(3.0, 0.5, 0.5);
        assert!(Bvh::new(&m).nearest(far, 3.9).is_none());
        assert!(Bvh::new(&m).nearest(far, 4.1).is_some());
        assert!(Bvh::new(&TriMesh::default()).nearest(far, f64::INFINITY).is_none());
    }

    #[test]
    fn corners_in_32_bits_answer_as_those_in_64() {
        let mut single = TriMesh::sphere(10.0, 4).mapped(|p| p.as_vec3().as_dvec3());
        // A point that no triangle uses, and that 32 bits do not hold.
        let mut double = single.clone();
        double.points.push(DVec3::splat(0.1));
        single.points.push(DVec3::splat(0.5));
        let [a, b] = [&single, &double].map(Bvh::new);
        assert!(matches!((&a.corners, &b.corners), (Corners::Single(_), Corners::Double(_))));
        assert_eq!(a.bounds(), b.bounds());
        let mut hits = [Vec::new(), Vec::new()];
        for n in 0..500 {
            let p = DVec3::new((n as f64 * 0.7).sin(), (n as f64 * 1.3).cos(), (n as f64 * 0.37).sin()) * 12.0;
            let told = |t: &Bvh| t.nearest(p, f64::INFINITY).map(|n| (n.triangle, n.point, n.distance_squared));
            assert_eq!(told(&a), told(&b));
            a.segment_hits(p, -p, &mut hits[0]);
            b.segment_hits(p, -p, &mut hits[1]);
            let sorted = |of: &[SegmentHit]| {
                let mut all: Vec<(u32, u64)> = of.iter().map(|h| (h.triangle, h.t.to_bits())).collect();
                all.sort_unstable();
                all
            };
            assert_eq!(sorted(&hits[0]), sorted(&hits[1]));
        }
    }

    #[test]
    fn boxes_in_32_bits_hold_what_they_are_around() {
        for (n, scale) in [1e-30, 1e-3, 1.0, 1e7, 1e30, 1e300].into_iter().enumerate() {
            let p = DVec3::new(0.1, -1.0 / 3.0, 0.7) * scale * (1.0 + n as f64);
            let b = Bounds { min: p.min(-p), max: p.max(-p) };
            let held = NodeBox::around(&b).bounds();
            assert!(held.min.cmple(b.min).all() && held.max.cmpge(b.max).all(), "{scale}: {held:?} around {b:?}");
        }
    }
}
