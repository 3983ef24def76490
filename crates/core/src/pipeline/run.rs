//! What a run works on: all fillings with their thickness, for a grid of some step.

use super::plan;
use super::{Held, Pipeline, Quality, RunError, Watch};
use crate::asked::Thickened;
use crate::compose::patchwork::{Blending, Tie};
use crate::compose::{Composed, Reaching, Selection};
use crate::result::{Cost, Linked};
use std::sync::Arc;
use ulmix_lattice::ties::Ties;
use ulmix_lattice::Lattice;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::{Filling, Recipe};

impl Pipeline {
    /// All fillings with their thickness.
    pub(super) fn thicken(
        &self,
        part: &Part,
        recipe: &Recipe,
        bare: &[Held],
        linked: &Linked,
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<Thick, RunError> {
        let thick: Vec<f64> = linked.fills().map(|f| f.thickness_mm).collect();
        let lattices =
            bare.iter().zip(&thick).map(|(bare, thickness)| bare.thicken(*thickness)).collect();
        let fillings = recipe.fillings();
        let tie = |t: &Ties| {
            let [own, other] = t.fillings.map(|f| fillings[f].joins.blend_mm);
            (t.thicken(&thick, own.min(other)), own.min(other))
        };
        let ties = self.ties(part, recipe, draft, watch)?.iter().map(tie).collect();
        Ok(Thick { thick, lattices, ties, regions: self.regions(part, &recipe.zones) })
    }
}

/// All fillings with their thickness, and the struts that tie them to each other.
pub(super) struct Thick {
    /// By filling. mm.
    thick: Vec<f64>,
    lattices: Vec<Box<dyn Lattice>>,
    /// With the radius of their joins, in mm.
    ties: Vec<(Box<dyn Lattice>, f64)>,
    /// Regions of the zones, as they were asked for.
    pub(super) regions: Arc<Regions>,
}

impl Thick {
    /// What a run of some quality on a grid of this step works on.
    pub(super) fn run<'a>(
        &'a self,
        part: &'a Part,
        recipe: &'a Recipe,
        quality: Quality,
        step: f64,
        cost: &Cost,
    ) -> Run<'a> {
        let fillings = recipe.fillings();
        let each = fillings.iter().zip(&self.lattices).zip(&self.thick);
        let lattices = each.map(|((Filling { structure, joins, .. }, lattice), &thickness)| {
            let walls = structure.walls();
            let alike =
                fillings.iter().position(|other| other.structure == *structure).unwrap_or(0);
            let body = Blending { thickness, walls, blend: joins.blend_mm, alike };
            Reaching { lattice: &**lattice, reach: plan::reach(quality, step, thickness), body }
        });
        let ties =
            self.ties.iter().map(|(lattice, blend)| Tie { lattice: &**lattice, blend: *blend });
        Run {
            part,
            recipe,
            quality,
            step,
            final_step: cost.step_mm,
            crumb_mm3: cost.crumb_mm3,
            thick: &self.thick,
            lattices: lattices.collect(),
            ties: ties.collect(),
            regions: &self.regions,
        }
    }

    /// The same, as a result is held against them.
    pub(super) fn fillings<'a>(&'a self, bare: &'a [Held]) -> Vec<Thickened<'a>> {
        let each = bare.iter().zip(&self.lattices).zip(&self.thick);
        each.map(|((bare, lattice), &thickness)| Thickened {
            bare: &**bare,
            lattice: &**lattice,
            thickness,
        })
        .collect()
    }
}

/// What a run works on.
pub(super) struct Run<'a> {
    pub part: &'a Part,
    pub recipe: &'a Recipe,
    pub quality: Quality,
    /// Step of the grid. mm.
    pub step: f64,
    /// Step of the final mesh's grid. mm.
    pub final_step: f64,
    /// Loose pieces smaller than this are removed. mm³.
    pub crumb_mm3: f64,
    /// Thickness by filling. mm.
    pub thick: &'a [f64],
    pub lattices: Vec<Reaching<'a>>,
    pub ties: Vec<Tie<'a>>,
    /// Regions of the zones, as they were asked for.
    pub regions: &'a Regions,
}

impl<'a> Run<'a> {
    /// By filling, how far it stands past the part's surface. mm.
    pub(super) fn proud(&self) -> Vec<f64> {
        let of =
            |(f, thickness): (&Filling, &f64)| if f.joins.proud { 0.5 * thickness } else { 0.0 };
        self.recipe.fillings().iter().zip(self.thick).map(of).collect()
    }

    pub(super) fn shape(
        &self,
        zones: &'a Zoned,
        regions: &'a Regions,
        side: Selection,
    ) -> Composed<'a> {
        Composed::of(self.part, zones, regions, self.lattices.clone(), &self.ties).only(side)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{Place, Role, Zone};

    #[test]
    fn regions_are_found_once_and_anew_when_a_zone_changes() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let faces = vec![ulmix_part::mark(&part.faces().list[0])];
        let place = Place::Faces { faces, depth_mm: 2.0 };
        let mut recipe = Recipe::for_part(&part.mesh.bounds());
        recipe.zones.list.push(Zone::new(1, "Sole", Role::KeepSolid, place));
        let pipeline = Pipeline::new(1 << 20);
        let before = pipeline.regions(&part, &recipe.zones);
        recipe.structure.cell_mm = [3.0; 3];
        assert!(Arc::ptr_eq(&before, &pipeline.regions(&part, &recipe.zones)));
        assert!(before.bytes(&part) > 100, "{}", before.bytes(&part));
        let changes: [fn(&mut Zone); 3] = [
            |z| z.name = "Keel".into(),
            |z| z.role = Role::KeepClear,
            |z| {
                let Place::Faces { depth_mm, .. } = &mut z.place else { unreachable!() };
                *depth_mm = 3.0;
            },
        ];
        for change in changes {
            let mut other = recipe.clone();
            change(&mut other.zones.list[0]);
            assert!(!Arc::ptr_eq(&before, &pipeline.regions(&part, &other.zones)));
        }
    }
}
