//! One block of a reduction. Local indices and 32-bit places around the block's own middle keep
//! what it touches within a core's cache.

use super::star::{self, Star};
use super::{Patch, ReduceOptions, NONE};
use crate::crossing::triangles_cross;
use crate::{Bounds, Bvh, TriMesh};
use glam::{DVec3, Vec3};
use std::collections::HashSet;

/// What a block works on.
pub(super) struct Input<'a> {
    pub points: &'a [DVec3],
    pub patch: &'a Patch<'a>,
    /// The triangles of `patch` that take part. All others of the block lie at points that are
    /// locked.
    pub run: &'a [u32],
    /// Middle of the block's cube.
    pub middle: DVec3,
    pub options: &'a ReduceOptions<'a>,
    /// By point: see [`flags`].
    pub flags: &'a [u8],
}

/// What is known of a point: it is not to move, its faces stay true, it may go.
pub(super) fn flags(locked: bool, faithful: bool, open: bool) -> u8 {
    let set = |flag: u8, is: bool| if is { flag } else { 0 };
    set(LOCKED, locked) | set(FAITHFUL, faithful) | set(DIRTY, open)
}

/// Points that a triangle carries before those that lie flat in it are let go.
const PLENTY: usize = 64;
/// Share of the bound within which a point lies flat.
const FLAT: f32 = 0.01;

/// A point may move onto one that lies so many bounds off the faces around it; on faces that stay
/// true, off fewer.
const TILT: f32 = 4.0;
const TRUE_TILT: f32 = 1.5;

const LOCKED: u8 = 1;
const BORDER: u8 = 2;
const FAITHFUL: u8 = 4;
const DIRTY: u8 = 8;
/// Faces turn back on each other there, as at an edge finer than a right angle.
const SHARP: u8 = 16;

/// What stays of triangles that cross, in the next try.
#[derive(Clone, Copy)]
enum Kept {
    Corners,
    /// All points that they stand for.
    Carried,
    /// All points in boxes around them, grown by so many bounds.
    Around(f64),
}

/// What stays after each try, in their order.
const KEPT: [Kept; 7] = [
    Kept::Corners,
    Kept::Corners,
    Kept::Corners,
    Kept::Carried,
    Kept::Around(0.0),
    Kept::Around(1.0),
    Kept::Around(4.0),
];

/// Collapses what the rules allow. Where triangles cross afterwards (two faces of an edge so sharp
/// that both lie within the bound of each other), points there are locked and the block is worked
/// again. What crosses all the same stays as it came. `local` holds [`NONE`] for every point of the
/// mesh, before and after.
pub(super) fn reduced(input: &Input, local: &mut [u32]) -> Patch<'static> {
    let (mut points, mut boxes) = (HashSet::new(), Vec::new());
    for kept in KEPT {
        let mut block = Block::new(input, local);
        block.lock(&points, &boxes);
        block.find_sharp();
        block.collapse_all();
        let crossing = block.crossing();
        if crossing.is_empty() {
            return block.patch();
        }
        for &t in &crossing {
            match kept {
                Kept::Corners => points.extend(block.corners_of(t)),
                Kept::Carried => points.extend(block.corners_of(t).chain(block.carried(t))),
                Kept::Around(bounds) => {
                    boxes.push(block.around(t).grown(bounds * input.options.error))
                }
            }
        }
    }
    input.patch.some(input.run)
}

struct Block<'a> {
    options: &'a ReduceOptions<'a>,
    /// Places in the 64-bit mesh are `middle + place`.
    middle: DVec3,
    /// The input's index of each point.
    global: Vec<u32>,
    points: Vec<Point>,
    triangles: Vec<Triangle>,
    /// Triangles that this block has changed.
    touched: Vec<bool>,
    removed: Vec<RemovedPoint>,
    stamp: u32,
    star: Box<Star>,
    /// Carried points of the collapse under test: the triangle of the star that each goes to, and
    /// whether it lies flat there.
    placed: Vec<(u32, u32, bool)>,
}

