use super::*;
use crate::{Kind, Recipe, Structure, SurfaceKind};
use glam::DVec3;
use std::f64::consts::PI;

fn part() -> Bounds {
    Bounds { min: DVec3::ZERO, max: DVec3::splat(80.0) }
}

fn rising() -> ValueCurve {
    ValueCurve { points: vec![[0.0, 2.4], [30.0, 0.8]], smooth: false }
}

fn height() -> GradingSource {
    let from = Source::Direction { from_mm: [0.0; 3], along: [0.0, 0.0, 1.0] };
    GradingSource::new(from, rising())
}

fn thickness(sources: Vec<GradingSource>) -> Grading {
    Grading::new(1, GradedValue::Thickness, sources)
}

fn refused(gradings: Vec<Grading>) -> Option<(String, RecipeFault)> {
    let recipe = Recipe {
        structure: Structure {
            cell_mm: [10.0; 3],
            ..Structure::of_kind(Kind::Surface(SurfaceKind::Gyroid))
        },
        gradings,
        ..Recipe::for_part(&part())
    };
    recipe.validate(&part()).err().map(|e| (e.field, e.fault))
}

#[test]
fn what_cannot_be_used_is_refused_by_its_place_and_has_a_hint() {
    assert_eq!(refused(vec![thickness(vec![height()])]), None);
    assert_eq!(refused(vec![thickness(Vec::new())]), None, "no source, no grading");
    let with = |change: &dyn Fn(&mut GradingSource)| {
        let mut source = height();
        change(&mut source);
        refused(vec![thickness(vec![source])])
    };
    let curve = |points: &[[f64; 2]]| Some(ValueCurve { points: points.to_vec(), smooth: true });
    let points = |places: &[[f64; 3]]| Source::Points {
        points: places.iter().map(|p| ValuePoint { place_mm: *p, value: 1.0 }).collect(),
    };
    let line = |points_mm: Vec<[f64; 3]>| Source::Line { points_mm };
    let flat = Source::Axis { through_mm: [0.0; 3], along: [0.0; 3] };
    let twins = points(&[[1.0; 3], [2.0; 3], [1.0; 3]]);
    let cases: Vec<(Option<(String, RecipeFault)>, RecipeFault)> = vec![
        (with(&|s| s.curve = None), RecipeFault::NoCurve),
        (with(&|s| s.curve = curve(&[])), RecipeFault::EmptyCurve),
        (with(&|s| s.curve = curve(&[[0.0, 1.0]; 65])), RecipeFault::LongCurve(64)),
        (
            with(&|s| s.curve = curve(&[[0.0, 1.0], [4.0, 1.0], [4.0, 2.0]])),
            RecipeFault::CurveTurnsBack { points: [2, 3] },
        ),
        (with(&|s| s.from = points(&[])), RecipeFault::NoValuePoints),
        (with(&|s| s.from = twins.clone()), RecipeFault::ValuePointsCoincide([1, 3])),
        (with(&|s| s.from = line(vec![[1.0; 3]])), RecipeFault::PointsOfLine(1000)),
    ];
    for (found, fault) in cases {
        assert!(!fault.hint().is_empty());
        assert_eq!(found, Some(("gradings.0.sources.0".into(), fault)));
    }
    let numbers: Vec<Option<(String, RecipeFault)>> = vec![
        with(&|s| s.weight = 0.0),
        with(&|s| s.weight = f64::NAN),
        with(&|s| s.from = flat.clone()),
        with(&|s| s.curve = curve(&[[0.0, -0.1]])),
        with(&|s| s.curve = curve(&[[0.0, f64::NAN]])),
        with(&|s| s.curve = curve(&[[f64::INFINITY, 1.0]])),
        with(&|s| s.from = line(vec![[PI; 3], [f64::NAN; 3]])),
        refused(vec![Grading { ends_mm: -1.0, ..thickness(vec![height()]) }]),
        refused(vec![Grading { name: "x".repeat(201), ..thickness(vec![height()]) }]),
    ];
    for found in numbers {
        let (field, fault) = found.expect("refused");
        assert!(field.starts_with("gradings.0"), "{field}");
        assert!(matches!(fault, RecipeFault::OutOfRange { .. }), "{fault:?}");
    }
}

