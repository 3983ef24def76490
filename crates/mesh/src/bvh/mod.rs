//! Box tree over the triangles of a mesh.
//!
//! A complete binary tree of which every third level is kept, so that a node has eight children
//! (Wald, Benthin & Boulos 2008). Nodes are numbered level by level; leaves hold a handful of
//! triangles. The split is the median along the widest axis, so the tree and every answer are the
//! same on any number of threads.
//!
//! | module | idea |
//! |---|---|
//! | `eight` | boxes in 32 bits, eight at a time |
//! | `few` | the triangles of a leaf beside each other |
//! | `triangle` | one triangle: nearest point, segments through it |

mod eight;
mod few;
mod triangle;

use crate::parallel;
use crate::{Bounds, TriMesh};
use eight::{Eight, FromPlace, NodeBox, EIGHT};
use few::{Few, FEW};
use glam::{DVec3, Vec3};
use triangle::segment_triangle;
pub use triangle::{nearest_on_triangle, TriangleFeature};
use wide::f32x8;

/// Room for seven nodes that wait on each of eleven levels, which are enough for any mesh.
const STACK: usize = 96;

/// Answer of [`Bvh::nearest`].
#[derive(Clone, Copy, Debug)]
pub struct Nearest {
    /// Number of the triangle.
    pub triangle: u32,
    /// The triangle's nearest place.
    pub point: DVec3,
    /// Square of the distance.
    pub distance_squared: f64,
    /// The part of the triangle that this place is on.
    pub feature: TriangleFeature,
}

/// Where a segment passes through a triangle.
#[derive(Clone, Copy, Debug)]
pub struct SegmentCrossing {
    /// Number of the triangle.
    pub triangle: u32,
    /// 0 at the segment's start, 1 at its end.
    pub t: f64,
}

/// A tree of boxes over the triangles of a mesh (Kay and Kajiya 1986), eight children a node.
pub struct Bvh {
    bounds: Bounds,
    /// Nodes of the highest level: 1, 2 or 4, numbered from 0.
    roots: usize,
    /// Boxes of the children of every inner node; those of node `i` are the nodes from `8i +
    /// roots`. Leaves come last.
    children: Vec<Eight>,
    /// Range of `order` held by leaf `k` is `starts[k]..starts[k + 1]`.
    starts: Vec<u32>,
    order: Vec<u32>,
    corners: Corners,
}

/// Corners of triangles in the tree's order: in 32 bits where those hold them exactly, as they do
/// what comes from a file.
enum Corners {
    Single(Vec<[Vec3; 3]>),
    Double(Vec<[DVec3; 3]>),
}

