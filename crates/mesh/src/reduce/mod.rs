//! Fewer triangles within a hard error bound, closed and manifold throughout.
//!
//! Vertices are removed by half-edge collapse onto a neighbour, so every remaining point is a
//! point of the input: sharp edges and flat faces stay exact. A collapse is made only when
//! - the link condition holds (Dey et al. 1999), so the surface stays a closed 2-manifold;
//! - no triangle turns over or becomes a needle;
//! - the bound holds: each triangle carries the removed points that lie on it, and after a collapse
//!   every carried point of the star is within the bound of the new triangles. Only points that lie
//!   flat in a triangle that carries plenty already are let go.
//!
//! Space is cut into blocks that are worked in parallel with their borders locked, then again
//! with the blocks shifted. The result does not depend on the number of threads.
//!
//! | module | idea |
//! |---|---|
//! | `block` | one block: collapses, carried points |
//! | `star` | the triangles around a point, eight at a time |
//! | `stretches` | a mesh that comes in stretches and is never there whole |

mod block;
mod star;
mod stretches;

use crate::groups::Groups;
use crate::parted::split_off;
use crate::{Bounds, TriMesh};
use glam::{DVec3, UVec3};
use rayon::prelude::*;
use std::borrow::Cow;
use std::cell::RefCell;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering::Relaxed};
pub use stretches::{points_within, Gathered, Reducer, Stretch};

/// What to keep while reducing.
pub struct ReduceOptions<'a> {
    /// Greatest allowed deviation of the input's points from the result, in units of length.
    pub error: f64,
    /// A value per point; points merge only with equals and borders between values stay.
    pub labels: Option<&'a [u8]>,
    /// Points around which a smaller bound holds, and that bound; empty for none.
    pub faithful: (&'a [bool], f64),
    /// Points that stay, with all triangles at them; empty for none.
    pub kept: &'a [bool],
    /// Asked between rounds; true stops early with the mesh as it is then.
    pub cancelled: &'a (dyn Fn() -> bool + Sync),
}

/// The reduced mesh, with the input's index of every point.
pub struct Reduced {
    /// The mesh that is left.
    pub mesh: TriMesh,
    /// By point, the number of the point that it was.
    pub source: Vec<u32>,
}

/// Triangles of a block, about. More leave fewer points at borders, and fewer blocks for threads.
const BLOCK_TRIANGLES: f64 = 30_000.0;
const NONE: u32 = u32::MAX;

/// Joins triangles where that keeps within the error bound.
pub fn reduce(mesh: &TriMesh, options: &ReduceOptions) -> Reduced {
    let patch =
        rounds(&mesh.points, Patch::of(&mesh.triangles), options, vec![true; mesh.points.len()]);
    let (triangles, source) = in_use(&patch.triangles, mesh.points.len());
    let points = source.par_iter().map(|&v| mesh.points[v as usize]).collect();
    Reduced { mesh: TriMesh { points, triangles }, source }
}

/// Triangles by those of so many points that they name, and those points' numbers, in the order in
/// which they name them.
fn in_use(triangles: &[[u32; 3]], points: usize) -> (Vec<[u32; 3]>, Vec<u32>) {
    let mut new = vec![NONE; points];
    let mut source = Vec::new();
    let mut own = |v: u32| {
        let slot = &mut new[v as usize];
        if *slot == NONE {
            *slot = source.len() as u32;
            source.push(v);
        }
        *slot
    };
    let triangles = triangles.iter().map(|t| t.map(&mut own)).collect();
    (triangles, source)
}

/// Triangles by the input's points, and the removed points that each stands for:
/// `carried[first[t]..first[t + 1]]`.
struct Patch<'a> {
    triangles: Cow<'a, [[u32; 3]]>,
    first: Vec<u32>,
    carried: Vec<u32>,
}

impl<'a> Patch<'a> {
    /// Triangles that stand for themselves alone.
    fn of(triangles: &'a [[u32; 3]]) -> Patch<'a> {
        Patch {
            triangles: Cow::Borrowed(triangles),
            first: vec![0; triangles.len() + 1],
            carried: Vec::new(),
        }
    }

    fn empty() -> Patch<'static> {
        Patch { triangles: Cow::default(), first: vec![0], carried: Vec::new() }
    }

