//! The outer net: where Voronoi cells meet the part's surface.
//!
//! Every triangle of the part is shared out among the cells that it passes through (restricted
//! Voronoi diagram, Yan et al. 2009): from the cell of the nearest point on to those of its
//! neighbours, as long as a piece is left. Borders between two cells are the net; they lie on the
//! triangles, so never on chords.

use super::skeleton::Skeleton;
use glam::DVec3;
use std::collections::HashSet;
use std::ops::Range;
use ulmix_mesh::PointGrid;
use ulmix_mesh::{parallel, TriMesh};

/// The net on `mesh` of the cells of `points`, in the mesh's units. `pairs` are the points whose
/// cells touch; along `sharp` edges of the mesh runs a strut as well.
pub fn net(mesh: &TriMesh, points: &[DVec3], pairs: &[[u32; 2]], sharp: &[[u32; 2]]) -> Skeleton {
    if points.is_empty() {
        return Skeleton::default();
    }
    let grid = PointGrid::new(points);
    let mut beside: Vec<Vec<u32>> = vec![Vec::new(); points.len()];
    for [a, b] in pairs {
        beside[*a as usize].push(*b);
        beside[*b as usize].push(*a);
    }
    let sharp: HashSet<[u32; 2]> = sharp.iter().copied().collect();
    let of_run = |run: Range<usize>| {
        let mut out: Vec<[DVec3; 2]> = Vec::new();
        let mut last: Option<Owned> = None;
        for tri in &mesh.triangles[run] {
            let corners = tri.map(|v| mesh.points[v as usize]);
            let keep = [0, 1, 2].map(|e: usize| {
                let (a, b) = (tri[e], tri[(e + 1) % 3]);
                // Of the two triangles at a sharp edge the one that runs it upward.
                a < b && sharp.contains(&[a, b])
            });
            let middle = corners.iter().sum::<DVec3>() / 3.0;
            let reach =
                corners.iter().map(|c| c.distance_squared(middle)).fold(0.0, f64::max).sqrt();
            let owned = match last {
                Some(last) if last.holds(middle, reach) => last,
                _ => {
                    let start = last
                        .map_or_else(|| grid.nearest(middle, 1, |_| false)[0].1, |last| last.by);
                    Owned::at(middle, start, points, &beside)
                }
            };
            last = Some(owned);
            if owned.holds(middle, reach) {
                out.extend((0..3).filter(|e| keep[*e]).map(|e| [corners[e], corners[(e + 1) % 3]]));
            } else {
                shared_out(corners, owned.by, points, &beside, keep, &mut out);
            }
        }
        out
    };
    let components = parallel::runs(mesh.triangles.len(), TOGETHER, of_run).concat();
    let nodes: Vec<DVec3> = components.iter().flatten().copied().collect();
    let struts = (0..components.len() as u32).map(|n| [2 * n, 2 * n + 1]).collect();
    Skeleton { nodes, struts }
}

/// Triangles one after the other: neighbours mostly lie in the same cell.
const TOGETHER: usize = 256;

/// A place and the cell that it lies in.
#[derive(Clone, Copy)]
struct Owned {
    place: DVec3,
    /// The cell's point.
    by: u32,
    /// By how much the nearest other point is farther away.
    margin: f64,
}

impl Owned {
    /// Looks for the cell from that of a point not far away.
    fn at(place: DVec3, start: u32, points: &[DVec3], beside: &[Vec<u32>]) -> Owned {
        let (by, next) = walked(start, place, points, beside);
        Owned { place, by, margin: next.sqrt() - points[by as usize].distance(place) }
    }

    /// Does the cell surely hold all that is nearer to a place than `reach`? Going some way brings
    /// it nearer to another cell by no more than twice that.
    fn holds(&self, place: DVec3, reach: f64) -> bool {
        self.margin > 2.0 * (reach + place.distance(self.place)) * (1.0 + 1e-9)
    }
}

/// The point nearest to a place, by steps to neighbours that are nearer, and the square of the
/// distance of its nearest neighbour.
fn walked(from: u32, place: DVec3, points: &[DVec3], beside: &[Vec<u32>]) -> (u32, f64) {
    let (mut own, mut least) = (from, points[from as usize].distance_squared(place));
    loop {
        let (mut nearest, mut next) = (own, f64::INFINITY);
        for &other in &beside[own as usize] {
            let d = points[other as usize].distance_squared(place);
            if d < next {
                (nearest, next) = (other, d);
            }
        }
        if next >= least {
            return (own, next);
        }
        (own, least) = (nearest, next);
    }
}

/// What an edge of a piece lies on.
#[derive(Clone, Copy, PartialEq)]
enum Border {
    Side(usize),
    Cell(u32),
}