#[test]
fn gradings_that_follow_themselves_or_lead_one_value_twice_are_refused() {
    let follows = |id: u32, other: u32| Grading {
        id,
        name: format!("number {id}"),
        ..thickness(vec![GradingSource {
            from: Source::Grading { id: other },
            curve: None,
            weight: 1.0,
        }])
    };
    let cells = |id: u32, other: u32| Grading { of: GradedValue::CellSize, ..follows(id, other) };
    let first = |g: Vec<Grading>| refused(g).map(|f| f.1);
    assert_eq!(first(vec![follows(1, 1)]), Some(RecipeFault::FollowsItself("number 1".into())));
    let ring = vec![follows(1, 2), cells(2, 1)];
    assert_eq!(first(ring), Some(RecipeFault::FollowsItself("number 1".into())));
    assert_eq!(first(vec![follows(1, 7)]), Some(RecipeFault::FollowsNone("number 1".into())));
    let twice = vec![thickness(vec![height()]), Grading { id: 2, ..thickness(vec![height()]) }];
    let fault = RecipeFault::GradedTwice(GradedValue::Thickness);
    assert_eq!(fault.to_string(), "The thickness is led by two gradings.");
    assert_eq!(first(twice), Some(fault));
    let mut same = vec![thickness(vec![height()]), cells(1, 9)];
    same[1].sources.clear();
    assert!(matches!(first(same), Some(RecipeFault::SameNumber { number: 1, .. })));
}

#[test]
fn thickness_in_mm_and_a_density_that_is_asked_for_exclude_each_other() {
    let mut recipe = Recipe::for_part(&part());
    recipe.gradings = vec![thickness(vec![height()])];
    recipe.thicken = Thicken::RelativeDensity { percent: 20.0 };
    let e = recipe.validate(&part()).unwrap_err();
    assert_eq!((e.field.as_str(), &e.fault), ("gradings.0", &RecipeFault::DensityAndThickness));
    recipe.gradings[0].given = Given::Percent;
    assert_eq!(recipe.validate(&part()), Ok(()));
    assert_eq!(Recipe::from_json(&recipe.to_json()).unwrap(), recipe);
}

#[test]
fn a_density_is_graded_alone_and_by_itself() {
    let density =
        |given| Grading { id: 2, given, ..Grading::new(2, GradedValue::Density, vec![height()]) };
    let first = |g: Vec<Grading>| refused(g).map(|f| f.1);
    assert_eq!(first(vec![density(Given::Value)]), None);
    assert_eq!(first(vec![density(Given::Percent)]), Some(RecipeFault::DensityOfDensity));
    let both = vec![density(Given::Value), thickness(vec![height()])];
    assert_eq!(first(both), Some(RecipeFault::DensityAndThicknessGraded));
    // It takes the place of a density that is asked for all over.
    let mut recipe = Recipe::for_part(&part());
    recipe.thicken = Thicken::RelativeDensity { percent: 20.0 };
    assert_eq!(recipe.filling().asked_density(), Some(20.0));
    recipe.gradings = vec![density(Given::Value)];
    assert_eq!((recipe.validate(&part()), recipe.filling().asked_density()), (Ok(()), None));
}

#[test]
fn cells_that_differ_by_more_than_fifty_times_are_refused() {
    let sizes = |least: f64| {
        let curve = ValueCurve { points: vec![[0.0, least], [9.0, 60.0]], smooth: false };
        let source = GradingSource::new(Source::Surface, curve);
        vec![Grading::new(1, GradedValue::CellSize, vec![source])]
    };
    assert_eq!(refused(sizes(1.3)), None);
    let (_, fault) = refused(sizes(1.1)).unwrap();
    assert!(matches!(fault, RecipeFault::CellsTooUnequal { .. }), "{fault}");
}