/// What is asked of a point lies together, so that it comes into the cache at once.
struct Point {
    place: Vec3,
    /// First corner (`4 · triangle + corner`) of its star; the rest by [`Triangle::next`]. Corners
    /// of removed triangles are among them until the star is walked for a collapse. [`NONE`] once
    /// the point is gone.
    first: u32,
    /// The last collapse under test around which it stood.
    mark: u32,
    /// Triangles around it.
    around: u16,
    flags: u8,
    label: u8,
}

struct Triangle {
    points: [u32; 3],
    /// By corner, the next corner of the same point's star.
    next: [u32; 3],
    /// Unit normal; zero once the triangle is removed.
    normal: Vec3,
    /// The first carried point, in [`Block::removed`].
    carried: u32,
}

impl Triangle {
    fn is_removed(&self) -> bool {
        self.normal == Vec3::ZERO
    }
}

/// The triangle of a corner, and which of its corners it is.
#[inline(always)]
fn of_corner(corner: u32) -> (usize, usize) {
    ((corner >> 2) as usize, (corner & 3) as usize)
}

#[derive(Clone, Copy)]
struct RemovedPoint {
    global: u32,
    place: Vec3,
    next: u32,
}

impl<'a> Block<'a> {
    fn new(input: &Input<'a>, local: &mut [u32]) -> Block<'a> {
        let Input { points: places, patch, run, middle, options, flags } = *input;
        let mut global: Vec<u32> = Vec::with_capacity(run.len() / 2 + 64);
        let named: Vec<[u32; 3]> = run
            .iter()
            .map(|&t| {
                patch.triangles[t as usize].map(|v| {
                    let slot = &mut local[v as usize];
                    if *slot == NONE {
                        *slot = global.len() as u32;
                        global.push(v);
                    }
                    *slot
                })
            })
            .collect();
        global.iter().for_each(|&v| local[v as usize] = NONE);
        let near = |v: u32| (places[v as usize] - middle).as_vec3();
        let point = |&v: &u32| {
            let label = options.labels.map_or(0, |l| l[v as usize]);
            Point {
                place: near(v),
                first: NONE,
                mark: 0,
                around: 0,
                flags: flags[v as usize],
                label,
            }
        };
        let mut points: Vec<Point> = global.iter().map(point).collect();
        let mut removed = Vec::new();
        let triangle = |(t, (tri, &id)): (usize, (&[u32; 3], &u32))| {
            let carried = patch.carried_by(id).iter().fold(NONE, |next, &v| {
                removed.push(RemovedPoint { global: v, place: near(v), next });
                removed.len() as u32 - 1
            });
            let normal = unit_normal(tri.map(|v| points[v as usize].place));
            let border =
                tri.iter().any(|&v| points[v as usize].label != points[tri[0] as usize].label);
            let mut next = [NONE; 3];
            for (c, &v) in tri.iter().enumerate() {
                let point = &mut points[v as usize];
                next[c] = std::mem::replace(&mut point.first, 4 * t as u32 + c as u32);
                point.around = point.around.saturating_add(1);
                point.flags |= if border { BORDER } else { 0 };
            }
            Triangle { points: *tri, next, normal, carried }
        };
        let triangles: Vec<Triangle> = named.iter().zip(run).enumerate().map(triangle).collect();
        Block {
            options,
            middle,
            global,
            points,
            touched: vec![false; triangles.len()],
            triangles,
            removed,
            stamp: 0,
            star: Box::new(Star::new()),
            placed: Vec::new(),
        }
    }

    /// Locks points by the input's index, and those in boxes.
    fn lock(&mut self, points: &HashSet<u32>, boxes: &[Bounds]) {
        if points.is_empty() && boxes.is_empty() {
            return;
        }
        for (point, global) in self.points.iter_mut().zip(&self.global) {
            let p = self.middle + point.place.as_dvec3();
            if points.contains(global) || boxes.iter().any(|b| b.distance_squared(p) == 0.0) {
                point.flags |= LOCKED;
            }
        }
    }

    /// Corners of the star of a point.
    #[inline(always)]
    fn corners(&self, v: u32) -> impl Iterator<Item = (usize, usize)> + '_ {
        let mut at = self.points[v as usize].first;
        std::iter::from_fn(move || {
            while at != NONE {
                let (t, k) = of_corner(at);
                let tri = &self.triangles[t];
                at = tri.next[k];
                if !tri.is_removed() {
                    return Some((t, k));
                }
            }
            None
        })
    }

