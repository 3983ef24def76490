//! A mesh that comes in stretches, each reduced as it comes, so that it is never there whole.
//!
//! The points that two stretches share stay, with what removed points the triangles at them stand
//! for, until all have come; then what lies along the seams is reduced as well.

use super::{rounds, Patch, ReduceOptions, NONE};
use crate::{Bounds, TriMesh};
use glam::DVec3;
use rayon::prelude::*;

/// The next stretch of a mesh. Lists are by its points.
pub struct Stretch<'a> {
    /// Triangles of these layers.
    pub mesh: TriMesh,
    /// Points merge only with points of the same value, and borders between values stay.
    pub labels: Vec<u8>,
    /// Around which the smaller bound holds.
    pub faithful: Vec<bool>,
    /// Points that stay, with all triangles at them.
    pub kept: Vec<bool>,
    /// The points that are [`Stretch::last`] of the stretch before, in the same order. The places
    /// of the stretch before count.
    pub below: &'a [u32],
    /// The points that the next stretch has as well.
    pub last: &'a [u32],
}

/// What has come of all stretches. Lists are by the mesh's points.
#[derive(Clone, Debug, PartialEq)]
pub struct Gathered {
    /// All triangles so far.
    pub mesh: TriMesh,
    /// Label of each point.
    pub labels: Vec<u8>,
    /// By point, does it lie on an exact face?
    pub faithful: Vec<bool>,
    /// Triangles of all stretches as they came.
    pub raw_triangles: usize,
}

/// Reduces stretches and joins them.
pub struct Reducer<'a> {
    /// Greatest allowed deviation of the points that come from the result, and around faithful
    /// points. Units of length.
    error: f64,
    faithful: f64,
    cancelled: &'a (dyn Fn() -> bool + Sync),
    all: Points,
    /// Triangles by number of the point; those at an open point with the points that they stand
    /// for.
    patch: Patch<'static>,
    /// Points at a seam, and their neighbours.
    open: Vec<bool>,
    /// Numbers of the points that the next stretch has as well; [`NONE`] for one that has no
    /// triangle yet.
    last: Vec<u32>,
    raw_triangles: usize,
}

/// Points, and what is known of each.
#[derive(Default)]
struct Points {
    places: Vec<DVec3>,
    labels: Vec<u8>,
    faithful: Vec<bool>,
    kept: Vec<bool>,
}

impl Points {
    /// Adds a point of a stretch.
    fn push(&mut self, s: &Stretch, v: usize) {
        self.places.push(s.mesh.points[v]);
        self.labels.push(s.labels[v]);
        self.faithful.push(s.faithful[v]);
        self.kept.push(s.kept[v]);
    }
}

