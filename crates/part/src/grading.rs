//! A grading of a recipe as a field in a part.

use crate::solids::Solid;
use crate::Part;
use glam::DVec3;
use std::sync::Arc;
use ulmix_field::scalar::{
    AboutAxis, AlongDirection, Curve, FromLine, PointValues, Rule, ScalarField,
};
use ulmix_mesh::Bvh;
use ulmix_recipe::grading::{PlacedGrading, PlacedSource, Source, SourceRule};
use ulmix_recipe::Role;

/// What the curves and points of a grading give at every place of a part, in the unit of the
/// grading: millimetres or percent.
pub struct GradedField {
    rule: Rule,
    sources: Vec<FieldSource>,
}

struct FieldSource {
    field: Box<dyn ScalarField>,
    curve: Option<Curve>,
    weight: f64,
}

impl GradedField {
    /// The field of a grading in a part. Sources that name what the part does not have are left
    /// out; `None` where none is left.
    pub fn of(part: &Part, grading: &PlacedGrading) -> Option<GradedField> {
        let rule = match grading.rule {
            SourceRule::Least => Rule::Least,
            SourceRule::Greatest => Rule::Greatest,
            SourceRule::Mean => Rule::Mean,
            SourceRule::Product => Rule::Product,
            SourceRule::Sum => Rule::Sum,
        };
        let source = |s: &PlacedSource| {
            let curve = s.source.curve.as_ref().map(|c| Curve::new(&c.points, c.smooth));
            Some(FieldSource { field: source_field(part, s)?, curve, weight: s.source.weight })
        };
        let sources: Vec<FieldSource> = grading.sources.iter().filter_map(source).collect();
        (!sources.is_empty()).then_some(GradedField { rule, sources })
    }
}

impl ScalarField for GradedField {
    fn value(&self, p: DVec3) -> f64 {
        self.rule.of(self.sources.iter().map(|s| {
            let number = s.field.value(p);
            (s.weight, s.curve.as_ref().map_or(number, |c| c.at(number)))
        }))
    }
}

/// The numbers of a source; distances beyond the end of its curve are all alike. `None` where the part does not have what the source names.
pub fn source_field(part: &Part, placed: &PlacedSource) -> Option<Box<dyn ScalarField>> {
    let from = |solids: Vec<Solid>| -> Option<Box<dyn ScalarField>> {
        let least =
            move |p: DVec3| solids.iter().map(|s| s.distance(p)).fold(f64::INFINITY, f64::min);
        // Faces that the part does not have are nowhere.
        least(part.mesh.points[0]).is_finite().then(|| Box::new(least) as Box<dyn ScalarField>)
    };
    let places = || placed.places.iter().map(|place| Solid::of(place, part).0);
    let bodies = |wanted: &dyn Fn(&crate::bodies::Body) -> bool| -> Vec<Solid> {
        let found = part.bodies.iter().filter(|b| wanted(b));
        found.map(|b| Solid::Body(Arc::clone(b), crate::solids::Reach::Own)).collect()
    };
    // Beyond its last point a curve tells places apart no more.
    let last = placed.source.curve.as_ref().and_then(|c| c.points.last());
    let limit = last.map_or(f64::INFINITY, |p| p[0].max(0.0));
    Some(match &placed.source.from {
        Source::Points { points } => {
            let points: Vec<_> =
                points.iter().map(|p| (DVec3::from(p.place_mm), p.value)).collect();
            Box::new(PointValues::new(&points))
        }
        Source::Direction { from_mm, along } => {
            Box::new(AlongDirection::new((*from_mm).into(), (*along).into()))
        }
        Source::Axis { through_mm, along } => {
            Box::new(AboutAxis::new((*through_mm).into(), (*along).into()))
        }
        Source::Line { points_mm } => {
            Box::new(FromLine::new(points_mm.iter().map(|p| DVec3::from(*p)).collect()))
        }
        Source::Surface => surface_distance(part.distance.shared_bvh(), limit),
        Source::Faces { faces } => {
            let (surface, _) = part.surface_of(faces);
            if surface.triangles.is_empty() {
                return None;
            }
            surface_distance(Arc::new(Bvh::new(&surface)), limit)
        }
        Source::Zone { .. } => from(places().collect())?,
        Source::Body { name } => from(bodies(&|b| b.facts.name == *name))?,
        Source::Solids => {
            let kept = bodies(&|b| b.facts.role == Some(Role::KeepSolid));
            from(places().chain(kept).collect())?
        }
        Source::Grading { .. } => Box::new(GradedField::of(part, placed.follows.as_deref()?)?),
    })
}

/// Distance from a surface, up to a limit. mm.
fn surface_distance(surface: Arc<Bvh>, limit: f64) -> Box<dyn ScalarField> {
    Box::new(move |p: DVec3| {
        surface.nearest(p, limit * limit).map_or(limit, |n| n.point.distance(p))
    })
}
