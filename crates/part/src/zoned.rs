//! A part's zones, resolved: which region each has, and what that makes of every sample.

use crate::part::Part;
use crate::sample::{sample_body, sample_near, sample_part};
use crate::solids::{Reach, Solid};
use glam::DVec3;
use std::f64::consts::TAU;
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::numeric::low_discrepancy;
use ulmix_field::numeric::trig::sin_cos;
use ulmix_mesh::parallel;
use ulmix_recipe::{FacesOf, Role, ZonePlaces};

/// A zone as a region of the part.
#[derive(Clone)]
pub struct Region {
    /// What becomes of the part there.
    pub role: Role,
    /// Where it is.
    pub solid: Solid,
    /// The filling of the zone, in the order of [`ulmix_recipe::Recipe::fillings`].
    pub filling: usize,
    /// Width across its border over which that filling passes into what is around; 0 for a sharp
    /// one. mm.
    pub blend: f64,
}

/// Regions of a part's zones and skins, in the order in which they hold.
#[derive(Clone)]
pub struct Regions {
    /// What becomes of the part outside all zones.
    pub rest: Role,
    /// Regions of zones; the first that holds a place decides.
    pub zones: Vec<Region>,
    /// Skins.
    pub skins: Vec<Solid>,
    /// How far each filling stands past the part's surface, in their order; empty where none does.
    /// mm.
    pub proud: Vec<f64>,
    /// Faces that zones and skins name and the part does not have, and how many.
    pub lost: Vec<(FacesOf, usize)>,
}

