//! A surface wound anew around the inside of one that crosses itself.
//!
//! The inside is where the winding number is positive; its border is meshed as that of a solid part
//! is, so that faces and edges stay in their place wherever a step of the grid can see them.

use crate::moved::Moved;
use crate::part::Part;
use crate::whole::Whole;
use crate::zoned::{Regions, Zoned};
use crate::PartError;
use ulmix_field::grid::Grid;
use ulmix_field::polygonise::{polygonise, Care};
use ulmix_formats::{go_on, Stopped};
use ulmix_mesh::crossing::triangles_of;
use ulmix_mesh::reduce::{points_within, reduce, ReduceOptions};
use ulmix_mesh::untangle::{around, round_to_f32, untangle, Room, KEPT_AROUND};
use ulmix_mesh::{Bounds, TriMesh};
use ulmix_recipe::{Role, Zones};

/// Triangles are joined where that moves no point by more than this share of the step.
const REDUCED: f64 = 0.02;

/// What winding a surface anew did to it.
pub struct Rewrapped {
    /// How far its points lie from the surface as it was.
    pub moved: Moved,
    /// Triangles that cross all the same.
    pub crossing: usize,
}

/// A closed mesh around what lies inside `mesh`, seen at a step in mm.
///
/// # Errors
/// A step that would ask for too many samples, or [`FormatError::Stopped`](ulmix_formats::FormatError::Stopped).
pub fn rewrap(
    mesh: &TriMesh,
    step: f64,
    stopped: Stopped,
) -> Result<(TriMesh, Rewrapped), PartError> {
    let part = Part::prepare(mesh)?;
    let regions = Regions::of(&part, &Zones { rest: Role::KeepSolid, ..Zones::default() });
    let made = Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), step), stopped)
        .and_then(|zoned| {
            let whole = Whole { part: &part, zoned: &zoned };
            polygonise(&zoned.grid, &zoned.solid, Some(zoned.smooth()), &whole, Care::Full, stopped)
        });
    go_on(stopped)?;
    let Some(raw) = made.filter(|m| !m.triangles.is_empty()) else {
        return Err(PartError::NothingLeft { step_mm: step });
    };
    let (mesh, crossing) = without_crossings(&raw, step, stopped);
    go_on(stopped)?;
    let moved = Moved::of(&mesh.points, part.bvh());
    Ok((mesh, Rewrapped { moved, crossing }))
}

/// Reduces a mesh of a grid of this step in mm, but for what would cross; the mesh, and how many
/// triangles cross all the same.
fn without_crossings(raw: &TriMesh, step: f64, stopped: Stopped) -> (TriMesh, usize) {
    let error = REDUCED * step;
    let mut boxes: Vec<Bounds> = Vec::new();
    let mut attempts = KEPT_AROUND.into_iter();
    loop {
        let next = attempts.next().flatten();
        let kept = points_within(&boxes, &raw.points);
        let options = ReduceOptions {
            error,
            labels: None,
            faithful: (&[], 0.0),
            kept: &kept,
            cancelled: stopped,
        };
        let mut mesh = reduce(raw, &options).mesh;
        round_to_f32(&mut mesh);
        let pairs =
            untangle(&mut mesh, Room { last_resort: next.is_none(), ..Room::of(&|_| error) });
        match next {
            Some(about) if !pairs.is_empty() => boxes.extend(around(&mesh, &pairs, about * step)),
            _ => return (mesh, triangles_of(&pairs).len()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_field::numeric::Random;
    use ulmix_mesh::crossing::crossing_pairs;
    use ulmix_mesh::{Bvh, Topology};

    #[test]
    fn tangled_balls_are_wound_anew_without_crossings_or_these_are_told() {
        let mut clean = 0;
        for seed in 0..6 {
            let mut random = Random::new(seed, 0);
            let ball = TriMesh::sphere(10.0, 3);
            let shift = |random: &mut Random| DVec3::from([0; 3].map(|_| random.unit() - 0.5));
            let points = ball.points.iter().map(|p| p + 4.0 * shift(&mut random)).collect();
            let tangled = TriMesh { points, ..ball };
            assert!(!crossing_pairs(&tangled, &Bvh::new(&tangled)).is_empty());
            for step in [0.8, 0.3] {
                let (new, told) = rewrap(&tangled, step, &|| false).unwrap();
                let t = Topology::of(&new);
                let crossing = triangles_of(&crossing_pairs(&new, &Bvh::new(&new))).len();
                assert!(t.closed() && told.crossing == crossing, "{seed} {step}: {crossing}");
                clean += (crossing == 0) as usize;
            }
        }
        // A ball of spikes is harder than any part.
        assert!(clean >= 10, "{clean} of 12");
    }
}