impl<'a> Reducer<'a> {
    /// See the fields. Once `cancelled` answers true, what comes stays as it is.
    pub fn new(error: f64, faithful: f64, cancelled: &'a (dyn Fn() -> bool + Sync)) -> Reducer<'a> {
        Reducer {
            error,
            faithful,
            cancelled,
            all: Points::default(),
            patch: Patch::empty(),
            open: Vec::new(),
            last: Vec::new(),
            raw_triangles: 0,
        }
    }

    /// Reduces a stretch and joins it to those before.
    pub fn add(&mut self, mut s: Stretch) {
        self.raw_triangles += s.mesh.triangles.len();
        let both = s.below.iter().zip(&self.last).filter(|(_, before)| **before != NONE);
        let met: Vec<(usize, usize)> =
            both.map(|(&own, &before)| (own as usize, before as usize)).collect();
        for &(own, v) in &met {
            s.mesh.points[own] = self.all.places[v];
            s.labels[own] = self.all.labels[v];
            s.faithful[own] = self.all.faithful[v];
        }
        let mut at_seam = vec![false; s.mesh.points.len()];
        s.below.iter().chain(s.last).for_each(|&v| at_seam[v as usize] = true);
        let stays: Vec<bool> =
            s.kept.iter().zip(&at_seam).map(|(kept, seam)| *kept || *seam).collect();
        let options = self.options(&s.labels, &s.faithful, &stays);
        let patch =
            rounds(&s.mesh.points, Patch::of(&s.mesh.triangles), &options, vec![true; stays.len()]);

        let mut number = vec![NONE; s.mesh.points.len()];
        met.iter().for_each(|&(own, v)| number[own] = v as u32);
        let all = &mut self.all;
        let mut own = |v: u32| {
            let slot = &mut number[v as usize];
            if *slot == NONE {
                *slot = all.places.len() as u32;
                all.push(&s, v as usize);
            }
            *slot
        };
        // A point beside a seam may go once the seam may: what its triangles stand for is told
        // until then.
        let mut is_open = at_seam.clone();
        for tri in patch.triangles.iter().filter(|tri| tri.iter().any(|&v| at_seam[v as usize])) {
            tri.iter().for_each(|&v| is_open[v as usize] = true);
        }
        for (t, tri) in patch.triangles.iter().enumerate() {
            let stands_for: &[u32] = if tri.iter().any(|&v| is_open[v as usize]) {
                patch.carried_by(t as u32)
            } else {
                &[]
            };
            self.patch.push(tri.map(&mut own), stands_for.iter().map(|&v| own(v)));
        }
        self.open.resize(self.all.places.len(), false);
        let opened =
            is_open.iter().zip(&number).filter(|(open, number)| **open && **number != NONE);
        opened.for_each(|(_, &v)| self.open[v as usize] = true);
        self.last = s.last.iter().map(|&v| number[v as usize]).collect();
    }

    fn options<'o>(
        &'o self,
        labels: &'o [u8],
        faithful: &'o [bool],
        kept: &'o [bool],
    ) -> ReduceOptions<'o> {
        let faithful = (faithful, self.faithful);
        ReduceOptions {
            error: self.error,
            labels: Some(labels),
            faithful,
            kept,
            cancelled: self.cancelled,
        }
    }

    /// Reduces along the seams, and hands out the whole.
    pub fn finish(mut self) -> Gathered {
        self.open.resize(self.all.places.len(), false);
        let is_open = |t: &[u32; 3]| t.iter().any(|&v| self.open[v as usize]);
        let at_seams: Vec<u32> = (0..self.patch.triangles.len() as u32)
            .into_par_iter()
            .filter(|&t| is_open(&self.patch.triangles[t as usize]))
            .collect();
        let seams = self.patch.some(&at_seams);
        let mut triangles =
            std::mem::replace(&mut self.patch, Patch::empty()).triangles.into_owned();
        if !at_seams.is_empty() {
            let open = std::mem::take(&mut self.open);
            triangles.retain(|t| !t.iter().any(|&v| open[v as usize]));
            let mut kept = std::mem::take(&mut self.all.kept);
            triangles.as_flattened().iter().for_each(|&v| kept[v as usize] = true);
            let options = self.options(&self.all.labels, &self.all.faithful, &kept);
            let done = rounds(&self.all.places, seams, &options, open);
            triangles.extend_from_slice(&done.triangles);
        }
        let Points { places, labels, faithful, .. } = self.all;
        let (triangles, source) = super::in_use(&triangles, places.len());
        let of = |v: &u32| *v as usize;
        Gathered {
            mesh: TriMesh { points: source.par_iter().map(|v| places[of(v)]).collect(), triangles },
            labels: source.iter().map(|v| labels[of(v)]).collect(),
            faithful: source.iter().map(|v| faithful[of(v)]).collect(),
            raw_triangles: self.raw_triangles,
        }
    }
}

