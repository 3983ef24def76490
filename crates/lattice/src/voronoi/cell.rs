//! One point's cell, by clipping.
//!
//! The cell of a point starts as a box and is clipped by the planes halfway to its neighbours,
//! nearest first, until no farther point can reach it (the security radius of Lévy & Bonneel 2013).
//! A cell is held as its vertices, each the meeting of three planes (Ray et al. 2018), so that
//! every vertex, edge and wall has an identity: the points whose cells meet there. Duplicates
//! vanish by it, never by distance.
//!
//! Places are relative to the point, and by axis, so that many are tested at once.

use super::DiagramBounds;
use glam::DVec3;
use ulmix_mesh::PointGrid;

/// A wall of a cell: places p with `normal · p = at`, the cell on the smaller side.
#[derive(Clone, Copy)]
pub(super) struct Plane {
    normal: DVec3,
    pub at: f64,
    /// The point on the other side, [`BOX`] for the box.
    pub other: u32,
}

/// Number of no point: a side of the box.
pub(super) const BOX: u32 = u32::MAX;

/// Where three planes meet, numbered so that seen from outside they run counter-clockwise.
#[derive(Clone, Copy)]
pub(super) struct Corner {
    pub planes: [u16; 3],
    /// Relative to the point.
    pub place: DVec3,
}

/// One point's cell.
#[derive(Default)]
pub(super) struct Cell {
    pub planes: Vec<Plane>,
    /// Planes of every corner, and its place by axis.
    corners: Vec<[u16; 3]>,
    places: [Vec<f64>; 3],
    /// How far beyond the plane in work each corner lies.
    beyond: Vec<f64>,
    gone: Vec<Corner>,
    /// By pair of planes, the corner that runs from the first to the second; `stride` to a row.
    /// What it holds of other pairs is left from earlier cells.
    at: Vec<u16>,
    stride: usize,
    /// By plane, when a cut last began or ended there.
    begun: Vec<u32>,
    ended: Vec<u32>,
    cuts: u32,
    near: Vec<(f64, u32)>,
    /// The first corner of every wall, as walls are gone around.
    first: Vec<Option<DVec3>>,
}

impl Cell {
    /// The box itself.
    fn begin(&mut self, low: DVec3, high: DVec3) {
        self.planes.clear();
        self.truncate(0);
        for axis in [DVec3::X, DVec3::Y, DVec3::Z] {
            self.planes.push(Plane { normal: -axis, at: -axis.dot(low), other: BOX });
            self.planes.push(Plane { normal: axis, at: axis.dot(high), other: BOX });
        }
        for c in 0..8u16 {
            let place =
                DVec3::select(glam::BVec3::new(c & 1 == 1, c & 2 == 2, c & 4 == 4), high, low);
            let [x, y, z] = [c & 1, 2 + (c >> 1 & 1), 4 + (c >> 2)];
            let odd = c.count_ones() % 2 == 1;
            self.push(Corner { planes: if odd { [x, y, z] } else { [x, z, y] }, place });
        }
    }

    pub(super) fn corner_count(&self) -> usize {
        self.corners.len()
    }

    pub(super) fn corner(&self, n: usize) -> Corner {
        let [x, y, z] = &self.places;
        Corner { planes: self.corners[n], place: DVec3::new(x[n], y[n], z[n]) }
    }

    fn push(&mut self, corner: Corner) {
        self.corners.push(corner.planes);
        (0..3).for_each(|axis| self.places[axis].push(corner.place[axis]));
    }

    fn truncate(&mut self, count: usize) {
        self.corners.truncate(count);
        self.places.iter_mut().for_each(|list| list.truncate(count));
    }

    /// Makes room for pairs of so many planes.
    fn reserve(&mut self, planes: usize) {
        if planes > self.stride {
            self.stride = planes.next_power_of_two().max(64);
            self.at = vec![0; self.stride * self.stride];
            self.begun.resize(self.stride, 0);
            self.ended.resize(self.stride, 0);
        }
    }

    fn pair(&self, a: u16, b: u16) -> usize {
        a as usize * self.stride + b as usize
    }