/// Shares a triangle out, from the cell that holds its middle on: adds borders between cells to
/// `out`, and the sides that are to be kept.
fn shared_out(
    corners: [DVec3; 3],
    start: u32,
    points: &[DVec3],
    beside: &[Vec<u32>],
    keep: [bool; 3],
    out: &mut Vec<[DVec3; 2]>,
) {
    let mut seen = vec![start];
    let mut next = 0;
    while next < seen.len() {
        let own = seen[next];
        next += 1;
        let mut component: Vec<(DVec3, Border)> =
            (0..3).map(|e| (corners[e], Border::Side(e))).collect();
        for &other in &beside[own as usize] {
            clip(&mut component, points[own as usize], points[other as usize], Border::Cell(other));
            if component.is_empty() {
                break;
            }
        }
        for n in 0..component.len() {
            let ends = [component[n].0, component[(n + 1) % component.len()].0];
            match component[n].1 {
                Border::Side(e) if keep[e] => out.push(ends),
                Border::Cell(other) => {
                    if own < other {
                        out.push(ends);
                    }
                    if !seen.contains(&other) {
                        seen.push(other);
                    }
                }
                Border::Side(_) => {}
            }
        }
    }
}

/// Cuts off what is nearer to `other` than to `own` (Sutherland & Hodgman 1974). Each corner goes
/// with the edge that leaves it.
fn clip(component: &mut Vec<(DVec3, Border)>, own: DVec3, other: DVec3, border: Border) {
    let (normal, middle) = (other - own, (other + own) * 0.5);
    let beyond = |p: DVec3| normal.dot(p - middle);
    if component.iter().all(|(p, _)| beyond(*p) <= 0.0) {
        return;
    }
    let before = std::mem::take(component);
    for n in 0..before.len() {
        let ((p, edge), (q, _)) = (before[n], before[(n + 1) % before.len()]);
        let (a, b) = (beyond(p), beyond(q));
        let cut = || p.lerp(q, a / (a - b));
        match (a <= 0.0, b <= 0.0) {
            (true, true) => component.push((p, edge)),
            (true, false) => {
                component.push((p, edge));
                component.push((cut(), border));
            }
            (false, true) => component.push((cut(), edge)),
            (false, false) => {}
        }
    }
    if component.len() < 3 {
        component.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::voronoi::{diagram, DiagramBounds};
    use ulmix_field::numeric::low_discrepancy;

    #[test]
    fn the_net_lies_on_the_surface_between_two_nearest_points_and_is_closed() {
        let ball = TriMesh::sphere(10.0, 4);
        let points: Vec<DVec3> =
            (1..300).map(|i| ((low_discrepancy(i * 3) * 997.0).fract() - 0.5) * 34.0).collect();
        let all = DiagramBounds {
            low: DVec3::splat(-20.0),
            high: DVec3::splat(20.0),
            radius: f64::INFINITY,
            outer: (usize::MAX, 0.0),
        };
        let pairs = diagram(&points, &all).pairs;
        let net = net(&ball, &points, &pairs, &[]).merged(1e-7);
        assert!(net.struts.len() > 500);
        for s in &net.struts {
            let [a, b] = net.ends(*s);
            let p = (a + b) * 0.5;
            // Between the facets' planes and the ball.
            assert!(p.length() < 10.0 + 1e-9 && p.length() > 9.9);
            let mut d: Vec<f64> = points.iter().map(|q| q.distance(p)).collect();
            d.sort_by(f64::total_cmp);
            assert!(d[1] - d[0] < 1e-6, "{} {}", d[0], d[1]);
        }
        // No loose ends: every node has at least two struts.
        let mut degree = vec![0; net.nodes.len()];
        net.struts.iter().flatten().for_each(|n| degree[*n as usize] += 1);
        assert!(degree.iter().all(|d| *d >= 2));
    }

    #[test]
    fn sharp_edges_are_followed_when_asked() {
        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        let points = [DVec3::new(2.0, 5.0, 5.0), DVec3::new(8.0, 5.0, 5.0)];
        let sharp = ulmix_part::Part::prepare(&cube).unwrap().sharp_edges;
        assert_eq!(sharp.len(), 12);
        let length = |s: &Skeleton| s.struts.iter().map(|e| s.length(*e)).sum::<f64>();
        let around = net(&cube, &points, &[[0, 1]], &[]);
        assert!((length(&around) - 40.0).abs() < 1e-9);
        let all = net(&cube, &points, &[[0, 1]], &sharp).merged(1e-9);
        assert!((length(&all) - 160.0).abs() < 1e-9);
        assert_eq!(all.facts().components, 1);
    }
}