impl Corners {
    fn of(mesh: &TriMesh, order: &[u32]) -> Corners {
        let exact = mesh.points.iter().all(|p| p.as_vec3().as_dvec3() == *p);
        let corners = |t: u32| mesh.corners(t as usize);
        if exact {
            Corners::Single(parallel::map_list_cheap(order, |&t| corners(t).map(|p| p.as_vec3())))
        } else {
            Corners::Double(parallel::map_list_cheap(order, |&t| corners(t)))
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

/// Pairs found below two nodes, how many were looked at, and whether that was ended early.
struct Pairs<T> {
    found: Vec<T>,
    looked_at: usize,
    cut_short: bool,
}

impl Bvh {
    /// Builds the tree.
    pub fn new(mesh: &TriMesh) -> Bvh {
        let n = mesh.triangles.len();
        let leaves = n.div_ceil(FEW).next_power_of_two().max(1);
        let around = mesh.bounds_of_triangles();
        // Middles as whole numbers: they sort faster than places, and equal ones go by number.
        let scale = u32::MAX as f64 / (3.0 * around.size().max_element()).max(f64::MIN_POSITIVE);
        let mut items: Vec<Item> = parallel::map_cheap(n, |t| {
            let sum = mesh.corners(t).iter().map(|&c| c - around.min).sum::<DVec3>() * scale;
            Item { middle: [sum.x as u32, sum.y as u32, sum.z as u32], triangle: t as u32 }
        });
        split(&mut items, leaves);
        let order: Vec<u32> = items.iter().map(|i| i.triangle).collect();
        let mut starts = vec![0u32; leaves + 1];
        leaf_starts(0, n, &mut starts[..leaves]);
        starts[leaves] = n as u32;
        let corners = Corners::of(mesh, &order);
        let of_leaf = |k: usize| {
            let range = starts[k] as usize..starts[k + 1] as usize;
            NodeBox::around(&Bounds::of(range.flat_map(|i| corners.at(i))))
        };
        let mut level: Vec<NodeBox> = parallel::map_cheap(leaves, of_leaf);
        let mut levels: Vec<Vec<Eight>> = Vec::new();
        while level.len() >= EIGHT {
            let (eights, _) = level.as_chunks::<EIGHT>();
            let whole =
                |boxes: &[NodeBox; EIGHT]| boxes[1..].iter().fold(boxes[0], |all, b| all.union(b));
            let above = parallel::map_list_cheap(eights, whole);
            levels.push(parallel::map_list_cheap(eights, Eight::of));
            level = above;
        }
        levels.reverse();
        Bvh {
            bounds: around,
            roots: level.len(),
            children: levels.concat(),
            starts,
            order,
            corners,
        }
    }

    /// Memory that the tree takes.
    pub fn bytes(&self) -> usize {
        let corners = match &self.corners {
            Corners::Single(all) => size_of_val(&all[..]),
            Corners::Double(all) => size_of_val(&all[..]),
        };
        corners
            + size_of_val(&self.children[..])
            + size_of_val(&self.starts[..])
            + size_of_val(&self.order[..])
    }

    /// The box around all triangles.
    pub fn bounds(&self) -> Bounds {
        self.bounds
    }

    /// Places in the tree's order of the triangles that a leaf holds, by its number among the
    /// leaves.
    fn in_leaf(&self, leaf: usize) -> std::ops::Range<usize> {
        self.starts[leaf] as usize..self.starts[leaf + 1] as usize
    }

    /// Places in the tree's order of the triangles that a node holds, which is a leaf.
    fn held(&self, node: usize) -> std::ops::Range<usize> {
        self.in_leaf(node - self.children.len())
    }

    fn is_leaf(&self, node: usize) -> bool {
        node >= self.children.len()
    }

    /// The first of the eight children of a node.
    fn below(&self, node: usize) -> usize {
        EIGHT * node + self.roots
    }

    /// The nearest point of the mesh closer than `sqrt(limit_squared)`, if any.
    pub fn nearest(&self, p: DVec3, limit_squared: f64) -> Option<Nearest> {
        self.nearest_where(p, limit_squared, |_| true)
    }

    /// As [`nearest`](Self::nearest), among the triangles for which `keep` holds.
    pub fn nearest_where(
        &self,
        p: DVec3,
        limit_squared: f64,
        keep: impl Fn(u32) -> bool,
    ) -> Option<Nearest> {
        let mut best: Option<Nearest> = None;
        let mut limit = limit_squared;
        // No smaller than the limit. What lies as far is visited in vain, which is rare.
        let single = |limit: f64| (limit as f32).next_up();
        let mut in_single = single(limit);
        let from = FromPlace::new(p);
        let mut stack = [(0u32, 0.0f32); STACK];
        let mut top = self.roots;
        stack[..top].iter_mut().enumerate().for_each(|(n, slot)| slot.0 = n as u32);
        while top > 0 {
            top -= 1;
            let (node, d) = stack[top];
            let node = node as usize;
            if d > in_single {
                continue;
            }
            if self.is_leaf(node) {
                for i in self.held(node) {
                    let (point, feature) = nearest_on_triangle(p, &self.corners.at(i));
                    let d2 = p.distance_squared(point);
                    if d2 < limit && keep(self.order[i]) {
                        limit = d2;
                        in_single = single(limit);
                        best = Some(Nearest {
                            triangle: self.order[i],
                            point,
                            distance_squared: d2,
                            feature,
                        });
                    }
                }
                continue;
            }
            let distances = self.children[node].distances_squared(&from);
            let near = !distances.simd_gt(f32x8::splat(in_single)).to_bitmask() & 0xff;
            let distances = distances.to_array();
            let base = top;
            for n in bits(near) {
                // The nearest comes to lie on top.
                let d = distances[n];
                let mut at = top;
                while at > base && stack[at - 1].1 < d {
                    stack[at] = stack[at - 1];
                    at -= 1;
                }
                stack[at] = ((self.below(node) + n) as u32, d);
                top += 1;
            }
        }
        best
    }

    /// Every place where the segment from `a` to `b` passes through a triangle, unordered.
    pub fn segment_crossings(&self, a: DVec3, b: DVec3, out: &mut Vec<SegmentCrossing>) {
        out.clear();
        self.visit(&NodeBox::around(&Bounds::of([a, b])), |i| {
            if let Some(t) = segment_triangle(a, b, &self.corners.at(i)) {
                out.push(SegmentCrossing { triangle: self.order[i], t });
            }
        });
    }

    /// Triangles whose boxes overlap `bounds`.
    pub fn overlapping(&self, bounds: Bounds, mut f: impl FnMut(u32)) {
        self.visit(&NodeBox::around(&bounds), |i| {
            if Bounds::of(self.corners.at(i)).overlaps(&bounds) {
                f(self.order[i]);
            }
        });
    }

    /// What `f` gives for pairs of different triangles whose boxes overlap, each pair once, with
    /// their corners; in no particular order.
    pub fn pairs<T: Send>(
        &self,
        f: impl Fn([u32; 2], [&[DVec3; 3]; 2]) -> Option<T> + Sync,
    ) -> Vec<T> {
        let tasks = self.pair_tasks();
        parallel::flat_map(tasks.len(), |n| self.pairs_below(tasks[n], [usize::MAX; 2], &f).found)
    }

    /// The pairs of a mesh that may be anything: where all triangles lie in each other's boxes, the
    /// pairs are the square of the triangles' number. Ends when about `most` pairs were looked at
    /// or `enough` were found, and when cancelled; the second value tells whether these were all.
    /// The result is the same on any number of threads.
    pub fn pairs_within<T: Send>(
        &self,
        [most, enough]: [usize; 2],
        cancelled: &(dyn Fn() -> bool + Sync),
        f: impl Fn([u32; 2], [&[DVec3; 3]; 2]) -> Option<T> + Sync,
    ) -> (Vec<T>, bool) {
        // Tasks that run side by side, and the part of `most` that each may look at.
        const AT_ONCE: usize = 16;
        const SHARE: usize = 20;
        let of_task = [most.div_ceil(SHARE), enough];
        let (mut found, mut looked_at) = (Vec::new(), 0);
        for some in self.pair_tasks().chunks(AT_ONCE) {
            if looked_at > most || found.len() > enough || cancelled() {
                return (found, false);
            }
            let done: Vec<Pairs<T>> =
                parallel::map_list(some, |_, task| self.pairs_below(*task, of_task, &f));
            for pairs in done {
                found.extend(pairs.found);
                looked_at += pairs.looked_at;
                if pairs.cut_short {
                    return (found, false);
                }
            }
        }
        (found, true)
    }

    /// Pairs of nodes some levels down: work enough for many threads.
    fn pair_tasks(&self) -> Vec<[usize; 2]> {
        const TASKS: usize = 512;
        let mut tasks: Vec<[usize; 2]> =
            (0..self.roots).flat_map(|a| (a..self.roots).map(move |b| [a, b])).collect();
        while tasks.len() < TASKS && tasks.iter().any(|t| !self.is_leaf(t[0])) {
            let mut more = Vec::with_capacity(EIGHT * tasks.len());
            tasks.iter().for_each(|&t| self.split_pair(t, &mut more));
            tasks = more;
        }
        tasks
    }

    /// The pairs below two nodes of one level, until `most` were looked at or `enough` were found.
    fn pairs_below<T>(
        &self,
        task: [usize; 2],
        [most, enough]: [usize; 2],
        f: &impl Fn([u32; 2], [&[DVec3; 3]; 2]) -> Option<T>,
    ) -> Pairs<T> {
        let leaf = |node: usize| Few::of(self.held(node).map(|i| self.corners.at(i)));
        let mut pairs = Pairs { found: Vec::new(), looked_at: 0, cut_short: false };
        let mut stack = vec![task];
        // Pairs with one leaf follow each other.
        let mut own = (usize::MAX, Few::of(std::iter::empty()));
        while let Some([a, b]) = stack.pop() {
            pairs.looked_at += 1;
            if pairs.looked_at > most || pairs.found.len() > enough {
                pairs.cut_short = true;
                return pairs;
            }
            if !self.is_leaf(a) {
                self.split_pair([a, b], &mut stack);
                continue;
            }
            if own.0 != a {
                own = (a, leaf(a));
            }
            let other = if a == b { own.1 } else { leaf(b) };
            for (m, i) in self.held(a).enumerate() {
                let from = if a == b { m + 1 } else { 0 };
                let j = self.held(b).start;
                for n in bits(other.overlapping(&own.1, m) >> from << from) {
                    pairs.looked_at += 1;
                    pairs.found.extend(f(
                        [self.order[i], self.order[j + n]],
                        [&own.1.corners[m], &other.corners[n]],
                    ));
                }
            }
        }
        pairs
    }

    /// Adds the pairs of nodes one level down that overlap; a pair of leaves stays. The two nodes
    /// are of one level.
    fn split_pair(&self, [a, b]: [usize; 2], out: &mut Vec<[usize; 2]>) {
        if self.is_leaf(a) {
            out.push([a, b]);
            return;
        }
        for n in 0..EIGHT {
            // Of a node with itself, each pair once.
            let from = if a == b { n } else { 0 };
            let beside = self.children[b].overlapping(&self.children[a].get(n)) >> from << from;
            out.extend(bits(beside).map(|m| [self.below(a) + n, self.below(b) + m]));
        }
    }

    /// Places in the tree's order of the triangles in leaves whose boxes overlap this one.
    fn visit(&self, around: &NodeBox, mut leaf: impl FnMut(usize)) {
        let mut stack = [0u32; STACK];
        let mut top = self.roots;
        stack[..top].iter_mut().enumerate().for_each(|(n, slot)| *slot = n as u32);
        while top > 0 {
            top -= 1;
            let node = stack[top] as usize;
            if self.is_leaf(node) {
                self.held(node).for_each(&mut leaf);
                continue;
            }
            for n in bits(self.children[node].overlapping(around)) {
                stack[top] = (self.below(node) + n) as u32;
                top += 1;
            }
        }
    }

    /// Leaves, in the order of the tree: a power of two.
    pub(crate) fn leaves(&self) -> usize {
        self.starts.len() - 1
    }

    /// Corners of the triangles of a leaf.
    pub(crate) fn leaf(&self, leaf: usize) -> impl Iterator<Item = [DVec3; 3]> + '_ {
        self.in_leaf(leaf).map(|i| self.corners.at(i))
    }
}

/// The numbers of the bits that are set.
#[inline(always)]
fn bits(mut mask: u32) -> impl Iterator<Item = usize> {
    std::iter::from_fn(move || {
        let n = mask.trailing_zeros();
        mask &= mask.wrapping_sub(1);
        (n < 32).then_some(n as usize)
    })
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
    let axis =
        if size[0] >= size[1] && size[0] >= size[2] { 0 } else { 1 + (size[2] > size[1]) as usize };
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
            let mut crossings = Vec::new();
            Bvh::new(&m).segment_crossings(a, b, &mut crossings);
            prop_assert_eq!(crossings.len() % 2 == 1, inside(a) != inside(b));
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
    fn trees_of_any_number_of_levels_and_roots_tell_every_overlap_once() {
        let ball = TriMesh::sphere(2.0, 4);
        for count in [0, 1, 4, 5, 9, 17, 33, 70, 300, 1000] {
            let m = ball.filtered(|t| t < count);
            let boxes: Vec<Bounds> = (0..count).map(|t| Bounds::of(m.corners(t))).collect();
            let tree = Bvh::new(&m);
            let mut found = tree.pairs(|[s, t], [a, b]| {
                assert_eq!((*a, *b), (m.corners(s as usize), m.corners(t as usize)));
                Some([s.min(t), s.max(t)])
            });
            found.sort_unstable();
            let all = (0..count).flat_map(|s| (s + 1..count).map(move |t| [s, t]));
            let wanted: Vec<[u32; 2]> = all
                .filter(|[s, t]| boxes[*s].overlaps(&boxes[*t]))
                .map(|pair| pair.map(|t| t as u32))
                .collect();
            assert_eq!(found, wanted, "{count}");
            let asked = Bounds { min: DVec3::new(-1.0, 0.0, 0.5), max: DVec3::new(1.5, 1.0, 3.0) };
            let mut told = Vec::new();
            tree.overlapping(asked, |t| told.push(t as usize));
            told.sort_unstable();
            assert_eq!(
                told,
                (0..count).filter(|t| boxes[*t].overlaps(&asked)).collect::<Vec<_>>(),
                "{count}"
            );
        }
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
        let mut crossings = [Vec::new(), Vec::new()];
        for n in 0..500 {
            let p =
                DVec3::new((n as f64 * 0.7).sin(), (n as f64 * 1.3).cos(), (n as f64 * 0.37).sin())
                    * 12.0;
            let told = |t: &Bvh| {
                t.nearest(p, f64::INFINITY).map(|n| (n.triangle, n.point, n.distance_squared))
            };
            assert_eq!(told(&a), told(&b));
            a.segment_crossings(p, -p, &mut crossings[0]);
            b.segment_crossings(p, -p, &mut crossings[1]);
            let sorted = |of: &[SegmentCrossing]| {
                let mut all: Vec<(u32, u64)> =
                    of.iter().map(|h| (h.triangle, h.t.to_bits())).collect();
                all.sort_unstable();
                all
            };
            assert_eq!(sorted(&crossings[0]), sorted(&crossings[1]));
        }
    }
}
