//! On which side of a part's surface places lie, for many of them: most are told by the cell of a
//! grid in which they lie, for no triangle comes near it.

use crate::part::Part;
use crate::sample::sample_part;
use glam::DVec3;
use ulmix_field::grid::{bits_between, Bits, Grid};
use ulmix_mesh::parallel;

/// A part and what is known of its sides.
pub struct PointLocator<'a> {
    part: &'a Part,
    /// None for a part that is not closed: its border may pass where there is no triangle.
    known: Option<KnownCells>,
}

/// The cells of a grid, each around one sample.
struct KnownCells {
    grid: Grid,
    inside: Bits,
    /// Cells that triangles may touch.
    touched: Bits,
}

/// Cells for each place that is to be asked for, and how many there are at least and at most.
const CELLS: usize = 12;
const FEWEST: f64 = 1e5;
const MOST: f64 = 1e7;

impl<'a> PointLocator<'a> {
    /// For about so many `places`.
    pub fn new(part: &'a Part, places: usize) -> PointLocator<'a> {
        if !part.facts.closed {
            return PointLocator { part, known: None };
        }
        let bounds = part.mesh.bounds();
        let size = bounds.size();
        let cells = ((CELLS * places) as f64).clamp(FEWEST, MOST);
        // Of a flat part not so many along its other sides that one word a row is too much.
        let step = (size.x * size.y * size.z / cells).cbrt().max(size.max_element() / 2000.0);
        let grid = Grid::covering(&bounds, step);
        let inside = sample_part(part, &grid, &|| false);
        let known = inside.map(|inside| KnownCells { touched: touched(part, &grid), grid, inside });
        PointLocator { part, known }
    }

    /// The side, unless triangles are near.
    pub fn clearly_inside(&self, p: DVec3) -> Option<bool> {
        self.known.as_ref()?.side(p)
    }

    /// Does the place lie inside the part?
    pub fn inside(&self, p: DVec3) -> bool {
        self.clearly_inside(p).unwrap_or_else(|| self.part.distance.inside(p))
    }

    /// Is the part surely farther from the middle of two places than they are?
    pub fn clearly_outside(&self, a: DVec3, b: DVec3) -> bool {
        let (middle, half) = ((a + b) * 0.5, 0.5 * a.distance(b));
        self.clearly_inside(middle) == Some(false) && self.apart(middle - half, middle + half)
    }

    /// Does the surface surely not come into the box of two places?
    pub fn apart(&self, a: DVec3, b: DVec3) -> bool {
        self.known.as_ref().is_some_and(|known| known.apart(a, b))
    }
}

impl KnownCells {
    fn cell(&self, p: DVec3) -> DVec3 {
        ((p - self.grid.origin) / self.grid.step).round()
    }

    fn side(&self, p: DVec3) -> Option<bool> {
        let at = self.cell(p);
        if at.cmplt(DVec3::ZERO).any() || at.cmpge(self.grid.size.as_dvec3()).any() {
            return Some(false);
        }
        let at = at.as_uvec3();
        (!self.touched.get(at.x, at.y, at.z)).then(|| self.inside.get(at.x, at.y, at.z))
    }

