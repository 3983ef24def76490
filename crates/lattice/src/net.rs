//! Nets of struts or cell walls as structures: before and after they are given thickness, and on a
//! grid.

use super::bars::Bar;
use super::members::{room, Frame, Members, StrutSource};
use super::skeleton::Skeleton;
use super::{BareStructure, Facts, Gauge, GridField, Lattice, Station};
use glam::DVec3;
use std::sync::{Arc, OnceLock};
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::polygonise::RowPoints;
use ulmix_mesh::parallel::found_once;
use ulmix_recipe::{Joins, StrutSection};
use wide::f32x8;

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
    source: StrutSource,
    joins: Joins,
    /// About the size of a cell, where it is largest. mm.
    cell: f64,
    /// For single places, up to `margin` away; found when the first one is asked for.
    near: OnceLock<Members>,
    margin: f64,
}

impl Net {
    /// A net whose members come from a source. `cell` is the size of its cells in mm.
    pub fn new(frame: Frame, source: StrutSource, joins: Joins, cell: f64) -> Net {
        let margin = 0.5 * cell + joins.blend_mm + joins.node_mm + joins.net_mm + source.thicker();
        Net {
            shared: Arc::new(Shared { frame, source, joins, cell, near: OnceLock::new(), margin }),
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

    /// The net with the free width between members, in mm.
    pub fn with_opening(mut self, opening: f64) -> Net {
        self.opening = opening;
        self
    }

    /// The net with the points that own its cells. mm.
    pub fn with_cell_points(mut self, points: Vec<DVec3>) -> Net {
        self.cell_points = points;
        self
    }

    /// The net with figures for a person.
    pub fn with_facts(mut self, facts: Facts) -> Net {
        self.facts = Some(facts);
        self
    }

    /// The struts that matter to places within `radius` mm of a place, all of one thickness. `None` for
    /// what is not made of struts that are listed one by one.
    pub fn around(&self, middle: DVec3, radius: f64) -> Option<Net> {
        let Shared { frame, source, joins, cell, margin, .. } = &*self.shared;
        let StrutSource::Struts { struts, inner, .. } = source else { return None };
        let (middle, reach) = (frame.local(middle), radius + room(joins.section, *margin));
        let is_near = |s: &[DVec3; 2]| {
            let way = s[1] - s[0];
            let along = (middle - s[0]).dot(way) / way.length_squared();
            let along = if along.is_nan() { 0.0 } else { along.clamp(0.0, 1.0) };
            (s[0] + way * along).distance(middle) <= reach
        };
        let near = |list: &[[DVec3; 2]]| list.iter().copied().filter(is_near).collect::<Vec<_>>();
        let (inside, on_surface) = struts.split_at(*inner);
        let mut few = near(inside);
        let inner = few.len();
        few.extend(near(on_surface));
        let source = StrutSource::Struts { struts: few, inner, ends: Vec::new() };
        Some(Net::new(*frame, source, *joins, *cell))
    }

    /// Distance of a place from what has no thickness yet: of bars from the ribbons in their
    /// middle. mm.
    pub fn clearance(&self, p: DVec3) -> f64 {
        let near = self.shared.near();
        near.clearance(
            near.bins().reduced(self.shared.frame.local(p)),
            self.shared.joins.blend_mm,
            self.shared.margin,
        )
    }

    /// The net with its nodes and struts as they are shown.
    pub fn with_skeleton(mut self, skeleton: Skeleton) -> Net {
        self.skeleton = Some(skeleton);
        self
    }
}

impl BareStructure for Net {
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
        let thickest = thickness + self.shared.source.thicker();
        let takes = if matches!(self.shared.joins.section, StrutSection::Rectangular { .. }) {
            Bar::EDGED
        } else {
            1.0
        };
        self.opening - takes * thickest
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        Box::new(ThickNet { shared: self.shared.clone(), radius: 0.5 * thickness })
    }

    fn gauge(&self) -> Gauge {
        let Shared { source, frame, .. } = &*self.shared;
        if frame.flat || matches!(source, StrutSource::Walls { .. }) {
            Gauge::Across
        } else {
            Gauge::Stations
        }
    }

    fn station(&self, p: DVec3, thickness: f64) -> Option<Station> {
        let Shared { frame, .. } = &*self.shared;
        let near = self.shared.near();
        let q = near.bins().reduced(frame.local(p));
        let back = frame.turn.transpose();
        let section = near.section(q)?;
        let rays = section
            .rays
            .into_iter()
            .map(|(ray, beyond)| (back * ray, 0.5 * thickness * section.wider + beyond));
        Some(Station { foot: p + back * (section.foot - q), rays: rays.collect() })
    }

    fn facts(&self) -> Option<&Facts> {
        self.facts.as_ref()
    }

    fn struts(&self) -> Option<&Skeleton> {
        self.skeleton.as_ref()
    }

    fn bytes(&self) -> usize {
        let source = match &self.shared.source {
            StrutSource::Repeated { struts, .. } => struts.len() * 48,
            StrutSource::Struts { struts, ends, .. } => struts.len() * 48 + ends.len() * 16,
            StrutSource::Walls { seeds, pairs, holes } => {
                seeds.len() * 24 + pairs.len() * 8 + holes.len() * 32
            }
        };
        source
            + self.shared.near.get().map_or(0, Members::bytes)
            + self.cell_points.len() * 24
            + self.skeleton.as_ref().map_or(0, Skeleton::bytes)
    }
}

/// Edges of the bins for single places, in cells: smaller ones take longer to fill, and hold less.
const BIN: f64 = 0.3;

impl Shared {
    fn near(&self) -> &Members {
        found_once(&self.near, || {
            Members::new(&self.source, self.joins, self.margin, BIN * self.cell)
        })
    }

