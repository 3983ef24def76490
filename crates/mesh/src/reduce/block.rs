//! One block of a reduction. Local indices and 32-bit places around the block's own middle keep what
//! it touches within a core's cache.

use super::star::{self, Star};
use super::{Patch, ReduceOptions, NONE};
use crate::crossing::triangles_cross;
use crate::{Bounds, Bvh, TriMesh};
use glam::{DVec3, Vec3};

/// What a block works on.
pub struct Input<'a> {
    pub points: &'a [DVec3],
    pub patch: &'a Patch<'a>,
    /// The block's triangles of `patch`.
    pub run: &'a [u32],
    pub options: &'a ReduceOptions<'a>,
    pub lock: &'a (dyn Fn(u32) -> bool + Sync),
    pub open: &'a [bool],
}

/// Points that a triangle carries before those that lie flat in it are let go.
const PLENTY: usize = 16;
/// Share of the bound within which a point lies flat.
const FLAT: f32 = 0.03;

/// A point may move onto one that lies so many bounds off the faces around it; on faces that stay true, off fewer.
const TILT: f32 = 4.0;
const TRUE_TILT: f32 = 1.5;

const LOCKED: u8 = 1;
const BORDER: u8 = 2;
const FAITHFUL: u8 = 4;
const DIRTY: u8 = 8;

/// Collapses what the rules allow. Where triangles cross afterwards (two faces of an edge so sharp
/// that both lie within the bound of each other), the points there are locked and the block is
/// worked again. `local` holds [`NONE`] for every point of the mesh, before and after.
pub fn reduced(input: &Input, local: &mut [u32]) -> Patch<'static> {
    const TRIES: usize = 3;
    let mut kept = Vec::new();
    for attempt in 0.. {
        let mut block = Block::new(input, local);
        block.lock_near(&kept);
        let sharp = block.sharp();
        block.collapse_all();
        let crossing = block.crossing(&sharp);
        if crossing.is_empty() {
            return block.patch();
        }
        if attempt == TRIES {
            return input.patch.some(input.run);
        }
        kept.extend(crossing);
    }
    unreachable!("the last try returns")
}

struct Block<'a> {
    options: &'a ReduceOptions<'a>,
    /// Places in the 64-bit mesh are `middle + place`.
    middle: DVec3,
    /// The input's index of each point.
    global: Vec<u32>,
    place: Vec<Vec3>,
    label: Vec<u8>,
    flags: Vec<u8>,
    /// First corner (`3 · triangle + corner`) of the star of each point; the rest by `next`.
    first: Vec<u32>,
    next: Vec<u32>,
    /// Triangles around each point.
    around: Vec<u16>,
    triangles: Vec<[u32; 3]>,
    /// Unit normals; zero for a removed triangle.
    normal: Vec<Vec3>,
    /// Changed by this block.
    touched: Vec<bool>,
    /// First carried point of each triangle, in `removed`.
    carried: Vec<u32>,
    removed: Vec<Removed>,
    /// Stamps of the points around the one under test.
    mark: Vec<u32>,
    stamp: u32,
    star: Box<Star>,
    /// Carried points of the collapse under test: the triangle of the star that each goes to, and whether it lies
    /// flat there.
    placed: Vec<(u32, u32, bool)>,
}

#[derive(Clone, Copy)]
struct Removed {
    global: u32,
    place: Vec3,
    next: u32,
}

