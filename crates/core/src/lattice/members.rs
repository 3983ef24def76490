//! Struts and cell walls as fields: exact distances, found through bins, joins blended.
//!
//! Members that meet flow into each other by a polynomial smooth minimum (Quilez 2013) whose support is
//! the blend radius: where two surfaces lie farther apart it changes nothing, and nowhere does it add
//! more than a quarter of the radius for two members.

use super::index::{Bins, PointGrid};
use super::skeleton::Skeleton;
use super::{Bare, Bulk, Facts, Lattice};
use crate::grid::{Bits, Grid};
use crate::polygonise::RowPoints;
use crate::recipe::Joins;
use glam::{DMat3, DVec3};
use rayon::prelude::*;
use std::sync::Arc;
use wide::{f32x8, CmpEq, CmpLt};

/// Where a structure lies in the part.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// Part to the structure's axes.
    pub turn: DMat3,
    pub shift: DVec3,
    /// The same all along the third axis.
    pub flat: bool,
}

impl Frame {
    pub fn local(&self, p: DVec3) -> DVec3 {
        let q = self.turn * (p - self.shift);
        if self.flat {
            q.with_z(0.0)
        } else {
            q
        }
    }

    pub fn back(&self, q: DVec3) -> DVec3 {
        self.shift + self.turn.transpose() * q
    }
}

/// What a structure is made of, in its own axes. mm.
#[derive(Clone)]
pub enum Source {
    /// Struts of one cell of this size, repeated for ever.
    Repeated { struts: Vec<[DVec3; 2]>, cell: DVec3 },
    /// Those from number `inner` on are the net on the part's surface.
    Struts { struts: Vec<[DVec3; 2]>, inner: usize },
    /// Walls halfway between points whose cells touch; each pair once.
    Walls { seeds: Vec<DVec3>, pairs: Vec<[u32; 2]> },
}

/// A straight axis that is thicker than its fellows by `extra` on all sides; a node when it has no length.
#[derive(Clone, Copy)]
struct Segment {
    a: DVec3,
    b: DVec3,
    extra: f64,
}

/// What is near, for places up to some distance from it.
enum Members {
    Struts {
        bins: Bins,
        exact: Vec<Segment>,
        quick: Vec<[f32; 8]>,
    },
    /// Bins hold the points that may be the nearest there.
    Walls {
        bins: Bins,
        exact: Vec<DVec3>,
        quick: Vec<[f32; 3]>,
        beside: Beside,
    },
}

/// The walls of every point's cell.
struct Beside {
    start: Vec<u32>,
    /// Direction toward the cell's point, and distance from the wall at zero.
    exact: Vec<(DVec3, f64)>,
    quick: Vec<[f32; 4]>,
}

impl Beside {
    fn new(points: &[DVec3], pairs: &[[u32; 2]]) -> Beside {
        let mut both: Vec<[u32; 2]> = pairs.iter().flat_map(|[a, b]| [[*a, *b], [*b, *a]]).collect();
        both.sort_unstable();
        let mut start = vec![0; points.len() + 1];
        both.iter().for_each(|[a, _]| start[*a as usize + 1] += 1);
        (1..start.len()).for_each(|n| start[n] += start[n - 1]);
        let wall = |[a, b]: &[u32; 2]| {
            let (p, q) = (points[*a as usize], points[*b as usize]);
            let n = (p - q).normalize_or(DVec3::X);
            (n, -n.dot((p + q) * 0.5))
        };
        let exact: Vec<(DVec3, f64)> = both.iter().map(wall).collect();
        let quick = exact.iter().map(|(n, c)| [n.x as f32, n.y as f32, n.z as f32, *c as f32]).collect();
        Beside { start, exact, quick }
    }

    fn of(&self, point: u32) -> std::ops::Range<usize> {
        self.start[point as usize] as usize..self.start[point as usize + 1] as usize
    }
}

