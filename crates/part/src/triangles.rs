//! A part's surface with other triangles: fewer, within a deviation or down to a number, or of one
//! size.

use crate::moved::Moved;
use crate::PartError;
use ulmix_formats::{go_on, Stopped};
use ulmix_mesh::half_edges::half_edges;
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::remesh::{remesh, triangles_at, RemeshOptions};
use ulmix_mesh::TriMesh;

/// Triangles before and after, and how far the surfaces lie from each other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Remade {
    /// Triangles before.
    pub before: usize,
    /// Triangles after.
    pub after: usize,
    /// How far the surfaces lie from each other.
    pub moved: Moved,
}

/// Edges that turn by more stay sharp when triangles are evened. Degrees.
const CREASE_DEG: f64 = 30.0;

/// Joins triangles where that moves no place of the surface by more than `error` mm, measured both
/// ways. Rims of open surfaces and edges shared by more than two triangles stay as they are, and so
/// does a mesh where nothing else keeps within the bound.
///
/// # Errors
/// More triangles than may be made, or [`FormatError::Stopped`](ulmix_formats::FormatError::Stopped) when nobody waits for them.
pub fn within(mesh: &mut TriMesh, error: f64, stopped: Stopped) -> Result<Remade, PartError> {
    let kept = at_odd_edges(mesh);
    // Reduction holds the points; between them the chords of curved faces lie farther off.
    let mut held = error;
    for _ in 0..ROUNDS {
        let new = reduced(mesh, &kept, held, stopped);
        go_on(stopped)?;
        let moved = Moved::between(&new, mesh);
        if moved.greatest <= error {
            return Ok(replaced(mesh, new, moved));
        }
        held *= 0.9 * error / moved.greatest;
    }
    let same = mesh.clone();
    Ok(replaced(mesh, same, Moved { greatest: 0.0, mean: 0.0 }))
}

/// How often a bound is tried for.
const ROUNDS: usize = 6;

/// Joins triangles until there are at most `most`: what moves the surface least is joined first,
/// and the last round's deviation is searched for, so that the number comes within three percent.
/// What cannot be joined stays.
///
/// # Errors
/// More triangles than may be made, or [`FormatError::Stopped`](ulmix_formats::FormatError::Stopped) when nobody waits for them.
pub fn down_to(mesh: &mut TriMesh, most: usize, stopped: Stopped) -> Result<Remade, PartError> {
    let longest = mesh.bounds().size().max_element();
    let enough = |m: &TriMesh| m.triangles.len() <= most;
    let mut now = mesh.clone();
    let mut error = 1e-6 * longest;
    while !enough(&now) && error < 0.2 * longest {
        let kept = at_odd_edges(&now);
        let next = reduced(&now, &kept, error, stopped);
        go_on(stopped)?;
        if enough(&next) {
            now = searched(&now, &kept, next, (error, most), stopped);
            break;
        }
        now = next;
        error *= GROWS;
    }
    go_on(stopped)?;
    let moved = Moved::between(&now, mesh);
    Ok(replaced(mesh, now, moved))
}

/// By how much the deviation grows from round to round.
const GROWS: f64 = 1.6;

/// The mesh of the least deviation found that has few enough triangles: `best` does, at a deviation
/// of `high`.
fn searched(
    from: &TriMesh,
    kept: &[bool],
    mut best: TriMesh,
    (mut high, most): (f64, usize),
    stopped: Stopped,
) -> TriMesh {
    let mut low = 0.0;
    for _ in 0..8 {
        if best.triangles.len() + most / 33 >= most || stopped() {
            break;
        }
        let error = 0.5 * (low + high);
        let tried = reduced(from, kept, error, stopped);
        if tried.triangles.len() <= most {
            (best, high) = (tried, error);
        } else {
            low = error;
        }
    }
    best
}

/// Triangles with edges of about `edge` mm; sharp edges and rims stay.
///
/// # Errors
/// More triangles than may be made, or [`FormatError::Stopped`](ulmix_formats::FormatError::Stopped) when nobody waits for them.
pub fn even(mesh: &mut TriMesh, edge: f64, stopped: Stopped) -> Result<Remade, PartError> {
    let expected = triangles_at(mesh, edge);
    if expected > MOST_EVEN {
        return Err(PartError::TooEven {
            edge_mm: edge,
            millions: expected / 1e6,
            least_mm: edge * (expected / MOST_EVEN).sqrt(),
        });
    }
    let new = remesh(mesh, &RemeshOptions { edge, crease_degrees: CREASE_DEG, cancelled: stopped });
    go_on(stopped)?;
    let moved = Moved::between(&new, mesh);
    Ok(replaced(mesh, new, moved))
}