impl<'a> Block<'a> {
    fn new(input: &Input<'a>, local: &mut [u32]) -> Block<'a> {
        let Input { points, patch, run, options, .. } = input;
        let mut global: Vec<u32> = Vec::with_capacity(run.len() / 2 + 64);
        let triangles: Vec<[u32; 3]> = run
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
        let n = global.len();
        let middle = Bounds::of(global.iter().map(|&v| points[v as usize])).centre();
        let near = |v: u32| (points[v as usize] - middle).as_vec3();
        let place: Vec<Vec3> = global.iter().map(|&v| near(v)).collect();
        let label: Vec<u8> = options.labels.map_or(vec![0; n], |l| global.iter().map(|&v| l[v as usize]).collect());
        let flag = |v: u32| {
            let faithful = options.faithful.0.get(v as usize).copied().unwrap_or(false);
            (if (input.lock)(v) { LOCKED } else { 0 })
                | (if faithful { FAITHFUL } else { 0 })
                | (if input.open[v as usize] { DIRTY } else { 0 })
        };
        let mut flags: Vec<u8> = global.iter().map(|&v| flag(v)).collect();
        let (mut first, mut next, mut around) = (vec![NONE; n], vec![NONE; triangles.len() * 3], vec![0u16; n]);
        for (t, tri) in triangles.iter().enumerate().rev() {
            for (c, &v) in tri.iter().enumerate() {
                next[3 * t + c] = std::mem::replace(&mut first[v as usize], (3 * t + c) as u32);
                around[v as usize] = around[v as usize].saturating_add(1);
            }
            if tri.iter().any(|&v| label[v as usize] != label[tri[0] as usize]) {
                tri.iter().for_each(|&v| flags[v as usize] |= BORDER);
            }
        }
        let normal = triangles.iter().map(|t| unit_normal(t.map(|v| place[v as usize]))).collect();
        let mut removed = Vec::new();
        let carried = run
            .iter()
            .map(|&t| {
                patch.carried_by(t).iter().fold(NONE, |next, &v| {
                    removed.push(Removed { global: v, place: near(v), next });
                    removed.len() as u32 - 1
                })
            })
            .collect();
        Block {
            options,
            middle,
            label,
            flags,
            first,
            next,
            around,
            normal,
            touched: vec![false; triangles.len()],
            carried,
            removed,
            mark: vec![0; n],
            stamp: 0,
            star: Box::new(Star::new()),
            placed: Vec::new(),
            triangles,
            place,
            global,
        }
    }

    fn lock_near(&mut self, boxes: &[Bounds]) {
        if boxes.is_empty() {
            return;
        }
        for (flags, p) in self.flags.iter_mut().zip(&self.place) {
            let p = self.middle + p.as_dvec3();
            if boxes.iter().any(|b| b.distance_squared(p) == 0.0) {
                *flags |= LOCKED;
            }
        }
    }

    /// Corners of the star of a point.
    fn corners(&self, v: u32) -> impl Iterator<Item = u32> + '_ {
        let some = |c: u32| (c != NONE).then_some(c);
        std::iter::successors(some(self.first[v as usize]), move |&c| some(self.next[c as usize]))
    }

    /// Points where faces turn back on each other, as at an edge finer than a right angle.
    fn sharp(&self) -> Vec<bool> {
        let is_sharp = |v: u32| {
            let normals = || self.corners(v).map(|c| self.normal[c as usize / 3]);
            let mean = normals().sum::<Vec3>().normalize_or_zero();
            // All within 48° of the mean: no two are 96° apart.
            normals().any(|n| n.dot(mean) < 0.67) && normals().any(|a| normals().any(|b| a.dot(b) < -0.1))
        };
        (0..self.place.len() as u32).map(is_sharp).collect()
    }

    fn collapse_all(&mut self) {
        for _ in 0..5 {
            let mut made = 0;
            for v in 0..self.place.len() as u32 {
                let flags = &mut self.flags[v as usize];
                if *flags & (DIRTY | LOCKED) != DIRTY || self.first[v as usize] == NONE {
                    continue;
                }
                *flags &= !DIRTY;
                made += self.collapse(v) as usize;
            }
            if made * 50 < self.place.len() {
                break;
            }
        }
    }

