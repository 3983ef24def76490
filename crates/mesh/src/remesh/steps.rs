//! The four steps of a round.

use super::work::RemeshState;
use super::{edge, Edge};
use crate::parallel;
use crate::Bvh;
use glam::DVec3;
use std::collections::HashMap;

/// Passes of splitting: each halves what is too long.
const MOST_PASSES: usize = 24;
/// The first of them, in which slivers are long.
const EARLY: usize = 3;
/// A triangle may turn by so much when a point of it moves. Cosine of 45°.
const TURN: f64 = 0.7;
/// Triangles of one plane. Cosine of 0.5°.
const FLAT: f64 = 0.999_96;

impl RemeshState {
    /// Halves edges that are longer than `most`, all of a triangle's at once, until none is.
    pub(super) fn split(&mut self, most: f64) {
        for pass in 0..MOST_PASSES {
            let long: Vec<Edge> = parallel::filter(&self.edges(), |(a, b)| {
                self.place(*a).distance(self.place(*b)) > most
            });
            if long.is_empty() {
                break;
            }
            let mut middle: HashMap<Edge, u32> = HashMap::with_capacity(long.len());
            for (a, b) in long {
                let m = self.points.len() as u32;
                self.points.push((self.place(a) + self.place(b)) * 0.5);
                self.around.push(Vec::new());
                self.pinned.push(false);
                self.on_lines.push(0);
                if self.lines.remove(&edge(a, b)) {
                    self.lines.extend([edge(a, m), edge(m, b)]);
                    self.on_lines[m as usize] = 2;
                }
                middle.insert(edge(a, b), m);
            }
            for t in 0..self.triangles.len() {
                let tri = self.triangles[t];
                let cut = [0, 1, 2].map(|c| middle.get(&edge(tri[c], tri[(c + 1) % 3])).copied());
                if self.alive(t) && cut.iter().any(Option::is_some) {
                    let pieces =
                        pieces(tri, cut, |a, b| self.place(a).distance_squared(self.place(b)));
                    self.change(t as u32, pieces[0]);
                    pieces[1..].iter().for_each(|p| self.add(*p));
                }
            }
            if pass < EARLY {
                self.unsliver();
            }
        }
    }

    /// Draws together the ends of edges shorter than `least`, shortest first, where that makes no
    /// edge longer than `most`, turns no triangle over and changes no line.
    pub(super) fn collapse(&mut self, least: f64, most: f64) {
        let length = |w: &RemeshState, (a, b): Edge| w.place(a).distance(w.place(b));
        let edges = self.edges();
        let mut short: Vec<(f64, Edge)> = parallel::filter_map(edges.len(), |n| {
            Some((length(self, edges[n]), edges[n])).filter(|e| e.0 < least)
        });
        short.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        for (_, (a, b)) in short {
            // What is shorter may have gone or grown by now.
            if self.beside(a, b).next().is_some() && length(self, (a, b)) < least {
                if let Some((kept, gone, to)) = self.may_collapse(a, b, most) {
                    self.draw_together(kept, gone, to);
                }
            }
        }
    }

