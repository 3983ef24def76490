//! Parts of the buoy with values that change from place to place.

use super::cradle::cradle;
use super::keel_bracket::keel_bracket;
use super::tow_grip::tow_grip;
use ulmix_formats::Limits;
use ulmix_mesh::TriMesh;
use ulmix_recipe::grading::{
    GradedValue, Grading, GradingSource, Source, SourceRule, ValueCurve, ValueTable,
};
use ulmix_recipe::Recipe;

/// The keel bracket with walls that are thick at the sole and around the bosses.
pub(super) fn bracket() -> (TriMesh, Recipe) {
    let (mesh, mut recipe) = keel_bracket();
    let sole = Source::Direction { from_mm: [0.0; 3], along: [0.0, 0.0, 1.0] };
    let boss = |id: u32| {
        let curve = ValueCurve::smooth([0.0, 2.4], [18.0, 0.9]);
        GradingSource::new(Source::Zone { id }, curve)
    };
    let upward = GradingSource::new(sole, ValueCurve::smooth([0.0, 1.8], [44.0, 0.9]));
    let sources = vec![upward, boss(1), boss(2)];
    let walls = Grading::new(1, GradedValue::Thickness, sources);
    recipe.gradings = vec![Grading { rule: SourceRule::Greatest, ..walls }];
    (mesh, recipe)
}

/// The tow grip with small cells at its ends, and struts that fall to nothing in its middle.
pub(super) fn grip() -> (TriMesh, Recipe) {
    let (mesh, mut recipe) = tow_grip();
    let along = Source::Direction { from_mm: [0.0; 3], along: [1.0, 0.0, 0.0] };
    let points = vec![[-58.0, 4.5], [0.0, 9.0], [58.0, 4.5]];
    let cells = GradingSource::new(along, ValueCurve { points, smooth: true });
    let inward = ValueCurve::smooth([1.0, 1.6], [9.0, 0.0]);
    let struts = GradingSource::new(Source::Surface, inward);
    let thickness = Grading::new(2, GradedValue::Thickness, vec![struts]);
    recipe.gradings = vec![
        Grading::new(1, GradedValue::CellSize, vec![cells]),
        Grading { ends_mm: 0.6, ..thickness },
    ];
    (mesh, recipe)
}

/// The battery cradle, dense where drop tests hit hardest. The measurement is made up.
pub(super) fn dense_cradle() -> (TriMesh, Recipe) {
    let (mesh, mut recipe) = cradle();
    let read = ValueTable::read("impact.csv", IMPACT, None, 1.0, &Limits::default());
    let found = read.expect("a table of our own can be read");
    let curve = ValueCurve::smooth([25.0, 15.0], [150.0, 45.0]);
    let from = Source::Table { table: found.table, shift_mm: [0.0; 3] };
    let density = GradingSource::new(from, curve);
    recipe.gradings = vec![Grading::new(1, GradedValue::Density, vec![density])];
    (mesh, recipe)
}

const IMPACT: &[u8] = include_bytes!("impact.csv");