    /// Removes `v` by moving it onto its best neighbour; false when no neighbour will do.
    fn collapse(&mut self, v: u32) -> bool {
        if self.around[v as usize] as usize > star::MOST {
            return false;
        }
        self.stamp += 1;
        let p = self.place[v as usize];
        let mut faithful = self.flags[v as usize];
        self.star.len = 0;
        let mut at = self.first[v as usize];
        while at != NONE {
            let (t, k) = (at as usize / 3, at as usize % 3);
            let tri = self.triangles[t];
            let ends = [tri[(k + 1) % 3], tri[(k + 2) % 3]];
            for w in ends {
                self.mark[w as usize] = self.stamp;
                faithful |= self.flags[w as usize];
            }
            self.star.push(at, ends, ends.map(|w| self.place[w as usize] - p), self.normal[t]);
            at = self.next[at as usize];
        }
        self.star.close();
        let faithful = faithful & FAITHFUL != 0;
        let error = if faithful { self.options.faithful.1.min(self.options.error) } else { self.options.error };
        // The margin covers 32-bit places and the flat points let go.
        let limit = 0.9 * error as f32;
        // Where few points are carried nothing else tells how far a true face's triangles tilt.
        let tilt = if faithful { TRUE_TILT } else { TILT } * limit;
        // Neighbours by their height over the faces around v: a bound that costs little.
        let mut best = [(f32::INFINITY, 0); 2];
        for (n, &height) in self.star.heights()[..self.star.len].iter().enumerate() {
            let u = self.star.next[n];
            let border = self.flags[v as usize] & BORDER != 0 && self.flags[u as usize] & BORDER == 0;
            if self.label[u as usize] == self.label[v as usize] && !border && height <= tilt && height < best[1].0 {
                best[1] = (height, n);
                if best[1].0 < best[0].0 {
                    best.swap(0, 1);
                }
            }
        }
        let onto = best.iter().find(|(height, n)| height.is_finite() && self.fits(v, *n, limit, tilt));
        if let Some((_, n)) = onto {
            self.apply(v, self.star.next[*n]);
        }
        onto.is_some()
    }

    fn apply(&mut self, v: u32, u: u32) {
        for &c in &self.star.corners[..self.star.len] {
            let (t, k) = (c as usize / 3, c as usize % 3);
            self.carried[t] = NONE;
            self.touched[t] = true;
            let tri = self.triangles[t];
            if tri.contains(&u) {
                self.normal[t] = Vec3::ZERO;
                for (k, &w) in tri.iter().enumerate() {
                    self.around[w as usize] -= 1;
                    if w != v {
                        unlink(&mut self.first[w as usize], &mut self.next, (3 * t + k) as u32);
                    }
                }
            } else {
                self.triangles[t][k] = u;
                self.next[c as usize] = std::mem::replace(&mut self.first[u as usize], c);
                self.around[u as usize] += 1;
                tri.iter().for_each(|&w| self.flags[w as usize] |= DIRTY);
            }
        }
        for (n, normal) in self.star.moved() {
            self.normal[self.star.corners[n] as usize / 3] = normal;
        }
        self.first[v as usize] = NONE;
        self.flags[u as usize] |= DIRTY;
        // Points that lie flat are let go where a triangle carries plenty.
        let mut counts = [0; star::MOST];
        for &(point, n, flat) in &self.placed {
            let count = &mut counts[n as usize];
            if flat && *count >= PLENTY {
                continue;
            }
            *count += 1;
            let list = &mut self.carried[self.star.corners[n as usize] as usize / 3];
            self.removed[point as usize].next = std::mem::replace(list, point);
        }
    }