    fn find_sharp(&mut self) {
        for v in 0..self.points.len() as u32 {
            let normals = || self.corners(v).map(|(t, _)| self.triangles[t].normal);
            let Some(one) = normals().next() else { continue };
            // Where all lie within 48° of one of them no two are 96° apart.
            if normals().any(|n| n.dot(one) < 0.67)
                && normals().any(|a| normals().any(|b| a.dot(b) < -0.1))
            {
                self.points[v as usize].flags |= SHARP;
            }
        }
    }

    /// Passes over the points that may have come to fit, as long as one removes a share of what is
    /// left.
    fn collapse_all(&mut self) {
        const PASSES: usize = 16;
        const LEAST: f64 = 0.02;
        let mut left = self.points.len();
        for _ in 0..PASSES {
            let mut made = 0;
            for v in 0..self.points.len() as u32 {
                let point = &mut self.points[v as usize];
                if point.flags & (DIRTY | LOCKED) != DIRTY || point.first == NONE {
                    continue;
                }
                point.flags &= !DIRTY;
                made += self.collapse(v) as usize;
            }
            left -= made;
            if (made as f64) < LEAST * left as f64 {
                break;
            }
        }
    }

    /// Removes `v` by moving it onto its best neighbour; false when no neighbour will do.
    fn collapse(&mut self, v: u32) -> bool {
        if self.points[v as usize].around as usize > star::MOST {
            return false;
        }
        self.stamp += 1;
        let Point { place: p, flags, label, first, .. } = self.points[v as usize];
        let mut faithful = flags;
        self.star.len = 0;
        let (mut at, mut before) = (first, NONE);
        while at != NONE {
            let corner = at;
            let (t, k) = of_corner(corner);
            let tri = &self.triangles[t];
            at = tri.next[k];
            if tri.is_removed() {
                self.unlink(v, before, at);
                continue;
            }
            before = corner;
            // The corners after this one.
            let (m, n) = (AFTER[k], AFTER[AFTER[k]]);
            let ends = [tri.points[m], tri.points[n]];
            let normal = tri.normal;
            let to = ends.map(|w| {
                let point = &mut self.points[w as usize];
                point.mark = self.stamp;
                faithful |= point.flags;
                point.place - p
            });
            self.star.push(corner, ends, to, normal);
        }
        self.star.close();
        let faithful = faithful & FAITHFUL != 0;
        let error = if faithful {
            self.options.faithful.1.min(self.options.error)
        } else {
            self.options.error
        };
        // The margin covers 32-bit places and the flat points let go.
        let limit = 0.97 * error as f32;
        // Where few points are carried nothing else tells how far a true face's triangles tilt.
        let tilt = if faithful { TRUE_TILT } else { TILT } * limit;
        // Neighbours by their height over the faces around v: a bound that costs little.
        let mut best = [(f32::INFINITY, 0); 2];
        for (n, &height) in self.star.heights()[..self.star.len].iter().enumerate() {
            if height > tilt || height >= best[1].0 {
                continue;
            }
            let onto = &self.points[self.star.next[n] as usize];
            let leaves_border = flags & BORDER != 0 && onto.flags & BORDER == 0;
            if onto.label == label && !leaves_border {
                best[1] = (height, n);
                if best[1].0 < best[0].0 {
                    best.swap(0, 1);
                }
            }
        }
        let onto =
            best.iter().find(|(height, n)| height.is_finite() && self.fits(v, *n, limit, tilt));
        if let Some((_, n)) = onto {
            self.apply(v, self.star.next[*n]);
        }
        onto.is_some()
    }

    /// Takes the corner after `before`, or the first one, out of the star of `v`, so that `next`
    /// follows.
    #[inline(always)]
    fn unlink(&mut self, v: u32, before: u32, next: u32) {
        if before == NONE {
            self.points[v as usize].first = next;
        } else {
            let (t, k) = of_corner(before);
            self.triangles[t].next[k] = next;
        }
    }

