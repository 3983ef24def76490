//! What is known before a mesh is made: thickness and density, and what a final mesh will cost.
//! Laws tell the cost at once; a few blocks of the mesh tell how far the laws are off.

use super::groundwork::Groundwork;
use super::plan;
use super::run::{Run, Thick};
use super::{Pipeline, Quiet};
use crate::error::RunError;
use crate::result::{Cost, Linked};
use crate::stages::blocks::{BlocksInput, BlocksOf, Found, ProbedRun};
use crate::stages::CODE;
use crate::watch::{Quality, Watch};
use ulmix_part::Part;
use ulmix_recipe::{key_of, Recipe};

impl Pipeline {
    /// Thickness, density and the cost of the final mesh, without meshing anything. Where blocks of
    /// that structure have been made, the last ones correct the laws.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, or [`RunError::Cancelled`].
    pub fn estimate(
        &self,
        part: &Part,
        recipe: &Recipe,
        watch: &dyn Watch,
    ) -> Result<(Linked, Cost), RunError> {
        let groundwork = self.groundwork(part, recipe, true, watch)?;
        let cost = self.cost_by_last_blocks(&groundwork);
        Ok(((*groundwork.linked.value).clone(), cost))
    }

    /// The cost of the final mesh, from a few blocks that are made of it.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, or [`RunError::Cancelled`].
    pub fn cost(&self, part: &Part, recipe: &Recipe, watch: &dyn Watch) -> Result<Cost, RunError> {
        let groundwork = self.groundwork(part, recipe, true, watch)?;
        self.cost_by_blocks(&groundwork.thicken(), watch)
    }

    /// By laws, corrected by the blocks of this recipe or by the last ones of its structure, if any
    /// have been made.
    pub(super) fn cost_by_last_blocks(&self, groundwork: &Groundwork) -> Cost {
        let by_laws = self.cost_by_laws(groundwork, Found::default());
        let own = blocks_of(groundwork, &by_laws).key();
        let found = self.cache.get::<Found>(&own);
        let found = found.or_else(|| self.cache.get(&last_blocks(groundwork)));
        found.map_or(by_laws, |found| self.cost_by_laws(groundwork, *found))
    }

    /// By laws, corrected by blocks of this recipe, which are made unless they are known.
    pub(super) fn cost_by_blocks(
        &self,
        thick: &Thick,
        watch: &dyn Watch,
    ) -> Result<Cost, RunError> {
        let groundwork = thick.groundwork;
        let by_laws = self.cost_by_laws(groundwork, Found::default());
        let run = thick.run(Quality::Final, by_laws.step_mm, &by_laws);
        let input = blocks(&run, &by_laws);
        let found = self.answer(input, &Quiet(watch))?.value;
        self.cache.put(last_blocks(groundwork), found.clone(), 64);
        Ok(self.cost_by_laws(groundwork, *found))
    }

    /// By laws that blocks correct by `found`.
    pub(super) fn cost_by_laws(&self, groundwork: &Groundwork, found: Found) -> Cost {
        let Groundwork { part, recipe, linked, .. } = groundwork;
        plan::cost(part, recipe, linked, found, (self.memory_mb)())
    }
}

/// Blocks of a final run.
fn blocks<'a>(run: &'a Run<'a>, by_laws: &Cost) -> BlocksInput<'a> {
    let Run { groundwork, fillings, ties, .. } = run;
    let regions = (*groundwork.regions.value).clone().standing_proud(run.proud.clone());
    let survey = &*groundwork.survey.value;
    let probed = ProbedRun { part: groundwork.part, regions, survey, fillings, ties };
    BlocksInput { of: blocks_of(groundwork, by_laws), run: probed }
}

/// What blocks of a final mesh follow from, whose laws tell `by_laws`.
fn blocks_of(groundwork: &Groundwork, by_laws: &Cost) -> BlocksOf {
    let (mesh, step) = (&groundwork.recipe.mesh, by_laws.step_mm);
    BlocksOf {
        linked: groundwork.linked.clone(),
        step,
        reduce_mm: mesh.reduce_mm,
        rounds: plan::smoothing_rounds(mesh.smoothing, step, step),
        by_laws: [by_laws.raw_triangles, by_laws.triangles],
    }
}

/// Key of what the last blocks told of a structure in a part.
fn last_blocks(groundwork: &Groundwork) -> String {
    let Groundwork { part, recipe, .. } = groundwork;
    key_of(&[&CODE, &"last blocks", &part.key, &recipe.structure, &recipe.mesh.reduce_mm])
}

#[cfg(test)]
impl Pipeline {
    /// What the blocks of a recipe tell to a test.
    pub(crate) fn probed<T>(
        &self,
        part: &Part,
        recipe: &Recipe,
        test: &dyn Fn(&BlocksInput) -> T,
    ) -> T {
        let groundwork = self.groundwork(part, recipe, true, &crate::watch::Unwatched).unwrap();
        let by_laws = self.cost_by_laws(&groundwork, Found::default());
        let thick = groundwork.thicken();
        let run = thick.run(Quality::Final, by_laws.step_mm, &by_laws);
        test(&blocks(&run, &by_laws))
    }
}