    /// Some of its triangles, as they are.
    fn some(&self, run: &[u32]) -> Patch<'static> {
        let mut out = Patch::empty();
        run.iter().for_each(|&t| {
            out.push(self.triangles[t as usize], self.carried_by(t).iter().copied())
        });
        out
    }

    fn carried_by(&self, t: u32) -> &[u32] {
        &self.carried[self.first[t as usize] as usize..self.first[t as usize + 1] as usize]
    }

    fn push(&mut self, triangle: [u32; 3], carried: impl Iterator<Item = u32>) {
        self.triangles.to_mut().push(triangle);
        self.carried.extend(carried);
        self.first.push(self.carried.len() as u32);
    }

    fn joined(parts: &[Patch]) -> Patch<'static> {
        let total = |length: fn(&Patch) -> usize| parts.iter().map(length).sum::<usize>();
        let mut triangles = vec![[0; 3]; total(|p| p.triangles.len())];
        let mut carried = vec![0; total(|p| p.carried.len())];
        let mut first = vec![0; triangles.len() + 1];
        let (mut triangles_left, mut first_left, mut carried_left) =
            (&mut triangles[..], &mut first[1..], &mut carried[..]);
        let mut base = 0;
        let slots = parts.iter().map(|p| {
            let from = base;
            base += p.carried.len() as u32;
            let count = p.triangles.len();
            let carried = split_off(&mut carried_left, p.carried.len());
            (
                p,
                from,
                split_off(&mut triangles_left, count),
                split_off(&mut first_left, count),
                carried,
            )
        });
        slots.collect::<Vec<_>>().into_par_iter().for_each(
            |(p, base, triangles, first, carried)| {
                triangles.copy_from_slice(&p.triangles);
                first.iter_mut().zip(&p.first[1..]).for_each(|(out, f)| *out = base + f);
                carried.copy_from_slice(&p.carried);
            },
        );
        Patch { triangles: triangles.into(), first, carried }
    }
}

/// By what share of their size the blocks of each round are shifted.
const SHIFTS: [f64; 3] = [0.0, 0.5, 0.27];

/// Rounds over blocks, each shifted by a share of their size. The first works on the points that
/// are `open`, each later one on those that the one before could not reach.
fn rounds<'a>(
    points: &[DVec3],
    mut patch: Patch<'a>,
    options: &ReduceOptions,
    mut open: Vec<bool>,
) -> Patch<'a> {
    for shift in SHIFTS {
        if options.error <= 0.0 || (options.cancelled)() {
            break;
        }
        patch = round(points, patch, options, shift, &mut open);
    }
    patch
}

/// Space cut into cubes, which number the blocks.
struct Cubes {
    from: DVec3,
    edge: f64,
    counts: UVec3,
}

impl Cubes {
    /// Cubes that hold about [`BLOCK_TRIANGLES`] if the surface filled space evenly, shifted by a
    /// share of their size.
    fn of(points: &[DVec3], triangles: usize, shift: f64) -> Cubes {
        let bounds = Bounds::of(points.iter().copied());
        let size = bounds.size().max(DVec3::splat(1e-9));
        let edge =
            (size.x * size.y * size.z * BLOCK_TRIANGLES / triangles.max(1) as f64).cbrt().max(1e-9);
        let counts = (size / edge + 2.0).ceil().as_uvec3().min(UVec3::splat(1 << 10));
        Cubes { from: bounds.min - shift * edge, edge, counts }
    }

    fn len(&self) -> usize {
        self.counts.element_product() as usize
    }

    /// The number of the cube that holds a place.
    fn at(&self, p: DVec3) -> u32 {
        let c = ((p - self.from) / self.edge).max(DVec3::ZERO).as_uvec3().min(self.counts - 1);
        (c.z * self.counts.y + c.y) * self.counts.x + c.x
    }

    fn middle(&self, cube: u32) -> DVec3 {
        let c = UVec3::new(
            cube % self.counts.x,
            cube / self.counts.x % self.counts.y,
            cube / self.counts.x / self.counts.y,
        );
        self.from + (c.as_dvec3() + 0.5) * self.edge
    }
}