    /// How far corners lie beyond the plane halfway to a point, over the distance to it, and
    /// whether any does.
    fn find_beyond(&mut self, to: DVec3) -> bool {
        let half = 0.5 * to.length_squared();
        let count = self.corners.len();
        let [x, y, z] = &self.places;
        let (x, y, z) = (&x[..count], &y[..count], &z[..count]);
        self.beyond.resize(count, 0.0);
        let beyond = &mut self.beyond[..count];
        for n in 0..count {
            beyond[n] = to.x * x[n] + to.y * y[n] + to.z * z[n] - half;
        }
        let mut most = [f64::NEG_INFINITY; 8];
        let (eights, rest) = beyond.as_chunks::<8>();
        for eight in eights {
            for n in 0..8 {
                most[n] = if eight[n] > most[n] { eight[n] } else { most[n] };
            }
        }
        most.iter().chain(rest).any(|v| *v > 0.0)
    }

    /// Cuts off what is nearer to the point at `to`; false when that is nothing. A cut that
    /// rounding makes inconsistent is left out: it would have taken a sliver.
    fn clip(&mut self, to: DVec3, other: u32) -> bool {
        if !self.find_beyond(to) {
            return false;
        }
        self.gone.clear();
        for n in (0..self.corners.len()).rev() {
            if self.beyond[n] > 0.0 {
                self.gone.push(self.corner(n));
                // The last one, which stays, fills the gap.
                self.corners.swap_remove(n);
                self.places.iter_mut().for_each(|list| _ = list.swap_remove(n));
            }
        }
        let kept = self.corners.len();
        let new = self.planes.len() as u16;
        self.reserve(new as usize + 1);
        let length = to.length();
        self.planes.push(Plane { normal: to / length.max(1e-300), at: 0.5 * length, other });
        for (n, c) in self.gone.iter().enumerate() {
            for (a, b) in sides(c.planes) {
                self.at[a as usize * self.stride + b as usize] = n as u16;
            }
        }
        self.cuts = self.cuts.wrapping_add(1);
        let mut sound = true;
        for n in 0..self.gone.len() {
            let c = self.gone[n];
            for (a, b) in sides(c.planes) {
                // An edge between a corner that goes and one that stays is cut.
                let across = self.gone.get(self.at[self.pair(b, a)] as usize);
                if across.is_some_and(|d| runs(d.planes, b, a)) {
                    continue;
                }
                // The cut runs around once: every plane of it is entered once and left once.
                sound &= self.begun[a as usize] != self.cuts && self.ended[b as usize] != self.cuts;
                (self.begun[a as usize], self.ended[b as usize]) = (self.cuts, self.cuts);
                let place = self.meet(a, b, new).unwrap_or(c.place);
                self.push(Corner { planes: [a, b, new], place });
            }
        }
        let cut = &self.corners[kept..];
        let closes = |c: &[u16; 3]| {
            self.begun[c[1] as usize] == self.cuts && self.ended[c[0] as usize] == self.cuts
        };
        sound &= cut.len() >= 3 && cut.iter().all(closes);
        if !sound {
            self.truncate(kept);
            (0..self.gone.len()).for_each(|n| self.push(self.gone[n]));
            self.planes.pop();
        }
        sound
    }

    fn meet(&self, a: u16, b: u16, c: u16) -> Option<DVec3> {
        let [a, b, c] = [a, b, c].map(|n| &self.planes[n as usize]);
        let ab = a.normal.cross(b.normal);
        let det = ab.dot(c.normal);
        let place =
            (b.normal.cross(c.normal) * a.at + c.normal.cross(a.normal) * b.at + ab * c.at) / det;
        (det.abs() > 1e-14 && place.is_finite()).then_some(place)
    }

