//! A grading of a recipe as a field in a part.

use crate::bodies::Body;
use crate::solids::{Reach, Solid};
use crate::Part;
use glam::DVec3;
use std::collections::HashMap;
use std::sync::Arc;
use ulmix_field::scalar::{
    AboutAxis, AlongDirection, Curve, FromLine, PointValues, Sampled, ScalarField, ScatteredNumbers,
};
use ulmix_mesh::{Bounds, Bvh, TriMesh};
use ulmix_recipe::grading::{PlacedGrading, PlacedSource, Source, SourceRule, ValueTable};
use ulmix_recipe::{FaceMark, Place, Role};

/// Samples of a graded value along the size of a cell.
const ALONG_CELL: f64 = 3.0;
/// Samples along the shortest length over which the value changes from one to another.
const ALONG_CHANGE: f64 = 12.0;
/// Samples of a graded value in the part's box, at most.
const MOST_SAMPLES: f64 = 600_000.0;

/// What the curves and points of a grading give at every place of a part, in the unit of the
/// grading: millimetres or percent.
pub struct GradedField {
    rule: SourceRule,
    sources: Vec<FieldSource>,
    /// The shortest length over which the value changes from one that is named to another. mm.
    finest: f64,
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
        let source = |s: &PlacedSource| {
            let curve = s.source.curve.as_ref().map(|c| Curve::new(&c.points, c.smooth));
            Some(FieldSource { field: source_field(part, s)?, curve, weight: s.source.weight })
        };
        let sources: Vec<FieldSource> = grading.sources.iter().filter_map(source).collect();
        let (rule, finest) = (grading.rule, grading.finest_mm());
        (!sources.is_empty()).then_some(GradedField { rule, sources, finest })
    }

    /// The field in the part's box. `cell`: size of the cells that the values lead, or that they are
    /// used in. mm. `None` when cancelled.
    pub fn sampled(
        &self,
        part: &Part,
        cell: f64,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<Sampled> {
        let Bounds { min, max } = part.mesh.bounds();
        let bounds = Bounds { min: min - 0.5 * cell, max: max + 0.5 * cell };
        let volume = bounds.size().element_product();
        let wanted = (cell / ALONG_CELL).min(self.finest / ALONG_CHANGE);
        let step = wanted.max((volume / MOST_SAMPLES).cbrt());
        Sampled::of(self, &bounds, step, cancelled)
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

/// The sources of a grading that name what the part does not have, by their number; and how many
/// faces each lost, 0 where it names no faces. No field is made for that: it is asked at every change
/// of a recipe.
pub fn lost_sources(part: &Part, grading: &PlacedGrading) -> Vec<(usize, usize)> {
    let lost = |(n, placed): (usize, &PlacedSource)| match &placed.source.from {
        Source::Faces { faces } | Source::Rim { faces } => {
            let lost = faces.iter().filter(|mark| part.face(mark).is_none()).count();
            (lost > 0).then_some((n, lost))
        }
        // No file yet.
        Source::Table { .. } => None,
        _ => (!is_there(part, placed)).then_some((n, 0)),
    };
    grading.sources.iter().enumerate().filter_map(lost).collect()
}

/// Has the part what a source names?
fn is_there(part: &Part, placed: &PlacedSource) -> bool {
    let any = |faces: &[FaceMark]| faces.iter().any(|mark| part.face(mark).is_some());
    let somewhere = |place: &&Place| match place {
        Place::Faces { faces, .. } => any(faces),
        _ => true,
    };
    match &placed.source.from {
        Source::Faces { faces } | Source::Rim { faces } => any(faces),
        Source::Zone { .. } => placed.places.iter().any(somewhere),
        Source::Body { name } => part.bodies.iter().any(|b| b.facts.name == *name),
        Source::Solids => {
            placed.places.iter().any(somewhere) || part.bodies.iter().any(|b| is_kept(b))
        }
        Source::Table { table, .. } => !table.values.is_empty(),
        Source::Grading { .. } => {
            let followed = placed.follows.as_deref();
            followed.is_some_and(|g| g.sources.iter().any(|source| is_there(part, source)))
        }
        _ => true,
    }
}

fn is_kept(body: &Body) -> bool {
    body.facts.role == Some(Role::KeepSolid)
}

/// The numbers of a source; distances beyond the end of its curve are all alike. `None` where the
/// part does not have what the source names.
pub(crate) fn source_field(part: &Part, placed: &PlacedSource) -> Option<Box<dyn ScalarField>> {
    let from = |solids: Vec<Solid>| -> Option<Box<dyn ScalarField>> {
        let least =
            move |p: DVec3| solids.iter().map(|s| s.distance(p)).fold(f64::INFINITY, f64::min);
        // Faces that the part does not have are nowhere.
        least(part.mesh.points[0]).is_finite().then(|| Box::new(least) as Box<dyn ScalarField>)
    };
    let places = || placed.places.iter().map(|place| Solid::of(place, part).0);
    let bodies = |wanted: &dyn Fn(&Body) -> bool| -> Vec<Solid> {
        let found = part.bodies.iter().filter(|b| wanted(b));
        found.map(|b| Solid::Body(Arc::clone(b), Reach::Own)).collect()
    };
    // Beyond its last point a curve tells places apart no more.
    let last = placed.source.curve.as_ref().and_then(|c| c.points.last());
    let limit = last.map_or(f64::INFINITY, |p| p[0].max(0.0));
    let near = |surface: TriMesh| {
        let held = !surface.triangles.is_empty();
        held.then(|| surface_distance(Arc::new(Bvh::new(&surface)), limit))
    };
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
        Source::Table { table, shift_mm } => table_field(part, table, (*shift_mm).into())?,
        Source::Surface => surface_distance(part.distance.shared_bvh(), limit),
        Source::Faces { faces } => near(part.surface_of(faces).0)?,
        Source::Rim { faces } => near(rim(&part.surface_of(faces).0))?,
        Source::Zone { .. } => from(places().collect())?,
        Source::Body { name } => from(bodies(&|b| b.facts.name == *name))?,
        Source::Solids => from(places().chain(bodies(&is_kept)).collect())?,
        Source::Grading { .. } => Box::new(GradedField::of(part, placed.follows.as_deref()?)?),
    })
}