impl Members {
    /// Distances beyond `margin` need not be told apart. `edge` is that of the bins.
    fn new(source: &Source, joins: Joins, margin: f64, edge: f64) -> Members {
        match source {
            Source::Repeated { struts, cell } => {
                // Every copy that comes near the cell.
                let deep = if cell.z > 0.0 { 5 } else { 1 };
                let copies = |s: &[DVec3; 2]| {
                    let s = *s;
                    (0..25 * deep).map(move |n| {
                        let at = DVec3::new((n % 5) as f64, (n / 5 % 5) as f64, (n / 25) as f64 + 2.0 - (deep / 2) as f64);
                        s.map(|p| p + (at - 2.0) * *cell)
                    })
                };
                let near = |s: &[DVec3; 2]| {
                    let (low, high) = (s[0].min(s[1]) - margin, s[0].max(s[1]) + margin);
                    high.cmpge(DVec3::ZERO).all() && low.cmple(*cell).all()
                };
                let all = struts.iter().flat_map(copies).filter(near);
                Members::of(segments(all, usize::MAX, joins), DVec3::ZERO, *cell, true, margin, edge)
            }
            Source::Struts { struts, inner } => {
                let (low, high) = span(struts.iter().flatten(), margin);
                Members::of(segments(struts.iter().copied(), *inner, joins), low, high - low, false, margin, edge)
            }
            Source::Walls { seeds, pairs } => {
                let (low, high) = span(seeds.iter(), 0.0);
                let grid = PointGrid::new(seeds);
                let bins = Bins::new(low, high - low, edge, false);
                let about = bins.half_diagonal();
                let bins = bins.gather(|middle| {
                    let middle = middle + low;
                    let nearest = grid.nearest(middle, 1, |_| false).first().map_or(0.0, |n| n.0);
                    grid.within(middle, nearest + 2.0 * about)
                });
                let exact: Vec<DVec3> = seeds.iter().map(|s| *s - low).collect();
                let quick = exact.iter().map(|s| s.as_vec3().to_array()).collect();
                Members::Walls { bins, beside: Beside::new(&exact, pairs), exact, quick }
            }
        }
    }

    fn of(struts: Vec<Segment>, low: DVec3, size: DVec3, repeats: bool, margin: f64, edge: f64) -> Members {
        let exact: Vec<Segment> = struts.iter().map(|s| Segment { a: s.a - low, b: s.b - low, extra: s.extra }).collect();
        let flat = exact.iter().all(|s| s.a.z == 0.0 && s.b.z == 0.0);
        let bins = Bins::new(low, if flat { size.with_z(0.0) } else { size }, edge, repeats);
        let reach = bins.half_diagonal() + margin;
        let bins = bins.fill(
            exact.len(),
            |id| {
                let s = &exact[id];
                (s.a.min(s.b) - margin - s.extra, s.a.max(s.b) + margin + s.extra)
            },
            |id, middle| foot(&exact[id], middle).0 <= reach,
        );
        let quick = exact
            .iter()
            .map(|s| {
                let (a, ab) = (s.a.as_vec3(), (s.b - s.a).as_vec3());
                let over = if ab.length_squared() > 0.0 { 1.0 / ab.length_squared() } else { 0.0 };
                [a.x, a.y, a.z, ab.x, ab.y, ab.z, over, s.extra as f32]
            })
            .collect();
        Members::Struts { bins, exact, quick }
    }

    fn bins(&self) -> &Bins {
        match self {
            Members::Struts { bins, .. } | Members::Walls { bins, .. } => bins,
        }
    }

    fn bytes(&self) -> usize {
        self.bins().bytes()
            + match self {
                Members::Struts { exact, .. } => exact.len() * (56 + 32),
                Members::Walls { exact, beside, .. } => exact.len() * (24 + 12) + beside.exact.len() * (32 + 16),
            }
    }

    /// Blended distance at a reduced place.
    fn distance(&self, q: DVec3, blend: f64, far: f64) -> f64 {
        let join = |f: f64, v: f64| {
            let h = (blend - (f - v).abs()).max(0.0);
            f.min(v) - if blend > 0.0 { 0.25 * h * h / blend } else { 0.0 }
        };
        let list = self.bins().list(self.bins().of(q));
        match self {
            Members::Struts { exact, .. } => list.iter().map(|&id| foot(&exact[id as usize], q).0).fold(far, join),
            Members::Walls { exact, beside, .. } => {
                let d = |i: u32| exact[i as usize].distance_squared(q);
                let Some(&own) = list.iter().min_by(|a, b| d(**a).total_cmp(&d(**b))) else { return far };
                beside.exact[beside.of(own)].iter().map(|(n, c)| n.dot(q) + c).fold(far, join)
            }
        }
    }