impl Regions {
    /// The regions of a recipe's zones in a part.
    pub fn of<'a>(part: &Part, places: impl Into<ZonePlaces<'a>>) -> Regions {
        let ZonePlaces { rest, zones, skins } = places.into();
        let mut lost = Vec::new();
        let mut found = |of: FacesOf, (solid, missing): (Solid, usize)| {
            if missing > 0 {
                lost.push((of, missing));
            }
            solid
        };
        // References change nothing; a zone in the same role as all after it still hides those.
        let list = zones.iter().filter(|z| z.role != Role::Reference);
        let mut fillings = 0;
        let mut zones_found: Vec<Region> = list
            .map(|z| {
                let solid = found(FacesOf::Zone(z.id), Solid::of(z.place, part));
                fillings += z.own_blend_mm.is_some() as usize;
                let filling = z.own_blend_mm.map_or(0, |_| fillings);
                Region { role: z.role, solid, filling, blend: z.own_blend_mm.unwrap_or(0.0) }
            })
            .collect();
        // Bodies with a role of their own come after the zones: those that go before those that
        // stay.
        for role in [Role::KeepClear, Role::KeepSolid, Role::Fill] {
            let own = part.bodies.iter().filter(|b| b.facts.role == Some(role));
            let region = |b: &Arc<_>| Region {
                role,
                solid: Solid::Body(Arc::clone(b), Reach::Own),
                filling: 0,
                blend: 0.0,
            };
            zones_found.extend(own.map(region));
        }
        let skins = skins
            .iter()
            .filter(|s| s.depth_mm > 0.0)
            .map(|s| match s.faces {
                Some(faces) => found(FacesOf::Skin(s.id), Solid::near(part, faces, s.depth_mm)),
                None => Solid::Near { surface: part.distance.shared_bvh(), depth: s.depth_mm },
            })
            .collect();
        Regions { rest, zones: zones_found, skins, proud: Vec::new(), lost }
    }

    /// Memory that they take beside that of their part.
    pub fn bytes(&self, part: &Part) -> usize {
        let solids = self.zones.iter().map(|z| &z.solid).chain(&self.skins);
        let surfaces = solids.filter_map(Solid::surface);
        let own = surfaces.filter(|s| !Arc::ptr_eq(s, &part.distance.shared_bvh()));
        size_of::<Regions>() + own.map(|s| s.bytes()).sum::<usize>()
    }

    /// As the lattice sees them where it is a body of its own that reaches into what is solid by an
    /// overlap: solids and skins are smaller by that, and fills are larger. What is kept clear
    /// stays clear.
    pub fn reaching(&self, part: &Part, overlap: f64) -> Regions {
        if overlap <= 0.0 {
            return self.clone();
        }
        let after_clear =
            self.zones.iter().rposition(|z| z.role == Role::KeepClear).map_or(0, |n| n + 1);
        let (mut zones, mut larger) = (Vec::new(), Vec::new());
        for (n, region) in self.zones.iter().enumerate() {
            match region.role {
                Role::KeepSolid => {
                    let smaller = region.solid.shrunk(overlap, &|p| part.distance.inside(p));
                    zones.extend(smaller.map(|solid| Region { solid, ..region.clone() }));
                }
                _ => zones.push(region.clone()),
            }
            if region.role == Role::Fill {
                larger.push(Region { solid: region.solid.grown(overlap), ..region.clone() });
            }
            if n + 1 >= after_clear {
                zones.append(&mut larger);
            }
        }
        let skins = self.skins.iter().filter_map(|s| s.shrunk(overlap, &|_| true)).collect();
        Regions {
            rest: self.rest,
            zones,
            skins,
            proud: self.proud.clone(),
            lost: self.lost.clone(),
        }
    }

    /// With fillings that stand past the part's surface.
    pub fn standing_proud(self, mut proud: Vec<f64>) -> Regions {
        if proud.iter().all(|p| *p == 0.0) {
            proud.clear();
        }
        Regions { proud, ..self }
    }

    /// How far a filling stands past the part's surface. mm.
    pub fn proud_of(&self, filling: usize) -> f64 {
        self.proud.get(filling).copied().unwrap_or(0.0)
    }

    /// The farthest that one does. mm.
    pub fn most_proud(&self) -> f64 {
        self.proud.iter().copied().fold(0.0, f64::max)
    }

    /// The zone that holds a place.
    pub fn zone_at(&self, p: DVec3) -> Option<usize> {
        self.zones.iter().position(|z| z.solid.value(p) < 0.0)
    }

    /// The role in a zone, or where none is.
    pub fn role_in(&self, zone: Option<usize>) -> Role {
        zone.map_or(self.rest, |z| self.zones[z].role)
    }

    /// The filling of a zone, or of the part where no zone is.
    pub fn filling_in(&self, zone: Option<usize>) -> usize {
        zone.map_or(0, |z| self.zones[z].filling)
    }

    /// Zones, then skins.
    pub fn all(&self) -> impl Iterator<Item = &Solid> {
        self.zones.iter().map(|z| &z.solid).chain(&self.skins)
    }

    /// How many fillings there are; one where no zone has its own.
    pub fn fillings(&self) -> usize {
        1 + self.zones.iter().map(|z| z.filling).max().unwrap_or(0)
    }
}

/// What the samples of a grid are.
pub struct Zoned {
    /// The grid.
    pub grid: Grid,
    /// Samples inside the part.
    pub inside: Bits,
    /// The lattice alone decides, also where it stands past the part's surface.
    pub fill: Bits,
    /// Material in any case.
    pub solid: Bits,
    /// Samples of `fill` that a zone's own filling fills, by filling from the second on.
    own: Vec<Bits>,
    /// The samples of `fill` around which one field decides, where that is not all of them.
    smooth: Option<Bits>,
    /// Samples of those regions of [`Regions::all`] that are not asked by their value.
    near: Vec<Option<Bits>>,
    /// By filling, samples as near to the part's surface as it stands past that; empty where none
    /// does.
    shells: Vec<Bits>,
}

