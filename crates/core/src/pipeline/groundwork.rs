//! What a run finds before there is a surface, once for all of its stages: fillings, regions,
//! structures without thickness, ties between them, and the linked values of the thicken step.

use super::relaxation::KeptRelaxation;
use super::{plan, Pipeline, Quiet};
use crate::error::RunError;
use crate::result::{Linked, LostFaces, LostSource};
use crate::stages::curve::CurveInput;
use crate::stages::field::{FieldInput, Graded};
use crate::stages::graded::{DensityInput, ThicknessInput};
use crate::stages::linked::LinkedInput;
use crate::stages::regions::RegionsInput;
use crate::stages::shares::SharesInput;
use crate::stages::structure::{SharedStructure, StructureInput};
use crate::stages::ties::TiesInput;
use crate::stages::zones::{ZonesInput, ZonesOnGrid};
use crate::stages::{Keyed, CODE};
use crate::watch::Watch;
use std::sync::Arc;
use ulmix_field::scalar::Sampled;
use ulmix_lattice::make;
use ulmix_lattice::ties::Ties;
use ulmix_part::zoned::Regions;
use ulmix_part::Part;
use ulmix_recipe::grading::PlacedGrading;
use ulmix_recipe::{key_of, Filling, GradedValue, Grading, Recipe};

/// A recipe in a part, as far as it is known without a surface.
pub(super) struct Groundwork<'a> {
    pub part: &'a Part,
    pub recipe: &'a Recipe,
    /// In the order of [`Recipe::fillings`].
    pub fillings: Vec<Filling<'a>>,
    /// Regions of the zones, as they were asked for.
    pub regions: Keyed<Arc<Regions>>,
    /// By filling.
    pub bare: Vec<Keyed<SharedStructure>>,
    /// Zones on the grid of the survey, on which draft and final agree.
    pub survey: Keyed<Arc<ZonesOnGrid>>,
    pub ties: Keyed<Arc<Vec<Ties>>>,
    pub linked: Keyed<Arc<Linked>>,
}

impl Pipeline {
    /// Resolves a recipe in a part. Foam sheets come to rest in a final run only: of other
    /// structures `draft` changes nothing.
    pub(super) fn groundwork<'a>(
        &self,
        part: &'a Part,
        recipe: &'a Recipe,
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<Groundwork<'a>, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let (quiet, fillings) = (&Quiet(watch), recipe.fillings());
        let of = |f: (usize, &Filling<'a>)| self.bare(part, recipe, f, draft, watch);
        let bare = fillings.iter().enumerate().map(of).collect::<Result<Vec<_>, RunError>>()?;
        // Whoever knows the linked values asks for the costs next.
        if !part.measure_chords(&|| watch.cancelled()) {
            return Err(RunError::Cancelled);
        }
        let regions = self.regions(part, recipe, watch)?;
        let survey = self.survey(part, &regions, quiet)?;
        let curve = |(filling, bare): (usize, &Keyed<SharedStructure>)| {
            let input = CurveInput { survey: survey.clone(), filling, bare: bare.clone() };
            self.answer(input, quiet)
        };
        let curves = bare.iter().enumerate().map(curve).collect::<Result<Vec<_>, RunError>>()?;
        let ties = TiesInput {
            part: part.into(),
            regions: regions.clone(),
            tied: recipe.zones.tied(),
            structures: fillings.iter().map(|f| f.structure).collect(),
            bare: bare.clone(),
        };
        let ties = self.answer(ties, quiet)?;
        let shares = SharesInput { part: part.into(), survey: survey.clone() };
        let linked = LinkedInput {
            part: part.into(),
            places: recipe.zones.places(),
            fillings: fillings.clone(),
            survey: survey.clone(),
            curves,
            ties: ties.clone(),
            shares: self.answer(shares, quiet)?,
            least_mm: plan::least_thickness(part),
            lost_faces: lost_faces(part, recipe, &regions),
            lost_sources: lost_sources(part, recipe, &fillings),
        };
        let linked = self.answer(linked, watch)?;
        Ok(Groundwork { part, recipe, fillings, regions, bare, survey, ties, linked })
    }

