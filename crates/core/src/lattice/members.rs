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
    Repeated {
        struts: Vec<[DVec3; 2]>,
        cell: DVec3,
    },
    Struts(Vec<[DVec3; 2]>),
    /// Walls halfway between neighbouring points.
    Walls(Vec<DVec3>),
}

impl Source {
    /// Edge of bins, of about `edge` for struts. Lists of points are found anew for every bin, and hardly
    /// grow with it.
    fn bin(&self, edge: f64, cell: f64) -> f64 {
        match self {
            Source::Walls(_) => 0.35 * cell,
            _ => edge,
        }
    }
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
    Struts { bins: Bins, exact: Vec<Segment>, quick: Vec<[f32; 8]> },
    Walls { bins: Bins, exact: Vec<DVec3>, quick: Vec<[f32; 3]> },
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
                Members::of(segments(all, joins), DVec3::ZERO, *cell, true, margin, edge)
            }
            Source::Struts(struts) => {
                let (low, high) = span(struts.iter().flatten(), margin);
                Members::of(segments(struts.iter().copied(), joins), low, high - low, false, margin, edge)
            }
            Source::Walls(seeds) => {
                let (low, mut high) = span(seeds.iter(), 0.0);
                if seeds.iter().all(|s| s.z == 0.0) {
                    high.z = low.z;
                }
                let grid = PointGrid::new(seeds);
                let bins = Bins::new(low, high - low, edge, false);
                let about = bins.half_diagonal();
                let bins = bins.gather(|middle| {
                    // A wall within the margin is between the nearest point and one at most twice the
                    // margin farther away.
                    let middle = middle + low;
                    let nearest = grid.nearest(middle, 1, |_| false).first().map_or(0.0, |n| n.0);
                    grid.within(middle, nearest + 2.0 * (about + margin))
                });
                let exact: Vec<DVec3> = seeds.iter().map(|s| *s - low).collect();
                let quick = exact.iter().map(|s| s.as_vec3().to_array()).collect();
                Members::Walls { bins, exact, quick }
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
                Members::Walls { exact, .. } => exact.len() * (24 + 12),
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
            Members::Walls { exact, .. } => {
                let Some(&own) = list.iter().min_by(|a, b| {
                    let d = |i: u32| exact[i as usize].distance_squared(q);
                    d(**a).total_cmp(&d(**b))
                }) else {
                    return far;
                };
                let s = exact[own as usize];
                let wall = |&id: &u32| {
                    let t = exact[id as usize];
                    (t.distance_squared(q) - s.distance_squared(q)) / (2.0 * s.distance(t))
                };
                list.iter().filter(|id| **id != own).map(wall).fold(far, join)
            }
        }
    }

    /// The same for eight places at once, whose bin is given, and its gradient.
    fn distance8(&self, bin: usize, q: &[f32x8; 3], blend: f32, far: f32) -> (f32x8, [f32x8; 3]) {
        let list = self.bins().list(bin);
        let zero = f32x8::ZERO;
        let (mut f, mut g) = (f32x8::splat(far), [zero; 3]);
        let over = if blend > 0.0 { 0.5 / blend } else { 0.0 };
        let (half, one, blend) = (f32x8::splat(0.5), f32x8::splat(1.0), f32x8::splat(blend));
        let mut join = |v: f32x8, n: [f32x8; 3]| {
            if over > 0.0 {
                let h = (half + (f - v) * over).max(zero).min(one);
                f = f + (v - f) * h - blend * h * (one - h);
                g = [0, 1, 2].map(|a| g[a] + (n[a] - g[a]) * h);
            } else {
                let nearer = v.cmp_lt(f);
                f = f.min(v);
                g = [0, 1, 2].map(|a| nearer.blend(n[a], g[a]));
            }
        };
        match self {
            Members::Struts { quick, .. } => {
                for &id in list {
                    let [ax, ay, az, bx, by, bz, inverse, extra] = quick[id as usize];
                    let p = [q[0] - ax, q[1] - ay, q[2] - az];
                    let t = ((p[0] * bx + p[1] * by + p[2] * bz) * inverse).max(zero).min(one);
                    let d = [p[0] - t * bx, p[1] - t * by, p[2] - t * bz];
                    let length = (d[0] * d[0] + d[1] * d[1] + d[2] * d[2]).sqrt();
                    let unit = one / length.max(f32x8::splat(1e-12));
                    join(length - extra, d.map(|d| d * unit));
                }
            }
            Members::Walls { quick, .. } => {
                let to = |id: u32| {
                    let s = quick[id as usize];
                    let d = [q[0] - s[0], q[1] - s[1], q[2] - s[2]];
                    (d[0] * d[0] + d[1] * d[1] + d[2] * d[2], s)
                };
                let mut own = (f32x8::splat(f32::MAX), [zero; 3]);
                for &id in list {
                    let (d, s) = to(id);
                    let nearer = d.cmp_lt(own.0);
                    own = (own.0.min(d), [0, 1, 2].map(|a| nearer.blend(f32x8::splat(s[a]), own.1[a])));
                }
                for &id in list {
                    let (d, s) = to(id);
                    // From the other point to the own one.
                    let away = [0, 1, 2].map(|a| own.1[a] - s[a]);
                    let length = (away[0] * away[0] + away[1] * away[1] + away[2] * away[2]).sqrt();
                    let itself = length.cmp_eq(zero);
                    let over = itself.blend(zero, one / length.max(f32x8::splat(1e-12)));
                    let wall = itself.blend(f32x8::splat(far), (d - own.0) * over * 0.5);
                    join(wall, away.map(|v| v * over));
                }
            }
        }
        (f, g)
    }
}