/// Samples of a table in the part's box: asking the table itself at every place would take too long
/// while a curve is drawn.
const TABLE_SAMPLES: f64 = 60_000.0;

/// The numbers of a table, moved by a shift in mm. `None` for a table without any.
fn table_field(part: &Part, table: &ValueTable, shift: DVec3) -> Option<Box<dyn ScalarField>> {
    if table.values.is_empty() {
        return None;
    }
    let places: Vec<DVec3> = table.places_mm.iter().map(|p| DVec3::from(*p) + shift).collect();
    let field = ScatteredNumbers::new(&places, table.values.clone());
    let bounds = part.mesh.bounds();
    let step = (bounds.size().element_product() / TABLE_SAMPLES).cbrt();
    Some(match Sampled::of(&field, &bounds, step.max(1e-6), &|| false) {
        Some(sampled) => Box::new(sampled),
        None => Box::new(field),
    })
}

/// The edges that bound a surface, each as a triangle without area.
fn rim(surface: &TriMesh) -> TriMesh {
    let mut sides: HashMap<[u32; 2], usize> = HashMap::new();
    let edges = |t: &[u32; 3]| [[t[0], t[1]], [t[1], t[2]], [t[2], t[0]]];
    let key = |[a, b]: [u32; 2]| [a.min(b), a.max(b)];
    surface.triangles.iter().flat_map(edges).for_each(|e| *sides.entry(key(e)).or_default() += 1);
    let open = surface.triangles.iter().flat_map(edges).filter(|e| sides[&key(*e)] == 1);
    let triangles = open.map(|[a, b]| [a, b, b]).collect();
    TriMesh { points: surface.points.clone(), triangles }
}

