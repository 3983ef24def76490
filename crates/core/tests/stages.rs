//! What an edit makes anew, and what a run that is stopped leaves behind.

mod redone;

use glam::DVec3;
use redone::Redone;
use std::sync::atomic::{AtomicUsize, Ordering};
use ulmix_core::pipeline::{Pipeline, Quality, RunError, Stage, Unwatched, Watch};
use ulmix_mesh::TriMesh;
use ulmix_part::Part;
use ulmix_recipe::grading::{Given, GradedValue, Grading, Source};
use ulmix_recipe::{
    CellKind, Kind, OwnFill, Place, Recipe, Role, Skin, Stand, SurfaceKind, Thicken, Zone,
};

fn part() -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 24.0, 18.0))).unwrap()
}

fn recipe(part: &Part) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(Kind::Surface(SurfaceKind::Gyroid));
    r.structure.cell_mm = [9.0; 3];
    r.thicken = Thicken::Thickness { thickness_mm: 1.6 };
    r.zones.list = vec![Zone {
        id: 1,
        name: "Boss".into(),
        role: Role::KeepSolid,
        place: Place::Cylinder {
            base_mm: [8.0, 8.0, -1.0],
            axis_mm: [0.0, 0.0, 20.0],
            radius_mm: 4.0,
        },
        own: None,
    }];
    r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm: 1.2 }];
    // An edit that changed the step would change all.
    r.mesh.step_mm = Some(0.5);
    r
}

/// What the store files finals under: a final of other values is not this recipe's.
#[test]
fn a_result_is_filed_under_every_value_that_it_follows_from() {
    type Edit = fn(&mut Recipe);
    let part = part();
    let first = recipe(&part);
    let key = |edit: Edit| {
        let mut other = first.clone();
        edit(&mut other);
        Pipeline::recipe_key(&part, &other)
    };
    let before = key(|_| ());
    let counts: [(&str, Edit); 9] = [
        ("zones", |r| r.zones.skins[0].depth_mm = 2.0),
        ("a zone's own gradings", |r| {
            let fill = OwnFill {
                structure: r.structure.clone(),
                thicken: r.thicken,
                joins: r.joins,
                gradings: graded(1.0),
                blend_mm: 0.0,
                loose_ends: false,
            };
            r.zones.list[0].own = Some(Box::new(fill));
        }),
        ("structure", |r| r.structure.cell_mm[0] = 8.0),
        ("thicken", |r| r.thicken = Thicken::Thickness { thickness_mm: 1.5 }),
        ("joins", |r| r.joins.blend_mm = 0.7),
        ("gradings", |r| r.gradings = graded(1.0)),
        ("mesh", |r| r.mesh.reduce_mm = 0.03),
        ("material", |r| r.material.density = 2.0),
        ("stand", |r| r.stand = Some(Stand::default())),
    ];
    for (what, edit) in counts {
        assert_ne!(key(edit), before, "{what}");
    }
    assert_ne!(key(|r| r.gradings = graded(1.0)), key(|r| r.gradings = graded(1.1)));
    // A title is no part of what is made.
    assert_eq!(key(|r| r.name = "Another".into()), before);
}

fn graded(far: f64) -> Vec<Grading> {
    let surface = [Source::Surface];
    vec![Grading::fading(GradedValue::Thickness, Given::Value, surface, [2.0, far], 9.0)]
}

#[test]
fn every_edit_makes_anew_what_depends_on_it_and_nothing_else() {
    use Stage::*;
    type Edit = fn(&mut Recipe);
    let edits: [(&str, Edit, &[Stage]); 11] = [
        ("nothing", |_| (), &[]),
        ("the material", |r| r.material.density = 2.7, &[Report]),
        ("the crumb limit", |r| r.mesh.crumb_mm3 = Some(0.4), &[Finish, Report]),
        (
            "the stand",
            |r| r.stand = Some(Stand { turn_deg: 20.0, ..Stand::default() }),
            &[Finish, Report],
        ),
        ("the error of reduction", |r| r.mesh.reduce_mm *= 2.0, &[Surface, Finish, Report]),
        (
            "the thickness",
            |r| r.thicken = Thicken::Thickness { thickness_mm: 1.7 },
            &[Thickness, Lattice, Surface, Finish, Report],
        ),
        (
            "a thickness by place",
            |r| r.gradings = graded(1.2),
            &[Thickness, Lattice, Surface, Finish, Report],
        ),
        (
            "a size by place",
            |r| r.gradings = vec![Grading { of: GradedValue::CellSize, ..graded(9.0).remove(0) }],
            &[Skeleton, Thickness, Lattice, Surface, Finish, Report],
        ),
        (
            "the cells",
            |r| r.structure.cell_mm = [10.0; 3],
            &[Skeleton, Thickness, Lattice, Surface, Finish, Report],
        ),
        (
            "the kind",
            |r| r.structure.choose(Kind::Cell(CellKind::Octet)),
            &[Skeleton, Thickness, Lattice, Surface, Finish, Report],
        ),
        (
            "a skin",
            |r| r.zones.skins[0].depth_mm = 1.5,
            &[Thickness, Zones, Lattice, Surface, Finish, Report],
        ),
    ];
    let part = part();
    let pipeline = Pipeline::new(512 << 20);
    let before = recipe(&part);
    let first = Redone::default();
    pipeline.run(&part, &before, Quality::Final, &first).unwrap();
    assert_eq!(first.stages().len(), Stage::ALL.len(), "all of it, once each");
    for (what, edit, redone) in edits {
        let mut after = before.clone();
        edit(&mut after);
        let watch = Redone::default();
        pipeline.run(&part, &after, Quality::Final, &watch).unwrap();
        assert_eq!(watch.stages(), redone, "{what}");
        // And back again nothing is.
        let back = Redone::default();
        pipeline.run(&part, &before, Quality::Final, &back).unwrap();
        assert_eq!(back.stages(), [], "{what}, taken back");
    }
}