    fn apply(&mut self, v: u32, u: u32) {
        for &corner in &self.star.corners[..self.star.len] {
            let (t, k) = of_corner(corner);
            self.touched[t] = true;
            let tri = &mut self.triangles[t];
            tri.carried = NONE;
            if tri.points.contains(&u) {
                tri.normal = Vec3::ZERO;
                tri.points.iter().for_each(|&w| self.points[w as usize].around -= 1);
            } else {
                tri.points.iter().for_each(|&w| self.points[w as usize].flags |= DIRTY);
                tri.points[k] = u;
                let onto = &mut self.points[u as usize];
                tri.next[k] = std::mem::replace(&mut onto.first, corner);
                onto.around += 1;
            }
        }
        for (n, normal) in self.star.moved() {
            self.triangles[of_corner(self.star.corners[n]).0].normal = normal;
        }
        self.points[v as usize].first = NONE;
        self.points[u as usize].flags |= DIRTY;
        // Points that lie flat are let go where a triangle carries plenty.
        let mut counts = [0; star::MOST];
        for &(point, n, flat) in &self.placed {
            let count = &mut counts[n as usize];
            if flat && *count >= PLENTY {
                continue;
            }
            *count += 1;
            let list = &mut self.triangles[of_corner(self.star.corners[n as usize]).0].carried;
            self.removed[point as usize].next = std::mem::replace(list, point);
        }
    }

    /// Tests the collapse of `v` onto the next point of triangle `onto` of its star against every
    /// rule; when it passes, `placed` holds the carried points. Points around `v` bear the stamp.
    fn fits(&mut self, v: u32, onto: usize, limit: f32, tilt: f32) -> bool {
        let u = self.star.next[onto];
        if self.star.len + self.points[u as usize].around as usize > star::MOST {
            return false;
        }
        // Link condition: the only common neighbours are the two opposite the edge.
        let (mut common, mut opposite) = (0, [NONE; 2]);
        for (t, k) in self.corners(u) {
            let w = self.triangles[t].points[AFTER[k]];
            if w != v && self.points[w as usize].mark == self.stamp {
                if common == 2 || self.points[w as usize].around <= 3 {
                    return false;
                }
                opposite[common] = w;
                common += 1;
            }
        }
        // Two points on the block's border may be neighbours by triangles of another block.
        let is_locked = |w: u32| self.points[w as usize].flags & LOCKED != 0;
        let beside_unseen = |w: &u32| *w != u && !opposite.contains(w) && is_locked(*w);
        if common != 2 || is_locked(u) && self.star.next[..self.star.len].iter().any(beside_unseen)
        {
            return false;
        }
        if !self.star.move_onto(onto, tilt) {
            return false;
        }
        self.placed.clear();
        let p = self.points[v as usize].place;
        let own = self.removed.len() as u32;
        self.removed.push(RemovedPoint { global: self.global[v as usize], place: p, next: NONE });
        let star = &self.star;
        let lists =
            star.corners[..star.len].iter().map(|&c| self.triangles[of_corner(c).0].carried);
        for mut point in lists.chain([own]) {
            while point != NONE {
                let RemovedPoint { place, next, .. } = self.removed[point as usize];
                let Some((n, d)) = star.under(place - p, limit) else {
                    self.removed.pop();
                    return false;
                };
                self.placed.push((point, n as u32, d < FLAT * limit));
                point = next;
            }
        }
        true
    }

    fn place(&self, v: u32) -> Vec3 {
        self.points[v as usize].place
    }

    /// Do the triangles at a point, seen along their mean normal, fail to go around it once, so
    /// that they may cross each other?
    fn winds(&self, v: u32) -> bool {
        let mean = self.corners(v).map(|(t, _)| self.triangles[t].normal).sum::<Vec3>();
        let (x, y) = mean.normalize_or(Vec3::Z).any_orthonormal_pair();
        let mut turns = 0;
        for (t, k) in self.corners(v) {
            let [a, b] = [AFTER[k], AFTER[AFTER[k]]].map(|end| {
                let to = self.place(self.triangles[t].points[end]) - self.place(v);
                [to.dot(x), to.dot(y)]
            });
            if a[0] * b[1] - a[1] * b[0] <= 0.0 {
                return true;
            }
            turns += (a[1] < 0.0 && b[1] >= 0.0) as u32;
        }
        turns > 1
    }