impl Zoned {
    /// `None` when cancelled.
    pub fn sample(
        part: &Part,
        regions: &Regions,
        grid: Grid,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<Zoned> {
        let inside = sample_part(part, &grid, cancelled)?;
        let mut near = Vec::new();
        for region in regions.all() {
            near.push(match region {
                Solid::Near { surface, depth } => {
                    Some(sample_near(surface, *depth, &grid, cancelled)?)
                }
                Solid::Body(body, reach) => {
                    let mut bits = sample_body(body, &grid, cancelled)?;
                    match reach {
                        Reach::Own => {}
                        Reach::Beyond(by) => {
                            let shell =
                                sample_near(&body.distance.shared_bvh(), *by, &grid, cancelled)?;
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
        let shell = |&depth: &f64| match depth {
            0.0 => Some(Bits::new(&grid)),
            _ => sample_near(part.bvh(), depth, &grid, cancelled),
        };
        let shells = regions.proud.iter().map(shell).collect::<Option<Vec<Bits>>>()?;
        let word = |n: usize, region: &Solid, w: usize, j: usize, k: usize| match &near[n] {
            Some(bits) => bits.row(j, k)[w],
            None => region.word(&grid, w, j, k),
        };
        let zones = regions.zones.len();
        // First come, first served: what is still free goes to the next zone.
        let sort = |w: usize, j: usize, k: usize, filling: usize| {
            let inside = inside.row(j, k)[w];
            let within =
                |filling: usize| inside | shells.get(filling).map_or(0, |s: &Bits| s.row(j, k)[w]);
            let (mut fill, mut solid, mut own) = (0, 0, 0);
            let mut free = (0..shells.len()).fold(inside, |all, filling| all | within(filling));
            if free == 0 {
                return (0, 0, 0);
            }
            for (n, region) in regions.zones.iter().enumerate() {
                let mine = free & word(n, &region.solid, w, j, k);
                free &= !mine;
                own |= if region.filling == filling { mine & within(filling) } else { 0 };
                match region.role {
                    Role::Fill => fill |= mine & within(region.filling),
                    Role::KeepSolid => solid |= mine & inside,
                    Role::KeepClear | Role::Reference | Role::Alongside => {}
                }
            }
            if regions.rest == Role::KeepSolid {
                solid |= free & inside;
            } else {
                fill |= free & within(0);
            }
            let skin = regions
                .skins
                .iter()
                .enumerate()
                .fold(0, |m, (n, s)| m | word(zones + n, s, w, j, k));
            (fill & !skin, solid | fill & skin & inside, own & fill & !skin)
        };
        let made = |word: &(dyn Fn(usize, usize, usize) -> u64 + Sync)| {
            let mut out = Bits::new(&grid);
            out.par_words_mut(|w, j, k, out| *out = word(w, j, k));
            out
        };
        let fill = made(&|w, j, k| sort(w, j, k, 0).0);
        let solid = made(&|w, j, k| sort(w, j, k, 0).1);
        let own: Vec<Bits> =
            (1..regions.fillings()).map(|n| made(&|w, j, k| sort(w, j, k, n).2)).collect();
        let sharp = |n: usize| regions.zones.iter().any(|z| z.filling == n + 1 && z.blend == 0.0);
        let cut: Vec<&Bits> =
            own.iter().enumerate().filter(|(n, _)| sharp(*n)).map(|o| o.1).collect();
        // Samples beside a sharp border belong to none: cells across it are computed exactly.
        let smooth = (!cut.is_empty()).then(|| {
            let or_no_fill = |b: &Bits| made(&|w, j, k| b.row(j, k)[w] | !fill.row(j, k)[w]);
            let inner: Vec<Bits> = cut.iter().map(|b| or_no_fill(b).eroded()).collect();
            made(&|w, j, k| {
                let rim = cut
                    .iter()
                    .zip(&inner)
                    .fold(0, |m, (all, inner)| m | all.row(j, k)[w] & !inner.row(j, k)[w]);
                fill.row(j, k)[w] & !rim
            })
        });
        (!cancelled()).then_some(Zoned { grid, inside, fill, solid, own, smooth, near, shells })
    }

    /// Is a sample inside the part, or no farther past its surface than a filling stands?
    pub fn within_proud(&self, filling: usize, at: glam::UVec3) -> bool {
        self.inside.get(at.x, at.y, at.z)
            || self.shells.get(filling).is_some_and(|s| s.get(at.x, at.y, at.z))
    }

    /// Samples of `fill` past the part's surface, if any may be there.
    pub fn beyond(&self) -> Option<Bits> {
        (!self.shells.is_empty()).then(|| {
            let mut out = self.fill.clone();
            out.par_words_mut(|w, j, k, word| *word &= !self.inside.row(j, k)[w]);
            out
        })
    }

    /// Samples around which a smooth field alone decides.
    pub fn smooth(&self) -> &Bits {
        self.smooth.as_ref().unwrap_or(&self.fill)
    }

    /// A word of the samples of `fill` that a filling fills.
    pub fn filled_by(&self, filling: usize, w: usize, j: usize, k: usize) -> u64 {
        match filling {
            0 => self.own.iter().fold(self.fill.row(j, k)[w], |m, own| m & !own.row(j, k)[w]),
            n => self.own[n - 1].row(j, k)[w],
        }
    }

    /// All samples that a filling fills.
    pub fn all_filled_by(&self, filling: usize) -> Bits {
        let mut out = Bits::new(&self.grid);
        out.par_words_mut(|w, j, k, word| *word = self.filled_by(filling, w, j, k));
        out
    }

    /// The filling at a sample of `fill`.
    pub fn filling_at(&self, at: glam::UVec3) -> usize {
        self.own.iter().position(|own| own.get(at.x, at.y, at.z)).map_or(0, |n| n + 1)
    }

    /// Does the sample lie in the region, number `n` of [`Regions::all`]?
    pub fn holds(&self, n: usize, region: &Solid, at: glam::UVec3) -> bool {
        match &self.near[n] {
            Some(bits) => bits.get(at.x, at.y, at.z),
            None => region.value(self.grid.at(at.x, at.y, at.z)) < 0.0,
        }
    }

    /// Memory that the bits take.
    pub fn bytes(&self) -> usize {
        self.fill.bytes()
            * (3 + self.shells.len()
                + self.near.iter().flatten().count()
                + self.own.len()
                + self.smooth.iter().len())
    }
}

/// How a part is shared out, as shares of its volume.
#[derive(Clone, Debug, PartialEq)]
pub struct Shares {
    /// What each filling fills.
    pub fill: Vec<f64>,
    /// Kept solids and skins.
    pub solid: f64,
    /// What each of [`Regions::zones`] takes.
    pub zones: Vec<f64>,
    /// Borders of what is filled.
    pub borders: Borders,
}

/// Areas of the borders between what is filled, what is solid and what is neither, over the part's
/// volume. 1/mm.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Borders {
    /// Of each filling with the outside and with cleared places.
    pub fill_open: Vec<f64>,
    /// Of each filling with what is solid.
    pub fill_solid: Vec<f64>,
    /// Of what is solid with the outside and with cleared places.
    pub solid_open: f64,
}

/// What holds a place of the part.
#[derive(Clone, Copy, PartialEq, Eq)]
enum RegionBits {
    Clear,
    Solid,
    Fill(usize),
}

impl Regions {
    fn held(&self, zone: Option<usize>, p: DVec3) -> RegionBits {
        match self.role_in(zone) {
            Role::KeepClear => RegionBits::Clear,
            Role::KeepSolid => RegionBits::Solid,
            _ if self.skins.iter().any(|s| s.within(p, 0.0)) => RegionBits::Solid,
            _ => RegionBits::Fill(self.filling_in(zone)),
        }
    }

    fn zone_within(&self, p: DVec3) -> Option<usize> {
        self.zones.iter().position(|z| z.solid.within(p, 0.0))
    }

    /// From points spread evenly over the part. Counting samples of a grid would be off by a layer
    /// where a region's border runs along it. Areas of borders come from ways of a length, in mm,
    /// that begin at the points and go in all directions, by how many pass a border (Crofton's
    /// formula, as for any stereology).
    pub fn shares(
        &self,
        points: &[DVec3],
        inside: &(dyn Fn(DVec3) -> bool + Sync),
        way: f64,
    ) -> Shares {
        let (zones, fillings) = (self.zones.len(), self.fillings());
        // Zones, what is solid, fillings; ways from fillings that end open, from fillings to what
        // is solid and back, and from what is solid that end open.
        let (of_fill, of_open, of_solid) =
            (zones + 1, zones + 1 + fillings, zones + 1 + 2 * fillings);
        /// Points that are counted together.
        const RUN: usize = 1024;
        let blank = || vec![0u64; of_solid + fillings + 1];
        let count = |n: &mut Vec<u64>, at: usize, p: DVec3| {
            let zone = self.zone_within(p);
            if let Some(z) = zone {
                n[z] += 1;
            }
            let held = self.held(zone, p);
            match held {
                RegionBits::Clear => return,
                RegionBits::Solid => n[zones] += 1,
                RegionBits::Fill(f) => n[of_fill + f] += 1,
            }
            let end = p + direction(at as u64 + 1) * way;
            let there =
                if inside(end) { self.held(self.zone_within(end), end) } else { RegionBits::Clear };
            match (held, there) {
                (RegionBits::Fill(f), RegionBits::Clear) => n[of_open + f] += 1,
                (RegionBits::Fill(f), RegionBits::Solid)
                | (RegionBits::Solid, RegionBits::Fill(f)) => n[of_solid + f] += 1,
                (RegionBits::Solid, RegionBits::Clear) => n[of_solid + fillings] += 1,
                _ => {}
            }
        };
        let of_runs = parallel::runs(points.len(), RUN, |run| {
            let mut n = blank();
            run.for_each(|at| count(&mut n, at, points[at]));
            n
        });
        let sum = |a: Vec<u64>, b: Vec<u64>| a.iter().zip(&b).map(|(x, y)| x + y).collect();
        let counts = of_runs.into_iter().fold(blank(), sum);
        let share = |n: &u64| *n as f64 / points.len().max(1) as f64;
        let shares = |of: &[u64]| of.iter().map(share).collect::<Vec<f64>>();
        // A fourth of all ways from one side of a border pass it that begin within their length of
        // it.
        let areas = |of: &[u64], sides: f64| {
            shares(of).into_iter().map(|s| 4.0 * s / (sides * way)).collect::<Vec<f64>>()
        };
        let borders = Borders {
            fill_open: areas(&counts[of_open..of_solid], 1.0),
            fill_solid: areas(&counts[of_solid..of_solid + fillings], 2.0),
            solid_open: areas(&counts[of_solid + fillings..], 1.0)[0],
        };
        Shares {
            fill: shares(&counts[of_fill..of_open]),
            solid: share(&counts[zones]),
            zones: shares(&counts[..zones]),
            borders,
        }
    }
}

/// Directions spread evenly, by number.
fn direction(n: u64) -> DVec3 {
    let [u, v, _] = low_discrepancy(n).to_array();
    let (z, (sin, cos)) = (2.0 * u - 1.0, sin_cos(TAU * v));
    let r = (1.0 - z * z).max(0.0).sqrt();
    DVec3::new(r * cos, r * sin, z)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::scatter;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{Place, Skin, Zone, Zones};

    #[test]
    fn areas_of_borders_are_those_of_geometry() {
        let size = DVec3::new(40.0, 30.0, 20.0);
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, size)).unwrap();
        let cylinder = Place::Cylinder {
            base_mm: [20.0, 15.0, -1.0],
            axis_mm: [0.0, 0.0, 22.0],
            radius_mm: 6.0,
        };
        let skin = Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 2.0 };
        for (role, skins) in
            [(Role::KeepSolid, vec![]), (Role::KeepClear, vec![]), (Role::KeepSolid, vec![skin])]
        {
            let zones = Zones {
                list: vec![Zone::new(1, "Post", role, cylinder.clone())],
                skins,
                ..Zones::default()
            };
            let regions = Regions::of(&part, &zones);
            let grid = Grid::covering(&part.mesh.bounds(), 0.45);
            let zoned = Zoned::sample(&part, &regions, grid, &|| false).unwrap();
            let points = scatter(&zoned.inside, &zoned.grid, 60_000);
            let Shares { borders: b, .. } =
                regions.shares(&points, &|p| part.distance.inside(p), 0.45);
            let volume = part.facts.volume_mm3;
            let [open, solid, kept] =
                [b.fill_open[0], b.fill_solid[0], b.solid_open].map(|a| a * volume);
            let (round, ends) = (TAU * 6.0 * 20.0, TAU * 36.0);
            let (box_area, inner) =
                (part.facts.area_mm2, 2.0 * (36.0 * 26.0 + 26.0 * 16.0 + 16.0 * 36.0));
            let expected = match (role, zones.skins.is_empty()) {
                (Role::KeepSolid, true) => [box_area - ends, round, ends],
                (Role::KeepSolid, false) => [0.0, inner - ends + TAU * 6.0 * 16.0, box_area],
                _ => [box_area - ends + round, 0.0, 0.0],
            };
            for (found, expected) in [open, solid, kept].into_iter().zip(expected) {
                assert!(
                    (found - expected).abs() < 0.06 * box_area,
                    "{role:?}: {found} for {expected}"
                );
            }
        }
    }

    #[test]
    fn where_zones_overlap_the_first_one_holds_and_skins_lie_over_fillings_alone() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let ball = |x: f64| Place::Sphere { centre_mm: [x, 10.0, 10.0], radius_mm: 5.0 };
        let roles = [Role::KeepSolid, Role::KeepClear, Role::Fill];
        let list = roles
            .iter()
            .zip([7.0, 10.0, 13.0])
            .map(|(role, x)| Zone::new(x as u32, "Ball", *role, ball(x)))
            .collect();
        let zones = Zones {
            list,
            skins: vec![Skin { id: 2, name: "Skin".into(), faces: None, depth_mm: 2.0 }],
            ..Zones::default()
        };
        let regions = Regions::of(&part, &zones);
        let zoned =
            Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.5), &|| false)
                .unwrap();
        let grid = &zoned.grid;
        let mut seen = [0; 4];
        for (k, j, i) in (0..grid.size.z).flat_map(|k| {
            (0..grid.size.y).flat_map(move |j| (0..grid.size.x).map(move |i| (k, j, i)))
        }) {
            let p = grid.at(i, j, k);
            let within = |x: f64| p.distance(DVec3::new(x, 10.0, 10.0)) - 5.0;
            let depth = (p.min(20.0 - p)).min_element();
            let borders = [within(7.0), within(10.0), within(13.0), depth, depth - 2.0];
            if borders.iter().any(|d| d.abs() < 1e-6) {
                continue;
            }
            let [fill, solid] = [&zoned.fill, &zoned.solid].map(|bits| bits.get(i, j, k));
            let expected = match borders {
                [.., depth, _] if depth < 0.0 => [false, false],
                [first, ..] if first < 0.0 => [false, true],
                [_, second, ..] if second < 0.0 => [false, false],
                [.., in_skin] => [in_skin > 0.0, in_skin < 0.0],
            };
            assert_eq!([fill, solid], expected, "at {p}");
            seen[usize::from(fill) + 2 * usize::from(solid)] += 1;
        }
        assert!(seen[..3].iter().all(|n| *n > 500) && seen[3] == 0, "{seen:?}");
        // What the zones take is told from points; a reference takes nothing, and lies in the way
        // of none.
        let points = scatter(&zoned.inside, grid, 60_000);
        let shares = regions.shares(&points, &|p| part.distance.inside(p), 0.5);
        let ball = 4.0 / 3.0 * std::f64::consts::PI * 125.0 / 8000.0;
        assert!(
            (shares.zones[0] / ball - 1.0).abs() < 0.03 && shares.zones[1] < ball,
            "{:?}",
            shares.zones
        );
        assert!(
            (shares.fill.iter().sum::<f64>() + shares.solid - 1.0 + shares.zones[1]).abs() < 0.01
        );
    }
}
