//! What a final mesh will cost, before it is made. Laws tell it at once; a few blocks of the mesh
//! tell how far the laws are off.

use super::plan;
use super::probe::{probe, Found};
use super::run::Thick;
use super::{Inner, Pipeline, Quality, RunError, Stage, Watch};
use crate::result::{Cost, Linked};
use ulmix_part::sample::scatter;
use ulmix_part::Part;
use ulmix_recipe::Recipe;

/// A recipe for a part, with thickness and density known.
pub(super) struct Known<'a> {
    pub part: &'a Part,
    pub recipe: &'a Recipe,
    pub linked: &'a Linked,
    /// Key of `linked`.
    pub key: &'a str,
}

impl Pipeline {
    /// Thickness, density and the cost of the final mesh, without meshing anything. Where blocks of
    /// that structure have been made, the last ones correct the laws.
    pub fn estimate(
        &self,
        part: &Part,
        recipe: &Recipe,
        watch: &dyn Watch,
    ) -> Result<(Linked, Cost), RunError> {
        recipe.validate(&part.mesh.bounds())?;
        self.bare_of_all(part, recipe, true, watch)?;
        let (linked, key) = self.linked(part, recipe, true, watch)?;
        let cost = self.by_last_blocks(&Known { part, recipe, linked: &linked, key: &key });
        Ok(((*linked).clone(), cost))
    }

    /// The cost of the final mesh, from a few blocks that are made of it.
    pub fn cost(&self, part: &Part, recipe: &Recipe, watch: &dyn Watch) -> Result<Cost, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let bare = self.bare_of_all(part, recipe, true, watch)?;
        let (linked, key) = self.linked(part, recipe, true, watch)?;
        let thickened = self.thicken(part, recipe, &bare, &linked, true, watch)?;
        self.by_blocks(&Known { part, recipe, linked: &linked, key: &key }, &thickened, watch)
    }

    /// By laws, corrected by the blocks of this recipe or by the last ones of its structure, if any
    /// have been made.
    pub(super) fn by_last_blocks(&self, known: &Known) -> Cost {
        let by_laws = self.corrected(known, Found::default());
        let [own, last] = self.found_keys(known, by_laws.step_mm);
        let found = self.cache.get::<Found>(&own).or_else(|| self.cache.get(&last));
        found.map_or(by_laws, |found| self.corrected(known, *found))
    }

    /// By laws, corrected by blocks of this recipe, which are made unless they are known.
    pub(super) fn by_blocks(
        &self,
        known: &Known,
        thickened: &Thick,
        watch: &dyn Watch,
    ) -> Result<Cost, RunError> {
        let Known { part, recipe, linked, .. } = *known;
        let by_laws = self.corrected(known, Found::default());
        let [own, last] = self.found_keys(known, by_laws.step_mm);
        let bytes = |_: &Found| 64;
        let found = self.stage(Stage::Thickness, &own, &Inner(watch), bytes, || {
            let run = thickened.run(part, recipe, Quality::Final, by_laws.step_mm, &by_laws);
            let survey =
                self.zones(part, recipe, plan::survey_step(part), 0.0, Vec::new(), &Inner(watch));
            let (_, zones, _) = survey.ok()?;
            let points = scatter(&zones.inside, &zones.grid, 60_000);
            Some(Found::of(&probe(&run, &points, &|| watch.cancelled())?, &by_laws, linked))
        })?;
        self.cache.put(last, found.clone(), bytes(&found));
        Ok(self.corrected(known, *found))
    }

    pub(super) fn corrected(&self, known: &Known, found: Found) -> Cost {
        plan::predict(known.part, known.recipe, known.linked, found, (self.memory_mb)())
    }

    /// Keys of what blocks tell of a recipe, and of what the last ones told of its structure in the
    /// part.
    fn found_keys(&self, known: &Known, step: f64) -> [String; 2] {
        let Known { part, recipe, key, .. } = *known;
        let mesh = &recipe.mesh;
        [
            self.key(&[&"blocks", &key, &step, &mesh.reduce_mm, &mesh.smoothing]),
            self.key(&[&"last blocks", &part.key, &recipe.structure, &mesh.reduce_mm]),
        ]
    }
}