fn reduced(mesh: &TriMesh, kept: &[bool], error: f64, stopped: Stopped) -> TriMesh {
    reduce(
        mesh,
        &ReduceOptions { error, labels: None, faithful: (&[], 0.0), kept, cancelled: stopped },
    )
    .mesh
}

/// Puts a mesh in the place of another, from which it is known to have `moved`.
fn replaced(mesh: &mut TriMesh, new: TriMesh, moved: Moved) -> Remade {
    let old = std::mem::replace(mesh, new);
    Remade { before: old.triangles.len(), after: mesh.triangles.len(), moved }
}

/// Most triangles that even ones may become.
const MOST_EVEN: f64 = 2e6;

/// The points on edges that do not join exactly two triangles.
fn at_odd_edges(mesh: &TriMesh) -> Vec<bool> {
    let mut out = vec![false; mesh.points.len()];
    for run in half_edges(mesh).chunk_by(|a, b| a.edge == b.edge).filter(|run| run.len() != 2) {
        run[0].edge.iter().for_each(|v| out[*v as usize] = true);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_mesh::Topology;

    #[test]
    fn a_ball_keeps_its_bound_its_topology_and_the_told_deviation() {
        let ball = TriMesh::sphere(20.0, 6);
        for error in [0.02, 0.1, 0.5] {
            let mut m = ball.clone();
            let told = within(&mut m, error, &|| false).unwrap();
            assert!(
                Topology::of(&m).sound()
                    && told.after == m.triangles.len()
                    && told.before == ball.triangles.len()
            );
            assert!(told.after * 2 < told.before, "{told:?}");
            assert!(
                told.moved.greatest <= error && told.moved.mean <= told.moved.greatest,
                "{told:?} {error}"
            );
            assert!((m.volume() / ball.volume() - 1.0).abs() < 3.0 * error / 20.0);
        }
    }

    #[test]
    fn a_number_of_triangles_is_met_from_below() {
        let ball = TriMesh::sphere(20.0, 5);
        for most in [200, 1000, 5000] {
            let mut m = ball.clone();
            let told = down_to(&mut m, most, &|| false).unwrap();
            assert!(Topology::of(&m).sound() && told.after == m.triangles.len());
            assert!(told.after <= most && told.after * 100 >= most * 95, "{told:?}");
            // Even triangles would leave the ball by 96 mm over their number.
            assert!(told.moved.greatest < 4.0 * 96.0 / most as f64, "{told:?}");
        }
        let mut block = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        assert_eq!(down_to(&mut block, 50, &|| false).unwrap().after, 12);
    }

    #[test]
    fn evened_parts_tell_what_it_cost() {
        let ball = TriMesh::sphere(20.0, 5);
        let mut m = ball.clone();
        let told = even(&mut m, 4.0, &|| false).unwrap();
        assert!(Topology::of(&m).sound() && told.after < told.before);
        // The sagitta of a chord of 4 mm, and of a facet's middle somewhat more.
        assert!(told.moved.greatest > 0.05 && told.moved.greatest < 0.3, "{told:?}");
        assert!(even(&mut m, 0.01, &|| false)
            .is_err_and(|e| e.to_string().contains("million triangles")
                && e.hint().contains("mm or longer")));
    }

    #[test]
    fn flat_faces_cost_nothing_and_rims_stay() {
        let mut block = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        let told = within(&mut block, 0.1, &|| false).unwrap();
        assert!((told.before, told.after) == (12, 12) && told.moved.greatest < 1e-12, "{told:?}");
        // A half ball keeps every point of its rim.
        let ball = TriMesh::sphere(20.0, 5);
        let mut half = ulmix_mesh::weld::weld(&ball.filtered(|t| ball.middle(t).z > 0.0), 0.0).mesh;
        let rim = |m: &TriMesh| m.points.iter().filter(|p| p.z.abs() < 1e-9).count();
        let (open, points) = (Topology::of(&half).open_edges, rim(&half));
        let told = within(&mut half, 0.3, &|| false).unwrap();
        assert!(told.after * 3 < told.before);
        assert_eq!((Topology::of(&half).open_edges, rim(&half)), (open, points));
    }
}