    /// The end that stays, the end that goes, and where the first comes to lie. `None` when the
    /// edge may not collapse.
    fn may_collapse(&self, a: u32, b: u32, most: f64) -> Option<(u32, u32, DVec3)> {
        let line = self.is_line(a, b);
        let rank = |v: u32| {
            if self.pinned[v as usize] {
                2
            } else {
                (self.on_lines[v as usize] > 0) as u8
            }
        };
        let (kept, gone) = if rank(a) >= rank(b) { (a, b) } else { (b, a) };
        let free = match (rank(kept), rank(gone)) {
            (0, 0) => true,
            (1, 1) if line => true,
            (_, 0) => false,
            (2, 1) if line => false,
            _ => return None,
        };
        let to = if free { (self.place(a) + self.place(b)) * 0.5 } else { self.place(kept) };
        let (near_a, near_b) = (self.neighbours(a), self.neighbours(b));
        let shared: Vec<u32> =
            near_a.iter().copied().filter(|v| near_b.binary_search(v).is_ok()).collect();
        // The points that both ends know must be those of the triangles between them, or the
        // surface would pinch.
        if shared.len() != self.beside(a, b).count() {
            return None;
        }
        // A line may not close upon itself.
        if rank(gone) > 0 && shared.iter().any(|&s| self.is_line(a, s) && self.is_line(b, s)) {
            return None;
        }
        // A triangle of three lines, or one of two that would lie on each other.
        if shared.iter().any(|&s| self.is_line(gone, s) && !line) {
            return None;
        }
        // What is longer already may stay so, or grow a little.
        let far = |v: u32, end: u32| {
            let (before, length) =
                (self.place(v).distance(self.place(end)), self.place(v).distance(to));
            v != a && v != b && length > most && (before <= most || length > 1.1 * before)
        };
        if near_a.iter().any(|v| far(*v, a)) || near_b.iter().any(|v| far(*v, b)) {
            return None;
        }
        let turned = |end: u32, other: u32| {
            let stays = self.around[end as usize]
                .iter()
                .map(|t| self.triangles[*t as usize])
                .filter(|t| !t.contains(&other));
            let moved = |t: [u32; 3]| t.map(|v| if v == end { to } else { self.place(v) });
            stays.into_iter().any(|t| RemeshState::leans(self.area_vector(t), moved(t), TURN))
        };
        (!turned(a, b) && !turned(b, a)).then_some((kept, gone, to))
    }

    fn draw_together(&mut self, kept: u32, gone: u32, to: DVec3) {
        for t in self.beside(kept, gone).collect::<Vec<_>>() {
            self.remove(t);
        }
        if self.on_lines[gone as usize] > 0 {
            let ends: Vec<u32> =
                self.neighbours(gone).into_iter().filter(|o| self.is_line(gone, *o)).collect();
            self.lines.remove(&edge(kept, gone));
            for o in ends {
                self.lines.remove(&edge(gone, o));
                self.lines.insert(edge(kept, o));
            }
        }
        for t in std::mem::take(&mut self.around[gone as usize]) {
            self.triangles[t as usize].iter_mut().filter(|v| **v == gone).for_each(|v| *v = kept);
            self.around[kept as usize].push(t);
        }
        self.points[kept as usize] = to;
    }

    /// Turns edges between two triangles so that points come to have six edges, four on a rim.
    pub(super) fn flip(&mut self) {
        let mut edges_at: Vec<i32> =
            (0..self.points.len() as u32).map(|v| self.neighbours(v).len() as i32).collect();
        let rim: Vec<bool> = edges_at
            .iter()
            .zip(&self.around)
            .map(|(n, around)| *n != around.len() as i32)
            .collect();
        for (a, b) in self.edges() {
            let Some(turned) = self.turned(a, b, TURN) else { continue };
            let [c, d] = turned.ends;
            let wanted = |v: u32| if rim[v as usize] { 4 } else { 6 };
            let off = |v: u32, change: i32| (edges_at[v as usize] + change - wanted(v)).pow(2);
            let now = off(a, 0) + off(b, 0) + off(c, 0) + off(d, 0);
            let then = off(a, -1) + off(b, -1) + off(c, 1) + off(d, 1);
            if then < now && turned.new.iter().all(|n| self.slimness(*n) < 12.0) {
                self.turn(&turned);
                for (v, change) in [(a, -1), (b, -1), (c, 1), (d, 1)] {
                    edges_at[v as usize] += change;
                }
            }
        }
    }

    /// Turns edges within a plane that are not Delaunay's: slivers would be cut into ever more
    /// slivers.
    fn unsliver(&mut self) {
        for (a, b) in self.edges() {
            let Some(turned) = self.turned(a, b, FLAT) else { continue };
            let angle = |tip: u32| {
                (self.place(a) - self.place(tip)).angle_between(self.place(b) - self.place(tip))
            };
            if turned.ends.iter().map(|v| angle(*v)).sum::<f64>() > std::f64::consts::PI * 1.000_001
            {
                self.turn(&turned);
            }
        }
    }