/// One pass over blocks shifted by a share of their size. Works on the points in `open`, and leaves
/// there the ones around the borders of its own blocks.
fn round(
    points: &[DVec3],
    patch: Patch,
    options: &ReduceOptions,
    shift: f64,
    open: &mut Vec<bool>,
) -> Patch<'static> {
    let triangles = &patch.triangles;
    let cubes = Cubes::of(points, triangles.len(), shift);
    // Of their middles: large triangles beside each other are to be of one block where they can.
    // Those of a grid, as they come, are small, and a corner will do.
    let are_small = patch.carried.is_empty();
    let middle = |t: &[u32; 3]| t.iter().map(|&v| points[v as usize]).sum::<DVec3>() / 3.0;
    let cube_of =
        |t: &[u32; 3]| cubes.at(if are_small { points[t[0] as usize] } else { middle(t) });
    let cube_of: Vec<u32> = triangles.par_iter().with_min_len(4096).map(cube_of).collect();
    let blocks = Groups::numbered(cubes.len(), &cube_of);
    let shared = shared(points.len(), triangles, &cube_of);
    // What lies two triangles from an open point takes no part.
    let near = marked(points.len(), triangles, |t| t.iter().any(|&v| open[v as usize]));
    let is = |list: &[bool], v: usize| list.get(v).copied().unwrap_or(false);
    let flags = |(v, shared): (usize, &bool)| {
        let locked = *shared || is(options.kept, v) || !near[v];
        block::flags(locked, is(options.faithful.0, v), open[v])
    };
    let flags: Vec<u8> = shared.par_iter().with_min_len(4096).enumerate().map(flags).collect();
    thread_local!(static LOCAL: RefCell<Vec<u32>> = const { RefCell::new(Vec::new()) });
    let runs: Vec<(u32, &[u32])> = (0..cubes.len())
        .map(|b| (b as u32, blocks.get(b)))
        .filter(|(_, run)| !run.is_empty())
        .collect();
    let work = |(cube, run): (u32, &[u32])| {
        let is_near = |t: &u32| triangles[*t as usize].iter().any(|&v| near[v as usize]);
        let (run, idle): (Vec<u32>, Vec<u32>) = run.iter().partition(|t| is_near(t));
        let input = block::Input {
            points,
            patch: &patch,
            run: &run,
            middle: cubes.middle(cube),
            options,
            flags: &flags,
        };
        // Taken, not borrowed: a thread that waits within may come by here again.
        let mut local = LOCAL.take();
        local.resize(points.len().max(local.len()), NONE);
        let reduced = block::reduced(&input, &mut local);
        LOCAL.set(local);
        [reduced, patch.some(&idle)]
    };
    let parts: Vec<Patch> = runs.into_par_iter().flat_map_iter(work).collect();
    let out = Patch::joined(&parts);
    let at_border =
        |t: &[u32; 3]| t.iter().any(|&v| shared[v as usize] && !is(options.kept, v as usize));
    *open = marked(points.len(), &out.triangles, at_border);
    out
}

/// Tells of so many points whether triangles of two blocks have them. `block_of` is by triangle.
fn shared(points: usize, triangles: &[[u32; 3]], block_of: &[u32]) -> Vec<bool> {
    const SHARED: u32 = NONE - 1;
    let owner: Vec<AtomicU32> = (0..points).map(|_| AtomicU32::new(NONE)).collect();
    // Which block comes first does not matter.
    triangles.par_iter().zip(block_of).for_each(|(t, &id)| {
        for v in t {
            let o = &owner[*v as usize];
            if o.load(Relaxed) != id
                && o.compare_exchange(NONE, id, Relaxed, Relaxed).is_err_and(|other| other != id)
            {
                o.store(SHARED, Relaxed);
            }
        }
    });
    owner.into_iter().map(|o| o.into_inner() == SHARED).collect()
}

