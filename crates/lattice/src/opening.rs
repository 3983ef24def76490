//! How wide the openings of a structure are: the largest ball whose centre can move on through it.

use super::members::{Frame, StrutSource};
use super::net::Net;
use super::passage::{across, narrowest};
use super::seeds::Scattered;
use glam::DVec3;
use ulmix_field::numeric::median;
use ulmix_mesh::parallel;
use ulmix_part::point_location::PointLocator;
use ulmix_part::Part;

/// Diameter of the largest ball that passes through all cells; `clearance` is the distance from the
/// structure. mm.
pub(crate) fn of_cells(clearance: impl Fn(DVec3) -> f64 + Sync, frame: Frame, cell: DVec3) -> f64 {
    2.0 * narrowest(|p| clearance(frame.back(p * cell))).map_or(0.0, |n| n.0.max(0.0))
}

/// Cells along the cube in which an opening is sought.
const SAMPLE: f64 = 3.0;
/// Cells whose sizes differ by less are alike.
const ALIKE: f64 = 1.05;
/// Cells that are asked how deep in the part they lie, at most.
const ASKED: usize = 2000;

/// Diameter of the largest ball whose centre can move on within the part through a cube of some
/// cells: where these are smallest, and of those places the one deepest in the part. `cells` are
/// their middles and sizes. All in mm. Struts count without thickness. `None` where no way leads through.
pub(crate) fn sampled(
    part: &Part,
    sides: &PointLocator,
    net: &Net,
    cells: &[(DVec3, f64)],
) -> Option<f64> {
    let least = cells.iter().map(|c| c.1).fold(f64::INFINITY, f64::min);
    let smallest: Vec<(DVec3, f64)> =
        cells.iter().copied().filter(|c| c.1 < ALIKE * least).collect();
    let stride = smallest.len().div_ceil(ASKED).max(1);
    let asked: Vec<(DVec3, f64)> = smallest.into_iter().step_by(stride).collect();
    let depth = |n: usize| Some(-part.distance.value(asked[n].0));
    let (_, deepest) = parallel::greatest(asked.len(), depth)?;
    let (middle, size) = asked[deepest];
    // Only some cells are looked at: an index of all members would take far longer to build.
    let few = net.around(middle, 0.5 * 3f64.sqrt() * SAMPLE * size);
    let net = few.as_ref().unwrap_or(net);
    let clearance = |p: DVec3| {
        let p = middle + (p - 0.5) * SAMPLE * size;
        if sides.inside(p) {
            net.clearance(p)
        } else {
            -1.0
        }
    };
    across(clearance).map(|clearance| 2.0 * clearance)
}

/// Widest ball through the triangle of three points a cell apart, whose struts are 1.1 cells long.
/// Cells.
pub(crate) const TRIANGLE: f64 = 0.64;

/// Median diameter of the holes in walls; 0 without any.
pub(crate) fn median_hole(walls: &StrutSource) -> f64 {
    let StrutSource::Walls { holes, .. } = walls else { return 0.0 };
    2.0 * median(holes.iter().map(|h| h.radius).collect()).unwrap_or(0.0)
}

/// Median distance of the inner points from their nearest one: the width of a bar that fits a cell.
pub(crate) fn nearest_width(found: &Scattered) -> f64 {
    let grid = ulmix_mesh::PointGrid::new(found.points());
    let d = parallel::filter_map(found.inside, |n| {
        grid.nearest(found.points()[n], 1, |m| m as usize == n).first().map(|f| f.0)
    });
    median(d).unwrap_or(0.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::BareStructure;
    use ulmix_field::numeric::low_discrepancy;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{Joins, StrutSection};

    /// Struts along the edges of cubic cells of a size, from one place to another.
    fn cubic(low: DVec3, high: DVec3, cell: f64) -> Vec<[DVec3; 2]> {
        let counts = ((high - low) / cell).round().as_ivec3();
        let lines = |axis: usize| {
            let (b, c) = ((axis + 1) % 3, (axis + 2) % 3);
            let at = move |m: i32, n: i32| {
                let mut p = low;
                p[b] += m as f64 * cell;
                p[c] += n as f64 * cell;
                let mut q = p;
                q[axis] = high[axis];
                [p, q]
            };
            (0..=counts[b]).flat_map(move |m| (0..=counts[c]).map(move |n| at(m, n)))
        };
        (0..3).flat_map(lines).collect()
    }

    fn net(struts: &[[DVec3; 2]], joins: Joins, cell: f64) -> Net {
        let (struts, inner) = (struts.to_vec(), struts.len());
        let source = StrutSource::Struts { struts, inner, ends: Vec::new() };
        Net::new(Frame::OF_PART, source, joins, cell)
    }

    #[test]
    fn openings_are_sought_where_cells_are_smallest_and_the_part_is_deepest() {
        let part =
            Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(60.0, 30.0, 30.0))).unwrap();
        let sides = PointLocator::new(&part, 1000);
        let coarse = cubic(DVec3::ZERO, DVec3::splat(30.0), 10.0);
        let fine = cubic(DVec3::new(30.0, 0.0, 0.0), DVec3::new(60.0, 30.0, 30.0), 6.0);
        let net = net(&[coarse, fine].concat(), Joins::default(), 10.0);
        let (left, right, rim) =
            (DVec3::splat(15.0), DVec3::new(45.0, 15.0, 15.0), DVec3::new(59.0, 1.0, 1.0));
        let of = |cells: &[(DVec3, f64)]| sampled(&part, &sides, &net, cells);
        // Of square windows; the rim would see half of its cube outside.
        assert!((of(&[(left, 10.0), (right, 6.0), (rim, 6.1)]).unwrap() / 6.0 - 1.0).abs() < 0.15);
        assert!((of(&[(left, 6.0)]).unwrap() / 10.0 - 1.0).abs() < 0.15);
        assert_eq!(of(&[]), None);
        // A cube that reaches out of the part on all sides has no way from side to side.
        assert_eq!(of(&[(left, 40.0)]), None);
    }

    #[test]
    fn struts_around_a_place_are_as_far_as_all() {
        let struts = cubic(DVec3::ZERO, DVec3::splat(40.0), 5.0);
        let bar = StrutSection::Rectangular { taller_mm: 1.5, turn_deg: 20.0 };
        for section in [StrutSection::Round, bar] {
            let joins = Joins { blend_mm: 0.8, section, ..Joins::default() };
            let whole = net(&struts, joins, 5.0);
            let (middle, radius) = (DVec3::new(18.0, 21.0, 19.0), 4.0);
            let few = whole.around(middle, radius).unwrap();
            assert!(few.bytes() < whole.bytes() / 2);
            for i in 1..500 {
                let p = middle + (low_discrepancy(i) - 0.5) * 2.0 * radius / 3f64.sqrt();
                assert_eq!(few.clearance(p), whole.clearance(p), "{section:?} at {p}");
            }
        }
    }
}
