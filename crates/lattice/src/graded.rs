//! Thickness that changes from place to place, of any structure.
//!
//! A structure says how far a place lies from it, and where its border lies at a thickness. With
//! another thickness at every place the border moves with it: the field is that of the thickest
//! members, less what the place lacks of that. What the structure is made of plays no part.

use super::density::DensityCurve;
use super::levels::Levels;
use super::sizes::CellSizes;
use super::{batches, BareStructure, Facts, Gauge, GridField, Lattice, Met, Segment, Station};
use crate::skeleton::Skeleton;
use glam::DVec3;
use std::sync::Arc;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::polygonise::RowPoints;
use ulmix_field::scalar::{Curve, Sampled, ScalarField};
use ulmix_recipe::grading::Given;

/// The thickness at every place, by the thickness that the step of a recipe sets.
#[derive(Clone, Debug)]
pub struct GradedThickness {
    /// What the grading gives, in mm or percent.
    values: Sampled,
    given: Given,
    /// Members that are thinner end. mm.
    ends: f64,
}

/// Densities whose thickness is found, from nothing to solid.
const DENSITIES: usize = 200;

/// How much faster members grow thinner than their grading says where they end: a round tip.
const TIP: f64 = 4.0;

impl GradedThickness {
    /// Thickness by the values of a grading. Members thinner than `ends` mm end.
    pub fn new(values: Sampled, given: Given, ends: f64) -> GradedThickness {
        GradedThickness { values, given, ends }
    }

    /// Thickness that gives every place its relative density, in percent, among cells whose sizes
    /// are `sizes`. `points` are spread evenly over what the structure fills. Members thinner than
    /// `ends` mm end.
    pub fn of_density(
        bare: &Arc<dyn BareStructure>,
        densities: &Sampled,
        sizes: Option<&CellSizes>,
        points: &[DVec3],
        ends: f64,
    ) -> GradedThickness {
        // Cells that are half as large are as dense with members half as thick: the thickness for a
        // density is told of the largest cells.
        let share = |p: DVec3| sizes.map_or(1.0, |sizes| sizes.share(p));
        let alike: Arc<dyn BareStructure> = match sizes {
            None => bare.clone(),
            Some(_) => {
                let shares = densities.placed(|p, _| 100.0 * share(p) as f32);
                let even = GradedThickness::new(shares, Given::Percent, 0.0);
                Arc::new(GradedStructure::new(bare.clone(), even))
            }
        };
        let limit = bare.cell() / sizes.map_or(1.0, CellSizes::least);
        let curve = DensityCurve::new(alike, points);
        let by_density = (1..=DENSITIES).map(|n| {
            let density = n as f64 / DENSITIES as f64;
            [100.0 * density, curve.thickness(density, limit)]
        });
        let points: Vec<[f64; 2]> = std::iter::once([0.0; 2]).chain(by_density).collect();
        let thickness = Curve::new(&points, false);
        let values =
            densities.placed(|p, percent| (share(p) * thickness.at(percent as f64)) as f32);
        GradedThickness::new(values, Given::Value, ends)
    }

    /// Thickness in mm where a grading gives `value` and the step sets `thickness` mm.
    fn of(&self, value: f64, thickness: f64) -> f64 {
        self.given.applied(value, thickness)
    }

    /// Thickness at a place where the step sets `thickness` mm; 0 where nothing is. mm.
    pub fn at(&self, p: DVec3, thickness: f64) -> f64 {
        let t = self.of(self.values.value(p), thickness);
        if t < self.ends {
            0.0
        } else {
            t.max(0.0)
        }
    }

    /// Least and greatest thickness anywhere; the least is that of what has not ended. mm.
    fn range(&self, thickness: f64) -> [f64; 2] {
        let [least, most] = self.values.range().map(|v| self.of(v, thickness).max(0.0));
        [least.max(self.ends.min(most)), most]
    }

    /// Thickness by which the field is made: past the place where members end it falls below zero.
    fn drawn(&self, t: f64) -> f64 {
        if t < self.ends {
            self.ends - TIP * (self.ends - t)
        } else {
            t
        }
    }
}

