//! Fewer triangles within a hard error bound, closed and manifold throughout.
//!
//! Vertices are removed by half-edge collapse onto a neighbour, so every remaining point is a
//! point of the input: sharp edges and flat faces stay exact. A collapse is made only when
//! - the link condition holds (Dey et al. 1999), so the surface stays a closed 2-manifold;
//! - no triangle turns over or becomes a needle;
//! - the bound holds: each triangle carries the removed points that lie farthest from it, and
//!   after a collapse every carried point of the star is still within the bound of the new
//!   triangles. Flat areas carry points at distance 0 and vanish whole.
//!
//! Space is cut into blocks that are worked in parallel with their borders locked, then again
//! with the blocks shifted. The result does not depend on the number of threads.

use crate::crossing::crossing_pairs_among;
use crate::{Bounds, Bvh, TriMesh};
use glam::DVec3;
use rayon::prelude::*;

/// What to keep while reducing.
pub struct ReduceOptions<'a> {
    /// Greatest allowed deviation from the input, in units of length.
    pub error: f64,
    /// A value per point; points merge only with equals and borders between values stay.
    pub labels: Option<&'a [u8]>,
    /// Points around which a smaller bound holds, and that bound; empty for none.
    pub faithful: (&'a [bool], f64),
    /// Asked between rounds; true stops early with the mesh as it is then.
    pub cancelled: &'a (dyn Fn() -> bool + Sync),
}

/// The reduced mesh, with the input's index of every point.
pub struct Reduced {
    pub mesh: TriMesh,
    pub source: Vec<u32>,
}

const BLOCK_TRIANGLES: f64 = 24_000.0;
const NEEDLE_SIN: f64 = 0.035;
const CARRIED: usize = 2;
const NONE: u32 = u32::MAX;

pub fn reduce(mesh: &TriMesh, options: &ReduceOptions) -> Reduced {
    let mut triangles: Vec<Tri> = mesh.triangles.iter().map(|&v| Tri { v, carried: [NONE; CARRIED] }).collect();
    // Points that a round could not work on because they lay on its blocks' borders.
    let mut open = vec![true; mesh.points.len()];
    for shift in [0.0, 0.5, 0.27] {
        if options.error <= 0.0 || (options.cancelled)() {
            break;
        }
        triangles = round(mesh, triangles, options, shift, &mut open);
    }
    let mut new = vec![u32::MAX; mesh.points.len()];
    let mut out = Reduced { mesh: TriMesh::default(), source: Vec::new() };
    for t in &triangles {
        out.mesh.triangles.push(t.v.map(|v| {
            if new[v as usize] == u32::MAX {
                new[v as usize] = out.source.len() as u32;
                out.source.push(v);
                out.mesh.points.push(mesh.points[v as usize]);
            }
            new[v as usize]
        }));
    }
    out
}

#[derive(Clone, Copy)]
struct Tri {
    v: [u32; 3],
    /// Removed points (indices of the input) that this triangle stands for.
    carried: [u32; CARRIED],
}

/// One pass over blocks shifted by a share of their size. Works on the points in `open`, and leaves
/// there the ones around the borders of its own blocks.
fn round(mesh: &TriMesh, triangles: Vec<Tri>, options: &ReduceOptions, shift: f64, open: &mut [bool]) -> Vec<Tri> {
    let bounds = mesh.bounds();
    // Blocks hold about BLOCK_TRIANGLES if the surface filled space evenly.
    let volume = bounds.size().max(DVec3::splat(1e-9));
    let edge = (volume.x * volume.y * volume.z * BLOCK_TRIANGLES / triangles.len().max(1) as f64).cbrt().max(1e-9);
    let block = |p: DVec3| -> u32 {
        let c = ((p - bounds.min) / edge + shift).max(DVec3::ZERO);
        (c.x as u32).min(1023) | (c.y as u32).min(1023) << 10 | (c.z as u32).min(1023) << 20
    };
    let ids: Vec<u32> =
        triangles.par_iter().map(|t| block(t.v.iter().map(|&v| mesh.points[v as usize]).sum::<DVec3>() / 3.0)).collect();
    let mut order: Vec<u32> = (0..triangles.len() as u32).collect();
    order.par_sort_unstable_by_key(|&t| (ids[t as usize], t));

    // A vertex seen by triangles of two blocks is locked.
    const MANY: u32 = u32::MAX - 1;
    let mut owner = vec![u32::MAX; mesh.points.len()];
    for (t, &id) in triangles.iter().zip(&ids) {
        for &v in &t.v {
            let o = &mut owner[v as usize];
            *o = if *o == u32::MAX || *o == id { id } else { MANY };
        }
    }
    let lock = |v: u32| owner[v as usize] == MANY;
    let runs: Vec<&[u32]> = order.chunk_by(|a, b| ids[*a as usize] == ids[*b as usize]).collect();
    let parts: Vec<Vec<Tri>> = runs
        .into_par_iter()
        .map(|run| {
            let own = || run.iter().map(|&t| triangles[t as usize]);
            if own().all(|t| t.v.iter().all(|&v| !open[v as usize])) {
                return own().collect();
            }
            Block::new(mesh, own(), options, &lock, open).reduced()
        })
        .collect();
    let triangles = parts.concat();
    open.fill(false);
    for t in &triangles {
        if t.v.iter().any(|&v| owner[v as usize] == MANY) {
            t.v.iter().for_each(|&v| open[v as usize] = true);
        }
    }
    triangles
}