    fn apart(&self, a: DVec3, b: DVec3) -> bool {
        let last = self.grid.size.as_dvec3() - 1.0;
        let (low, high) = (self.cell(a.min(b)), self.cell(a.max(b)));
        if high.cmplt(DVec3::ZERO).any() || low.cmpgt(last).any() {
            return true;
        }
        let (low, high) = (low.max(DVec3::ZERO).as_uvec3(), high.min(last).as_uvec3());
        (low.z..=high.z).all(|k| {
            (low.y..=high.y).all(|j| {
                let row = self.touched.row(j as usize, k as usize);
                (low.x / 64..=high.x / 64).all(|w| {
                    row[w as usize] & bits_between(w as usize, low.x as usize, high.x as usize + 1)
                        == 0
                })
            })
        })
    }
}

/// The cells, around samples, that the part's triangles may touch.
fn touched(part: &Part, grid: &Grid) -> Bits {
    let triangles = part.mesh.triangles.len();
    let run = triangles.div_ceil(rayon::current_num_threads()).max(2000);
    let found = parallel::runs(triangles, run, |run| touched_by(part, run, grid));
    found.into_iter().reduce(|a, b| a.or(&b)).unwrap_or_else(|| Bits::new(grid))
}

/// The samples that some of the triangles may touch.
fn touched_by(part: &Part, triangles: std::ops::Range<usize>, grid: &Grid) -> Bits {
    let mut out = Bits::new(grid);
    // A little more than half a cell, against rounding.
    let half = 0.5 + 1e-6;
    let last = grid.size.as_dvec3() - 1.0;
    for t in triangles {
        // In cells.
        let [a, b, c] = part.mesh.corners(t).map(|p| (p - grid.origin) / grid.step);
        let low = (a.min(b).min(c) - half).ceil().max(DVec3::ZERO).as_uvec3();
        let high = (a.max(b).max(c) + half).floor().min(last).as_uvec3();
        let normal = (b - a).cross(c - a).normalize_or_zero();
        // A cube around a sample reaches the plane within this.
        let reach = half * (normal.x.abs() + normal.y.abs() + normal.z.abs()) + 1e-6;
        for k in low.z..=high.z {
            for j in low.y..=high.y {
                // Where along the row the plane is within reach.
                let off = normal.dot(DVec3::new(0.0, j as f64, k as f64) - a);
                let (from, to) = if normal.x.abs() > 1e-9 {
                    let (p, q) = ((-off - reach) / normal.x, (-off + reach) / normal.x);
                    (p.min(q).ceil().max(low.x as f64), p.max(q).floor().min(high.x as f64))
                } else if off.abs() <= reach + 1e-6 * last.max_element() {
                    (low.x as f64, high.x as f64)
                } else {
                    continue;
                };
                if from <= to {
                    out.set_between(from as usize, to as usize + 1, j, k);
                }
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_field::numeric::low_discrepancy;
    use ulmix_mesh::TriMesh;

    #[test]
    fn sides_are_those_of_the_exact_distance() {
        let turned = |p: DVec3| glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.3, 0.7, 0.2) * p;
        let open = TriMesh::sphere(10.0, 4).filtered(|t| t % 700 != 5);
        let mut several = TriMesh::sphere(10.0, 3);
        several.append(&TriMesh::cuboid(DVec3::new(12.0, -5.0, -5.0), DVec3::new(30.0, 5.0, 5.0)));
        for (mesh, is_known) in [
            (TriMesh::sphere(10.0, 4), true),
            // A few large triangles that lie aslant.
            (TriMesh::cuboid(DVec3::splat(-8.0), DVec3::new(9.0, 7.0, 3.0)).mapped(turned), true),
            (crate::demo::keel_bracket().0, true),
            (several, true),
            (open, false),
        ] {
            let part = Part::prepare(&mesh).unwrap();
            let bounds = mesh.bounds();
            for places in [10, 100_000] {
                let sides = PointLocator::new(&part, places);
                let mut clear = 0;
                let at = |i: u64| bounds.min + (low_discrepancy(i) * 1.2 - 0.1) * bounds.size();
                for i in 1..4000 {
                    let (p, q) =
                        (at(i), at(i) + (low_discrepancy(7 * i) - 0.5) * 0.1 * bounds.size());
                    let inside = part.distance.inside(p);
                    assert_eq!(sides.inside(p), inside, "{p}");
                    if let Some(side) = sides.clearly_inside(p) {
                        assert_eq!(side, inside, "{p}");
                        clear += 1;
                    }
                    let mut crossings = Vec::new();
                    part.distance.segment_crossings(p, q, &mut crossings);
                    assert!(crossings.is_empty() || !sides.apart(p, q), "{p} {q}");
                }
                assert_eq!(clear > 2000, is_known, "{clear} are clear");
            }
        }
    }
}
