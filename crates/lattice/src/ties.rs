//! Struts between the ends at which two structures are cut off by the sharp border between their
//! zones.
//!
//! Where a strut of one structure ends at the border, a tie runs along it to the nearest end of the
//! other's, and the other way around: none is left loose that has one within reach.

use super::members::{Frame, StrutSource};
use super::net::Net;
use super::{BareStructure, Lattice};
use glam::DVec3;
use std::collections::BTreeSet;
use ulmix_field::numeric::root;
use ulmix_mesh::parallel;
use ulmix_mesh::PointGrid;
use ulmix_part::solids::Solid;
use ulmix_part::zoned::Regions;
use ulmix_part::Part;
use ulmix_recipe::{Joins, Role};

/// A filling that takes part: its struts and the size of its cells. mm.
pub struct Strutted<'a> {
    /// Ends of the struts. mm.
    pub struts: &'a [[DVec3; 2]],
    /// Size of the cells. mm.
    pub cell: f64,
}

/// The ties between two fillings over the border of a zone.
#[derive(Clone, Debug, PartialEq)]
pub struct Ties {
    /// Of [`Regions::zones`].
    pub zone: usize,
    /// The zone's own filling, and the one beyond the border.
    pub fillings: [usize; 2],
    /// From an end of the first to one of the second.
    pub struts: Vec<[DVec3; 2]>,
    /// Size of the larger cells. mm.
    pub cell: f64,
}

/// An end is tied to none farther away, in sizes of the larger cells.
const REACH: f64 = 1.0;
/// Either side of the border is told so far from it, in sizes of the smaller cells.
const BESIDE: f64 = 1e-3;
/// Ends nearer to each other are one already, in the same.
const MET: f64 = 1e-6;
/// Places along a strut at which the side of the border is asked.
const ASKED: u32 = 6;

/// Ties over the borders of those zones that `tied` names. `fillings` are `None` where a filling
/// has no struts.
pub fn between(
    part: &Part,
    regions: &Regions,
    tied: &[bool],
    fillings: &[Option<Strutted>],
) -> Vec<Ties> {
    let mut out = Vec::new();
    for (n, zone) in regions.zones.iter().enumerate().filter(|(n, _)| tied.get(*n) == Some(&true)) {
        let Some(Some(own)) = fillings.get(zone.filling) else { continue };
        for (f, other) in fillings.iter().enumerate().filter(|(f, _)| *f != zone.filling) {
            let Some(other) = other else { continue };
            // A border with a zone before this one is that zone's.
            if f != 0 && regions.zones.iter().position(|z| z.filling == f).is_none_or(|m| m < n) {
                continue;
            }
            let near = BESIDE * own.cell.min(other.cell);
            let is_between = |p: DVec3| {
                let out = zone.solid.normal(p) * near;
                at(part, regions, p - out) == Some((Some(n), zone.filling))
                    && at(part, regions, p + out).is_some_and(|o| o.1 == f)
            };
            let ends = |struts: &[[DVec3; 2]]| ends_at(&zone.solid, struts, is_between);
            let cell = own.cell.max(other.cell);
            let struts =
                nearest_pairs(&ends(own.struts), &ends(other.struts), REACH * cell, MET * cell);
            if !struts.is_empty() {
                out.push(Ties { zone: n, fillings: [zone.filling, f], struts, cell });
            }
        }
    }
    out
}

/// May a strut pass the border of a zone that is tied?
pub fn may_end(regions: &Regions, tied: &[bool], strut: [DVec3; 2]) -> bool {
    regions.zones.iter().zip(tied).any(|(z, tied)| *tied && may_pass(&z.solid, strut))
}

/// Most struts are too far from a border for that.
fn may_pass(border: &Solid, [a, b]: [DVec3; 2]) -> bool {
    border.value((a + b) * 0.5).abs() <= 0.5 * a.distance(b)
}

/// The zone that holds a place, and what fills it there; `None` where nothing does.
fn at(part: &Part, regions: &Regions, p: DVec3) -> Option<(Option<usize>, usize)> {
    let zone = regions.zone_at(p);
    let filled = regions.role_in(zone) == Role::Fill;
    let skin = || regions.skins.iter().any(|s| s.value(p) < 0.0);
    (filled && !skin() && part.distance.inside(p)).then(|| (zone, regions.filling_in(zone)))
}

/// Where struts pass the border of a region, of those places that count.
fn ends_at(
    border: &Solid,
    struts: &[[DVec3; 2]],
    counts: impl Fn(DVec3) -> bool + Sync,
) -> Vec<DVec3> {
    let of_one = |&[a, b]: &[DVec3; 2]| {
        let value = |t: f64| border.value(a.lerp(b, t));
        let asked: Vec<(f64, f64)> =
            (0..=ASKED).map(|n| n as f64 / ASKED as f64).map(|t| (t, value(t))).collect();
        let passed = asked.windows(2).filter(|w| (w[0].1 < 0.0) != (w[1].1 < 0.0));
        let place = |w: &[(f64, f64)]| {
            let [(s, v), (t, w)] = [w[0], w[1]];
            a.lerp(b, s + (t - s) * root(|u| value(s + (t - s) * u), v, w))
        };
        passed.map(place).filter(|p| counts(*p)).collect::<Vec<_>>()
    };
    let passing = parallel::filter(struts, |s| may_pass(border, *s));
    parallel::flat_map(passing.len(), |n| of_one(&passing[n]))
}