    /// The structure of a filling of a number, before it is given thickness.
    pub(super) fn bare(
        &self,
        part: &Part,
        recipe: &Recipe,
        (number, filling): (usize, &Filling),
        draft: bool,
        watch: &dyn Watch,
    ) -> Result<Keyed<SharedStructure>, RunError> {
        let sizes = self.graded(part, recipe, filling, GradedValue::CellSize, watch)?;
        let relaxed = self.relaxation(part, filling, &sizes, watch);
        let input = StructureInput::new(part, filling, sizes.clone(), draft, &relaxed);
        let bare = self.answer(input, watch)?;
        let bare = Keyed::new(bare.key, (*bare.value).clone());
        let graded = |value| self.graded(part, recipe, filling, value, watch);
        let quiet = &Quiet(watch);
        let led = if let Some(densities) = graded(GradedValue::Density)? {
            let regions = self.regions(part, recipe, watch)?;
            let survey = self.survey(part, &regions, quiet)?;
            let structure = filling.structure;
            let input = DensityInput { bare, structure, sizes, densities, survey, filling: number };
            self.answer(input, quiet)?
        } else if let Some(graded) = graded(GradedValue::Thickness)? {
            self.answer(ThicknessInput { bare, graded }, quiet)?
        } else {
            return Ok(bare);
        };
        Ok(Keyed::new(led.key, (*led.value).clone()))
    }

    /// What leads a value of a filling; `None` where nothing does.
    pub(super) fn graded(
        &self,
        part: &Part,
        recipe: &Recipe,
        filling: &Filling,
        value: GradedValue,
        watch: &dyn Watch,
    ) -> Result<Option<Graded>, RunError> {
        let Some(grading) = filling.grading_of(value) else { return Ok(None) };
        let values = self.field(part, recipe, filling, grading, watch)?;
        Ok(Some(Graded { given: grading.given, ends_mm: grading.ends_mm, values }))
    }

