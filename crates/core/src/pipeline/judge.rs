//! A mesh from elsewhere, as a file holds it, against what a recipe asks for.

use super::{Pipeline, Quality, RunError, Watch};
use crate::asked::{as_asked, expected_bodies, Case, Expected};
use crate::compose::{Composed, Owner, Selection};
use crate::report::{LATTICE, SOLIDS};
use crate::result::{Apart, Crumbs, FinishedMesh};
use crate::stages::blocks::Found;
use crate::stand::{turn, Placing};
use ulmix_check::{checks_given, crossing_within, worst, Check, CheckGroup, Verdict};
use ulmix_mesh::{parallel, Bounds, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::{Recipe, RecipeError, RecipeFault, Stand};

/// Steps of the grid on which zones are sampled, along the part's longest side, at most.
const MOST_STEPS: f64 = 400.0;
/// How far a mesh on a bed may differ in size from the part on it, as a share of the part's longest
/// side.
const ALIKE: f64 = 0.002;

/// A mesh in mm as a file holds it, with its bodies in order where the file names them: each name,
/// and how many triangles it has.
pub struct FileMesh {
    /// All triangles of the file. mm.
    pub mesh: TriMesh,
    /// Bodies by name, with the number of triangles of each, in order.
    pub bodies: Vec<(String, usize)>,
}

impl From<TriMesh> for FileMesh {
    fn from(mesh: TriMesh) -> FileMesh {
        FileMesh { mesh, bodies: Vec::new() }
    }
}

impl FileMesh {
    /// The triangles of the bodies whose names are meant.
    fn some(&self, is_meant: impl Fn(&str) -> bool) -> TriMesh {
        let of_body =
            |(name, triangles): &(String, usize)| std::iter::repeat_n(is_meant(name), *triangles);
        let meant: Vec<bool> = self.bodies.iter().flat_map(of_body).collect();
        self.mesh.filtered(|t| meant.get(t).copied().unwrap_or(false))
    }

    /// Without the bodies that left as they came.
    fn made(self, part: &Part) -> FileMesh {
        let alongside = part.alongside();
        let came = |name: &str| alongside.iter().any(|b| b.0 == name);
        if !self.bodies.iter().any(|b| came(&b.0)) {
            return self;
        }
        let mesh = self.some(|name| !came(name));
        FileMesh { mesh, bodies: self.bodies.into_iter().filter(|b| !came(&b.0)).collect() }
    }

    /// Lattice and solids, which are bodies of their own. A file that holds one of them need not
    /// name it.
    fn sides(&self, expected: &Expected) -> Result<[TriMesh; 2], RecipeError> {
        if expected.solids == 0 || expected.lattice == 0 {
            let (all, none) = (self.mesh.clone(), TriMesh::default());
            return Ok(if expected.solids == 0 { [all, none] } else { [none, all] });
        }
        let sides = [LATTICE, SOLIDS].map(|side| self.some(|name| name == side));
        if sides.iter().any(|mesh| mesh.triangles.is_empty()) {
            return Err(RecipeError::new("mesh.apart_mm", RecipeFault::SidesNotNamed));
        }
        Ok(sides)
    }
}

impl Pipeline {
    /// The checks of a mesh, first of itself and then against the recipe. A mesh that stands as the
    /// recipe says is taken back from the bed, which asks that it is as large as the part. Where
    /// the recipe makes lattice and solids apart, the file names both. Bodies of the part that
    /// leave as they came are not judged.
    ///
    /// # Errors
    /// A value of the recipe that cannot be used, or [`RunError::Cancelled`].
    pub fn judge(
        &self,
        part: &Part,
        recipe: &Recipe,
        file: FileMesh,
        watch: &dyn Watch,
    ) -> Result<Vec<Check>, RunError> {
        recipe.validate(&part.mesh.bounds())?;
        let mut file = file.made(part);
        if let Some(stand) = &recipe.stand {
            file.mesh = off_the_bed(file.mesh, part, stand)?;
        }
        let groundwork = self.groundwork(part, recipe, false, watch)?;
        let (linked, regions) = (&*groundwork.linked.value, &*groundwork.regions.value);
        let cost = super::plan::cost(part, recipe, linked, Found::default(), f64::INFINITY);
        let step = cost.step_mm.max(part.mesh.bounds().size().max_element() / MOST_STEPS);
        let thick = groundwork.thicken();
        let run = thick.run(Quality::Final, step, &cost);
        let zones = run.zones(self, 0.0, watch)?;
        let apart = recipe.mesh.apart_mm;
        let expected =
            expected_bodies(part, regions, &zones.zoned, apart.is_some(), linked.finest().cell_mm);
        let owners = |mesh: &TriMesh, shape: &Composed| -> Vec<Owner> {
            parallel::map_list(&mesh.points, |_, &p| shape.owner(p))
        };
        let (mesh, owners, apart) = match apart {
            None => {
                let owners = owners(&file.mesh, run.shape(&zones, Selection::All).composed());
                (file.mesh, owners, None)
            }
            Some(overlap) => {
                let [mut mesh, solids] = file.sides(&expected)?;
                let grown = run.zones(self, overlap, watch)?;
                let mut all = owners(&mesh, run.shape(&grown, Selection::Lattice).composed());
                all.extend(owners(&solids, run.shape(&zones, Selection::Solids).composed()));
                let lattice_triangles = mesh.triangles.len();
                mesh.append(&solids);
                // No check asks how much they share.
                (mesh, all, Some(Apart { lattice_triangles, shared_mm3: 0.0 }))
            }
        };
        let lattice = apart.map_or(0, |a: Apart| a.lattice_triangles);
        let crossing = crossing_within(&mesh, &[lattice, mesh.triangles.len() - lattice]);
        let mut found = checks_given(&mesh, Some(expected.all()), &crossing);
        if mesh.triangles.is_empty() || worst(&found) == Verdict::Fail {
            let advice =
                "Only a closed surface that does not cross itself can be measured: mend it first.";
            let check = Check::new(
                "as_asked",
                "Held against the recipe",
                Verdict::Look,
                "not measured",
                0.0,
            );
            found.push(check.with_hint(advice).of_group(CheckGroup::AsAsked));
            return Ok(found);
        }
        let solid = FinishedMesh {
            openness: Vec::new(),
            owners,
            crumbs: Crumbs::default(),
            raw_triangles: mesh.triangles.len(),
            crossings: None,
            apart,
            placing: None,
            mesh,
        };
        let case = Case {
            part,
            recipe,
            linked,
            solid: &solid,
            step,
            zoned: &zones.zoned,
            regions,
            fillings: thick.fillings(),
        };
        found.extend(as_asked(&case).checks);
        Ok(found)
    }
}

/// A mesh on a bed in the part's axes.
fn off_the_bed(mesh: TriMesh, part: &Part, stand: &Stand) -> Result<TriMesh, RecipeError> {
    let turned = Bounds::of(part.mesh.points.iter().map(|p| turn(stand) * *p));
    let (size, own) = (turned.size(), mesh.bounds().size());
    if (size - own).abs().max_element() > ALIKE * size.max_element() {
        let (file_mm, part_mm) = (own.to_array(), size.to_array());
        return Err(RecipeError::new("stand", RecipeFault::OtherSize { file_mm, part_mm }));
    }
    Ok(Placing::of(&part.mesh, stand).back(mesh))
}