    /// The same for eight places at once, whose bin is given, and its gradient.
    fn distance8(&self, bin: usize, q: &[f32x8; 3], blend: f32, far: f32) -> (f32x8, [f32x8; 3]) {
        let list = self.bins().list(bin);
        let (zero, one) = (f32x8::ZERO, f32x8::splat(1.0));
        let (f, g) = (f32x8::splat(far), [zero; 3]);
        let mut joined = Joined { f, g, blend, over: if blend > 0.0 { 0.5 / blend } else { 0.0 } };
        match self {
            Members::Struts { quick, .. } => {
                for &id in list {
                    let [ax, ay, az, bx, by, bz, inverse, extra] = quick[id as usize];
                    let p = [q[0] - ax, q[1] - ay, q[2] - az];
                    let t = ((p[0] * bx + p[1] * by + p[2] * bz) * inverse).max(zero).min(one);
                    let d = [p[0] - t * bx, p[1] - t * by, p[2] - t * bz];
                    let length = (d[0] * d[0] + d[1] * d[1] + d[2] * d[2]).sqrt();
                    let unit = one / length.max(f32x8::splat(1e-12));
                    joined.add(length - extra, d.map(|d| d * unit));
                }
                (joined.f, joined.g)
            }
            Members::Walls { quick, beside, .. } => {
                let mut own = (f32x8::splat(f32::MAX), f32x8::splat(-1.0));
                for &id in list {
                    let s = quick[id as usize];
                    let d = [q[0] - s[0], q[1] - s[1], q[2] - s[2]];
                    let d = d[0] * d[0] + d[1] * d[1] + d[2] * d[2];
                    let nearer = d.cmp_lt(own.0);
                    // Numbers of points are small enough for 32-bit floats to hold.
                    own = (own.0.min(d), nearer.blend(f32x8::splat(id as f32), own.1));
                }
                let ids = own.1.to_array();
                let (mut all_f, mut all_g) = (f, g);
                let mut left: u8 = 0xff;
                while left != 0 {
                    let id = ids[left.trailing_zeros() as usize];
                    let lanes = own.1.cmp_eq(f32x8::splat(id));
                    left &= !(lanes.move_mask() as u8);
                    if id < 0.0 {
                        continue;
                    }
                    let mut one = Joined { f, g, ..joined };
                    for &[x, y, z, c] in &beside.quick[beside.of(id as u32)] {
                        one.add(q[0] * x + q[1] * y + q[2] * z + c, [x, y, z].map(f32x8::splat));
                    }
                    all_f = lanes.blend(one.f, all_f);
                    all_g = [0, 1, 2].map(|a| lanes.blend(one.g[a], all_g[a]));
                }
                (all_f, all_g)
            }
        }
    }
}

/// A blended minimum as it grows, with its gradient.
#[derive(Clone, Copy)]
struct Joined {
    f: f32x8,
    g: [f32x8; 3],
    blend: f32,
    /// Half of one over the blend; 0 without one.
    over: f32,
}

impl Joined {
    #[inline(always)]
    fn add(&mut self, v: f32x8, n: [f32x8; 3]) {
        if self.over > 0.0 {
            let (half, one) = (f32x8::splat(0.5), f32x8::splat(1.0));
            let h = (half + (self.f - v) * self.over).max(f32x8::ZERO).min(one);
            self.f = self.f + (v - self.f) * h - h * (one - h) * self.blend;
            self.g = [0, 1, 2].map(|a| self.g[a] + (n[a] - self.g[a]) * h);
        } else {
            let nearer = v.cmp_lt(self.f);
            self.f = self.f.min(v);
            self.g = [0, 1, 2].map(|a| nearer.blend(n[a], self.g[a]));
        }
    }
}

fn segments(struts: impl Iterator<Item = [DVec3; 2]>, inner: usize, joins: Joins) -> Vec<Segment> {
    let extra = |n: usize| if n < inner { 0.0 } else { 0.5 * joins.net_mm };
    let mut out: Vec<Segment> = struts.enumerate().map(|(n, [a, b])| Segment { a, b, extra: extra(n) }).collect();
    if joins.node_mm > 0.0 {
        // Of the ends at a place the one of the thickest strut comes first.
        let mut nodes: Vec<(DVec3, f64)> = out.iter().flat_map(|s| [(s.a, s.extra), (s.b, s.extra)]).collect();
        nodes.sort_by(|(p, e), (q, f)| {
            p.x.total_cmp(&q.x).then(p.y.total_cmp(&q.y)).then(p.z.total_cmp(&q.z)).then(f.total_cmp(e))
        });
        nodes.dedup_by(|p, q| p.0.distance_squared(q.0) < 1e-12);
        out.extend(nodes.into_iter().map(|(p, extra)| Segment { a: p, b: p, extra: extra + 0.5 * joins.node_mm }));
    }
    out
}

