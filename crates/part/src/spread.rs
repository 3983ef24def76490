//! How the numbers of a source are spread over a part: what stands behind its curve.

use crate::grading::source_field;
use crate::point_location::PointLocator;
use crate::Part;
use serde::{Deserialize, Serialize};
use ulmix_field::numeric::low_discrepancy;
use ulmix_mesh::parallel;
use ulmix_recipe::grading::{GradingSource, PlacedGrading, PlacedSource};
use utoipa::ToSchema;

/// How often the numbers of a source occur in the material of a part.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SourceSpread {
    /// Least and greatest number: mm, or what a file's numbers are.
    pub range: [f64; 2],
    /// Share of the part's material in equal classes of that range. Percent.
    pub percents: Vec<f64>,
}

/// Places in the part's box that are asked.
const ASKED: usize = 12_000;
/// Classes.
const CLASSES: usize = 32;

/// The spread of every source that has a curve. `None` for those without, and for sources that the
/// part does not have.
pub fn spreads(part: &Part, grading: &PlacedGrading) -> Vec<Option<SourceSpread>> {
    let bounds = part.mesh.bounds();
    let sides = PointLocator::new(part, ASKED);
    let places = parallel::filter_map(ASKED, |n| {
        let p = bounds.min + low_discrepancy(n as u64 + 1) * bounds.size();
        sides.inside(p).then_some(p)
    });
    let of = |placed: &PlacedSource| {
        placed.source.curve.as_ref()?;
        // Beyond the last point of the curve numbers are asked for, too.
        let source = GradingSource { curve: None, ..placed.source.clone() };
        let whole = PlacedSource { source: &source, ..placed.clone() };
        let field = source_field(part, &whole)?;
        let numbers = parallel::map_list(&places, |_, p| field.value(*p));
        let least = numbers.iter().copied().reduce(f64::min)?;
        let most = numbers.iter().copied().reduce(f64::max)?;
        let wide = (most - least).max(1e-9) / CLASSES as f64;
        let mut counts = [0usize; CLASSES];
        numbers.iter().for_each(|v| counts[(((v - least) / wide) as usize).min(CLASSES - 1)] += 1);
        let percent = |count: usize| 100.0 * count as f64 / numbers.len() as f64;
        Some(SourceSpread { range: [least, most], percents: counts.map(percent).to_vec() })
    };
    grading.sources.iter().map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::grading::{GradedValue, Grading, Source, ValueCurve, ValuePoint};
    use ulmix_recipe::Zones;

    #[test]
    fn along_a_block_every_class_holds_as_much_and_near_its_surface_lies_most() {
        let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(20.0))).unwrap();
        let curve = || ValueCurve { points: vec![[0.0, 1.0], [2.0, 2.0]], smooth: false };
        let up = Source::Direction { from_mm: [0.0, 0.0, -5.0], along: [0.0, 0.0, 1.0] };
        let point = ValuePoint { place_mm: [0.0; 3], value: 1.0 };
        let sources = vec![
            GradingSource::new(up, curve()),
            GradingSource::new(Source::Surface, curve()),
            GradingSource {
                from: Source::Points { points: vec![point] },
                curve: None,
                weight: 1.0,
            },
            GradingSource::new(Source::Zone { id: 4 }, curve()),
        ];
        let grading = Grading::new(1, GradedValue::Thickness, sources);
        let found = spreads(&part, &PlacedGrading::new(&grading, &[], &Zones::default()));
        let up = found[0].as_ref().unwrap();
        assert!((up.range[0] - 5.0).abs() < 0.01 && (up.range[1] - 25.0).abs() < 0.01);
        assert!(up.percents.iter().all(|p| (p - 100.0 / 32.0).abs() < 0.4), "{:?}", up.percents);
        let depth = found[1].as_ref().unwrap();
        assert!(depth.percents[0] > 8.0 && depth.percents[31] < 0.2, "{:?}", depth.percents);
        assert!((depth.percents.iter().sum::<f64>() - 100.0).abs() < 1e-9);
        assert_eq!((&found[2], &found[3]), (&None, &None));
    }
}
