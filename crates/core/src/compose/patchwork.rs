//! Several structures in one part: each in its own zone, with a sharp border where material ends or
//! a blended one where one structure passes into the other.
//!
//! At a sharp border each structure is cut off by the zone's exact border; where both have material
//! they are one. In a band along a blended border both have material: each grows thinner toward the
//! band's far side, so that together they are as dense as either, and flow into each other where
//! they meet. (Mixing their distances instead leaves half the material in the middle of the band,
//! and pieces that hang on nothing.) Where both are the same structure its thickness passes over.
//! Ties, which run along sharp borders, are joined to what is there.

use glam::{DVec3, UVec3, Vec3};
use serde::Serialize;
use ulmix_field::grid::{Bits, Grid, HELD};
use ulmix_field::polygonise::RowPoints;
use ulmix_lattice::{GridField, Lattice};
use ulmix_part::zoned::{Region, Zoned};

/// The fillings of a part as one field.
pub struct Patchwork<'a> {
    zoned: &'a Zoned,
    /// Filled zones in the order in which they hold.
    regions: Vec<&'a Region>,
    fillings: Vec<Laid<'a>>,
    ties: Vec<Tied<'a>>,
}

/// A filling on the grid.
pub struct Laid<'a> {
    /// The field of the filling on the grid.
    pub grid_field: Box<dyn GridField + 'a>,
    /// How far its signs are widened. mm.
    pub reach: f64,
    /// The body that the filling belongs to.
    pub body: Blending,
}

/// What blending a filling with another needs to know of it.
#[derive(Clone, Copy, Debug, Default, Serialize)]
pub struct Blending {
    /// Of its walls or struts. mm.
    pub thickness: f64,
    /// Made of walls, not of struts.
    pub walls: bool,
    /// Radius within which it flows into what it meets. mm.
    pub blend: f64,
    /// Number of the first filling that is the same but for its thickness.
    pub alike: usize,
}

impl Blending {
    /// How much of its radius is gone where it is to hold only a share of the material: walls hold
    /// as much as they are thick, struts as much as the square of that. Never so much that a grid
    /// could not hold what is left. mm.
    fn thinned(&self, share: f64, step: f64) -> f64 {
        let radius = 0.5 * self.thickness;
        let left = if self.walls { share } else { share.sqrt() };
        radius - radius.min((radius * left.max(THINNEST)).max(HELD * step))
    }

    /// The place in a band where the filling ends, from 0 at the band's middle to 1 at its far
    /// side. Struts are next to nothing there; walls are thicker, and end where a quarter of the
    /// material would be theirs.
    fn far(&self) -> f64 {
        if self.walls {
            0.347
        } else {
            1.0
        }
    }
}

/// No thinner than this share of the thickness in bands: thinner ones would not print.
const THINNEST: f64 = 0.5;

/// Ties with thickness.
#[derive(Clone, Copy)]
pub struct Tie<'a> {
    /// The struts of the tie.
    pub lattice: &'a dyn Lattice,
    /// Radius within which they flow into what they tie. mm.
    pub blend: f64,
}

struct Tied<'a> {
    grid_field: Box<dyn GridField + 'a>,
    /// Signs widened by all that they may change.
    near: Box<dyn GridField + 'a>,
    blend: f64,
}

impl Tied<'_> {
    /// What a field becomes by them at a place, and their share in its gradient there.
    fn join(&self, value: f64, p: DVec3) -> (f64, f64) {
        joined(value, self.grid_field.value(p), self.blend)
    }
}

/// Two distances as one, and the share of the second in its gradient (polynomial smooth minimum,
/// Quilez 2013).
fn joined(a: f64, b: f64, blend: f64) -> (f64, f64) {
    let h = (blend - (a - b).abs()).max(0.0);
    let (deeper, share) =
        if blend > 0.0 { (0.25 * h * h / blend, 0.5 * h / blend) } else { (0.0, 0.0) };
    (a.min(b) - deeper, if b < a { 1.0 - share } else { share })
}

/// Within this many grid steps of a tie every place is looked at by itself; beyond a band, its ends
/// are.
const ABOUT: f64 = 2.0;

/// What the field is at a place.
struct BandMet {
    value: f64,
    /// The filling that holds at the place.
    filling: usize,
    from: From,
}

