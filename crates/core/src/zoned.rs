//! A part's zones, resolved: which region each has, and what that makes of every sample.

use crate::grid::{Bits, Grid};
use crate::part::Part;
use crate::recipe::{Place, Role, Zones};
use crate::sample::{sample_body, sample_near, sample_part};
use crate::solids::{Reach, Solid};
use glam::DVec3;
use rayon::prelude::*;
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
        let mut zones_found: Vec<(Role, Solid)> = list
            .map(|z| {
                let region = match &z.place {
                    Place::Faces { faces, depth_mm } => near(&z.name, faces, *depth_mm),
                    place => Solid::of(place).expect("only faces ask the part"),
                };
                (z.role, region)
            })
            .collect();
        // Bodies with a role of their own come after the zones: those that go before those that stay.
        for role in [Role::KeepClear, Role::KeepSolid, Role::Fill] {
            let own = part.bodies.iter().filter(|b| b.facts.role == Some(role));
            zones_found.extend(own.map(|b| (role, Solid::Body((*b).clone(), Reach::Own))));
        }
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

    /// As the lattice sees them where it is a body of its own that reaches into what is solid by an overlap:
    /// solids and skins are smaller by that, and fills are larger. What is kept clear stays clear.
    pub fn reaching(&self, part: &Part, overlap: f64) -> Regions {
        if overlap <= 0.0 {
            return self.clone();
        }
        let after_clear = self.zones.iter().rposition(|z| z.0 == Role::KeepClear).map_or(0, |n| n + 1);
        let (mut zones, mut larger) = (Vec::new(), Vec::new());
        for (n, (role, region)) in self.zones.iter().enumerate() {
            match role {
                Role::KeepSolid => {
                    let smaller = region.shrunk(overlap, &|p| part.distance.inside(p));
                    zones.extend(smaller.map(|r| (*role, r)));
                }
                _ => zones.push((*role, region.clone())),
            }
            if *role == Role::Fill {
                larger.push((*role, region.grown(overlap)));
            }
            if n + 1 >= after_clear {
                zones.append(&mut larger);
            }
        }
        let skins = self.skins.iter().filter_map(|s| s.shrunk(overlap, &|_| true)).collect();
        Regions { rest: self.rest, zones, skins, lost: self.lost.clone() }
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
}

impl Zoned {
    /// `None` when cancelled.
    pub fn sample(part: &Part, regions: &Regions, grid: Grid, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Zoned> {
        let inside = sample_part(part, &grid, cancelled)?;
        let mut near = Vec::new();
        for region in regions.all() {
            near.push(match region {
                Solid::Near { surface, depth } => Some(sample_near(surface, *depth, &grid, cancelled)?),
                Solid::Body(body, reach) => {
                    let mut bits = sample_body(body, &grid, cancelled)?;
                    match reach {
                        Reach::Own => {}
                        Reach::Beyond(by) => {
                            let shell = sample_near(&body.distance.shared_bvh(), *by, &grid, cancelled)?;
                            bits.par_words_mut(|w, j, k, word| *word |= shell.row(j, k)[w]);
                        }
                        Reach::Short(rim, by) => {
                            let shell = sample_near(rim, *by, &grid, cancelled)?;
                            bits.par_words_mut(|w, j, k, word| *word &= !shell.row(j, k)[w]);
                        }
                    }
                    Some(bits)
                }
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
        (!cancelled()).then_some(Zoned { grid, inside, fill, solid, near })
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

/// How a part is shared out, as shares of its volume.
#[derive(Clone, Debug, PartialEq)]
pub struct Shares {
    pub fill: f64,
    /// Kept solids and skins.
    pub solid: f64,
    /// What each of [`Regions::zones`] takes.
    pub zones: Vec<f64>,
}

impl Regions {
    /// From points spread evenly over the part. Counting samples of a grid would be off by a layer
    /// where a region's border runs along it.
    pub fn shares(&self, points: &[DVec3]) -> Shares {
        let zones = self.zones.len();
        let counts = points
            .par_chunks(1024)
            .map(|chunk| {
                let mut n = vec![0u64; zones + 2];
                for p in chunk {
                    let zone = self.zones.iter().position(|(_, r)| r.within(*p, 0.0));
                    if let Some(z) = zone {
                        n[z] += 1;
                    }
                    match zone.map_or(self.rest, |z| self.zones[z].0) {
                        Role::KeepClear => {}
                        Role::KeepSolid => n[zones] += 1,
                        _ if self.skins.iter().any(|s| s.within(*p, 0.0)) => n[zones] += 1,
                        _ => n[zones + 1] += 1,
                    }
                }
                n
            })
            .reduce(|| vec![0; zones + 2], |a, b| a.iter().zip(&b).map(|(x, y)| x + y).collect());
        let share = |n: u64| n as f64 / points.len().max(1) as f64;
        let zone_shares = counts[..zones].iter().map(|n| share(*n)).collect();
        Shares { fill: share(counts[zones + 1]), solid: share(counts[zones]), zones: zone_shares }
    }
}
