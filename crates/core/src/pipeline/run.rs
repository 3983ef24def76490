//! What a run works on: all fillings with their thickness, for a grid of some step.

use super::groundwork::Groundwork;
use super::{plan, Pipeline};
use crate::asked::Thickened;
use crate::compose::patchwork::Blending;
use crate::compose::Selection;
use crate::error::RunError;
use crate::result::Cost;
use crate::stages::shape::{LazyShape, ShapeInput, ShapedFilling, ShapedTie};
use crate::stages::structure::SharedStructure;
use crate::stages::zones::ZonesOnGrid;
use crate::stages::{Keyed, CODE};
use crate::watch::{Quality, Watch};
use std::rc::Rc;
use std::sync::Arc;
use ulmix_lattice::ties::Ties;
use ulmix_lattice::Lattice;
use ulmix_recipe::{key_of, Filling};

/// A lattice under the key of what it is made from.
type KeyedLattice = Keyed<Box<dyn Lattice>>;

impl<'a> Groundwork<'a> {
    /// All fillings and ties with their thickness.
    pub(super) fn thicken(&self) -> Thick<'_> {
        let thickness: Vec<f64> = self.linked.fills().map(|f| f.thickness_mm).collect();
        let lattice = |(bare, thickness): (&Keyed<SharedStructure>, &f64)| {
            let key = key_of(&[&CODE, &"lattice", bare, thickness]);
            Keyed::new(key, bare.thicken(*thickness))
        };
        let lattices = self.bare.iter().zip(&thickness).map(lattice).collect();
        let tie = |(n, t): (usize, &Ties)| {
            let [own, other] = t.fillings.map(|f| self.fillings[f].joins.blend_mm);
            let blend = own.min(other);
            let key = key_of(&[&CODE, &"tie", &self.ties, &n, &thickness, &blend]);
            (Keyed::new(key, t.thicken(&thickness, blend)), blend)
        };
        let ties = self.ties.iter().enumerate().map(tie).collect();
        Thick { groundwork: self, thickness, lattices, ties }
    }
}

/// All fillings with their thickness, and the struts that tie them to each other.
pub(super) struct Thick<'a> {
    pub groundwork: &'a Groundwork<'a>,
    /// By filling. mm.
    thickness: Vec<f64>,
    lattices: Vec<KeyedLattice>,
    /// With the radius of their joins, in mm.
    ties: Vec<(KeyedLattice, f64)>,
}

impl Thick<'_> {
    /// What a run of some quality on a grid of this step works on.
    pub(super) fn run(&self, quality: Quality, step: f64, cost: &Cost) -> Run<'_> {
        let fillings = &self.groundwork.fillings;
        let thinnest = self.groundwork.linked.fills().map(|f| f.thinnest_mm());
        let each = fillings.iter().zip(&self.lattices).zip(&self.thickness).zip(thinnest);
        let shaped = each.map(|(((filling, lattice), &thickness), thinnest)| {
            let Filling { structure, joins, .. } = filling;
            let alike = fillings.iter().position(|other| other.structure == *structure);
            let blending = Blending {
                thickness,
                walls: structure.walls(),
                blend: joins.blend_mm,
                alike: alike.unwrap_or(0),
            };
            let reach = plan::reach(quality, step, thinnest);
            ShapedFilling { lattice: borrowed(lattice), reach, blending }
        });
        let ties =
            self.ties.iter().map(|(t, blend)| ShapedTie { lattice: borrowed(t), blend: *blend });
        let proud = |(f, thickness): (&Filling, &f64)| {
            if f.joins.proud {
                0.5 * thickness
            } else {
                0.0
            }
        };
        Run {
            groundwork: self.groundwork,
            quality,
            step,
            final_step: cost.step_mm,
            crumb_mm3: cost.crumb_mm3,
            proud: fillings.iter().zip(&self.thickness).map(proud).collect(),
            fillings: shaped.collect(),
            ties: ties.collect(),
        }
    }

    /// The fillings as a result is held against them.
    pub(super) fn fillings(&self) -> Vec<Thickened<'_>> {
        let each = self.groundwork.bare.iter().zip(&self.lattices).zip(&self.thickness);
        each.map(|((bare, lattice), &thickness)| Thickened {
            bare: &*bare.value,
            lattice: &*lattice.value,
            thickness,
        })
        .collect()
    }
}

fn borrowed(lattice: &KeyedLattice) -> Keyed<&dyn Lattice> {
    Keyed::new(lattice.key.clone(), &*lattice.value)
}

/// What a run works on.
pub(super) struct Run<'a> {
    pub groundwork: &'a Groundwork<'a>,
    pub quality: Quality,
    /// Step of the grid. mm.
    pub step: f64,
    /// Step of the final mesh's grid. mm.
    pub final_step: f64,
    /// Loose pieces smaller than this are removed. mm³.
    pub crumb_mm3: f64,
    /// By filling, how far it stands past the part's surface. mm.
    pub proud: Vec<f64>,
    pub fillings: Vec<ShapedFilling<'a>>,
    pub ties: Vec<ShapedTie<'a>>,
}

impl Run<'_> {
    /// Zones on the grid of the run, as the lattice sees them where it reaches by `overlap` into
    /// what is solid. mm.
    pub(super) fn zones(
        &self,
        pipeline: &Pipeline,
        overlap: f64,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<ZonesOnGrid>>, RunError> {
        let Groundwork { part, regions, .. } = self.groundwork;
        pipeline.zones(part, regions, self.step, overlap, self.proud.clone(), watch)
    }

    /// The shape of a side in zones on the grid of the run.
    pub(super) fn shape<'b>(
        &'b self,
        zones: &'b Keyed<Arc<ZonesOnGrid>>,
        selection: Selection,
    ) -> Keyed<Rc<LazyShape<'b>>> {
        let part = self.groundwork.part.into();
        let (fillings, ties) = (&self.fillings, &self.ties);
        LazyShape::keyed(ShapeInput { part, zones, fillings, ties, selection })
    }

    /// Some struts have sharp edges.
    pub(super) fn sharp(&self) -> bool {
        self.fillings.iter().any(|f| f.lattice.sharp())
    }
}