fn span<'a>(points: impl Iterator<Item = &'a DVec3>, margin: f64) -> (DVec3, DVec3) {
    let (low, high) = points.fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(l, h), p| (l.min(*p), h.max(*p)));
    if low.x > high.x {
        return (DVec3::ZERO, DVec3::ZERO);
    }
    (low - margin, high + margin)
}

/// Distance from a strut's border, were it of no thickness of its own, and the nearest point of its axis.
fn foot(s: &Segment, p: DVec3) -> (f64, DVec3) {
    let ab = s.b - s.a;
    let l = ab.length_squared();
    let t = if l > 0.0 { ((p - s.a).dot(ab) / l).clamp(0.0, 1.0) } else { 0.0 };
    let q = s.a + ab * t;
    (p.distance(q) - s.extra, q)
}

/// A structure of struts or of cell walls, before it is given thickness.
pub struct Net {
    shared: Arc<Shared>,
    smallest: f64,
    /// Free width of its openings at no thickness. mm.
    opening: f64,
    cell_points: Vec<DVec3>,
    facts: Option<Facts>,
    skeleton: Option<Skeleton>,
}

struct Shared {
    frame: Frame,
    source: Source,
    joins: Joins,
    /// About the size of a cell, where it is largest. mm.
    cell: f64,
    /// For single places, up to `margin` away.
    near: Members,
    margin: f64,
}

impl Net {
    pub fn new(frame: Frame, source: Source, joins: Joins, cell: f64) -> Net {
        let margin = 0.5 * cell + joins.blend_mm + joins.node_mm + joins.net_mm;
        let near = Members::new(&source, joins, margin, 0.2 * cell);
        Net {
            shared: Arc::new(Shared { frame, source, joins, cell, near, margin }),
            smallest: cell,
            opening: 0.0,
            cell_points: Vec::new(),
            facts: None,
            skeleton: None,
        }
    }

    /// The size of cells where they are smallest.
    pub fn with_smallest(mut self, cell: f64) -> Net {
        self.smallest = cell;
        self
    }

    pub fn with_opening(mut self, opening: f64) -> Net {
        self.opening = opening;
        self
    }

    pub fn with_cell_points(mut self, points: Vec<DVec3>) -> Net {
        self.cell_points = points;
        self
    }

    pub fn with_facts(mut self, facts: Facts) -> Net {
        self.facts = Some(facts);
        self
    }

    pub fn with_skeleton(mut self, skeleton: Skeleton) -> Net {
        self.skeleton = Some(skeleton);
        self
    }
}

impl Bare for Net {
    fn measure(&self, p: DVec3) -> f64 {
        self.shared.distance(p)
    }

    fn level(&self, thickness: f64) -> f64 {
        0.5 * thickness
    }

    fn cell_points(&self) -> Vec<DVec3> {
        self.cell_points.clone()
    }

    fn cell(&self) -> f64 {
        self.smallest
    }

    fn opening(&self, thickness: f64) -> f64 {
        self.opening - thickness
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        Box::new(ThickNet { shared: self.shared.clone(), radius: 0.5 * thickness })
    }

    fn facts(&self) -> Option<&Facts> {
        self.facts.as_ref()
    }

    fn struts(&self) -> Option<&Skeleton> {
        self.skeleton.as_ref()
    }

    fn bytes(&self) -> usize {
        let source = match &self.shared.source {
            Source::Repeated { struts, .. } | Source::Struts { struts, .. } => struts.len() * 48,
            Source::Walls { seeds, pairs } => seeds.len() * 24 + pairs.len() * 8,
        };
        source + self.shared.near.bytes() + self.cell_points.len() * 24 + self.skeleton.as_ref().map_or(0, Skeleton::bytes)
    }
}

impl Shared {
    fn distance(&self, p: DVec3) -> f64 {
        self.near.distance(self.near.bins().reduced(self.frame.local(p)), self.joins.blend_mm, self.margin)
    }

    fn normal(&self, members: &Members, p: DVec3, margin: f64) -> DVec3 {
        let q = members.bins().reduced(self.frame.local(p));
        let lanes = q.to_array().map(|v| f32x8::splat(v as f32));
        let (_, g) = members.distance8(members.bins().of(q), &lanes, self.joins.blend_mm as f32, margin as f32);
        let g = DVec3::from(g.map(|v| v.to_array()[0] as f64));
        self.frame.turn.transpose() * g.normalize_or(DVec3::Z)
    }
}

