//! A surface wound anew around the inside of one that crosses itself.
//!
//! The inside is where the winding number is positive; its border is meshed as that of a solid part is,
//! so that faces and edges stay in their place wherever a step of the grid can see them.

use crate::grid::Grid;
use crate::lattice::make;
use crate::moved::Moved;
use crate::part::Part;
use crate::polygonise::{polygonise, Care};
use crate::recipe::{Joins, Role, Structure, Zones};
use crate::shape::Composed;
use crate::zoned::{Regions, Zoned};
use ulmix_formats::FormatError;
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::TriMesh;

/// Triangles are joined where that moves no point by more than this share of the step.
const REDUCED: f64 = 0.02;

/// A closed mesh without crossings around what lies inside `mesh`, seen at a step in mm.
pub fn rewrap(mesh: &TriMesh, step: f64) -> Result<(TriMesh, Moved), FormatError> {
    let part = Part::prepare(mesh)?;
    let regions = Regions::of(&part, &Zones { rest: Role::KeepSolid, ..Zones::default() });
    let never = || false;
    let made = Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), step), &never).and_then(|zoned| {
        // All is kept: what would fill it does not matter.
        let lattice = make::structure(&part, &Structure::default(), Joins::default(), &never)?.thicken(1.0);
        let shape = Composed::new(&part, &zoned, &regions, &*lattice, 0.0);
        polygonise(&zoned.grid, &shape.signs(), Some(zoned.smooth()), &shape, Care::Full, &never)
    });
    let Some(raw) = made.filter(|m| !m.triangles.is_empty()) else {
        return Err(FormatError::new(
            format!("Nothing of the part is left at a step of {step} mm."),
            "Choose a finer step for resolving crossings.",
        ));
    };
    let options = ReduceOptions { error: REDUCED * step, labels: None, faithful: (&[], 0.0), kept: &[], cancelled: &never };
    let new = reduce(&raw, &options).mesh;
    let moved = Moved::of(&[(&new.points, part.bvh())]);
    Ok((new, moved))
}
