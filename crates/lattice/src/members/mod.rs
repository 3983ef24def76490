//! Struts and cell walls as fields: exact distances, found through bins, joins blended.
//!
//! Members that meet flow into each other by a polynomial smooth minimum (Quilez 2013) whose
//! support is the blend radius: where two surfaces lie farther apart it changes nothing, and
//! nowhere does it add more than a quarter of the radius for two members.
//!
//! | module | idea |
//! |---|---|
//! | `segment` | one strut or node |
//! | `walls` | walls between cells, and holes in them |

mod segment;
mod walls;

use super::bars::{self, Bar};
use super::index::SpaceBins;
use glam::{DMat3, DVec3};
pub use segment::{Across, StrutSegment};
use ulmix_mesh::PointGrid;
use ulmix_recipe::{Joins, StrutSection};
pub use walls::WallOpening;
use walls::{past_rim, WallsBeside};
use wide::f32x8;

/// Where a structure lies in the part.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// Part to the structure's axes.
    pub turn: DMat3,
    /// Origin of the structure's own axes. mm.
    pub shift: DVec3,
    /// Is the member the same all along the third axis?
    pub flat: bool,
}

impl Frame {
    /// The part's own axes.
    pub const OF_PART: Frame = Frame { turn: DMat3::IDENTITY, shift: DVec3::ZERO, flat: false };

    /// A place in the structure's own axes, with its height where the structure is flat, too.
    pub fn turned(&self, p: DVec3) -> DVec3 {
        self.turn * (p - self.shift)
    }

    /// A place in the structure's own axes.
    pub fn local(&self, p: DVec3) -> DVec3 {
        let q = self.turned(p);
        if self.flat {
            q.with_z(0.0)
        } else {
            q
        }
    }

    /// A place of the structure's own axes in those of the part.
    pub fn back(&self, q: DVec3) -> DVec3 {
        self.shift + self.turn.transpose() * q
    }
}

/// What a structure is made of, in its own axes. mm.
#[derive(Clone)]
pub enum StrutSource {
    /// Struts of one cell of this size, repeated for ever.
    Repeated {
        /// Ends of the struts of one cell. mm.
        struts: Vec<[DVec3; 2]>,
        /// Sides of the cell; the third is 0 where it does not repeat. mm.
        cell: DVec3,
    },
    /// Struts that are listed one by one.
    Struts {
        /// Ends of the struts. mm.
        struts: Vec<[DVec3; 2]>,
        /// Struts inside the part; those after them are the net on its surface.
        inner: usize,
        /// By how much the radius is larger at both ends of each; empty: nowhere. mm.
        ends: Vec<[f64; 2]>,
    },
    /// Walls halfway between points whose cells touch.
    Walls {
        /// Points that own cells. mm.
        seeds: Vec<DVec3>,
        /// Numbers of the points on both sides of a wall; each pair once.
        pairs: Vec<[u32; 2]>,
        /// The hole in each wall.
        holes: Vec<WallOpening>,
    },
}

impl StrutSource {
    /// By how much a strut's end is thicker than the thinnest, at most. mm.
    pub fn thicker(&self) -> f64 {
        let StrutSource::Struts { ends, .. } = self else { return 0.0 };
        2.0 * ends.iter().flatten().copied().fold(0.0, f64::max)
    }
}

/// Where members are held: a box, and how far from them distances are told apart. `edge` is that of
/// the bins.
struct HeldStruts {
    low: DVec3,
    size: DVec3,
    repeats: bool,
    margin: f64,
    edge: f64,
}

/// How far from its axis a strut of a section may have places nearer to it than `margin`.
pub(super) fn room(section: StrutSection, margin: f64) -> f64 {
    match section {
        StrutSection::Round => margin,
        // Corners lie farther than faces.
        StrutSection::Rectangular { taller_mm, .. } => 3f64.sqrt() * margin + 0.5 * taller_mm,
    }
}

/// What is near, for places up to some distance from it.
pub enum Members {
    /// Round struts.
    Struts {
        /// Struts by place.
        bins: SpaceBins,
        /// Struts in full precision.
        exact: Vec<StrutSegment>,
        /// Of a cone also what it gains and how it leans.
        quick: Vec<([f32; 8], [f32; 2])>,
    },
    /// Struts with flat sides.
    Bars {
        /// Struts by place.
        bins: SpaceBins,
        /// Struts in full precision.
        exact: Vec<Bar>,
        /// Struts in 32 bits, for vector code.
        quick: Vec<bars::Quick>,
    },
    /// Walls between cells.
    Walls {
        /// Points that may be the nearest at a place.
        bins: SpaceBins,
        /// Points in full precision.
        exact: Vec<DVec3>,
        /// Points in 32 bits, for vector code.
        quick: Vec<[f32; 3]>,
        /// Walls by the points beside them.
        beside: WallsBeside,
    },
}