/// The same with thickness.
struct ThickNet {
    shared: Arc<Shared>,
    radius: f64,
}

impl Lattice for ThickNet {
    fn value(&self, p: DVec3) -> f64 {
        self.shared.distance(p) - self.radius
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.shared.normal(&self.shared.near, p, self.shared.margin)
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn Bulk + 'a> {
        Box::new(GriddedNet::new(self, grid, reach))
    }

    fn roomy(&self, step: f64) -> bool {
        self.shared.joins.blend_mm > 3.0 * step && self.radius > step
    }
}

/// Samples along a side of the blocks that are told apart at once.
const BLOCK: usize = 8;

/// A net on a grid, with what lies near every place of its border.
struct GriddedNet<'a> {
    net: &'a ThickNet,
    grid: &'a Grid,
    reach: f64,
    /// Struts by smaller bins, none farther away than needed. Walls are as they were.
    closer: Option<Members>,
    margin: f64,
}

impl<'a> GriddedNet<'a> {
    fn new(net: &'a ThickNet, grid: &'a Grid, reach: f64) -> GriddedNet<'a> {
        let s = &net.shared;
        // A point may start a step and a half from the border. Where many members meet, each of those that
        // blend there may lie more than the blend's radius away.
        let margin = net.radius + reach + 2.5 * s.joins.blend_mm + 2.0 * grid.step;
        let edge = (3.0 * grid.step).clamp(0.04 * s.cell, 0.25 * s.cell);
        let walls = matches!(s.source, Source::Walls { .. });
        let closer = (!walls && margin < s.margin).then(|| Members::new(&s.source, s.joins, margin, edge));
        GriddedNet { net, grid, reach, margin: if closer.is_some() { margin } else { s.margin }, closer }
    }

    fn members(&self) -> &Members {
        self.closer.as_ref().unwrap_or(&self.net.shared.near)
    }

    fn value8(&self, bin: usize, q: &[f32x8; 3]) -> (f32x8, [f32x8; 3]) {
        let (d, g) = self.members().distance8(bin, q, self.net.shared.joins.blend_mm as f32, self.margin as f32);
        (d - f32x8::splat(self.net.radius as f32), g)
    }

    /// Eight places in the structure's axes, reduced, with their bins.
    fn places(&self, at: impl Fn(usize) -> DVec3) -> ([f32x8; 3], [usize; 8]) {
        let (mut q, mut bins) = ([[0f32; 8]; 3], [0; 8]);
        for lane in 0..8 {
            let r = self.members().bins().reduced(self.net.shared.frame.local(at(lane)));
            bins[lane] = self.members().bins().of(r);
            for a in 0..3 {
                q[a][lane] = r[a] as f32;
            }
        }
        (q.map(f32x8::from), bins)
    }

    /// Bits of eight samples from `i` on.
    fn eight(&self, i: u32, j: u32, k: u32) -> u8 {
        let (q, bins) = self.places(|lane| self.grid.at(i + lane as u32, j, k));
        let mut out = 0;
        each_bin(&bins, |bin, lanes| {
            let inside = self.value8(bin, &q).0.cmp_lt(f32x8::splat(self.reach as f32)).move_mask() as u8;
            out |= inside & lanes;
        });
        out
    }
}

/// Calls `f` with each different bin and the lanes that lie in it.
#[inline(always)]
fn each_bin(bins: &[usize; 8], mut f: impl FnMut(usize, u8)) {
    let mut left = 0xffu8;
    while left != 0 {
        let bin = bins[left.trailing_zeros() as usize];
        let lanes = (0..8).fold(0, |m, l| m | ((bins[l] == bin) as u8) << l);
        f(bin, lanes & left);
        left &= !lanes;
    }
}