/// One block with local indices; `triangles` of a removed triangle is marked dead.
struct Block<'a> {
    input: &'a [DVec3],
    options: &'a ReduceOptions<'a>,
    global: Vec<u32>,
    points: Vec<DVec3>,
    labels: Vec<u8>,
    locked: Vec<bool>,
    border: Vec<bool>,
    triangles: Vec<Tri>,
    normals: Vec<DVec3>,
    alive: Vec<bool>,
    open: Vec<bool>,
    faithful: Vec<bool>,
    around: Vec<Vec<u32>>,
    /// Scratch of the collapse under test: new triangles, and carried points with their place.
    fan: Vec<(u32, [DVec3; 3])>,
    placed: Vec<(f64, u32, u32)>,
}

impl<'a> Block<'a> {
    fn new(
        mesh: &'a TriMesh,
        triangles: impl Iterator<Item = Tri>,
        options: &'a ReduceOptions<'a>,
        lock: &dyn Fn(u32) -> bool,
        open: &[bool],
    ) -> Block<'a> {
        let mut global: Vec<u32> = Vec::new();
        let mut list: Vec<Tri> = triangles.collect();
        global.extend(list.iter().flat_map(|t| t.v));
        global.sort_unstable();
        global.dedup();
        for t in &mut list {
            t.v = t.v.map(|v| global.binary_search(&v).expect("listed above") as u32);
        }
        let n = global.len();
        let mut around: Vec<Vec<u32>> = (0..n).map(|_| Vec::with_capacity(8)).collect();
        for (i, t) in list.iter().enumerate() {
            t.v.iter().for_each(|&v| around[v as usize].push(i as u32));
        }
        let points: Vec<DVec3> = global.iter().map(|&v| mesh.points[v as usize]).collect();
        let labels: Vec<u8> = match options.labels {
            Some(l) => global.iter().map(|&v| l[v as usize]).collect(),
            None => vec![0; n],
        };
        let mut border = vec![false; n];
        for t in &list {
            if t.v.iter().any(|&v| labels[v as usize] != labels[t.v[0] as usize]) {
                t.v.iter().for_each(|&v| border[v as usize] = true);
            }
        }
        let normals = list.iter().map(|t| normal(t.v.map(|v| points[v as usize]))).collect();
        let locked = global.iter().map(|&v| lock(v)).collect();
        let faithful = global.iter().map(|&v| options.faithful.0.get(v as usize).copied().unwrap_or(false)).collect();
        let open = global.iter().map(|&v| open[v as usize]).collect();
        Block {
            input: &mesh.points,
            open,
            faithful,
            options,
            locked,
            border,
            points,
            labels,
            alive: vec![true; list.len()],
            triangles: list,
            normals,
            around,
            global,
            fan: Vec::new(),
            placed: Vec::new(),
        }
    }

    /// Collapses what the rules allow. Where triangles cross afterwards (two faces of an edge so
    /// sharp that both lie within the bound of each other), the points there are locked and the
    /// block is worked again.
    fn reduced(mut self) -> Vec<Tri> {
        const TRIES: usize = 3;
        let start = (self.triangles.clone(), self.normals.clone(), self.around.clone());
        let sharp: Vec<bool> = self.around.iter().map(|star| self.is_sharp(star)).collect();
        for attempt in 0.. {
            self.collapse_all();
            let live: Vec<u32> = (0..self.triangles.len() as u32).filter(|&t| self.alive[t as usize]).collect();
            if live.len() == self.triangles.len() {
                break;
            }
            let mesh = TriMesh {
                triangles: live.iter().map(|&t| self.triangles[t as usize].v).collect(),
                points: std::mem::take(&mut self.points),
            };
            let near = (0..live.len() as u32).filter(|&t| mesh.triangles[t as usize].iter().any(|&v| sharp[v as usize]));
            let pairs = match near.clone().next() {
                Some(_) => crossing_pairs_among(&mesh, &Bvh::new(&mesh), near.collect::<Vec<_>>().into_par_iter(), 0.0),
                None => Vec::new(),
            };
            let reach = 4.0 * self.options.error;
            let boxes: Vec<Bounds> = pairs.iter().flatten().map(|&t| Bounds::of(mesh.corners(t as usize)).grown(reach)).collect();
            self.points = mesh.points;
            if boxes.is_empty() {
                break;
            }
            for (locked, &p) in self.locked.iter_mut().zip(&self.points) {
                *locked |= attempt == TRIES || boxes.iter().any(|b| b.distance_squared(p) == 0.0);
            }
            (self.triangles, self.normals, self.around) = start.clone();
            self.alive.fill(true);
        }
        let global = &self.global;
        let live = self.triangles.iter().zip(&self.alive).filter(|(_, a)| **a);
        live.map(|(t, _)| Tri { v: t.v.map(|v| global[v as usize]), carried: t.carried }).collect()
    }

    /// Do faces around the point turn back on each other, as at an edge finer than a right angle?
    fn is_sharp(&self, star: &[u32]) -> bool {
        let normal = |&t: &u32| self.normals[t as usize];
        star.iter().any(|a| star.iter().any(|b| normal(a).dot(normal(b)) < -0.1))
    }

    fn collapse_all(&mut self) {
        let mut dirty = self.open.clone();
        for _ in 0..5 {
            let mut made = 0;
            for v in 0..self.points.len() as u32 {
                if !dirty[v as usize] || self.locked[v as usize] || self.around[v as usize].is_empty() {
                    continue;
                }
                dirty[v as usize] = false;
                if let Some(u) = self.collapse(v) {
                    made += 1;
                    for &t in &self.around[u as usize] {
                        self.triangles[t as usize].v.iter().for_each(|&w| dirty[w as usize] = true);
                    }
                }
            }
            if made * 50 < self.points.len() {
                break;
            }
        }
    }

    /// Removes `v` by moving it onto its best neighbour; `None` when no neighbour will do.
    fn collapse(&mut self, v: u32) -> Option<u32> {
        let star = &self.around[v as usize];
        let p = self.points[v as usize];
        let near_faithful = star.iter().any(|&t| self.triangles[t as usize].v.iter().any(|&w| self.faithful[w as usize]));
        let error = if near_faithful { self.options.faithful.1.min(self.options.error) } else { self.options.error };
        // Only the farthest points are carried; the margin covers those let go.
        let limit = 0.8 * error;
        // Neighbours by their height over the faces around v: a bound that costs little.
        let mut near: [(f64, u32); 24] = [(f64::INFINITY, 0); 24];
        let mut count = 0;
        for &t in star {
            let tri = self.triangles[t as usize].v;
            let c = tri.iter().position(|&x| x == v).unwrap_or(0);
            let u = tri[(c + 1) % 3];
            if self.labels[u as usize] != self.labels[v as usize] || (self.border[v as usize] && !self.border[u as usize]) {
                continue;
            }
            let e = self.points[u as usize] - p;
            let height = star.iter().map(|&s| self.normals[s as usize].dot(e).abs()).fold(0.0, f64::max);
            if height <= 4.0 * limit + 1e-12 && count < near.len() {
                near[count] = (height, u);
                count += 1;
            }
        }
        let near = &mut near[..count];
        near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let candidates = near.iter().take(2).map(|n| n.1);
        let u = { candidates }.find(|&u| self.fits(v, u, limit))?;

        let star = std::mem::take(&mut self.around[v as usize]);
        for &t in &star {
            let tri = &mut self.triangles[t as usize];
            tri.carried = [NONE; CARRIED];
            if tri.v.contains(&u) {
                self.alive[t as usize] = false;
                for w in tri.v {
                    if w != v {
                        self.around[w as usize].retain(|&x| x != t);
                    }
                }
            } else {
                tri.v.iter_mut().filter(|w| **w == v).for_each(|w| *w = u);
                self.normals[t as usize] = normal(tri.v.map(|w| self.points[w as usize]));
                self.around[u as usize].push(t);
            }
        }
        // Farthest first, so that a full triangle keeps the points that matter.
        self.placed.sort_unstable_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        for &(_, point, t) in &self.placed {
            if let Some(slot) = self.triangles[t as usize].carried.iter_mut().find(|c| **c == NONE) {
                *slot = point;
            }
        }
        Some(u)
    }

    /// Tests the collapse of `v` onto `u` against every rule; when it passes, `placed` holds the
    /// carried points with their new triangles.
    fn fits(&mut self, v: u32, u: u32, limit: f64) -> bool {
        let (p, q) = (self.points[v as usize], self.points[u as usize]);
        let (sv, su) = (&self.around[v as usize], &self.around[u as usize]);
        if su.len() + sv.len() > 24 {
            return false;
        }
        self.fan.clear();
        for &t in sv {
            let tri = self.triangles[t as usize].v;
            if tri.contains(&u) {
                continue;
            }
            let c = tri.map(|w| if w == v { q } else { self.points[w as usize] });
            let (e0, e1, e2) = (c[1] - c[0], c[2] - c[1], c[0] - c[2]);
            let n = e0.cross(c[2] - c[0]);
            let longest = e0.length_squared().max(e1.length_squared()).max(e2.length_squared());
            let double_area = n.length();
            if double_area <= NEEDLE_SIN * longest * 0.5 || n.dot(self.normals[t as usize]) < 0.5 * double_area {
                return false;
            }
            // No new plane may pass far from v even where its triangle does not lie under v.
            if (p - q).dot(n).abs() > 4.0 * limit * double_area {
                return false;
            }
            self.fan.push((t, c));
        }
        // Link condition: the only common neighbours are the two opposite the edge.
        let has = |star: &[u32], w: u32| star.iter().any(|&t| self.triangles[t as usize].v.contains(&w));
        let mut common = 0;
        for &t in sv {
            let tri = self.triangles[t as usize].v;
            let c = tri.iter().position(|&x| x == v).unwrap_or(0);
            let w = tri[(c + 1) % 3];
            if w != u && has(su, w) {
                common += 1;
                if common > 2 || self.around[w as usize].len() <= 3 {
                    return false;
                }
            }
        }
        if common != 2 {
            return false;
        }
        self.placed.clear();
        let carried = sv.iter().flat_map(|&t| self.triangles[t as usize].carried).filter(|&i| i != NONE);
        for i in std::iter::once(self.global[v as usize]).chain(carried) {
            let point = self.input[i as usize];
            // Any triangle within the bound will do; the nearest of all is not needed.
            let mut best = (f64::INFINITY, 0);
            for (t, c) in &self.fan {
                let d = crate::bvh::nearest_on_triangle(point, c).0.distance_squared(point);
                if d < best.0 {
                    best = (d, *t);
                    if d <= 0.25 * limit * limit {
                        break;
                    }
                }
            }
            if best.0 > limit * limit {
                return false;
            }
            self.placed.push((best.0, i, best.1));
        }
        true
    }
}