    /// Tests the collapse of `v` onto the next point of triangle `onto` of its star against every rule; when it
    /// passes, `placed` holds the carried points. Points around `v` bear the stamp.
    fn fits(&mut self, v: u32, onto: usize, limit: f32, tilt: f32) -> bool {
        let u = self.star.next[onto];
        if self.star.len + self.around[u as usize] as usize > star::MOST {
            return false;
        }
        // Link condition: the only common neighbours are the two opposite the edge.
        let (mut common, mut opposite) = (0, [NONE; 2]);
        for c in self.corners(u) {
            let w = self.triangles[c as usize / 3][(c as usize % 3 + 1) % 3];
            if w != v && self.mark[w as usize] == self.stamp {
                if common == 2 || self.around[w as usize] <= 3 {
                    return false;
                }
                opposite[common] = w;
                common += 1;
            }
        }
        // Two points on the block's border may be neighbours by triangles of another block.
        let is_locked = |w: u32| self.flags[w as usize] & LOCKED != 0;
        let beside_unseen = |w: &u32| *w != u && !opposite.contains(w) && is_locked(*w);
        if common != 2 || is_locked(u) && self.star.next[..self.star.len].iter().any(beside_unseen) {
            return false;
        }
        if !self.star.move_onto(onto, tilt) {
            return false;
        }
        self.placed.clear();
        let p = self.place[v as usize];
        let own = self.removed.len() as u32;
        self.removed.push(Removed { global: self.global[v as usize], place: p, next: NONE });
        let star = &self.star;
        let lists = star.corners[..star.len].iter().map(|&c| self.carried[c as usize / 3]);
        for mut point in lists.chain([own]) {
            while point != NONE {
                let Removed { place, next, .. } = self.removed[point as usize];
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

    /// Do the triangles at a point, seen along their mean normal, fail to go around it once? Then they may cross each other.
    fn winds(&self, v: u32) -> bool {
        let corners = || self.corners(v).map(|c| (c as usize / 3, c as usize % 3));
        let mean = corners().map(|(t, _)| self.normal[t]).sum::<Vec3>();
        let (x, y) = mean.normalize_or(Vec3::Z).any_orthonormal_pair();
        let mut turns = 0;
        for (t, k) in corners() {
            let [a, b] = [1, 2].map(|n| {
                let to = self.place[self.triangles[t][(k + n) % 3] as usize] - self.place[v as usize];
                [to.dot(x), to.dot(y)]
            });
            if a[0] * b[1] - a[1] * b[0] <= 0.0 {
                return true;
            }
            turns += (a[1] < 0.0 && b[1] >= 0.0) as u32;
        }
        turns > 1
    }

    /// Boxes around changed triangles that cross others: at sharp points any, elsewhere those at the same point.
    fn crossing(&self, sharp: &[bool]) -> Vec<Bounds> {
        let live = |t: &usize| self.normal[*t] != Vec3::ZERO;
        let at_sharp = |t: &usize| self.touched[*t] && self.triangles[*t].iter().any(|&v| sharp[v as usize]);
        let suspects: Vec<usize> = (0..self.triangles.len()).filter(live).filter(at_sharp).collect();
        let is_changed = |v: &u32| self.corners(*v).any(|c| self.touched[c as usize / 3]);
        let winding: Vec<u32> = (0..self.place.len() as u32).filter(|v| is_changed(v) && self.winds(*v)).collect();
        if suspects.is_empty() && winding.is_empty() {
            return Vec::new();
        }
        let points: Vec<DVec3> = self.place.iter().map(|p| p.as_dvec3()).collect();
        let mesh = TriMesh { points, triangles: self.triangles.clone() };
        let few = TriMesh { triangles: suspects.iter().map(|&t| self.triangles[t]).collect(), points: mesh.points.clone() };
        let bvh = Bvh::new(&few);
        let grown = |t: usize| {
            let around = Bounds::of(mesh.corners(t)).grown(4.0 * self.options.error);
            Bounds { min: around.min + self.middle, max: around.max + self.middle }
        };
        let mut out = Vec::new();
        for v in winding {
            let fan: Vec<u32> = self.corners(v).map(|c| c / 3).collect();
            for (n, &s) in fan.iter().enumerate() {
                let crosses = |t: &&u32| self.touched[s as usize] | self.touched[**t as usize] && triangles_cross(&mesh, s, **t);
                fan[n + 1..].iter().filter(crosses).for_each(|&t| out.extend([grown(s as usize), grown(t as usize)]));
            }
        }
        for t in (0..self.triangles.len()).filter(live).filter(|_| !suspects.is_empty()) {
            bvh.overlapping(Bounds::of(mesh.corners(t)), |s| {
                let s = suspects[s as usize];
                if s != t && triangles_cross(&mesh, s as u32, t as u32) {
                    out.extend([grown(s), grown(t)]);
                }
            });
        }
        out
    }

    fn patch(&self) -> Patch<'static> {
        let mut out = Patch::empty();
        for (t, tri) in self.triangles.iter().enumerate().filter(|(t, _)| self.normal[*t] != Vec3::ZERO) {
            let some = |p: u32| (p != NONE).then_some(p);
            let list = std::iter::successors(some(self.carried[t]), |&p| some(self.removed[p as usize].next));
            out.push(tri.map(|v| self.global[v as usize]), list.map(|p| self.removed[p as usize].global));
        }
        out
    }
}

/// Takes a corner out of the list that starts at `first`.
fn unlink(first: &mut u32, next: &mut [u32], corner: u32) {
    let mut at = *first;
    if at == corner {
        *first = next[corner as usize];
        return;
    }
    while next[at as usize] != corner {
        at = next[at as usize];
    }
    next[at as usize] = next[corner as usize];
}

fn unit_normal([a, b, c]: [Vec3; 3]) -> Vec3 {
    // A needle's direction is noise, but a triangle without one would count as removed.
    (b - a).cross(c - a).try_normalize().unwrap_or(Vec3::Z)
}