impl Bulk for GriddedNet<'_> {
    fn value(&self, p: DVec3) -> f64 {
        let s = &self.net.shared;
        let q = self.members().bins().reduced(s.frame.local(p));
        self.members().distance(q, s.joins.blend_mm, self.margin) - self.net.radius
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.net.shared.normal(self.members(), p, self.margin)
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let mut out = wanted.clone();
        let (words, rows) = (wanted.words(), wanted.rows());
        let half = 0.5 * (BLOCK - 1) as f64;
        // What is within the half diagonal of a block's middle has its sign, if that is large enough.
        let sure = half * 3f64.sqrt() * self.grid.step * 1.001;
        out.par_layers_mut(BLOCK).for_each(|(k0, data)| {
            let layers = data.len() / (words * rows);
            for j0 in (0..rows).step_by(BLOCK) {
                let (j1, at) = ((j0 + BLOCK).min(rows), |k: usize, j: usize| (k * rows + j) * words);
                for w in 0..words {
                    for eighth in 0..8 {
                        let mask = 0xffu64 << (8 * eighth);
                        let any = (0..layers).any(|k| (j0..j1).any(|j| data[at(k, j) + w] & mask != 0));
                        if !any {
                            continue;
                        }
                        let i = (64 * w + 8 * eighth) as u32;
                        let low = self.grid.at(i, j0 as u32, k0 as u32);
                        let v = self.net.value(low + DVec3::splat(half * self.grid.step)) - self.reach;
                        for k in 0..layers {
                            for j in j0..j1 {
                                let word = &mut data[at(k, j) + w];
                                if *word & mask == 0 || v < -sure {
                                    continue;
                                }
                                if v > sure {
                                    *word &= !mask;
                                    continue;
                                }
                                let bits = self.eight(i, j as u32, (k0 + k) as u32) as u64;
                                *word &= !mask | bits << (8 * eighth);
                            }
                        }
                    }
                }
            }
        });
        out
    }

    fn project(&self, row: &mut RowPoints) {
        let step = self.grid.step;
        let corner = |n: usize| self.grid.at(row.i[n], row.j, row.k);
        let middle = (-0.5 * self.net.radius + 0.5 * self.reach) as f32;
        let turn = (self.net.shared.frame.turn * step).as_mat3().transpose().to_cols_array_2d();
        for from in (0..row.i.len()).step_by(RowPoints::LANES) {
            let start = |lean: [f32; 8]| -> [[f32; 3]; 8] {
                std::array::from_fn(|l| {
                    std::array::from_fn(|a| {
                        let (mean, out) = (row.local[a][from + l], (row.outside[from + l] >> a & 1) as f32);
                        mean + (out - mean) * lean[l]
                    })
                })
            };
            let places =
                |start: &[[f32; 3]; 8]| self.places(|l| corner(from + l) + DVec3::from(start[l].map(|v| v as f64)) * step);
            let mut start_at = start([0.0; 8]);
            let (mut q, mut bins) = places(&start_at);
            // Near the middle of a thin member it may be either side: the outer corner tells.
            let mut lean = [0.0; 8];
            each_bin(&bins, |bin, lanes| {
                let deep = self.value8(bin, &q).0.cmp_lt(f32x8::splat(middle)).move_mask() as u8 & lanes;
                (0..8).filter(|l| deep >> l & 1 == 1).for_each(|l| lean[l] = 0.5);
            });
            if lean != [0.0; 8] {
                start_at = start(lean);
                (q, bins) = places(&start_at);
            }
            let mut local: [[f32; 8]; 3] = std::array::from_fn(|a| std::array::from_fn(|l| start_at[l][a]));
            each_bin(&bins, |bin, lanes| {
                let mut q = q;
                let mut moved = [f32x8::ZERO; 3];
                for _ in 0..3 {
                    let (v, g) = self.value8(bin, &q);
                    // In the blend the gradient is shorter than one.
                    let gg = (g[0] * g[0] + g[1] * g[1] + g[2] * g[2]).max(f32x8::splat(0.05));
                    let by = v / gg;
                    for a in 0..3 {
                        q[a] -= g[a] * by;
                        moved[a] -= g[a] * by;
                    }
                    if v.abs().cmp_lt(f32x8::splat(1e-3 * step as f32)).all() {
                        break;
                    }
                }
                // Back into the grid's axes, in steps: the turn's inverse is its transpose.
                let over = 1.0 / (step * step) as f32;
                for a in 0..3 {
                    let along = (moved[0] * turn[0][a] + moved[1] * turn[1][a] + moved[2] * turn[2][a]) * over;
                    let along = along.to_array();
                    (0..8).filter(|l| lanes >> l & 1 == 1).for_each(|l| local[a][l] += along[l]);
                }
            });
            for a in 0..3 {
                row.local[a][from..from + RowPoints::LANES].copy_from_slice(&local[a]);
            }
        }
    }
}