    /// What turning the edge between two triangles would make, where it is no line and nothing is
    /// turned by more than the angle of a cosine.
    fn turned(&self, a: u32, b: u32, least: f64) -> Option<Turned> {
        let mut beside = self.beside(a, b);
        let (Some(s), Some(t), None) = (beside.next(), beside.next(), beside.next()) else {
            return None;
        };
        if self.is_line(a, b) {
            return None;
        }
        let across = |t: u32| self.triangles[t as usize].into_iter().find(|v| *v != a && *v != b);
        let (c, d) = (across(s)?, across(t)?);
        if c == d || self.beside(c, d).next().is_some() {
            return None;
        }
        // The triangle with a → b in its order becomes c, a, d; the other d, b, c.
        let order = self.triangles[s as usize];
        let forward = (0..3).any(|n| order[n] == a && order[(n + 1) % 3] == b);
        let (c, d) = if forward { (c, d) } else { (d, c) };
        let new = [[c, a, d], [d, b, c]];
        let old = [s, t].map(|t| self.area_vector(self.triangles[t as usize]));
        let was = old[0] + old[1];
        let agrees = |area: DVec3| area.dot(was) > least * area.length() * was.length();
        let right = new.iter().all(|n| agrees(self.area_vector(*n)))
            && (least < FLAT || old.iter().all(|o| agrees(*o)));
        right.then_some(Turned { triangles: [s, t], ends: [c, d], new })
    }

    fn turn(&mut self, turned: &Turned) {
        for (t, new) in turned.triangles.into_iter().zip(turned.new) {
            self.change(t, new);
        }
    }

    /// Longest side squared over twice the area: 1.2 of an even triangle.
    fn slimness(&self, t: [u32; 3]) -> f64 {
        let [a, b, c] = t.map(|v| self.place(v));
        let longest = a.distance_squared(b).max(b.distance_squared(c)).max(c.distance_squared(a));
        longest / self.area_vector(t).length().max(f64::MIN_POSITIVE)
    }

    /// Moves every point to the middle of its neighbours along the surface, those of lines along
    /// their line, and back onto the surface or line it began with. Points whose triangles would
    /// turn over stay.
    pub(super) fn smooth(&mut self, surface: &Bvh, lines: &Bvh) {
        self.count_lines();
        let to = |v: u32| {
            let p = self.place(v);
            if self.pinned[v as usize] || self.around[v as usize].is_empty() {
                return p;
            }
            let onto = |q: DVec3, what: &Bvh| what.nearest(q, f64::INFINITY).map_or(p, |n| n.point);
            let near = self.neighbours(v);
            if self.on_lines[v as usize] > 0 {
                let ends: Vec<u32> = near.into_iter().filter(|o| self.is_line(v, *o)).collect();
                return match ends[..] {
                    [a, b] => onto((p + (self.place(a) + self.place(b)) * 0.5) * 0.5, lines),
                    _ => p,
                };
            }
            let normal: DVec3 = self.around[v as usize]
                .iter()
                .map(|t| self.area_vector(self.triangles[*t as usize]))
                .sum();
            let normal = normal.normalize_or_zero();
            let middle =
                near.iter().map(|o| self.place(*o)).sum::<DVec3>() / near.len().max(1) as f64;
            let by = middle - p;
            onto(p + by - normal * by.dot(normal), surface)
        };
        let mut moved: Vec<DVec3> = parallel::map(self.points.len(), |v| to(v as u32));
        // Taking one point back may turn a triangle beside it: a few times is enough.
        for _ in 0..8 {
            let turned = |t: &[u32; 3]| {
                let before = self.area_vector(*t);
                before != DVec3::ZERO
                    && RemeshState::leans(before, t.map(|v| moved[v as usize]), TURN)
            };
            let back = parallel::filter(&self.triangles, turned).concat();
            if back.iter().all(|v| moved[*v as usize] == self.place(*v)) {
                break;
            }
            back.into_iter().for_each(|v| moved[v as usize] = self.place(v));
        }
        self.points = moved;
    }
}