    /// Changed triangles that cross others: at sharp points any, elsewhere those at the same point.
    fn crossing(&self) -> Vec<u32> {
        let live = |t: &usize| !self.triangles[*t].is_removed();
        let is_sharp = |v: &u32| self.points[*v as usize].flags & SHARP != 0;
        let at_sharp =
            |t: &usize| self.touched[*t] && self.triangles[*t].points.iter().any(is_sharp);
        let suspects: Vec<usize> =
            (0..self.triangles.len()).filter(live).filter(at_sharp).collect();
        let is_changed = |v: &u32| self.corners(*v).any(|(t, _)| self.touched[t]);
        let winding: Vec<u32> =
            (0..self.points.len() as u32).filter(|v| is_changed(v) && self.winds(*v)).collect();
        if suspects.is_empty() && winding.is_empty() {
            return Vec::new();
        }
        let points: Vec<DVec3> = self.points.iter().map(|p| p.place.as_dvec3()).collect();
        let mesh = TriMesh { points, triangles: self.triangles.iter().map(|t| t.points).collect() };
        let few = TriMesh {
            triangles: suspects.iter().map(|&t| mesh.triangles[t]).collect(),
            points: mesh.points.clone(),
        };
        let bvh = Bvh::new(&few);
        let mut out = Vec::new();
        for v in winding {
            let fan: Vec<u32> = self.corners(v).map(|(t, _)| t as u32).collect();
            for (n, &s) in fan.iter().enumerate() {
                let crosses = |t: &&u32| {
                    self.touched[s as usize] | self.touched[**t as usize]
                        && triangles_cross(&mesh, s, **t)
                };
                fan[n + 1..].iter().filter(crosses).for_each(|&t| out.extend([s, t]));
            }
        }
        for t in (0..self.triangles.len()).filter(live).filter(|_| !suspects.is_empty()) {
            bvh.overlapping(Bounds::of(mesh.corners(t)), |s| {
                let s = suspects[s as usize];
                if s != t && triangles_cross(&mesh, s as u32, t as u32) {
                    out.extend([s as u32, t as u32]);
                }
            });
        }
        out.sort_unstable();
        out.dedup();
        out
    }

    /// The points that a triangle carries, by the input's index.
    fn carried(&self, t: u32) -> impl Iterator<Item = u32> + '_ {
        let some = |p: u32| (p != NONE).then_some(p);
        let first = some(self.triangles[t as usize].carried);
        let list = std::iter::successors(first, move |&p| some(self.removed[p as usize].next));
        list.map(|p| self.removed[p as usize].global)
    }

    /// The corners of a triangle, by the input's index.
    fn corners_of(&self, t: u32) -> impl Iterator<Item = u32> + '_ {
        self.triangles[t as usize].points.into_iter().map(|v| self.global[v as usize])
    }

    /// The box around a triangle, in the mesh's own places.
    fn around(&self, t: u32) -> Bounds {
        let place = |v: u32| self.middle + self.place(v).as_dvec3();
        Bounds::of(self.triangles[t as usize].points.map(place))
    }

    fn patch(&self) -> Patch<'static> {
        let mut out = Patch::empty();
        for (t, tri) in self.triangles.iter().enumerate().filter(|(_, tri)| !tri.is_removed()) {
            out.push(tri.points.map(|v| self.global[v as usize]), self.carried(t as u32));
        }
        out
    }
}

/// The corner after each of a triangle.
const AFTER: [usize; 3] = [1, 2, 0];

fn unit_normal([a, b, c]: [Vec3; 3]) -> Vec3 {
    // A needle's direction is noise, but a triangle without one would count as removed.
    (b - a).cross(c - a).try_normalize().unwrap_or(Vec3::Z)
}