fn normal([a, b, c]: [DVec3; 3]) -> DVec3 {
    (b - a).cross(c - a).normalize_or_zero()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Topology;

    fn run(mesh: &TriMesh, error: f64, threads: usize) -> TriMesh {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| reduce(mesh, &ReduceOptions { error, labels: None, faithful: (&[], 0.0), cancelled: &|| false }).mesh)
    }

    #[test]
    fn the_bound_holds_and_threads_do_not_matter() {
        let m = TriMesh::sphere(10.0, 6);
        let r = run(&m, 0.02, 2);
        assert!(r.triangles.len() * 4 < m.triangles.len(), "{} of {}", r.triangles.len(), m.triangles.len());
        assert!(Topology::of(&r).sound());
        let bvh = Bvh::new(&r);
        let worst = m.points.iter().map(|&p| bvh.nearest(p, 1.0).unwrap().distance_squared.sqrt()).fold(0.0, f64::max);
        assert!(worst <= 0.02, "{worst}");
        assert_eq!(r, run(&m, 0.02, 1));
    }

    #[test]
    fn a_finely_cut_box_becomes_coarse_and_stays_exact() {
        // A sphere grid pressed onto a cube: flat faces, sharp edges, 8 192 triangles.
        let m = TriMesh::sphere(1.0, 5).mapped(|p| p / p.abs().max_element());
        let r = run(&m, 1e-6, 2);
        assert!(Topology::of(&r).sound());
        assert!(r.triangles.len() < m.triangles.len() / 5, "{}", r.triangles.len());
        assert!((r.volume() - m.volume()).abs() < 1e-5);
    }
}