/// What a value is the distance to.
#[derive(Clone, Copy)]
enum From {
    Filling(usize),
    /// A zone's border, outward of the zone (1) or inward (−1).
    Border(usize, f64),
    Mixed,
}

impl<'a> Patchwork<'a> {
    /// Lays fillings side by side, each in its regions.
    pub fn new(
        zoned: &'a Zoned,
        regions: Vec<&'a Region>,
        fillings: Vec<Laid<'a>>,
        ties: &[Tie<'a>],
    ) -> Patchwork<'a> {
        let reach = fillings.iter().map(|f| f.reach).fold(0.0, f64::max);
        let tied = |t: &Tie<'a>| {
            let on_grid = |reach: f64| t.lattice.on_grid(&zoned.grid, reach);
            Tied {
                grid_field: on_grid(reach + t.blend),
                near: on_grid(reach + t.blend + ABOUT * zoned.grid.step),
                blend: t.blend,
            }
        };
        Patchwork { zoned, regions, fillings, ties: ties.iter().map(tied).collect() }
    }

    /// Samples of `wanted` around which ties may change something.
    fn beside_ties(&self, wanted: &Bits) -> Bits {
        let mut out = Bits::new(self.grid());
        for tied in &self.ties {
            let near = tied.near.signs(wanted);
            out.par_words_mut(|w, j, k, word| *word |= near.row(j, k)[w]);
        }
        out
    }

    /// The field.
    fn met(&self, p: DVec3) -> BandMet {
        let met = self.patch(0, p);
        let value = self.ties.iter().fold(met.value, |value, tied| tied.join(value, p).0);
        BandMet { value, ..met }
    }

    fn grid(&self) -> &Grid {
        &self.zoned.grid
    }

    fn of_filling(&self, filling: usize, p: DVec3) -> BandMet {
        BandMet {
            value: self.fillings[filling].grid_field.value(p),
            filling,
            from: From::Filling(filling),
        }
    }

    /// The field of the zones from number `n` on, without ties.
    fn patch(&self, n: usize, p: DVec3) -> BandMet {
        let Some(region) = self.regions.get(n) else { return self.of_filling(0, p) };
        let s = region.solid.value(p);
        let half = 0.5 * region.blend;
        if half > 0.0 {
            // Past the band the ends of what was cut off at its side are still near.
            let past = half + ABOUT * self.grid().step;
            if s >= past {
                return self.patch(n + 1, p);
            }
            let own = self.of_filling(region.filling, p);
            if s <= -past {
                return own;
            }
            let around = self.patch(n + 1, p);
            let t = (0.5 - 0.5 * s / half).clamp(0.0, 1.0);
            let share = t * t * (3.0 - 2.0 * t);
            let [of_own, of_around] = [own.filling, around.filling].map(|f| self.fillings[f].body);
            let value = if of_own.alike == of_around.alike {
                around.value + (own.value - around.value) * share
            } else {
                let step = self.grid().step;
                // No edge is sharper than the grid shows: places are found by following the field.
                let cut = |value: f64, side: f64| -joined(-value, -side, step).0;
                let a = cut(own.value + of_own.thinned(share, step), s - half * of_own.far());
                let b = cut(
                    around.value + of_around.thinned(1.0 - share, step),
                    -half * of_around.far() - s,
                );
                joined(a, b, of_own.blend.min(of_around.blend).max(step)).0
            };
            let filling = if s < 0.0 { own.filling } else { around.filling };
            return BandMet { value, filling, from: From::Mixed };
        }
        // A zone that the part's own filling fills has no border with it.
        let make_unique = region.filling != 0;
        let own = (s < 0.0 || !make_unique).then(|| self.of_filling(region.filling, p));
        if let Some(own) = own.filter(|own| make_unique && -s >= own.value) {
            return within(own, s, n, 1.0);
        }
        let around = self.patch(n + 1, p);
        if around.filling == region.filling {
            return around;
        }
        if s >= around.value {
            return within(around, -s, n, -1.0);
        }
        let filling = if s < 0.0 { region.filling } else { around.filling };
        let (own, around) =
            (within(self.of_filling(region.filling, p), s, n, 1.0), within(around, -s, n, -1.0));
        let nearer = if own.value <= around.value { own } else { around };
        BandMet { filling, ..nearer }
    }

    /// By differences, where fields are mixed.
    fn gradient(&self, p: DVec3) -> DVec3 {
        let h = 0.02 * self.grid().step;
        let along = |d: DVec3| self.met(p + d * h).value - self.met(p - d * h).value;
        DVec3::new(along(DVec3::X), along(DVec3::Y), along(DVec3::Z)) / (2.0 * h)
    }

    fn is_blended(&self) -> bool {
        self.regions.iter().any(|r| r.blend > 0.0)
    }

    /// Samples of `of` in bands along blended borders, or within a distance of one, and others
    /// beside them.
    fn in_bands(&self, of: &Bits, about: f64) -> Bits {
        const GROUP: u32 = 8;
        let (grid, mut out) = (self.grid(), Bits::new(self.grid()));
        if !self.is_blended() {
            return out;
        }
        let half = 0.5 * (GROUP - 1) as f64 * grid.step;
        out.par_words_mut(|w, j, k, word| {
            let asked = of.row(j, k)[w];
            for from in (0..64).step_by(GROUP as usize) {
                let group = asked & 0xff << from;
                let middle = || grid.at(64 * w as u32 + from, j as u32, k as u32) + DVec3::X * half;
                if group != 0 && self.is_mixed(middle(), half + about) {
                    *word |= group;
                }
            }
        });
        out
    }

    /// Are fields mixed within a distance?
    fn is_mixed(&self, p: DVec3, about: f64) -> bool {
        let blended = self.regions.iter().filter(|r| r.blend > 0.0);
        blended.into_iter().any(|r| {
            let reach = 0.5 * r.blend + about;
            r.solid.within(p, reach) && !r.solid.within(p, -reach)
        })
    }

    /// Moves a point onto the border of the mixed field. Steps from the cell's corner.
    fn settled(&self, corner: DVec3, local: Vec3, outside: u8) -> Vec3 {
        let step = self.grid().step;
        let out = Vec3::new((outside & 1) as f32, (outside >> 1 & 1) as f32, (outside >> 2) as f32);
        let at = |local: Vec3| corner + local.as_dvec3() * step;
        // Near the middle of a thin member it may be either side: the outer corner tells.
        let deep = self.met(at(local)).value < -0.25 * step;
        let mut p = at(if deep { local.lerp(out, 0.5) } else { local });
        for _ in 0..4 {
            let (v, g) = (self.met(p).value, self.gradient(p));
            p -= g * (v / g.length_squared().max(0.05));
            if v.abs() < 1e-3 * step {
                break;
            }
        }
        ((p - corner) / step).as_vec3()
    }
}

