//! A part's zones, resolved: which region each has, and what that makes of every sample.

use crate::grid::{Bits, Grid};
use crate::part::Part;
use crate::recipe::{Place, Role, Zones};
use crate::sample::{sample_near, sample_part};
use crate::solids::Solid;
use std::sync::Arc;
use ulmix_mesh::Bvh;

/// Regions of a part's zones and skins, in the order in which they hold.
#[derive(Clone)]
pub struct Regions {
    pub rest: Role,
    pub zones: Vec<(Role, Solid)>,
    pub skins: Vec<Solid>,
    /// Faces that zones and skins name and the part does not have: name, and how many.
    pub lost: Vec<(String, usize)>,
}

impl Regions {
    pub fn of(part: &Part, zones: &Zones) -> Regions {
        let mut lost = Vec::new();
        let mut near = |name: &str, faces: &[_], depth: f64| {
            let (surface, missing) = part.surface_of(faces);
            if missing > 0 {
                lost.push((name.to_owned(), missing));
            }
            Solid::Near { surface: Arc::new(Bvh::new(&surface)), depth }
        };
        // References change nothing; a zone in the same role as all after it still hides those.
        let list = zones.list.iter().filter(|z| z.role != Role::Reference);
        let zones_found = list
            .map(|z| {
                let region = match &z.place {
                    Place::Faces { faces, depth_mm } => near(&z.name, faces, *depth_mm),
                    place => Solid::of(place).expect("only faces ask the part"),
                };
                (z.role, region)
            })
            .collect();
        let skins = zones
            .skins
            .iter()
            .filter(|s| s.depth_mm > 0.0)
            .map(|s| match &s.faces {
                Some(faces) => near(&s.name, faces, s.depth_mm),
                None => Solid::Near { surface: part.distance.shared_bvh(), depth: s.depth_mm },
            })
            .collect();
        Regions { rest: zones.rest, zones: zones_found, skins, lost }
    }

    /// Zones, then skins.
    pub fn all(&self) -> impl Iterator<Item = &Solid> {
        self.zones.iter().map(|z| &z.1).chain(&self.skins)
    }
}

/// What the samples of a grid are.
pub struct Zoned {
    pub grid: Grid,
    pub inside: Bits,
    /// The lattice alone decides.
    pub fill: Bits,
    /// Material in any case.
    pub solid: Bits,
    /// Samples of those regions of [`Regions::all`] that are not asked by their value.
    near: Vec<Option<Bits>>,
    /// Samples of the part that each zone of the list took.
    pub taken: Vec<u64>,
}

impl Zoned {
    /// `None` when cancelled.
    pub fn sample(part: &Part, regions: &Regions, grid: Grid, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Zoned> {
        let inside = sample_part(part, &grid, cancelled)?;
        let mut near = Vec::new();
        for region in regions.all() {
            near.push(match region {
                Solid::Near { surface, depth } => Some(sample_near(surface, *depth, &grid, cancelled)?),
                _ => None,
            });
        }
        let word = |n: usize, region: &Solid, w: usize, j: usize, k: usize| match &near[n] {
            Some(bits) => bits.row(j, k)[w],
            None => region.word(&grid, w, j, k),
        };
        let zones = regions.zones.len();
        // First come, first served: what is still free goes to the next zone.
        let sort = |w: usize, j: usize, k: usize| {
            let (mut free, mut fill, mut solid) = (inside.row(j, k)[w], 0, 0);
            if free == 0 {
                return (0, 0);
            }
            for (n, (role, region)) in regions.zones.iter().enumerate() {
                let mine = free & word(n, region, w, j, k);
                free &= !mine;
                match role {
                    Role::Fill => fill |= mine,
                    Role::KeepSolid => solid |= mine,
                    Role::KeepClear | Role::Reference => {}
                }
            }
            *(if regions.rest == Role::KeepSolid { &mut solid } else { &mut fill }) |= free;
            let skin = regions.skins.iter().enumerate().fold(0, |m, (n, s)| m | word(zones + n, s, w, j, k));
            (fill & !skin, solid | fill & skin)
        };
        let (mut fill, mut solid) = (Bits::new(&grid), Bits::new(&grid));
        fill.par_words_mut(|w, j, k, out| *out = sort(w, j, k).0);
        solid.par_words_mut(|w, j, k, out| *out = sort(w, j, k).1);
        let taken = taken(&grid, &inside, regions, &word);
        (!cancelled()).then_some(Zoned { grid, inside, fill, solid, near, taken })
    }

    /// Does the sample lie in the region, number `n` of [`Regions::all`]?
    pub fn holds(&self, n: usize, region: &Solid, at: glam::UVec3) -> bool {
        match &self.near[n] {
            Some(bits) => bits.get(at.x, at.y, at.z),
            None => region.value(self.grid.at(at.x, at.y, at.z)) < 0.0,
        }
    }

    pub fn bytes(&self) -> usize {
        self.fill.bytes() * (3 + self.near.iter().flatten().count())
    }
}

fn taken(grid: &Grid, inside: &Bits, regions: &Regions, word: &(dyn Fn(usize, &Solid, usize, usize, usize) -> u64 + Sync)) -> Vec<u64> {
    use rayon::prelude::*;
    let zones = regions.zones.len();
    let layers = (0..grid.size.z as usize).into_par_iter().map(|k| {
        let mut out = vec![0u64; zones];
        for j in 0..grid.size.y as usize {
            for (w, &held) in inside.row(j, k).iter().enumerate() {
                let mut free = held;
                for (n, (_, region)) in regions.zones.iter().enumerate() {
                    if free == 0 {
                        break;
                    }
                    let mine = free & word(n, region, w, j, k);
                    out[n] += mine.count_ones() as u64;
                    free &= !mine;
                }
            }
        }
        out
    });
    layers.reduce(|| vec![0; zones], |a, b| a.iter().zip(&b).map(|(x, y)| x + y).collect())
}
