//! How far flat triangles of a size lie from a part's curved surface, and how finely its own
//! triangles are cut.

use crate::part::Part;
use crate::sample::by_area;
use glam::DVec3;
use ulmix_mesh::half_edges::{half_edges, HalfEdge};
use ulmix_mesh::parallel;

/// Steps of the ladder, to the doubling.
const RUNGS: f64 = 4.0;
/// The first rung, as a share of the part's longest side.
const FINEST: f64 = 1.0 / 2000.0;
/// Rungs of the ladder.
const COUNT: usize = 38;
/// Places of the surface that are looked at.
const PLACES: usize = 1500;
/// At this share of all places the deviation is at most what is told.
const SHARE: f64 = 0.99;
/// Where the surface turns by more than about 30° within a chord there is an edge, which meshes
/// keep.
const SMOOTH: f64 = 0.87;

/// By the length of chords, on a ladder, how far a chord's middle lies from the surface. mm.
#[derive(Clone, Debug)]
pub struct Chords {
    first: f64,
    sag: Vec<f64>,
    soft_edges: f64,
}

impl Chords {
    /// Looks at the part's surface with chords of all lengths; nothing when cancelled. Where
    /// thousands of triangles of a damaged part overlap that takes minutes.
    pub fn of(part: &Part, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<Chords> {
        let mesh = &part.mesh;
        let first = FINEST * mesh.bounds().size().max_element();
        let places = by_area(mesh, PLACES);
        let sag = (0..COUNT).map(|rung| {
            let chord = first * (rung as f64 / RUNGS).exp2();
            let mut all: Vec<f64> = parallel::gather(places.len(), |run, out| {
                let wanted = places[run].iter().take_while(|_| !cancelled());
                out.extend(wanted.flat_map(|&t| sags(part, t, chord)));
            });
            all.sort_by(f64::total_cmp);
            all.get((SHARE * all.len() as f64) as usize).copied().unwrap_or(0.0)
        });
        let chords = Chords { first, sag: sag.collect(), soft_edges: soft_edges(part) };
        (!cancelled()).then_some(chords)
    }

    /// Edges at which the part's own triangles turn a little, as they do on a curved face, per
    /// area. 1/mm².
    pub fn soft_edges(&self) -> f64 {
        self.soft_edges
    }

    /// The longest chord whose middle lies within a tolerance of the surface; infinite for flat
    /// faces alone. mm.
    pub fn within(&self, tolerance: f64) -> f64 {
        let Some(past) = self.sag.iter().position(|sag| *sag > tolerance) else {
            return f64::INFINITY;
        };
        let chord = |rung: usize| self.first * (rung as f64 / RUNGS).exp2();
        if past == 0 {
            return chord(0) * (tolerance / self.sag[0]).sqrt();
        }
        // The deviation grows with the square of the chord.
        let grown = (tolerance / self.sag[past - 1].max(1e-12)).sqrt();
        chord(past - 1) * grown.clamp(1.0, (1.0 / RUNGS).exp2())
    }
}

/// Half a chord away along the surface from the middle of a triangle, in two directions: how far
/// the surface has bent away there, which is as much as a whole chord's middle lies from it.
/// Nothing where it turns as at an edge.
fn sags(part: &Part, triangle: usize, chord: f64) -> impl Iterator<Item = f64> {
    let (p, normal) =
        (part.mesh.middle(triangle), part.mesh.area_vector(triangle).normalize_or_zero());
    let (x, y) = normal.any_orthonormal_pair();
    let away = |d: DVec3| {
        let q = p + d * (0.5 * chord);
        let near = part.bvh().nearest(q, chord * chord)?;
        let (there, distance) =
            (part.distance.face_normal(near.triangle), near.distance_squared.sqrt());
        // Past a rim the nearest place is the rim itself.
        let above = (q - near.point).dot(there).abs() > 0.9 * distance;
        (there.dot(normal) > SMOOTH && (above || distance < 1e-9 * chord)).then_some(distance)
    };
    [away(x), away(y), away(-x), away(-y)].into_iter().flatten().collect::<Vec<_>>().into_iter()
}

fn soft_edges(part: &Part) -> f64 {
    /// Cosines of about 50° and 1.5°.
    const TURNS: std::ops::Range<f64> = 0.64..0.99966;
    let mesh = &part.mesh;
    let all = half_edges(mesh);
    let normal = |side: &HalfEdge| mesh.area_vector(side.triangle() as usize).normalize_or_zero();
    let turns = |pair: &&[HalfEdge]| {
        pair.len() == 2 && TURNS.contains(&normal(&pair[0]).dot(normal(&pair[1])))
    };
    let count = all.chunk_by(|a, b| a.edge == b.edge).filter(turns).count();
    count as f64 / part.facts.area_mm2.max(1e-9)
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::TriMesh;

    #[test]
    fn chords_of_a_ball_sag_as_geometry_says_and_those_of_a_box_not_at_all() {
        let radius = 20.0;
        let ball = Part::prepare(&TriMesh::sphere(radius, 6)).unwrap();
        let chords = Chords::of(&ball, &|| false).unwrap();
        for tolerance in [0.02, 0.05, 0.2] {
            let expected = (8.0 * radius * tolerance).sqrt();
            let found = chords.within(tolerance);
            assert!((found / expected - 1.0).abs() < 0.15, "{found} for {expected}");
        }
        let block =
            Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 20.0, 10.0))).unwrap();
        assert_eq!(Chords::of(&block, &|| false).unwrap().within(0.01), f64::INFINITY);
    }

    #[test]
    fn chords_of_a_part_are_known_or_not_yet() {
        let ball = Part::prepare(&TriMesh::sphere(20.0, 4)).unwrap();
        assert!(!ball.measure_chords(&|| true));
        assert!(ball.measure_chords(&|| false));
        assert!(ball.measure_chords(&|| true), "they are kept");
    }

    #[test]
    fn edges_are_soft_where_a_face_is_curved() {
        let edges = |mesh: &TriMesh| {
            let part = Part::prepare(mesh).unwrap();
            (part.chords().soft_edges() * part.facts.area_mm2).round()
        };
        assert_eq!(edges(&TriMesh::cuboid(DVec3::ZERO, DVec3::ONE)), 0.0);
        let ball = TriMesh::sphere(10.0, 4);
        // Nearly all: a few triangles of the ball lie in one plane.
        let share = edges(&ball) / (1.5 * ball.triangles.len() as f64);
        assert!((0.9..=1.0).contains(&share), "{share}");
    }
}