/// Distance from a surface, up to a limit. mm.
fn surface_distance(surface: Arc<Bvh>, limit: f64) -> Box<dyn ScalarField> {
    Box::new(move |p: DVec3| {
        surface.nearest(p, limit * limit).map_or(limit, |n| n.point.distance(p))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mark;
    use ulmix_recipe::grading::{
        GradedValue, Grading, GradingSource, Source, ValueCurve, ValuePoint,
    };
    use ulmix_recipe::{Zone, Zones};

    fn block() -> Part {
        Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(40.0, 30.0, 20.0))).unwrap()
    }

    fn zones() -> Zones {
        let place = Place::Box {
            centre_mm: [5.0, 5.0, 5.0],
            size_mm: [10.0, 10.0, 10.0],
            rotation_deg: [0.0; 3],
        };
        let post = Place::Cylinder {
            base_mm: [30.0, 15.0, 0.0],
            axis_mm: [0.0, 0.0, 10.0],
            radius_mm: 2.0,
        };
        Zones {
            list: vec![
                Zone::new(3, "Box", Role::Reference, place),
                Zone::new(7, "Post", Role::KeepSolid, post),
            ],
            ..Zones::default()
        }
    }

    /// The numbers of a source as values, up to 100.
    fn numbers(from: Source) -> GradingSource {
        let curve = ValueCurve { points: vec![[-100.0, -100.0], [100.0, 100.0]], smooth: false };
        GradingSource::new(from, curve)
    }

    /// A number at two corners of the block.
    fn table(shift_mm: [f64; 3]) -> Source {
        let places_mm = vec![[0.0; 3], [40.0, 30.0, 20.0]];
        let (name, column) = ("t.csv".into(), "v".into());
        let table = ValueTable { name, column, places_mm, values: vec![1.0, 9.0] };
        Source::Table { table, shift_mm }
    }

    fn at(sources: Vec<GradingSource>, p: [f64; 3]) -> Option<f64> {
        let (part, zones) = (block(), zones());
        let grading = Grading::new(1, GradedValue::Thickness, sources);
        let placed = PlacedGrading::new(&grading, &[], &zones);
        Some(GradedField::of(&part, &placed)?.value(p.into()))
    }

    #[test]
    fn each_source_tells_what_geometry_says() {
        let part = block();
        let top = part.faces().list.iter().map(mark).find(|m| m.direction[2] > 0.9).unwrap();
        let along = [0.0, 3.0, 4.0];
        let line = vec![[0.0, 0.0, 0.0], [40.0, 0.0, 0.0]];
        let cases: Vec<(Source, [f64; 3], f64)> = vec![
            (Source::Surface, [20.0, 15.0, 6.0], 6.0),
            (Source::Surface, [20.0, 15.0, 23.0], 3.0),
            (Source::Faces { faces: vec![top] }, [20.0, 15.0, 6.0], 14.0),
            (Source::Rim { faces: vec![top] }, [20.0, 15.0, 20.0], 15.0),
            (Source::Rim { faces: vec![top] }, [4.0, 15.0, 17.0], 5.0),
            (Source::Zone { id: 3 }, [6.0, 7.0, 3.0], 0.0),
            (Source::Zone { id: 3 }, [13.0, 14.0, 5.0], 5.0),
            (Source::Zone { id: 7 }, [30.0, 20.0, 5.0], 3.0),
            (Source::Zone { id: 7 }, [30.0, 20.0, 14.0], 5.0),
            (Source::Solids, [30.0, 21.0, 5.0], 4.0),
            (Source::Direction { from_mm: [0.0; 3], along }, [9.0, 5.0, 10.0], 11.0),
            (
                Source::Axis { through_mm: [1.0, 1.0, 0.0], along: [0.0, 0.0, 2.0] },
                [4.0, 5.0, 9.0],
                5.0,
            ),
            (Source::Line { points_mm: line }, [10.0, 3.0, 4.0], 5.0),
            (table([0.0; 3]), [0.0, 0.0, 0.0], 1.0),
            (table([0.0; 3]), [40.0, 30.0, 20.0], 9.0),
            (table([0.0; 3]), [20.0, 15.0, 10.0], 5.0),
            // Moved by the whole length of the part.
            (table([40.0, 30.0, 20.0]), [40.0, 30.0, 20.0], 1.0),
        ];
        for (from, p, value) in cases {
            let found = at(vec![numbers(from.clone())], p).unwrap();
            let near = if matches!(from, Source::Table { .. }) { 0.01 } else { 1e-9 };
            assert!((found - value).abs() < near, "{from:?} at {p:?}: {found}");
        }
    }

    #[test]
    fn what_the_part_does_not_have_gives_nothing_and_leaves_the_rest() {
        let mut gone = block().faces().list.first().map(mark).unwrap();
        gone.place_mm = [900.0; 3];
        let nowhere = [
            Source::Zone { id: 99 },
            Source::Faces { faces: vec![gone] },
            Source::Rim { faces: vec![gone] },
            Source::Faces { faces: Vec::new() },
            Source::Body { name: "Nobody".into() },
            Source::Grading { id: 5 },
        ];
        for from in nowhere {
            assert_eq!(at(vec![numbers(from.clone())], [1.0; 3]), None, "{from:?}");
            let with_surface = vec![numbers(from.clone()), numbers(Source::Surface)];
            assert_eq!(at(with_surface.clone(), [20.0, 15.0, 4.0]), Some(4.0));
            let grading = Grading::new(1, GradedValue::Thickness, with_surface);
            let lost = lost_sources(&block(), &PlacedGrading::new(&grading, &[], &zones()));
            let faces = match from {
                Source::Faces { faces } | Source::Rim { faces } => faces,
                _ => Vec::new(),
            };
            // A source of no faces yet has lost none.
            let empty =
                matches!(&grading.sources[0].from, Source::Faces { faces } if faces.is_empty());
            assert_eq!(lost, if empty { vec![] } else { vec![(0, faces.len())] });
        }
    }

    /// What is said of a source without making its field is what its field says.
    #[test]
    fn sources_are_there_where_their_fields_are() {
        let (part, mut zones) = (block(), zones());
        let here = mark(part.faces().list.first().unwrap());
        let gone = FaceMark { place_mm: [900.0; 3], ..here };
        let near = |faces| Place::Faces { faces, depth_mm: 2.0 };
        zones.list.push(Zone::new(8, "Held", Role::Reference, near(vec![gone, here])));
        zones.list.push(Zone::new(9, "Gone", Role::Reference, near(vec![gone])));
        let surface = || vec![numbers(Source::Surface)];
        let lost = || vec![numbers(Source::Zone { id: 9 })];
        let others = [
            Grading::new(20, GradedValue::CellSize, surface()),
            Grading::new(21, GradedValue::Thickness, lost()),
        ];
        let sources = [
            Source::Surface,
            Source::Faces { faces: vec![here, gone] },
            Source::Faces { faces: vec![gone] },
            Source::Rim { faces: vec![here] },
            Source::Rim { faces: Vec::new() },
            Source::Zone { id: 3 },
            Source::Zone { id: 8 },
            Source::Zone { id: 9 },
            Source::Zone { id: 77 },
            Source::Body { name: "Nobody".into() },
            Source::Solids,
            table([0.0; 3]),
            Source::Grading { id: 20 },
            Source::Grading { id: 21 },
            Source::Grading { id: 77 },
        ];
        let mut found = 0;
        for from in sources {
            let grading = Grading::new(1, GradedValue::Density, vec![numbers(from.clone())]);
            let placed = PlacedGrading::new(&grading, &others, &zones);
            let there = is_there(&part, &placed.sources[0]);
            assert_eq!(there, source_field(&part, &placed.sources[0]).is_some(), "{from:?}");
            found += there as usize;
        }
        assert_eq!(found, 8);
    }

    #[test]
    fn a_grading_that_follows_another_takes_its_values() {
        let (part, zones) = (block(), zones());
        let point = |x: f64, value: f64| ValuePoint { place_mm: [x, 0.0, 0.0], value };
        let points = Source::Points { points: vec![point(0.0, 2.0), point(40.0, 6.0)] };
        let sizes = GradingSource { from: points, curve: None, weight: 1.0 };
        let first = Grading::new(1, GradedValue::CellSize, vec![sizes]);
        let follows = |curve| GradingSource { from: Source::Grading { id: 1 }, curve, weight: 0.5 };
        let second = |curve| Grading {
            id: 2,
            ..Grading::new(2, GradedValue::Thickness, vec![follows(curve)])
        };
        let value = |curve: Option<ValueCurve>| {
            let all = [first.clone(), second(curve)];
            let placed = PlacedGrading::new(&all[1], &all, &zones);
            GradedField::of(&part, &placed).unwrap().value(DVec3::new(20.0, 3.0, 3.0))
        };
        // Halfway between the points it is 4, by half its weight 2; the curve comes before that.
        assert!((value(None) - 2.0).abs() < 1e-12);
        let tenth = ValueCurve { points: vec![[0.0, 0.0], [10.0, 1.0]], smooth: false };
        assert!((value(Some(tenth)) - 0.2).abs() < 1e-12);
    }
}