/// Every place of either list with the nearest one of the other; each pair once.
fn nearest_pairs(own: &[DVec3], other: &[DVec3], reach: f64, met: f64) -> Vec<[DVec3; 2]> {
    let nearest = |from: &[DVec3], to: &[DVec3]| -> Vec<(u32, u32)> {
        let grid = PointGrid::new(to);
        let one = |n: usize| {
            let nearest = grid.nearest(from[n], 1, |_| false);
            nearest.first().filter(|d| d.0 <= reach).map(|d| (n as u32, d.1))
        };
        parallel::filter_map(from.len(), one)
    };
    let back = nearest(other, own).into_iter().map(|(m, n)| (n, m));
    let pairs: BTreeSet<(u32, u32)> = nearest(own, other).into_iter().chain(back).collect();
    let places = pairs.into_iter().map(|(n, m)| [own[n as usize], other[m as usize]]);
    places.filter(|[a, b]| a.distance(*b) > met).collect()
}

impl Ties {
    /// With thickness: every end as thick as the struts that it continues, by filling. mm.
    pub fn thicken(&self, thickness: &[f64], blend: f64) -> Box<dyn Lattice> {
        let [own, other] = self.fillings.map(|f| thickness[f]);
        let least = own.min(other);
        let more = [own, other].map(|t| 0.5 * (t - least));
        let ends = if own == other { Vec::new() } else { vec![more; self.struts.len()] };
        let source =
            StrutSource::Struts { struts: self.struts.clone(), inner: self.struts.len(), ends };
        let joins = Joins { blend_mm: blend, ..Joins::default() };
        Net::new(Frame::OF_PART, source, joins, self.cell).thicken(least)
    }

    /// Memory that the ties take.
    pub fn bytes(&self) -> usize {
        self.struts.len() * 48 + 64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{Place, Zone, Zones};

    #[test]
    fn every_end_at_a_border_has_a_tie_and_none_lies_elsewhere() {
        let part =
            Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(40.0, 20.0, 20.0))).unwrap();
        let mut zone = Zone::new(
            1,
            "x",
            Role::Fill,
            Place::Box {
                centre_mm: [10.0, 10.0, 10.0],
                size_mm: [20.0, 30.0, 30.0],
                rotation_deg: [0.0; 3],
            },
        );
        zone.own = Some(Box::new(ulmix_recipe::OwnFill {
            structure: Default::default(),
            thicken: ulmix_recipe::Thicken::Thickness { thickness_mm: 1.0 },
            joins: Joins::default(),
            blend_mm: 0.0,
            gradings: Vec::new(),
            loose_ends: false,
        }));
        let regions = Regions::of(&part, &Zones { list: vec![zone], ..Zones::default() });
        // Bars along x, on rasters that do not fit each other; the last of each lie outside the
        // part.
        let bars = |step: f64| -> Vec<[DVec3; 2]> {
            let at = |n: usize| step * (0.5 + n as f64);
            (0..9)
                .flat_map(|i| {
                    (0..9).map(move |j| {
                        [DVec3::new(1.0, at(i), at(j)), DVec3::new(39.0, at(i), at(j))]
                    })
                })
                .collect()
        };
        let (fine, coarse) = (bars(2.5), bars(3.3));
        let fillings = [
            Some(Strutted { struts: &coarse, cell: 3.3 }),
            Some(Strutted { struts: &fine, cell: 2.5 }),
        ];
        let all = between(&part, &regions, &[true], &fillings);
        assert_eq!(all.len(), 1);
        assert_eq!((all[0].zone, all[0].fillings, all[0].cell), (0, [1, 0], 3.3));
        let held = |p: DVec3, end: usize| all[0].struts.iter().any(|s| s[end].distance(p) < 1e-6);
        for (struts, end) in [(&fine, 0), (&coarse, 1)] {
            for [a, _] in struts {
                let p = a.with_x(20.0);
                assert_eq!(held(p, end), p.max_element() <= 20.0, "{p}");
            }
        }
        assert!(all[0].struts.iter().flatten().all(|p| (p.x - 20.0).abs() < 1e-6));
        // No border that is not named, and none with what has no struts.
        assert!(between(&part, &regions, &[false], &fillings).is_empty());
        assert!(between(
            &part,
            &regions,
            &[true],
            &[None, Some(Strutted { struts: &fine, cell: 2.5 })]
        )
        .is_empty());
    }
}