/// Cut off where `side`, a distance to the border of zone `n`, is positive; that border's outward
/// normal is the zone's own times `sense`.
fn within(met: BandMet, side: f64, n: usize, sense: f64) -> BandMet {
    if met.value >= side {
        met
    } else {
        BandMet { value: side, from: From::Border(n, sense), ..met }
    }
}

impl GridField for Patchwork<'_> {
    fn value(&self, p: DVec3) -> f64 {
        self.met(p).value
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        let patch = self.patch(0, p);
        let normal = match patch.from {
            From::Filling(n) => self.fillings[n].grid_field.normal(p),
            From::Border(n, sense) => self.regions[n].solid.normal(p) * sense,
            From::Mixed => self.gradient(p).normalize_or(DVec3::Z),
        };
        let tied = self.ties.iter().fold((patch.value, normal), |(value, normal), tied| {
            let (value, share) = tied.join(value, p);
            (
                value,
                if share > 0.0 { normal.lerp(tied.grid_field.normal(p), share) } else { normal },
            )
        });
        tied.1.normalize_or(DVec3::Z)
    }

    fn smooth(&self, of: &Bits) -> Option<Bits> {
        (!self.ties.is_empty()).then(|| {
            let (near, mut out) = (self.beside_ties(of), of.clone());
            out.par_words_mut(|w, j, k, word| *word &= !near.row(j, k)[w]);
            out
        })
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let mut out = Bits::new(self.grid());
        for (n, Laid { grid_field, .. }) in self.fillings.iter().enumerate() {
            let mut mine = wanted.clone();
            mine.par_words_mut(|w, j, k, word| *word &= self.zoned.filled_by(n, w, j, k));
            let signs = grid_field.signs(&mine);
            out.par_words_mut(|w, j, k, word| *word |= signs.row(j, k)[w]);
        }
        if !self.ties.is_empty() {
            let near = self.beside_ties(wanted);
            out.par_words_mut(|w, j, k, word| {
                let mut left = near.row(j, k)[w];
                while left != 0 {
                    let bit = left.trailing_zeros();
                    left &= left - 1;
                    let met = self.met(self.grid().at(64 * w as u32 + bit, j as u32, k as u32));
                    let inside = met.value < self.fillings[met.filling].reach;
                    *word = *word & !(1 << bit) | (inside as u64) << bit;
                }
            });
        }
        if !self.is_blended() {
            return out;
        }
        let bands = self.in_bands(wanted, ABOUT * self.grid().step);
        out.par_words_mut(|w, j, k, word| {
            let mut left = bands.row(j, k)[w];
            while left != 0 {
                let bit = left.trailing_zeros();
                left &= left - 1;
                let met = self.met(self.grid().at(64 * w as u32 + bit, j as u32, k as u32));
                if let From::Mixed = met.from {
                    let inside = met.value < self.fillings[met.filling].reach;
                    *word = *word & !(1 << bit) | (inside as u64) << bit;
                }
            }
        });
        out
    }

    fn project(&self, row: &mut RowPoints) {
        let grid = self.grid();
        let (j, k) = (row.j, row.k);
        let mixed = usize::MAX;
        let of: Vec<usize> = row.i[..row.count]
            .iter()
            .map(|&i| {
                let at = grid.at(i, j, k);
                if self.is_mixed(at, 2.0 * grid.step) {
                    mixed
                } else {
                    self.zoned.filling_at(UVec3::new(i, j, k))
                }
            })
            .collect();
        let mut kinds: Vec<usize> = of.clone();
        kinds.sort_unstable();
        kinds.dedup();
        for kind in kinds {
            if kind == mixed {
                for n in (0..row.count).filter(|n| of[*n] == mixed) {
                    let settled =
                        self.settled(grid.at(row.i[n], j, k), row.local(n), row.outside[n]);
                    row.put(n, settled);
                }
                continue;
            }
            let mine: Vec<usize> = (0..row.count).filter(|n| of[*n] == kind).collect();
            let mut some = row.some(&mine);
            self.fillings[kind].grid_field.project(&mut some);
            mine.iter().enumerate().for_each(|(n, &to)| row.put(to, some.local(n)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_join_adds_little_where_two_meet_and_nothing_elsewhere(a in -5.0..5.0f64, b in -5.0..5.0f64, blend in 0.0..3.0f64) {
            let (value, share) = joined(a, b, blend);
            prop_assert!(value <= a.min(b) && value >= a.min(b) - 0.25 * blend - 1e-12);
            prop_assert!((0.0..=1.0).contains(&share));
            prop_assert_eq!(value, joined(b, a, blend).0);
            if (a - b).abs() >= blend {
                prop_assert_eq!((value, share), (a.min(b), if b < a { 1.0 } else { 0.0 }));
            }
            // The shares are those of the gradient.
            let h = 1e-6;
            let slope = (joined(a, b + h, blend).0 - joined(a, b - h, blend).0) / (2.0 * h);
            prop_assert!((a - b).abs() < 1e-4 || (slope - share).abs() < 1e-4, "{} {}", slope, share);
        }

        #[test]
        fn in_bands_bodies_hold_their_share_until_they_would_not_print(
            thickness in 0.3..4.0f64, share in 0.0..1.0f64, walls in proptest::bool::ANY, step in 0.01..0.3f64
        ) {
            let body = Blending { thickness, walls, ..Blending::default() };
            let left = |share: f64| 0.5 * thickness - body.thinned(share, step);
            // All of it where all is its own, less for less, and never less than prints or than the
            // grid holds.
            prop_assert!((left(1.0) - 0.5 * thickness).abs() < 1e-12);
            prop_assert!(left(share) <= 0.5 * thickness + 1e-12 && left(share) >= (0.25 * thickness).min(left(1.0)) - 1e-12);
            prop_assert!(left(share) >= (HELD * step).min(0.5 * thickness) - 1e-12);
            prop_assert!(left(0.5 * share) <= left(share) + 1e-12);
            let material = if walls { left(share) / left(1.0) } else { (left(share) / left(1.0)).powi(2) };
            let prints = if walls { share > THINNEST } else { share.sqrt() > THINNEST };
            if prints && left(share) > HELD * step + 1e-9 {
                prop_assert!((material - share).abs() < 1e-9, "{} of {}", material, share);
            }
        }
    }
}