/// Tells of so many points whether a triangle that is meant has them.
fn marked(
    points: usize,
    triangles: &[[u32; 3]],
    is_meant: impl Fn(&[u32; 3]) -> bool + Sync,
) -> Vec<bool> {
    let marks: Vec<AtomicBool> = (0..points).map(|_| AtomicBool::new(false)).collect();
    triangles.par_iter().filter(|t| is_meant(t)).for_each(|t| {
        t.iter().for_each(|&v| marks[v as usize].store(true, Relaxed));
    });
    marks.into_iter().map(AtomicBool::into_inner).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bvh, Topology};
    use proptest::prelude::*;
    use std::collections::HashSet;
    use std::f64::consts::TAU;

    fn run(mesh: &TriMesh, error: f64, threads: usize) -> TriMesh {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| {
            reduce(
                mesh,
                &ReduceOptions {
                    error,
                    labels: None,
                    faithful: (&[], 0.0),
                    kept: &[],
                    cancelled: &|| false,
                },
            )
            .mesh
        })
    }

    #[test]
    fn the_bound_holds_and_threads_do_not_matter() {
        let m = TriMesh::sphere(10.0, 6);
        let r = run(&m, 0.02, 2);
        assert!(
            r.triangles.len() * 4 < m.triangles.len(),
            "{} of {}",
            r.triangles.len(),
            m.triangles.len()
        );
        assert!(Topology::of(&r).sound());
        let bvh = Bvh::new(&r);
        let worst = m
            .points
            .iter()
            .map(|&p| bvh.nearest(p, 1.0).unwrap().distance_squared.sqrt())
            .fold(0.0, f64::max);
        assert!(worst <= 0.02, "{worst}");
        assert_eq!(r, run(&m, 0.02, 1));
    }

    /// Rings of a hexagonal section about the z axis, side by side along it: thin tubes, which
    /// blocks' borders cut across.
    fn rings(count: usize, radius: f64, thick: f64, along: usize) -> TriMesh {
        const AROUND: usize = 6;
        let mut out = TriMesh::default();
        for ring in 0..count {
            let at = |n: usize, k: usize| {
                let (turn, round) = (n as f64 / along as f64 * TAU, k as f64 / AROUND as f64 * TAU);
                let r = radius + thick * round.cos();
                DVec3::new(
                    r * turn.cos(),
                    r * turn.sin(),
                    3.0 * thick * ring as f64 + thick * round.sin(),
                )
            };
            let points = (0..along * AROUND).map(|n| at(n / AROUND, n % AROUND)).collect();
            let number = |n: usize, k: usize| ((n % along) * AROUND + k % AROUND) as u32;
            let quads = (0..along * AROUND).map(|n| (n / AROUND, n % AROUND)).flat_map(|(n, k)| {
                let [a, b, c, d] =
                    [number(n, k), number(n + 1, k), number(n + 1, k + 1), number(n, k + 1)];
                [[a, b, c], [a, c, d]]
            });
            out.append(&TriMesh { points, triangles: quads.collect() });
        }
        out
    }

    #[test]
    fn tubes_across_the_borders_of_blocks_stay_manifold() {
        for (radius, along) in [(10.0, 240), (7.0, 300)] {
            let m = rings(24, radius, 0.2, along);
            assert!(Topology::of(&m).sound());
            // Beyond the tubes' own size too: their borders are then a few triangles.
            for error in [0.05, 0.2, 0.4, 0.6] {
                let t = Topology::of(&run(&m, error, 2));
                assert!(
                    t.sound(),
                    "{radius} {error}: {} edges, {} points",
                    t.non_manifold_edges,
                    t.non_manifold_vertices
                );
            }
        }
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

    /// A ball with waves over it, so that no two places bend alike.
    fn waved(seed: f64) -> TriMesh {
        TriMesh::sphere(1.0, 5).mapped(|p| {
            let wave = (5.0 * p.x + seed).sin() * (4.0 * p.y - seed).cos()
                + 0.4 * (9.0 * p.z + 2.0 * seed).sin();
            p * (10.0 + wave)
        })
    }

    fn farthest(points: &[DVec3], mesh: &TriMesh) -> f64 {
        let bvh = Bvh::new(mesh);
        points
            .iter()
            .map(|&p| bvh.nearest(p, 9.0).unwrap().distance_squared.sqrt())
            .fold(0.0, f64::max)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(12))]
        #[test]
        fn any_shape_stays_sound_and_within_any_bound(seed in 0.0..6.0f64, error in 0.001..0.5f64) {
            let m = waved(seed);
            let r = run(&m, error, 2);
            prop_assert!(Topology::of(&r).sound());
            prop_assert!(r.triangles.len() < m.triangles.len());
            prop_assert!(farthest(&m.points, &r) <= error);
            // Every point that is left is one of the input's.
            let bits = |p: &DVec3| p.to_array().map(f64::to_bits);
            let all: HashSet<_> = m.points.iter().map(bits).collect();
            prop_assert!(r.points.iter().all(|p| all.contains(&bits(p))));
            prop_assert!((r.volume() / m.volume() - 1.0).abs() < 0.3 * error);
        }
    }

    #[test]
    fn larger_bounds_leave_fewer_triangles_and_none_leaves_all() {
        let m = waved(1.0);
        let counts: Vec<usize> =
            [0.0, 0.001, 0.01, 0.1, 0.5].iter().map(|e| run(&m, *e, 2).triangles.len()).collect();
        assert_eq!(counts[0], m.triangles.len());
        assert!(counts.windows(2).all(|w| w[1] < w[0]), "{counts:?}");
    }

    #[test]
    fn borders_between_labels_and_what_is_kept_stay_and_faithful_points_stay_closer() {
        let m = waved(2.0);
        let options = ReduceOptions {
            error: 0.3,
            labels: None,
            faithful: (&[], 0.0),
            kept: &[],
            cancelled: &|| false,
        };
        let plain = reduce(&m, &options);
        let side_of = m.points.iter().map(|p| u8::from(p.x > 0.0)).collect::<Vec<u8>>();
        let labelled = reduce(&m, &ReduceOptions { labels: Some(&side_of), ..options });
        // No triangle joins points that lie far on both sides, and the border's own points keep
        // their sides.
        let is_border = |t: &[u32; 3]| {
            t.iter().any(|v| side_of[labelled.source[*v as usize] as usize] == 1)
                && t.iter().any(|v| side_of[labelled.source[*v as usize] as usize] == 0)
        };
        let reach = |t: &[u32; 3]| {
            t.iter().map(|&v| labelled.mesh.points[v as usize].x.abs()).fold(0.0, f64::max)
        };
        let border: Vec<_> = labelled.mesh.triangles.iter().filter(|t| is_border(t)).collect();
        assert!(!border.is_empty() && labelled.mesh.triangles.len() > plain.mesh.triangles.len());
        let of_grid = m
            .triangles
            .iter()
            .map(|t| Bounds::of(t.iter().map(|&v| m.points[v as usize])).size().max_element());
        let longest = of_grid.fold(0.0, f64::max);
        assert!(border.iter().map(|t| reach(t)).fold(0.0, f64::max) <= longest);

        let kept: Vec<bool> = m.points.iter().map(|p| p.z > 5.0).collect();
        let held = reduce(&m, &ReduceOptions { kept: &kept, ..options });
        let count = kept.iter().filter(|k| **k).count();
        assert_eq!(held.source.iter().filter(|v| kept[**v as usize]).count(), count);

        let faithful: Vec<bool> = m.points.iter().map(|p| p.y < 0.0).collect();
        let closer = reduce(&m, &ReduceOptions { faithful: (&faithful, 0.01), ..options }).mesh;
        let of = |side: bool| {
            m.points
                .iter()
                .zip(&faithful)
                .filter(|(_, f)| **f == side)
                .map(|(p, _)| *p)
                .collect::<Vec<_>>()
        };
        assert!(farthest(&of(true), &closer) <= 0.01 && farthest(&of(false), &closer) > 0.05);
    }

    #[test]
    fn what_is_cancelled_before_it_begins_stays_as_it_is() {
        let m = waved(3.0);
        let options = ReduceOptions {
            error: 0.3,
            labels: None,
            faithful: (&[], 0.0),
            kept: &[],
            cancelled: &|| true,
        };
        assert_eq!(reduce(&m, &options).mesh.triangles.len(), m.triangles.len());
    }
}