    fn distance(&self, p: DVec3) -> f64 {
        let near = self.near();
        near.distance(near.bins().reduced(self.frame.local(p)), self.joins.blend_mm, self.margin)
    }

    fn normal(&self, members: &Members, p: DVec3, margin: f64) -> DVec3 {
        let q = members.bins().reduced(self.frame.local(p));
        let lanes = q.to_array().map(|v| f32x8::splat(v as f32));
        let (_, g) = members.distance8(
            members.bins().of(q),
            &lanes,
            self.joins.blend_mm as f32,
            margin as f32,
        );
        let g = DVec3::from(g.map(|v| v.to_array()[0] as f64));
        self.frame.turn.transpose() * g.normalize_or(DVec3::Z)
    }
}

/// A net with thickness.
struct ThickNet {
    shared: Arc<Shared>,
    radius: f64,
}

impl Lattice for ThickNet {
    fn value(&self, p: DVec3) -> f64 {
        self.shared.distance(p) - self.radius
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.shared.normal(self.shared.near(), p, self.shared.margin)
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a> {
        Box::new(GriddedNet::new(self, grid, reach))
    }

    fn sharp(&self) -> bool {
        !self.shared.joins.section.is_round()
            && !matches!(self.shared.source, StrutSource::Walls { .. })
    }

    fn allows_overshoot(&self, step: f64) -> bool {
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
        // A point may start a step and a half from the border. Where many members meet, each of
        // those that blend there may lie more than the blend's radius away.
        let margin = net.radius + reach + 2.5 * s.joins.blend_mm + 2.0 * grid.step;
        let edge = (3.0 * grid.step).clamp(0.04 * s.cell, 0.25 * s.cell);
        let walls = matches!(s.source, StrutSource::Walls { .. });
        let closer =
            (!walls && margin < s.margin).then(|| Members::new(&s.source, s.joins, margin, edge));
        GriddedNet {
            net,
            grid,
            reach,
            margin: if closer.is_some() { margin } else { s.margin },
            closer,
        }
    }

    fn members(&self) -> &Members {
        self.closer.as_ref().unwrap_or_else(|| self.net.shared.near())
    }

    fn value8(&self, bin: usize, q: &[f32x8; 3]) -> (f32x8, [f32x8; 3]) {
        let (d, g) = self.members().distance8(
            bin,
            q,
            self.net.shared.joins.blend_mm as f32,
            self.margin as f32,
        );
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
            let inside =
                self.value8(bin, &q).0.simd_lt(f32x8::splat(self.reach as f32)).to_bitmask() as u8;
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

impl GridField for GriddedNet<'_> {
    fn value(&self, p: DVec3) -> f64 {
        let s = &self.net.shared;
        let q = self.members().bins().reduced(s.frame.local(p));
        self.members().distance(q, s.joins.blend_mm, self.margin) - self.net.radius
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.net.shared.normal(self.members(), p, self.margin)
    }

    fn slopes(&self, points: &[DVec3], out: &mut Vec<(f64, DVec3)>) {
        out.clear();
        out.resize(points.len(), (0.0, DVec3::ZERO));
        let back = self.net.shared.frame.turn.transpose();
        for (points, out) in points.chunks(8).zip(out.chunks_mut(8)) {
            let (q, bins) = self.places(|lane| points[lane.min(points.len() - 1)]);
            each_bin(&bins, |bin, lanes| {
                let (v, g) = self.value8(bin, &q);
                let (v, g) = (v.to_array(), g.map(|g| g.to_array()));
                for (lane, out) in out.iter_mut().enumerate().filter(|(n, _)| lanes >> n & 1 == 1) {
                    *out = (v[lane] as f64, back * DVec3::from(g.map(|g| g[lane] as f64)));
                }
            });
        }
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let mut out = wanted.clone();
        let (words, rows) = (wanted.words(), wanted.rows());
        let half = 0.5 * (BLOCK - 1) as f64;
        // What is within the half diagonal of a block's middle has its sign, if that is large
        // enough.
        let sure = half * 3f64.sqrt() * self.grid.step * 1.001;
        out.par_layers_mut(BLOCK, |k0, data| {
            let layers = data.len() / (words * rows);
            for j0 in (0..rows).step_by(BLOCK) {
                let (j1, at) =
                    ((j0 + BLOCK).min(rows), |k: usize, j: usize| (k * rows + j) * words);
                for w in 0..words {
                    for eighth in 0..8 {
                        let mask = 0xffu64 << (8 * eighth);
                        let any =
                            (0..layers).any(|k| (j0..j1).any(|j| data[at(k, j) + w] & mask != 0));
                        if !any {
                            continue;
                        }
                        let i = (64 * w + 8 * eighth) as u32;
                        let low = self.grid.at(i, j0 as u32, k0 as u32);
                        let v =
                            self.net.value(low + DVec3::splat(half * self.grid.step)) - self.reach;
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
                        let (mean, out) =
                            (row.local[a][from + l], (row.outside[from + l] >> a & 1) as f32);
                        mean + (out - mean) * lean[l]
                    })
                })
            };
            let places = |start: &[[f32; 3]; 8]| {
                self.places(|l| corner(from + l) + DVec3::from(start[l].map(|v| v as f64)) * step)
            };
            let mut start_at = start([0.0; 8]);
            let (mut q, mut bins) = places(&start_at);
            // Near the middle of a thin member it may be either side: the outer corner tells.
            let mut lean = [0.0; 8];
            each_bin(&bins, |bin, lanes| {
                let deep =
                    self.value8(bin, &q).0.simd_lt(f32x8::splat(middle)).to_bitmask() as u8 & lanes;
                (0..8).filter(|l| deep >> l & 1 == 1).for_each(|l| lean[l] = 0.5);
            });
            if lean != [0.0; 8] {
                start_at = start(lean);
                (q, bins) = places(&start_at);
            }
            let mut local: [[f32; 8]; 3] =
                std::array::from_fn(|a| std::array::from_fn(|l| start_at[l][a]));
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
                    if v.abs().simd_lt(f32x8::splat(1e-3 * step as f32)).all() {
                        break;
                    }
                }
                // Back into the grid's axes, in steps: the turn's inverse is its transpose.
                let over = 1.0 / (step * step) as f32;
                for a in 0..3 {
                    let along =
                        (moved[0] * turn[0][a] + moved[1] * turn[1][a] + moved[2] * turn[2][a])
                            * over;
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