/// A structure whose thickness changes from place to place.
pub struct GradedStructure {
    inner: Arc<dyn BareStructure>,
    thickness: Arc<GradedThickness>,
    levels: Levels,
}

impl GradedStructure {
    /// A structure with a thickness at every place.
    pub fn new(inner: Arc<dyn BareStructure>, thickness: GradedThickness) -> GradedStructure {
        let most = 1.5 * inner.cell().max(thickness.range(inner.cell())[1]);
        let levels = Levels::of(&*inner, most);
        GradedStructure { inner, thickness: Arc::new(thickness), levels }
    }

    /// Halfway between the least and the greatest thickness. mm.
    fn mean_of_range(&self) -> f64 {
        let [least, most] = self.thickness.range(0.0);
        0.5 * (least + most)
    }
}

impl BareStructure for GradedStructure {
    /// The thickness that the step must set for material to lie at a place. mm.
    fn measure(&self, p: DVec3) -> f64 {
        let needed = self.levels.thickness(self.inner.measure(p));
        let value = self.thickness.values.value(p);
        match self.thickness.given {
            Given::Added => needed - value,
            Given::Percent => 100.0 * needed / value.max(1e-6),
            // The step sets nothing: the place is material where the grading says so.
            Given::Value => self.mean_of_range() + needed - value,
        }
    }

    fn level(&self, thickness: f64) -> f64 {
        thickness
    }

    fn cell(&self) -> f64 {
        self.inner.cell()
    }

    fn opening(&self, thickness: f64) -> f64 {
        self.inner.opening(self.thickness.range(thickness)[1])
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        Box::new(GradedLattice::new(self, thickness))
    }

    fn facts(&self) -> Option<&Facts> {
        self.inner.facts()
    }

    fn gauge(&self) -> Gauge {
        self.inner.gauge()
    }

    fn station(&self, p: DVec3, thickness: f64) -> Option<Station> {
        self.inner.station(p, self.thickness.at(p, thickness))
    }

    fn struts(&self) -> Option<&Skeleton> {
        self.inner.struts()
    }

    fn fixed_thickness(&self) -> Option<f64> {
        (self.thickness.given == Given::Value).then(|| self.mean_of_range())
    }

    fn thickness_at(&self, p: DVec3, thickness: f64) -> f64 {
        self.thickness.at(p, thickness)
    }

    fn thickness_range(&self, thickness: f64) -> [f64; 2] {
        self.thickness.range(thickness)
    }

    fn bytes(&self) -> usize {
        self.inner.bytes() + self.thickness.values.bytes() + self.levels.bytes()
    }
}

/// A structure with a thickness at every place.
struct GradedLattice {
    /// As thick everywhere as it is anywhere, and as thin as it is anywhere.
    thickest: Box<dyn Lattice>,
    thinnest: Box<dyn Lattice>,
    /// How far the border lies within that of the thickest. mm.
    lacks: Sampled,
    /// Thickness that the step sets, and the range of what the grading makes of it. mm.
    set: f64,
    range: [f64; 2],
    thickness: Arc<GradedThickness>,
    /// Do members end somewhere?
    ends: bool,
}

impl GradedLattice {
    fn new(bare: &GradedStructure, set: f64) -> GradedLattice {
        let thickness = &bare.thickness;
        let range = thickness.range(set);
        let most = bare.levels.level(range[1]);
        let lack = |value: f32| {
            let t = thickness.of(value as f64, set);
            (most - bare.levels.level(thickness.drawn(t))) as f32
        };
        let lowest = thickness.of(thickness.values.range()[0], set);
        GradedLattice {
            thickest: bare.inner.thicken(range[1]),
            thinnest: bare.inner.thicken(range[0]),
            lacks: thickness.values.mapped(lack),
            set,
            range,
            thickness: thickness.clone(),
            ends: lowest < thickness.ends.max(1e-9),
        }
    }