/// Tells of every point whether it lies in one of the boxes, borders included.
pub fn points_within(boxes: &[Bounds], points: &[DVec3]) -> Vec<bool> {
    if boxes.is_empty() {
        return vec![false; points.len()];
    }
    let whole = boxes.iter().copied().reduce(Bounds::union).unwrap_or(Bounds::EMPTY);
    let holds = |b: &Bounds, p: DVec3| p.cmpge(b.min).all() && p.cmple(b.max).all();
    points.par_iter().map(|&p| holds(&whole, p) && boxes.iter().any(|b| holds(b, p))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bvh, Topology};

    /// A mesh cut across z into stretches: each with the points below and the last ones.
    fn stretches(mesh: &TriMesh, cuts: &[f64]) -> Vec<(TriMesh, Vec<u32>, Vec<u32>)> {
        let part = |t: &[u32; 3]| {
            let z = t.iter().map(|&v| mesh.points[v as usize].z).sum::<f64>() / 3.0;
            cuts.iter().filter(|c| **c < z).count()
        };
        let of_part =
            |n: usize| mesh.triangles.iter().filter(|t| part(t) == n).copied().collect::<Vec<_>>();
        let uses = |n: usize| {
            let mut used = vec![false; mesh.points.len()];
            of_part(n).as_flattened().iter().for_each(|&v| used[v as usize] = true);
            used
        };
        let shared = |n: usize| -> Vec<u32> {
            let (a, b) = (uses(n), uses(n + 1));
            (0..mesh.points.len() as u32).filter(|&v| a[v as usize] && b[v as usize]).collect()
        };
        let all = 0..=cuts.len();
        all.map(|n| {
            let below = if n == 0 { Vec::new() } else { shared(n - 1) };
            let last = if n == cuts.len() { Vec::new() } else { shared(n) };
            (TriMesh { points: mesh.points.clone(), triangles: of_part(n) }, below, last)
        })
        .collect()
    }

    #[test]
    fn stretches_become_one_sound_mesh_within_the_bound() {
        let ball = TriMesh::sphere(10.0, 6);
        let mut reducer = Reducer::new(0.02, 0.02, &|| false);
        for (mesh, below, last) in stretches(&ball, &[-4.0, 0.3, 5.0]) {
            let n = mesh.points.len();
            let flags = || vec![false; n];
            reducer.add(Stretch {
                mesh,
                labels: vec![7; n],
                faithful: flags(),
                kept: flags(),
                below: &below,
                last: &last,
            });
        }
        let g = reducer.finish();
        assert!(Topology::of(&g.mesh).sound());
        assert_eq!((g.raw_triangles, g.labels.len()), (ball.triangles.len(), g.mesh.points.len()));
        assert!(g.labels.iter().all(|l| *l == 7));
        let bvh = Bvh::new(&g.mesh);
        let off = |p: &DVec3| bvh.nearest(*p, 1.0).unwrap().distance_squared.sqrt();
        let worst = ball.points.iter().map(off).fold(0.0, f64::max);
        assert!(worst <= 0.02, "{worst}");
        // Seams do not show: as few triangles as of the whole at once.
        let whole = super::super::reduce(
            &ball,
            &ReduceOptions {
                error: 0.02,
                labels: None,
                faithful: (&[], 0.0),
                kept: &[],
                cancelled: &|| false,
            },
        );
        let ratio = g.mesh.triangles.len() as f64 / whole.mesh.triangles.len() as f64;
        assert!((0.9..1.1).contains(&ratio), "{ratio}");
    }

    #[test]
    fn what_is_kept_stays_also_along_seams() {
        let ball = TriMesh::sphere(10.0, 5);
        let mut reducer = Reducer::new(0.2, 0.2, &|| false);
        let stays = |p: &DVec3| p.x > 8.0;
        for (mesh, below, last) in stretches(&ball, &[0.3]) {
            let n = mesh.points.len();
            let kept = mesh.points.iter().map(stays).collect();
            reducer.add(Stretch {
                mesh,
                labels: vec![0; n],
                faithful: vec![false; n],
                kept,
                below: &below,
                last: &last,
            });
        }
        let g = reducer.finish();
        let count = |m: &TriMesh| m.points.iter().filter(|p| stays(p)).count();
        assert_eq!(count(&g.mesh), count(&ball));
        assert!(g.mesh.points.len() < ball.points.len() / 2 && Topology::of(&g.mesh).sound());
    }

    #[test]
    fn borders_between_labels_and_faithful_points_hold_across_seams_on_any_threads() {
        let ball = TriMesh::sphere(10.0, 5);
        let label = |p: &DVec3| (p.x > 0.7) as u8;
        let joined = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                let mut reducer = Reducer::new(0.1, 0.004, &|| false);
                for (mesh, below, last) in stretches(&ball, &[-3.0, 2.0]) {
                    let labels = mesh.points.iter().map(label).collect();
                    let faithful = mesh.points.iter().map(|p| p.y > 0.0).collect();
                    let kept = vec![false; mesh.points.len()];
                    reducer.add(Stretch {
                        mesh,
                        labels,
                        faithful,
                        kept,
                        below: &below,
                        last: &last,
                    });
                }
                reducer.finish()
            })
        };
        let g = joined(2);
        assert_eq!(g, joined(1));
        // Lists are by the points that are left, which are points that came.
        assert_eq!(g.labels, g.mesh.points.iter().map(label).collect::<Vec<_>>());
        assert_eq!(g.faithful, g.mesh.points.iter().map(|p| p.y > 0.0).collect::<Vec<_>>());
        let bvh = Bvh::new(&g.mesh);
        let worst = |keep: &dyn Fn(&DVec3) -> bool| {
            let off = |p: &DVec3| bvh.nearest(*p, 1.0).unwrap().distance_squared.sqrt();
            ball.points.iter().filter(|p| keep(p)).map(off).fold(0.0, f64::max)
        };
        assert!(worst(&|p| p.y > 0.5) <= 0.004 && worst(&|_| true) <= 0.1);
        assert!(worst(&|p| p.y < -1.0) > 0.01, "elsewhere the larger bound is made use of");
    }
}
