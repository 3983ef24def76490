//! How the surface of a lattice bends, from its field alone.

use super::BareStructure;
use glam::DVec3;
use ulmix_mesh::parallel;

/// Places of the surface that are looked at.
const ASKED: usize = 240;
/// Normals are compared this far apart, as a share of the cell.
const APART: f64 = 0.02;
/// A triangle is at most so many times as long as wide.
const LONGEST: f64 = 8.0;

/// The geometric mean of both principal curvatures in places spread over the surface of a structure
/// of a thickness in mm, sorted. The smaller curvature counts no less than long triangles can make
/// use of. `places` have their distances from the structure and are sorted by those; the ones
/// nearest to the surface are moved onto it. 1/mm.
pub(crate) fn bends(bare: &dyn BareStructure, thickness: f64, places: &[(f64, DVec3)]) -> Vec<f64> {
    let (lattice, level) = (bare.thicken(thickness), bare.level(thickness));
    let middle = places.partition_point(|p| p.0 < level);
    let from = middle.saturating_sub(ASKED / 2).min(places.len().saturating_sub(ASKED));
    let near = &places[from..(from + ASKED).min(places.len())];
    let onto = |mut p: DVec3| {
        for _ in 0..3 {
            p -= lattice.value(p) * lattice.normal(p);
        }
        p
    };
    let apart = APART * bare.cell();
    let bend = |&(_, p): &(f64, DVec3)| {
        let p = onto(p);
        let (u, v) = lattice.normal(p).try_normalize()?.any_orthonormal_pair();
        let along = |d: DVec3| {
            let [a, b] = [-apart, apart].map(|by| lattice.normal(onto(p + by * d)));
            (b - a) / (2.0 * apart)
        };
        let (du, dv) = (along(u), along(v));
        // The eigenvalues of the symmetric part of how the normal changes.
        let (a, b, c) = (du.dot(u), 0.5 * (du.dot(v) + dv.dot(u)), dv.dot(v));
        let (mean, half) = (0.5 * (a + c), (0.25 * (a - c) * (a - c) + b * b).sqrt());
        let (k, l) = ((mean + half).abs(), (mean - half).abs());
        let (most, least) = (k.max(l), k.min(l));
        let bend = (most * least.max(most / (LONGEST * LONGEST))).sqrt();
        bend.is_finite().then_some(bend)
    };
    let mut out: Vec<f64> = parallel::filter_map(near.len(), |n| bend(&near[n]));
    out.sort_by(f64::total_cmp);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::density::DensityCurve;
    use crate::make;
    use ulmix_field::numeric::low_discrepancy;
    use ulmix_mesh::TriMesh;
    use ulmix_part::Part;
    use ulmix_recipe::{CellKind, ExtrudedKind, Joins, Kind, Structure, SurfaceKind};

    fn median(kind: Kind, cell: f64, thickness: f64) -> f64 {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(30.0))).unwrap();
        let structure = Structure { cell_mm: [cell; 3], ..Structure::of_kind(kind) };
        let bare = make::structure(
            &part,
            &structure,
            Joins { blend_mm: 0.0, ..Joins::default() },
            &|| false,
        )
        .unwrap();
        let points: Vec<DVec3> = (1..40_000).map(|i| 30.0 * low_discrepancy(i)).collect();
        let all = DensityCurve::new(bare, &points).bends(thickness);
        assert!(all.len() > 200 && all.windows(2).all(|w| w[0] <= w[1]));
        all[all.len() / 2]
    }

    #[test]
    fn struts_bend_as_cylinders_and_flat_walls_not_at_all() {
        // One curvature is that of the radius, the other none: it counts as a sixty-fourth.
        for thickness in [1.0, 2.0] {
            let found = median(Kind::Cell(CellKind::Cubic), 10.0, thickness);
            let expected = 2.0 / thickness / LONGEST;
            // Over a distance normals turn a little less than by the curvature.
            assert!((0.9..1.02).contains(&(found / expected)), "{found} for {expected}");
        }
        assert!(median(Kind::Extruded(ExtrudedKind::Triangles), 10.0, 1.0) < 1e-3);
    }

    #[test]
    fn surfaces_bend_by_the_size_of_their_cells() {
        let of = |cell: f64| median(Kind::Surface(SurfaceKind::Gyroid), cell, 0.05 * cell);
        let [small, large] = [of(5.0), of(10.0)];
        assert!((small / large - 2.0).abs() < 0.2, "{small} {large}");
    }
}