    /// The normal of the border at a place where that of the thickest members is known.
    fn leaned(&self, normal: DVec3, p: DVec3) -> DVec3 {
        (normal + self.lacks.gradient(p)).normalize_or(DVec3::Z)
    }
}

impl Lattice for GradedLattice {
    fn value(&self, p: DVec3) -> f64 {
        self.thickest.value(p) + self.lacks.value(p)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.leaned(self.thickest.normal(p), p)
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a> {
        // Signs are to hold members of this half thickness, wherever they are thinner.
        let held = if reach > 0.0 { reach + 0.5 * self.range[0] } else { 0.0 };
        let on = |lattice: &'a dyn Lattice, thickness: f64| {
            lattice.on_grid(grid, (held - 0.5 * thickness).max(0.0))
        };
        Box::new(GradedGrid {
            thickest: on(&*self.thickest, self.range[1]),
            thinnest: (!self.ends).then(|| on(&*self.thinnest, self.range[0])),
            lattice: self,
            grid,
            held,
        })
    }

    fn sharp(&self) -> bool {
        self.thickest.sharp()
    }

    fn allows_overshoot(&self, step: f64) -> bool {
        !self.ends && self.thinnest.allows_overshoot(step) && self.thickest.allows_overshoot(step)
    }
}

struct GradedGrid<'a> {
    lattice: &'a GradedLattice,
    thickest: Box<dyn GridField + 'a>,
    /// Absent where members end somewhere.
    thinnest: Option<Box<dyn GridField + 'a>>,
    grid: &'a Grid,
    /// Half the thickness of members that signs hold whole; 0 for what they are. mm.
    held: f64,
}

/// Places that are asked for at once.
const LANES: usize = 8;

impl GradedGrid<'_> {
    /// How far signs are taken beyond the border at a place. mm.
    fn reach(&self, p: DVec3) -> f64 {
        let t = self.lattice.thickness.at(p, self.lattice.set);
        if self.held > 0.0 && t > 0.0 {
            (self.held - 0.5 * t).max(0.0)
        } else {
            0.0
        }
    }
}

impl GridField for GradedGrid<'_> {
    fn value(&self, p: DVec3) -> f64 {
        self.thickest.value(p) + self.lattice.lacks.value(p)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        self.lattice.leaned(self.thickest.normal(p), p)
    }

    fn signs(&self, wanted: &Bits) -> Bits {
        let mut out = self.thickest.signs(wanted);
        // What the thinnest lattice holds lies in this one; the rest is asked one by one.
        let sure = self.thinnest.as_ref().map(|thinnest| thinnest.signs(&out));
        batches::clear_outside(self, self.grid, &mut out, sure.as_ref(), |p| self.reach(p));
        out
    }

    fn values(&self, points: &[DVec3], out: &mut Vec<f64>) {
        self.thickest.values(points, out);
        let last = points.len().saturating_sub(1);
        for from in (0..points.len()).step_by(LANES) {
            let lacks = self.lattice.lacks.eight(|lane| points[(from + lane).min(last)]);
            let values = out[from..].iter_mut();
            values.zip(lacks.to_array()).for_each(|(v, lack)| *v += lack as f64);
        }
    }

    fn slopes(&self, points: &[DVec3], out: &mut Vec<(f64, DVec3)>) {
        self.thickest.slopes(points, out);
        for (p, (v, g)) in points.iter().zip(out.iter_mut()) {
            *v += self.lattice.lacks.value(*p);
            *g += self.lattice.lacks.gradient(*p);
        }
    }

    fn met(&self, segments: &[Segment], out: &mut Vec<Met>) {
        batches::met(self, segments, 1e-4 * self.grid.step, out);
    }

    fn smooth(&self, of: &Bits) -> Option<Bits> {
        self.thickest.smooth(of)
    }

    fn project(&self, row: &mut RowPoints) {
        let thin = |p: DVec3| 0.5 * self.lattice.thickness.at(p, self.lattice.set);
        let middle = |p: DVec3| 0.5 * self.reach(p) - 0.5 * thin(p);
        batches::project(self, self.grid, middle, row);
    }
}