impl Members {
    /// Distances beyond `margin` need not be told apart. `edge` is that of the bins.
    pub fn new(source: &StrutSource, joins: Joins, margin: f64, edge: f64) -> Members {
        let far = room(joins.section, margin);
        match source {
            StrutSource::Repeated { struts, cell } => {
                // Every copy that comes near the cell.
                let deep = if cell.z > 0.0 { 5 } else { 1 };
                let copies = |s: &[DVec3; 2]| {
                    let s = *s;
                    (0..25 * deep).map(move |n| {
                        let at = DVec3::new(
                            (n % 5) as f64,
                            (n / 5 % 5) as f64,
                            (n / 25) as f64 + 2.0 - (deep / 2) as f64,
                        );
                        s.map(|p| p + (at - 2.0) * *cell)
                    })
                };
                let near = |s: &[DVec3; 2]| {
                    let (low, high) = (s[0].min(s[1]) - far, s[0].max(s[1]) + far);
                    high.cmpge(DVec3::ZERO).all() && low.cmple(*cell).all()
                };
                let all = struts.iter().flat_map(copies).filter(near);
                let held =
                    HeldStruts { low: DVec3::ZERO, size: *cell, repeats: true, margin, edge };
                Members::of(segments(all, usize::MAX, &[], joins), joins.section, held)
            }
            StrutSource::Struts { struts, inner, ends } => {
                let (low, high) = span(struts.iter().flatten(), far);
                let held = HeldStruts { low, size: high - low, repeats: false, margin, edge };
                Members::of(
                    segments(struts.iter().copied(), *inner, ends, joins),
                    joins.section,
                    held,
                )
            }
            StrutSource::Walls { seeds, pairs, holes } => {
                let (low, high) = span(seeds.iter(), 0.0);
                let grid = PointGrid::new(seeds);
                let bins = SpaceBins::new(low, high - low, edge, false);
                let about = bins.half_diagonal();
                let bins = bins.gather(|middle| {
                    let middle = middle + low;
                    let nearest = grid.nearest(middle, 1, |_| false).first().map_or(0.0, |n| n.0);
                    grid.within(middle, nearest + 2.0 * about)
                });
                let exact: Vec<DVec3> = seeds.iter().map(|s| *s - low).collect();
                let quick = exact.iter().map(|s| s.as_vec3().to_array()).collect();
                let holes: Vec<WallOpening> =
                    holes.iter().map(|h| WallOpening { middle: h.middle - low, ..*h }).collect();
                Members::Walls {
                    bins,
                    beside: WallsBeside::new(&exact, pairs, &holes),
                    exact,
                    quick,
                }
            }
        }
    }

    /// Struts in a box, which may repeat, with bins of a size.
    fn of(
        struts: Vec<StrutSegment>,
        section: StrutSection,
        HeldStruts { low, size, repeats, margin, edge }: HeldStruts,
    ) -> Members {
        let struts: Vec<StrutSegment> =
            struts.iter().map(|s| StrutSegment { a: s.a - low, b: s.b - low, ..*s }).collect();
        let flat = struts.iter().all(|s| s.a.z == 0.0 && s.b.z == 0.0);
        let bins = SpaceBins::new(low, if flat { size.with_z(0.0) } else { size }, edge, repeats);
        let about = bins.half_diagonal();
        let room = |s: &StrutSegment| room(section, margin + s.most());
        let bins = bins.fill(
            struts.len(),
            |id| {
                let s = &struts[id];
                (s.a.min(s.b) - room(s), s.a.max(s.b) + room(s))
            },
            |id, middle| {
                let s = &struts[id];
                match section {
                    StrutSection::Round => s.distance(middle) <= about + margin,
                    StrutSection::Rectangular { .. } => {
                        s.distance(middle) + s.most() <= about + room(s)
                    }
                }
            },
        );
        match section {
            StrutSection::Round => Members::Struts {
                bins,
                quick: struts.iter().map(StrutSegment::quick).collect(),
                exact: struts,
            },
            StrutSection::Rectangular { taller_mm, turn_deg } => {
                let exact: Vec<Bar> =
                    struts.iter().map(|s| Bar::new(s, taller_mm, turn_deg)).collect();
                Members::Bars { bins, quick: exact.iter().map(Bar::quick).collect(), exact }
            }
        }
    }