fn segments(struts: impl Iterator<Item = [DVec3; 2]>, joins: Joins) -> Vec<Segment> {
    let mut out: Vec<Segment> = struts.map(|[a, b]| Segment { a, b, extra: 0.0 }).collect();
    if joins.node_mm > 0.0 {
        let mut nodes: Vec<DVec3> = out.iter().flat_map(|s| [s.a, s.b]).collect();
        let order = |p: &DVec3, q: &DVec3| p.x.total_cmp(&q.x).then(p.y.total_cmp(&q.y)).then(p.z.total_cmp(&q.z));
        nodes.sort_by(order);
        nodes.dedup_by(|p, q| p.distance_squared(*q) < 1e-12);
        out.extend(nodes.into_iter().map(|p| Segment { a: p, b: p, extra: 0.5 * joins.node_mm }));
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
    /// About the size of a cell. mm.
    cell: f64,
    /// For single places, up to `margin` away.
    near: Members,
    margin: f64,
}

impl Net {
    pub fn new(frame: Frame, source: Source, joins: Joins, cell: f64) -> Net {
        let margin = 0.5 * cell + joins.blend_mm + joins.node_mm;
        let near = Members::new(&source, joins, margin, source.bin(0.2 * cell, cell));
        Net {
            shared: Arc::new(Shared { frame, source, joins, cell, near, margin }),
            opening: 0.0,
            cell_points: Vec::new(),
            facts: None,
            skeleton: None,
        }
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
        self.shared.cell
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
            Source::Repeated { struts, .. } | Source::Struts(struts) => struts.len() * 48,
            Source::Walls(seeds) => seeds.len() * 24,
        };
        source + self.shared.near.bytes() + self.cell_points.len() * 24 + self.skeleton.as_ref().map_or(0, Skeleton::bytes)
    }
}

impl Shared {
    fn distance(&self, p: DVec3) -> f64 {
        self.near.distance(self.near.bins().reduced(self.frame.local(p)), self.joins.blend_mm, self.margin)
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
        let s = &self.shared;
        let q = s.near.bins().reduced(s.frame.local(p));
        let lanes = q.to_array().map(|v| f32x8::splat(v as f32));
        let (_, g) = s.near.distance8(s.near.bins().of(q), &lanes, s.joins.blend_mm as f32, s.margin as f32);
        let g = DVec3::from(g.map(|v| v.to_array()[0] as f64));
        s.frame.turn.transpose() * g.normalize_or(DVec3::Z)
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

/// A net on a grid.
struct GriddedNet<'a> {
    net: &'a ThickNet,
    grid: &'a Grid,
    reach: f64,
    members: Members,
    margin: f64,
}

impl<'a> GriddedNet<'a> {
    fn new(net: &'a ThickNet, grid: &'a Grid, reach: f64) -> GriddedNet<'a> {
        let s = &net.shared;
        // Far enough that most blocks without material are told at once, and near enough that lists
        // stay short.
        let beyond = (0.9 * BLOCK as f64 * grid.step).min((0.3 * s.cell).max(2.5 * grid.step));
        let margin = net.radius + reach + s.joins.blend_mm + beyond;
        let edge = s.source.bin((4.0 * grid.step).clamp(0.04 * s.cell, 0.25 * s.cell), s.cell);
        GriddedNet { net, grid, reach, members: Members::new(&s.source, s.joins, margin, edge), margin }
    }

    fn value8(&self, bin: usize, q: &[f32x8; 3]) -> (f32x8, [f32x8; 3]) {
        let (d, g) = self.members.distance8(bin, q, self.net.shared.joins.blend_mm as f32, self.margin as f32);
        (d - f32x8::splat(self.net.radius as f32), g)
    }

    /// Eight places in the structure's axes, reduced, with their bins.
    fn places(&self, at: impl Fn(usize) -> DVec3) -> ([f32x8; 3], [usize; 8]) {
        let (mut q, mut bins) = ([[0f32; 8]; 3], [0; 8]);
        for lane in 0..8 {
            let r = self.members.bins().reduced(self.net.shared.frame.local(at(lane)));
            bins[lane] = self.members.bins().of(r);
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
                        let v = self.middle_value(low + DVec3::splat(half * self.grid.step)) - self.reach;
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
        for from in (0..row.i.len()).step_by(8) {
            let count = 8.min(row.i.len() - from);
            let point: [usize; 8] = std::array::from_fn(|l| from + if l < count { l } else { 0 });
            let start = |lean: [f32; 8]| -> [[f32; 3]; 8] {
                std::array::from_fn(|l| {
                    std::array::from_fn(|a| {
                        let (mean, out) = (row.local[a][point[l]], (row.outside[point[l]] >> a & 1) as f32);
                        mean + (out - mean) * lean[l]
                    })
                })
            };
            let places =
                |start: &[[f32; 3]; 8]| self.places(|l| corner(point[l]) + DVec3::from(start[l].map(|v| v as f64)) * step);
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
                        q[a] = q[a] - g[a] * by;
                        moved[a] = moved[a] - g[a] * by;
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
                row.local[a][from..from + count].copy_from_slice(&local[a][..count]);
            }
        }
    }
}

impl GriddedNet<'_> {
    /// At a single place, as far as the margin.
    fn middle_value(&self, p: DVec3) -> f64 {
        let q = self.members.bins().reduced(self.net.shared.frame.local(p));
        self.members.distance(q, self.net.shared.joins.blend_mm, self.margin) - self.net.radius
    }
}