/// Stops when it has been asked so often whether to.
struct StopsAt {
    asked: AtomicUsize,
    at: usize,
}
impl StopsAt {
    fn new(at: usize) -> StopsAt {
        StopsAt { asked: AtomicUsize::new(0), at }
    }
}
impl Watch for StopsAt {
    fn cancelled(&self) -> bool {
        self.asked.fetch_add(1, Ordering::Relaxed) >= self.at
    }
}

#[test]
fn a_run_that_is_stopped_anywhere_ends_so_and_spoils_nothing() {
    let part = part();
    let recipe = recipe(&part);
    let whole = Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
    let never = StopsAt::new(usize::MAX);
    Pipeline::new(0).run(&part, &recipe, Quality::Final, &never).unwrap();
    let asked = never.asked.into_inner();
    assert!(asked > 100, "a run asks often: {asked}");
    let pipeline = Pipeline::new(512 << 20);
    for n in 0..12 {
        // Early and late.
        let watch = StopsAt::new(asked * n / 16);
        let stopped = pipeline.run(&part, &recipe, Quality::Final, &watch).err();
        assert_eq!(stopped, Some(RunError::Cancelled), "after {} of {asked}", watch.at);
        // What is not made anew is asked for less often: the cache holds what was whole.
        let after = watch.asked.into_inner() - watch.at;
        assert!(after < asked, "{after} questions after the stop");
    }
    let again = pipeline.run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
    assert!(again.solid.mesh == whole.solid.mesh && again.report == whole.report);
}

#[test]
fn drafts_show_the_same_shape_on_a_coarser_grid() {
    let part = part();
    let recipe = recipe(&part);
    let pipeline = Pipeline::new(0).with_drafts(60_000.0);
    let of = |quality: Quality| pipeline.run(&part, &recipe, quality, &Unwatched).unwrap();
    let [drag, rest, last] = [Quality::Drag, Quality::Draft, Quality::Final].map(of);
    assert!(drag.step_mm >= rest.step_mm && rest.step_mm >= last.step_mm);
    for draft in [&drag, &rest] {
        // What a draft tells is not of its own mesh, which is too coarse to weigh.
        assert!(
            (draft.report.mass_g / last.report.mass_g - 1.0).abs() < 0.02,
            "{} g",
            draft.report.mass_g
        );
        assert!(draft.report.checks.is_none() && draft.solid.crossings.is_none());
        let [own, final_] = [draft, &last].map(|o| o.solid.mesh.bounds());
        assert!(own.min.distance(final_.min) < 0.05 && own.max.distance(final_.max) < 0.05);
    }
}

#[test]
fn a_final_mesh_is_the_same_after_a_draft_on_a_grid_of_its_step() {
    let part = part();
    let mut recipe = recipe(&part);
    recipe.thicken = Thicken::Thickness { thickness_mm: 0.8 };
    let pipeline = Pipeline::new(512 << 20).with_drafts(4000.0);
    let step = pipeline.run(&part, &recipe, Quality::Draft, &Unwatched).unwrap().step_mm;
    assert!(step > 1.0, "a draft widens walls of 0.8 mm: {step}");
    recipe.mesh.step_mm = Some(step);
    let draft = pipeline.run(&part, &recipe, Quality::Draft, &Unwatched).unwrap();
    assert_eq!(draft.step_mm, step);
    let last = pipeline.run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
    let alone = Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
    assert!(last.solid.mesh == alone.solid.mesh, "the draft's widened samples are its own");
}

#[test]
fn what_does_not_fit_into_memory_is_refused_before_it_begins_and_says_what_would() {
    let part = part();
    let mut recipe = recipe(&part);
    recipe.mesh.step_mm = Some(0.04);
    let begun = Redone::default();
    let small = Pipeline::new(0).with_memory(Box::new(|| 120.0));
    let Err(RunError::TooLarge(refused)) = small.run(&part, &recipe, Quality::Final, &begun) else {
        panic!("120 MB do not do for that");
    };
    assert!(!begun.stages().iter().any(|s| matches!(s, Stage::Lattice | Stage::Surface)));
    assert!(refused.message().contains("MB") && refused.hint().contains("mm"), "{refused:?}");
    // The step that it names fits.
    let estimated = small.cost(&part, &recipe, &Unwatched).unwrap();
    assert!(estimated.memory_mb > 120.0 && estimated.too_large.as_ref() == Some(&refused));
    let step: f64 = refused
        .hint()
        .split("step of ")
        .nth(1)
        .unwrap()
        .split(' ')
        .next()
        .unwrap()
        .parse()
        .unwrap();
    recipe.mesh.step_mm = Some(step);
    let estimated = small.cost(&part, &recipe, &Unwatched).unwrap();
    assert!(
        estimated.memory_mb <= 120.0 && estimated.too_large.is_none(),
        "{step} mm: {} MB",
        estimated.memory_mb
    );
    // Drafts never ask for so much.
    assert!(small.run(&part, &recipe, Quality::Draft, &Unwatched).is_ok());
}