    /// Members by place.
    pub fn bins(&self) -> &SpaceBins {
        match self {
            Members::Struts { bins, .. }
            | Members::Bars { bins, .. }
            | Members::Walls { bins, .. } => bins,
        }
    }

    /// The section across the strut that lies nearest to a reduced place; `None` beside nodes,
    /// walls and where nothing is near.
    pub fn section(&self, q: DVec3) -> Option<Across> {
        let list = self.bins().list(self.bins().of(q));
        fn nearest<'a, T>(
            list: &[u32],
            all: &'a [T],
            distance: impl Fn(&T) -> f64,
        ) -> Option<&'a T> {
            let near = list.iter().map(|&id| &all[id as usize]);
            near.min_by(|a, b| distance(a).total_cmp(&distance(b)))
        }
        match self {
            Members::Struts { exact, .. } => nearest(list, exact, |s| s.distance(q))?.section(q),
            Members::Bars { exact, .. } => nearest(list, exact, |b| b.distance(q))?.section(q),
            Members::Walls { .. } => None,
        }
    }

    /// Memory that the members take.
    pub fn bytes(&self) -> usize {
        self.bins().bytes()
            + match self {
                Members::Struts { exact, .. } => exact.len() * (64 + 40),
                Members::Bars { exact, .. } => exact.len() * (136 + 64),
                Members::Walls { exact, beside, .. } => {
                    exact.len() * (24 + 12) + beside.exact.len() * (64 + 32)
                }
            }
    }

    /// Blended distance at a reduced place.
    pub fn distance(&self, q: DVec3, blend: f64, far: f64) -> f64 {
        let join = |f: f64, v: f64| {
            let h = (blend - (f - v).abs()).max(0.0);
            f.min(v) - if blend > 0.0 { 0.25 * h * h / blend } else { 0.0 }
        };
        let list = self.bins().list(self.bins().of(q));
        match self {
            Members::Struts { exact, .. } => {
                list.iter().map(|&id| exact[id as usize].distance(q)).fold(far, join)
            }
            Members::Bars { exact, .. } => {
                list.iter().map(|&id| exact[id as usize].distance(q)).fold(far, join)
            }
            Members::Walls { exact, beside, .. } => {
                let d = |i: u32| exact[i as usize].distance_squared(q);
                let Some(&own) = list.iter().min_by(|a, b| d(**a).total_cmp(&d(**b))) else {
                    return far;
                };
                beside.exact[beside.of(own)].iter().map(|w| w.distance(q)).fold(far, join)
            }
        }
    }

    /// Distance of a reduced place from the nearest member. Of bars, whose
    /// [`distance`](Self::distance) keeps their edges, from the ribbons in their middle.
    pub fn clearance(&self, q: DVec3, blend: f64, far: f64) -> f64 {
        match self {
            Members::Bars { bins, exact, .. } => bins
                .list(bins.of(q))
                .iter()
                .map(|&id| exact[id as usize].clearance(q))
                .fold(far, f64::min),
            _ => self.distance(q, blend, far),
        }
    }

    /// [`distance`](Self::distance) for eight places at once, whose bin is given, and its gradient.
    pub fn distance8(
        &self,
        bin: usize,
        q: &[f32x8; 3],
        blend: f32,
        far: f32,
    ) -> (f32x8, [f32x8; 3]) {
        let list = self.bins().list(bin);
        let (zero, one) = (f32x8::ZERO, f32x8::splat(1.0));
        let (f, g) = (f32x8::splat(far), [zero; 3]);
        let mut joined = Joined { f, g, blend, over: if blend > 0.0 { 0.5 / blend } else { 0.0 } };
        match self {
            Members::Struts { quick, .. } => {
                for &id in list {
                    let ([ax, ay, az, bx, by, bz, inverse, extra], [more, lean]) =
                        quick[id as usize];
                    let p = [q[0] - ax, q[1] - ay, q[2] - az];
                    let from = |t: f32x8| [p[0] - t * bx, p[1] - t * by, p[2] - t * bz];
                    let length = |d: &[f32x8; 3]| (d[0] * d[0] + d[1] * d[1] + d[2] * d[2]).sqrt();
                    let mut t = (p[0] * bx + p[1] * by + p[2] * bz) * inverse;
                    if more != 0.0 {
                        t += length(&from(t)) * lean;
                    }
                    let t = t.max(zero).min(one);
                    let d = from(t);
                    let away = length(&d);
                    let unit = one / away.max(f32x8::splat(1e-12));
                    joined.add(away - extra - t * more, d.map(|d| d * unit));
                }
                (joined.f, joined.g)
            }
            Members::Bars { quick, .. } => {
                for &id in list {
                    let (d, g) = bars::distance8(&quick[id as usize], q);
                    joined.add(d, g);
                }
                (joined.f, joined.g)
            }
            Members::Walls { quick, beside, .. } => {
                let mut own = (f32x8::splat(f32::MAX), f32x8::splat(-1.0));
                for &id in list {
                    let s = quick[id as usize];
                    let d = [q[0] - s[0], q[1] - s[1], q[2] - s[2]];
                    let d = d[0] * d[0] + d[1] * d[1] + d[2] * d[2];
                    let nearer = d.simd_lt(own.0);
                    // Numbers of points are small enough for 32-bit floats to hold.
                    own = (own.0.min(d), nearer.select(f32x8::splat(id as f32), own.1));
                }
                let ids = own.1.to_array();
                let (mut all_f, mut all_g) = (f, g);
                let mut left: u8 = 0xff;
                while left != 0 {
                    let id = ids[left.trailing_zeros() as usize];
                    let lanes = own.1.simd_eq(f32x8::splat(id));
                    left &= !(lanes.to_bitmask() as u8);
                    if id < 0.0 {
                        continue;
                    }
                    let mut one = Joined { f, g, ..joined };
                    for &[x, y, z, c, u, v, t, radius] in &beside.quick[beside.of(id as u32)] {
                        let (d, n) =
                            (q[0] * x + q[1] * y + q[2] * z + c, [x, y, z].map(f32x8::splat));
                        if radius > 0.0 {
                            let (d, n) = past_rim(d, n, [q[0] - u, q[1] - v, q[2] - t], radius);
                            one.add(d, n);
                        } else {
                            one.add(d, n);
                        }
                    }
                    all_f = lanes.select(one.f, all_f);
                    all_g = [0, 1, 2].map(|a| lanes.select(one.g[a], all_g[a]));
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
            let nearer = v.simd_lt(self.f);
            self.f = self.f.min(v);
            self.g = [0, 1, 2].map(|a| nearer.select(n[a], self.g[a]));
        }
    }
}

fn segments(
    struts: impl Iterator<Item = [DVec3; 2]>,
    inner: usize,
    ends: &[[f64; 2]],
    joins: Joins,
) -> Vec<StrutSegment> {
    let segment = |(n, [a, b]): (usize, [DVec3; 2])| {
        let [first, second] = ends.get(n).copied().unwrap_or_default();
        let of_net = if n < inner { 0.0 } else { 0.5 * joins.net_mm };
        StrutSegment { a, b, extra: of_net + first, more: second - first }
    };
    let mut out: Vec<StrutSegment> = struts.enumerate().map(segment).collect();
    if joins.node_mm > 0.0 {
        // Of the ends at a place the one of the thickest strut comes first.
        let mut nodes: Vec<(DVec3, f64)> =
            out.iter().flat_map(|s| [(s.a, s.extra), (s.b, s.extra + s.more)]).collect();
        nodes.sort_by(|(p, e), (q, f)| {
            p.x.total_cmp(&q.x)
                .then(p.y.total_cmp(&q.y))
                .then(p.z.total_cmp(&q.z))
                .then(f.total_cmp(e))
        });
        nodes.dedup_by(|p, q| p.0.distance_squared(q.0) < 1e-12);
        out.extend(nodes.into_iter().map(|(p, extra)| StrutSegment {
            a: p,
            b: p,
            extra: extra + 0.5 * joins.node_mm,
            more: 0.0,
        }));
    }
    out
}

fn span<'a>(points: impl Iterator<Item = &'a DVec3>, margin: f64) -> (DVec3, DVec3) {
    let (low, high) =
        points.fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(l, h), p| (l.min(*p), h.max(*p)));
    if low.x > high.x {
        return (DVec3::ZERO, DVec3::ZERO);
    }
    (low - margin, high + margin)
}

#[cfg(test)]
mod tests;