    /// What a grading of a filling gives in the part's box.
    pub(super) fn field(
        &self,
        part: &Part,
        recipe: &Recipe,
        filling: &Filling,
        grading: &Grading,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<Option<Sampled>>>, RunError> {
        let grading = PlacedGrading::new(grading, filling.gradings, &recipe.zones);
        let cell_mm = filling.structure.smallest();
        self.answer(FieldInput { part: part.into(), grading, cell_mm }, &Quiet(watch))
    }

    /// Regions of a recipe's zones, as they were asked for. Finding them is no stage of its own for
    /// whoever watches.
    pub(super) fn regions(
        &self,
        part: &Part,
        recipe: &Recipe,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<Regions>>, RunError> {
        let input = RegionsInput { part: part.into(), places: recipe.zones.places() };
        self.answer(input, &Quiet(watch))
    }

    /// Zones on the grid on which draft and final agree.
    fn survey(
        &self,
        part: &Part,
        regions: &Keyed<Arc<Regions>>,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<ZonesOnGrid>>, RunError> {
        self.zones(part, regions, plan::survey_step(part), 0.0, Vec::new(), watch)
    }

    /// Zones on a grid of a step in mm, as the lattice sees them where it reaches by `overlap` into
    /// what is solid.
    pub(super) fn zones(
        &self,
        part: &Part,
        regions: &Keyed<Arc<Regions>>,
        step: f64,
        overlap: f64,
        proud: Vec<f64>,
        watch: &dyn Watch,
    ) -> Result<Keyed<Arc<ZonesOnGrid>>, RunError> {
        let regions = regions.clone();
        self.answer(ZonesInput { part: part.into(), regions, step, overlap, proud }, watch)
    }

    /// How far the points of a structure are relaxed already. The relaxation depends only on what
    /// tells where the points begin.
    pub(super) fn relaxation<'a>(
        &'a self,
        part: &Part,
        filling: &Filling,
        sizes: &Option<Graded>,
        watch: &'a dyn Watch,
    ) -> KeptRelaxation<'a> {
        let points = filling.structure.of_points();
        let key = key_of(&[&CODE, &"relaxed", &part.key, &points, sizes]);
        KeptRelaxation { cache: &self.cache, key, watch }
    }
}

/// Zones, skins and fillings that name faces which the part does not have.
fn lost_faces(part: &Part, recipe: &Recipe, regions: &Regions) -> Vec<LostFaces> {
    let of_rows = recipe.fillings().into_iter().flat_map(|f| make::lost(part, f.structure));
    let name = |&(of, faces): &(_, usize)| (recipe.zones.name_of(of).to_owned(), faces);
    let of_zones = regions.lost.iter().map(name);
    of_rows.chain(of_zones).map(|(name, faces)| LostFaces { name, faces }).collect()
}

/// Sources of active gradings that the part does not have.
fn lost_sources(part: &Part, recipe: &Recipe, fillings: &[Filling]) -> Vec<LostSource> {
    let own = recipe.zones.list.iter().enumerate().filter(|(_, z)| z.own_fill().is_some());
    let zones = std::iter::once(None).chain(own.map(|(n, _)| Some(n)));
    let of_filling = |(zone, f): (Option<usize>, &Filling)| {
        let of_grading = |grading: &Grading| {
            let placed = PlacedGrading::new(grading, f.gradings, &recipe.zones);
            let lost = ulmix_part::grading::lost_sources(part, &placed).into_iter();
            let (id, of) = (grading.id, grading.of);
            lost.map(|(source, faces)| LostSource { zone, grading: id, of, source, faces })
                .collect::<Vec<_>>()
        };
        f.gradings.iter().flat_map(of_grading).collect::<Vec<_>>()
    };
    zones.zip(fillings).flat_map(of_filling).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::watch::Unwatched;
    use glam::DVec3;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{Place, Role, Zone};

    #[test]
    fn regions_are_found_once_and_anew_when_a_zone_lies_elsewhere() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let faces = vec![ulmix_part::mark(&part.faces().list[0])];
        let place = Place::Faces { faces, depth_mm: 2.0 };
        let mut recipe = Recipe::for_part(&part.mesh.bounds());
        recipe.zones.list.push(Zone::new(1, "Sole", Role::KeepSolid, place));
        let pipeline = Pipeline::new(1 << 20);
        let of = |recipe: &Recipe| pipeline.regions(&part, recipe, &Unwatched).unwrap().value;
        let before = of(&recipe);
        recipe.structure.cell_mm = [3.0; 3];
        recipe.zones.list[0].name = "Keel".into();
        assert!(Arc::ptr_eq(&before, &of(&recipe)), "a name moves nothing");
        assert!(before.bytes(&part) > 100, "{}", before.bytes(&part));
        let changes: [fn(&mut Zone); 2] = [
            |z| z.role = Role::KeepClear,
            |z| {
                let Place::Faces { depth_mm, .. } = &mut z.place else { unreachable!() };
                *depth_mm = 3.0;
            },
        ];
        for change in changes {
            let mut other = recipe.clone();
            change(&mut other.zones.list[0]);
            assert!(!Arc::ptr_eq(&before, &of(&other)));
        }
    }

    #[test]
    fn faces_that_are_gone_are_told_by_the_name_of_the_zone_today() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let mut gone = ulmix_part::mark(&part.faces().list[0]);
        gone.place_mm = [400.0; 3];
        let place = Place::Faces { faces: vec![gone], depth_mm: 2.0 };
        let mut recipe = Recipe::for_part(&part.mesh.bounds());
        recipe.zones.list.push(Zone::new(7, "Sole", Role::KeepSolid, place));
        let pipeline = Pipeline::new(1 << 24);
        let mut told = |name: &str| {
            recipe.zones.list[0].name = name.into();
            let (linked, _) = pipeline.estimate(&part, &recipe, &Unwatched).unwrap();
            linked.lost_faces
        };
        for name in ["Sole", "Keel"] {
            assert_eq!(told(name), [LostFaces { name: name.into(), faces: 1 }]);
        }
    }
}
