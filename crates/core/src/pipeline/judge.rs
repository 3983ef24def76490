//! A mesh from elsewhere, as a file holds it, against what a recipe asks for.

use super::finish::{Crumbs, Solid};
use super::probe::Found;
use super::{Pipeline, Quality, RunError, Watch};
use crate::asked::{as_asked, expected_bodies, Case};
use crate::check::{checks, worst, Check, CheckGroup, Verdict};
use crate::part::Part;
use crate::recipe::{Recipe, RecipeError, Stand};
use crate::shape::{Owner, Side};
use crate::stand::{turn, Placing};
use crate::zoned::Regions;
use glam::DVec3;
use rayon::prelude::*;
use ulmix_mesh::{Bounds, TriMesh};

/// Steps of the grid on which zones are sampled, along the part's longest side, at most.
const MOST_STEPS: f64 = 400.0;
/// How far a mesh on a bed may differ in size from the part on it, as a share of the part's longest side.
const ALIKE: f64 = 0.002;

impl Pipeline {
    /// The checks of a mesh in mm, first of itself and then against the recipe. A mesh that stands as the recipe says is
    /// taken back from the bed, which asks that it is as large as the part.
    pub fn judge(&self, part: &Part, recipe: &Recipe, mesh: TriMesh, watch: &dyn Watch) -> Result<Vec<Check>, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        if recipe.mesh.apart_mm.is_some() {
            let message = "The recipe makes lattice and solids as bodies of their own.";
            let hint = "Check the file without the recipe, or let the recipe make one body.";
            return Err(RecipeError::new("mesh.apart_mm", message, hint).into());
        }
        let mesh = match &recipe.stand {
            Some(stand) => off_the_bed(mesh, part, stand)?,
            None => mesh,
        };
        let bare = self.bare_of_all(part, recipe, false, watch)?;
        let (linked, _) = self.linked(part, recipe, false, watch)?;
        let prediction = super::plan::predict(part, recipe, &linked, Found::default(), f64::INFINITY);
        let step = prediction.step_mm.max(part.mesh.bounds().size().max_element() / MOST_STEPS);
        let thickened = self.thicken(part, recipe, &bare, &linked, false, watch)?;
        let run = thickened.run(part, recipe, Quality::Final, step, &prediction);
        let proud = run.proud();
        let (shape_regions, zones, _) = self.zones(part, recipe, step, 0.0, proud, watch)?;
        let regions = Regions::of(part, &recipe.zones);
        let expected = expected_bodies(part, &regions, &zones, false, linked.finest().cell_mm);
        let mut found = checks(&mesh, Some(expected.all()));
        if mesh.triangles.is_empty() || worst(&found) == Verdict::Fail {
            let advice = "Only a closed surface that does not cross itself can be measured: mend it first.";
            let check = Check::new("as_asked", "Held against the recipe", Verdict::Look, "not measured", 0.0);
            found.push(check.with_hint(advice).of_group(CheckGroup::AsAsked));
            return Ok(found);
        }
        let shape = run.shape(&zones, &shape_regions, Side::All);
        let owners: Vec<Owner> = mesh.points.par_iter().map(|&p| shape.owner(p)).collect();
        let solid = Solid {
            openness: Vec::new(),
            owners,
            crumbs: Crumbs::default(),
            raw_triangles: mesh.triangles.len(),
            crossings: None,
            apart: None,
            placing: None,
            mesh,
        };
        let fillings = thickened.fillings(&bare);
        let case = Case { part, recipe, linked: &linked, solid: &solid, step, zoned: &zones, regions: &regions, fillings };
        found.extend(as_asked(&case).checks);
        Ok(found)
    }
}

/// A mesh on a bed in the part's axes.
fn off_the_bed(mesh: TriMesh, part: &Part, stand: &Stand) -> Result<TriMesh, RecipeError> {
    let turned = Bounds::of(part.mesh.points.iter().map(|p| turn(stand) * *p));
    let (size, own) = (turned.size(), mesh.bounds().size());
    if (size - own).abs().max_element() > ALIKE * size.max_element() {
        let of = |s: DVec3| format!("{:.2} × {:.2} × {:.2} mm", s.x, s.y, s.z);
        let message = format!("The file is {} large and the part on its bed {}: where it lay cannot be told.", of(own), of(size));
        let hint = "Write the file in the part's own place, with no bed in the recipe, and check that.";
        return Err(RecipeError::new("stand", message, hint));
    }
    Ok(Placing::of(&part.mesh, stand).back(mesh))
}