    /// The cell of point `own` within the bounds. Points that are `likely` to have a part in it
    /// come first: with good ones the others have nothing left to cut.
    pub(super) fn build(
        &mut self,
        points: &[DVec3],
        grid: &PointGrid,
        own: usize,
        bounds: &DiagramBounds,
        likely: &[u32],
    ) {
        let p = points[own];
        let radius = if own < bounds.outer.0 { bounds.radius } else { bounds.outer.1 };
        self.begin(
            (bounds.low - p).max(DVec3::splat(-radius)),
            (bounds.high - p).min(DVec3::splat(radius)),
        );
        let mut reach = self.reach();
        for &id in likely {
            if self.clip(points[id as usize] - p, id) {
                reach = self.reach();
            }
        }
        // By squares of distances: all nearer than the first are looked at already.
        let (mut from, mut to) = (
            f64::NEG_INFINITY,
            if likely.is_empty() { (FIRST * grid.edge()).powi(2) } else { 4.0 * reach },
        );
        let mut near = std::mem::take(&mut self.near);
        loop {
            to = to.min(4.0 * reach);
            near.clear();
            grid.around(p, to.sqrt(), |id, q| {
                let d = q.distance_squared(p);
                if d >= from && d < to && id as usize != own && !likely.contains(&id) {
                    near.push((d, id));
                }
            });
            if likely.is_empty() {
                near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
            }
            for &(d, id) in &near {
                if d < 4.0 * reach && self.clip(points[id as usize] - p, id) {
                    reach = self.reach();
                }
            }
            if to >= 4.0 * reach {
                break;
            }
            (from, to) = (to, 4.0 * to);
        }
        self.near = near;
    }

    /// The square of how far the cell reaches.
    fn reach(&self) -> f64 {
        let count = self.corners.len();
        let [x, y, z] = &self.places;
        let (x, y, z) = (&x[..count], &y[..count], &z[..count]);
        let square = |n: usize| x[n] * x[n] + y[n] * y[n] + z[n] * z[n];
        (0..count).map(square).fold(0.0, |most, v| if v > most { v } else { most })
    }

    /// Points whose planes bound the cell.
    pub(super) fn neighbours(&self, into: &mut Vec<u32>) {
        into.clear();
        into.extend(
            self.corners
                .iter()
                .flatten()
                .map(|n| self.planes[*n as usize].other)
                .filter(|o| *o != BOX),
        );
        into.sort_unstable();
        into.dedup();
    }

    /// Volume, and the middle of the volume from the point.
    pub(super) fn centroid(&mut self) -> (f64, DVec3) {
        let (mut volume, mut sum) = (0.0, DVec3::ZERO);
        // The wall of plane a is a fan of triangles around its first corner.
        let mut first = std::mem::take(&mut self.first);
        first.clear();
        first.resize(self.planes.len(), None);
        self.each_edge(|a, _, _, from, to| {
            let apex = *first[a as usize].get_or_insert(from);
            let six = apex.dot(from.cross(to)).abs();
            volume += six / 6.0;
            sum += (apex + from + to) * (six / 24.0);
        });
        self.first = first;
        (volume, if volume > 0.0 { sum / volume } else { DVec3::ZERO })
    }

    /// Notes which corner every pair of planes runs from.
    fn link(&mut self) {
        self.reserve(self.planes.len());
        for (n, c) in self.corners.iter().enumerate() {
            for (a, b) in sides(*c) {
                self.at[a as usize * self.stride + b as usize] = n as u16;
            }
        }
    }

    /// Calls `f` with every edge of every wall: the wall's plane, the other plane, and the ends, by
    /// number and by place.
    pub(super) fn each_edge(&mut self, mut f: impl FnMut(u16, u16, [usize; 2], DVec3, DVec3)) {
        self.link();
        for n in 0..self.corners.len() {
            let c = self.corner(n);
            for (a, b) in sides(c.planes) {
                let m = self.at[self.pair(b, a)] as usize;
                if self.corners.get(m).is_some_and(|d| runs(*d, b, a)) {
                    f(a, b, [n, m], c.place, self.corner(m).place);
                }
            }
        }
    }
}

/// How far points are looked for first, in bins of the grid: some thirty of them.
const FIRST: f64 = 1.25;

/// Does one plane follow the other around a corner? Without branches, for the answer is as good as
/// random.
#[inline(always)]
fn runs([p, q, r]: [u16; 3], a: u16, b: u16) -> bool {
    (p == a) & (q == b) | (q == a) & (r == b) | (r == a) & (p == b)
}

/// Pairs of planes around a corner.
#[inline(always)]
pub(super) fn sides([a, b, d]: [u16; 3]) -> [(u16, u16); 3] {
    [(a, b), (b, d), (d, a)]
}