/// An edge's two triangles, the ends of the edge across, and the triangles on its sides.
struct Turned {
    triangles: [u32; 2],
    ends: [u32; 2],
    new: [[u32; 3]; 2],
}

/// A triangle cut at the middles of some of its sides, of which side `n` runs from corner `n` on.
fn pieces(t: [u32; 3], cut: [Option<u32>; 3], distance: impl Fn(u32, u32) -> f64) -> Vec<[u32; 3]> {
    let turned = |n: usize| [0, 1, 2].map(|c| (t[(n + c) % 3], cut[(n + c) % 3]));
    let count = cut.iter().flatten().count();
    match count {
        1 => {
            let n = cut.iter().position(Option::is_some).expect("one is cut");
            let [(a, m), (b, _), (c, _)] = turned(n);
            let m = m.expect("the first is cut");
            vec![[a, m, c], [m, b, c]]
        }
        2 => {
            // The side that is whole comes last.
            let n = cut.iter().position(Option::is_none).expect("one is whole") + 1;
            let [(a, m), (b, k), (c, _)] = turned(n);
            let (m, k) = (m.expect("the first is cut"), k.expect("the second is cut"));
            let tip = [m, b, k];
            if distance(a, k) <= distance(m, c) {
                vec![tip, [a, m, k], [a, k, c]]
            } else {
                vec![tip, [a, m, c], [m, k, c]]
            }
        }
        3 => {
            let [m, k, l] = cut.map(|c| c.expect("all are cut"));
            vec![[t[0], m, l], [m, t[1], k], [l, k, t[2]], [m, k, l]]
        }
        _ => vec![t],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Topology, TriMesh};
    use proptest::prelude::*;

    /// A ball with bumps, of which the random numbers decide, and its work with edges that turn by
    /// 60° as lines.
    fn bumpy(bumps: &[f64]) -> (TriMesh, RemeshState) {
        let mut mesh = TriMesh::sphere(10.0, 3);
        for (p, bump) in mesh.points.iter_mut().zip(bumps.iter().cycle()) {
            *p *= 1.0 + bump;
        }
        let work = RemeshState::new(&mesh, 60.0);
        (mesh, work)
    }

    fn lengths(work: &RemeshState) -> Vec<f64> {
        work.edges().iter().map(|(a, b)| work.place(*a).distance(work.place(*b))).collect()
    }

    fn is_whole(work: RemeshState) -> bool {
        let topology = Topology::of(&work.finish());
        topology.sound() && topology.components == 1
    }

    /// What `around` tells is what the triangles say.
    fn agrees(work: &RemeshState) -> bool {
        let around = |v: u32| {
            let mut listed = work.around[v as usize].clone();
            listed.sort_unstable();
            let holds =
                |t: &u32| work.alive(*t as usize) && work.triangles[*t as usize].contains(&v);
            listed == (0..work.triangles.len() as u32).filter(holds).collect::<Vec<_>>()
        };
        (0..work.points.len() as u32).all(around)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn no_edge_is_longer_after_splitting_and_the_surface_is_the_same(
            bumps in proptest::collection::vec(-0.08..0.08f64, 60), most in 1.0..6.0f64
        ) {
            let (mesh, mut work) = bumpy(&bumps);
            // Turning edges of what is all but plane changes all but nothing.
            work.split(most);
            prop_assert!(lengths(&work).into_iter().all(|l| l <= most));
            prop_assert!(agrees(&work));
            let out = work.finish();
            prop_assert!(Topology::of(&out).sound());
            prop_assert!((out.volume() / mesh.volume() - 1.0).abs() < 1e-5 && (out.area() / mesh.area() - 1.0).abs() < 1e-6);
        }

        #[test]
        fn collapsing_leaves_few_short_edges_and_makes_none_too_long(
            bumps in proptest::collection::vec(-0.05..0.05f64, 60), least in 2.0..5.0f64
        ) {
            let (mesh, mut work) = bumpy(&bumps);
            let most = 5.0 / 3.0 * least;
            let longest = lengths(&work).into_iter().fold(0.0, f64::max);
            let short = |work: &RemeshState| lengths(work).into_iter().filter(|l| *l < least).count();
            let before = short(&work);
            work.collapse(least, most);
            prop_assert!(short(&work) < before.max(1));
            prop_assert!(longest > most || lengths(&work).into_iter().all(|l| l <= most + 1e-9));
            prop_assert!(agrees(&work));
            let fewer = work.triangles.iter().enumerate().filter(|(t, _)| work.alive(*t)).count();
            prop_assert!(fewer <= mesh.triangles.len());
            prop_assert!(is_whole(work));
        }

        #[test]
        fn flipping_evens_the_number_of_edges_at_points(bumps in proptest::collection::vec(-0.05..0.05f64, 60)) {
            let (_, mut work) = bumpy(&bumps);
            work.collapse(3.0, 6.0);
            work.split(4.0);
            let unevenness = |work: &RemeshState| -> i64 {
                let alive = (0..work.points.len() as u32).map(|v| work.neighbours(v).len() as i64).filter(|n| *n > 0);
                alive.map(|n| (n - 6).pow(2)).sum()
            };
            let (before, edges) = (unevenness(&work), work.edges().len());
            work.flip();
            prop_assert!(unevenness(&work) <= before && work.edges().len() == edges);
            prop_assert!(agrees(&work) && is_whole(work));
        }
    }

    #[test]
    fn smoothing_keeps_points_on_the_surface_and_lines_on_their_lines() {
        let block = TriMesh::cuboid(DVec3::ZERO, DVec3::new(12.0, 9.0, 6.0));
        let mut work = RemeshState::new(&block, 30.0);
        work.split(2.0);
        work.collapse(1.6, 3.0);
        let (surface, lines) = (Bvh::new(&block), Bvh::new(&work.lines_as_triangles()));
        let before = work.points.clone();
        for _ in 0..4 {
            work.smooth(&surface, &lines);
        }
        let moved = before.iter().zip(&work.points).filter(|(p, q)| p.distance(**q) > 1e-3).count();
        assert!(moved > 20, "{moved} of {}", before.len());
        for (v, p) in work.points.iter().enumerate() {
            let off = |from: &Bvh| from.nearest(*p, f64::INFINITY).unwrap().distance_squared;
            assert!(off(&surface) < 1e-18 && (work.on_lines[v] == 0 || off(&lines) < 1e-18), "{p}");
        }
        assert!(block.points.iter().all(|p| work.points.contains(p)));
        assert!(is_whole(work));
    }

    #[test]
    fn a_cut_triangle_keeps_its_area_and_its_corners_in_order() {
        let corners = [DVec3::ZERO, DVec3::new(4.0, 0.0, 0.0), DVec3::new(1.0, 3.0, 0.0)];
        let middle = |n: usize| (corners[n] + corners[(n + 1) % 3]) * 0.5;
        let places: Vec<DVec3> = corners.into_iter().chain((0..3).map(middle)).collect();
        let at = |v: u32| places[v as usize];
        for cuts in 0..8u32 {
            let cut = [0, 1, 2].map(|n| (cuts >> n & 1 == 1).then_some(3 + n));
            let of = pieces([0, 1, 2], cut, |a, b| at(a).distance(at(b)));
            assert_eq!(of.len() as u32, 1 + cuts.count_ones());
            let areas: Vec<f64> = of
                .iter()
                .map(|t| 0.5 * (at(t[1]) - at(t[0])).cross(at(t[2]) - at(t[0])).z)
                .collect();
            assert!(
                areas.iter().all(|a| *a > 0.0) && (areas.iter().sum::<f64>() - 6.0).abs() < 1e-12,
                "{areas:?}"
            );
            // A side that is cut is an edge of no piece.
            let whole = |n: u32| {
                of.iter().any(|t| (0..3).any(|c| t[c] == n && t[(c + 1) % 3] == (n + 1) % 3))
            };
            assert!((0..3).all(|n| whole(n) == cut[n as usize].is_none()));
        }
    }
}
