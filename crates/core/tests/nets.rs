//! What people rely on of nets of struts that they shape: limits of length, loose pieces, curves,
//! grow thicker toward zones, and relaxing that goes on where it was.

mod patterns;

use glam::DVec3;
use patterns::{clean, lengths, seeds, set_struts};
use proptest::prelude::*;
use std::sync::atomic::{AtomicU32, Ordering};
use ulmix_check::Verdict;
use ulmix_core::pipeline::{Pipeline, Quality, Unwatched, Watch};
use ulmix_lattice::clean::StrutState;
use ulmix_lattice::make;
use ulmix_lattice::skeleton::Skeleton;
use ulmix_mesh::{Topology, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::grading::{Given, GradedValue, Grading, Source};
use ulmix_recipe::{
    BentRows, CellKind, CellPattern, CleanUp, Course, DeadEnds, Joins, Kind, Layout, OwnStruts,
    Pattern, Place, Recipe, Role, SeededKind, Seeds, Spread, Structure, StrutLengths, StrutSection,
    SurfaceNet, Thicken, Zone,
};

fn cube(side: f64) -> Part {
    Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(side))).unwrap()
}

fn ball() -> Part {
    Part::prepare(&TriMesh::sphere(15.0, 4)).unwrap()
}

fn recipe(part: &Part, kind: SeededKind, cell: f64) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(Kind::Seeded(kind));
    r.structure.cell_mm = [cell; 3];
    r.thicken = Thicken::Thickness { thickness_mm: 1.0 };
    r
}

fn skeleton(part: &Part, r: &Recipe) -> Skeleton {
    Pipeline::new(0).skeleton(part, r, None, &Unwatched).unwrap().expect("struts").0
}

/// Struts that the part's surface does not cut: what is left of the others may be of any length.
fn whole_struts(part: &Part, r: &Recipe) -> Skeleton {
    let (net, states) =
        Pipeline::new(0).skeleton(part, r, None, &Unwatched).unwrap().expect("struts");
    let whole = net
        .struts
        .iter()
        .zip(states)
        .filter(|(_, state)| *state != StrutState::Cut)
        .map(|(s, _)| *s);
    Skeleton { struts: whole.collect(), ..net }
}

fn facts(part: &Part, s: &Structure) -> ulmix_lattice::Facts {
    make::structure(part, s, Joins::default(), &|| false).unwrap().facts().unwrap().clone()
}

#[test]
fn struts_between_points_keep_the_limits_of_their_length() {
    let part = cube(30.0);
    for kind in [SeededKind::Delaunay, SeededKind::Neighbours] {
        let mut r = recipe(&part, kind, 6.0);
        clean(&mut r).weld = 0.0;
        let all = whole_struts(&part, &r);
        *lengths(&mut r) = StrutLengths { shortest: 0.85, longest: 1.15 };
        let some = whole_struts(&part, &r);
        let lengths =
            |net: &Skeleton| net.struts.iter().map(|s| net.length(*s)).collect::<Vec<f64>>();
        assert!(lengths(&some).iter().all(|l| (5.1 - 1e-9..=6.9 + 1e-9).contains(l)), "{kind:?}");
        assert!(some.struts.len() > 30 && lengths(&all).iter().any(|l| *l > 6.9), "{kind:?}");
        // What is left out is what lies beyond the limits, and what hung on nothing else.
        assert!(some.struts.len() < all.struts.len());
    }
}

#[test]
fn small_loose_pieces_go_or_stay_and_are_told() {
    let part = cube(30.0);
    let ring = (0..40).map(|n| {
        let turn = n as f64 * std::f64::consts::TAU / 40.0;
        [15.0 + 12.0 * turn.cos(), 15.0 + 12.0 * turn.sin(), 15.0]
    });
    let nodes_mm: Vec<[f64; 3]> = ring.chain([[15.0, 15.0, 15.0], [16.0, 15.0, 15.0]]).collect();
    let struts = (0..40u32).map(|n| [n, (n + 1) % 40]).chain([[40, 41]]).collect();
    let mut r = recipe(&part, SeededKind::Voronoi, 6.0);
    set_struts(&mut r, OwnStruts { nodes_mm, struts, name: "Ring".into() });
    clean(&mut r).weld = 0.0;
    for (keep_loose, components) in [(false, 1), (true, 2)] {
        clean(&mut r).keep_loose = keep_loose;
        let facts = facts(&part, &r.structure);
        assert_eq!((facts.components, facts.in_loose), (components, 1));
        assert_eq!(skeleton(&part, &r).struts.len(), 39 + components);
    }
}

#[test]
fn curved_struts_keep_nodes_and_surface_and_mesh_as_dense_as_asked() {
    let part = ball();
    let mut r = recipe(&part, SeededKind::Voronoi, 8.0);
    let straight = skeleton(&part, &r);
    clean(&mut r).curved = 3;
    let curved = skeleton(&part, &r);
    assert!(straight.nodes.iter().all(|p| curved.nodes.iter().any(|q| q.distance(*p) < 1e-9)));
    // Inside the part the straightest two struts of a node of the straight net run on into each
    // other.
    let turns = |net: &Skeleton| {
        let mut at = vec![Vec::new(); net.nodes.len()];
        net.struts.iter().for_each(|s| s.iter().for_each(|n| at[*n as usize].push(*s)));
        let far = |s: [u32; 2], n: u32| net.nodes[if s[0] == n { s[1] } else { s[0] } as usize];
        let way = |s: [u32; 2], n: u32| (far(s, n) - net.nodes[n as usize]).normalize();
        let straightest = |(n, struts): (usize, &Vec<[u32; 2]>)| {
            let ways: Vec<DVec3> = struts.iter().map(|s| way(*s, n as u32)).collect();
            let pairs = ways
                .iter()
                .enumerate()
                .flat_map(|(i, a)| ways[i + 1..].iter().map(move |b| (-*a).angle_between(*b)));
            pairs.fold(f64::INFINITY, f64::min)
        };
        let inner = |n: usize| {
            part.distance.value(net.nodes[n]) < -0.5
                && straight.nodes.iter().any(|p| p.distance(net.nodes[n]) < 1e-9)
        };
        let all: Vec<f64> = at
            .iter()
            .enumerate()
            .filter(|(n, s)| s.len() > 1 && inner(*n))
            .map(straightest)
            .collect();
        all.iter().sum::<f64>() / all.len() as f64
    };
    assert!(turns(&curved) < 0.4 * turns(&straight), "{} {}", turns(&curved), turns(&straight));
    // The net's struts lie on the surface as before, and what leads to it ends there.
    let off =
        |net: &Skeleton| net.nodes.iter().filter(|p| part.distance.value(**p).abs() < 1e-6).count();
    assert!(off(&curved) > off(&straight));
    let facts = facts(&part, &r.structure);
    assert!(
        facts.strands > 0 && facts.strands < facts.struts,
        "{} {}",
        facts.strands,
        facts.struts
    );
    r.thicken = Thicken::RelativeDensity { percent: 18.0 };
    let o = Pipeline::new(0).run(&part, &r, Quality::Final, &Unwatched).unwrap();
    let failed: Vec<_> =
        o.report.checks.iter().flatten().filter(|c| c.verdict == Verdict::Fail).collect();
    assert!(failed.is_empty() && (o.report.fill_density_percent - 18.0).abs() < 1.0, "{failed:?}");
}

#[test]
fn struts_are_thicker_toward_the_zones_that_ask_for_it_and_no_others() {
    let part = cube(30.0);
    let at = |x: f64| Place::Sphere { centre_mm: [x, 15.0, 15.0], radius_mm: 3.0 };
    let mut r = recipe(&part, SeededKind::Voronoi, 6.0);
    let zone = |name: &str, x: f64| Zone::new(x as u32, name, Role::Reference, at(x));
    r.zones.list = vec![zone("Left", 5.0), zone("Right", 25.0)];
    let thicker = |zones: &[u32]| {
        let from = zones.iter().map(|id| Source::Zone { id: *id });
        vec![Grading::fading(GradedValue::Thickness, Given::Added, from, [1.5, 0.0], 9.0)]
    };
    r.gradings = thicker(&[5]);
    let solid_near = |r: &Recipe, x: f64| {
        let o = Pipeline::new(0).run(&part, r, Quality::Draft, &Unwatched).unwrap();
        let near = |p: &&DVec3| p.distance(DVec3::new(x, 15.0, 15.0)) < 9.0;
        // The surface of what is thicker lies farther from the struts' middles.
        let net = skeleton(&part, r);
        let away = |p: &DVec3| {
            let to = |s: &[u32; 2]| {
                let [a, b] = net.ends(*s);
                let t = ((*p - a).dot(b - a) / (b - a).length_squared()).clamp(0.0, 1.0);
                p.distance(a.lerp(b, t))
            };
            net.struts.iter().map(to).fold(f64::INFINITY, f64::min)
        };
        let all: Vec<f64> = o.solid.mesh.points.iter().filter(near).step_by(7).map(away).collect();
        all.iter().sum::<f64>() / all.len() as f64
    };
    let (left, right) = (solid_near(&r, 5.0), solid_near(&r, 25.0));
    assert!(left > 1.4 * right && (right - 0.5).abs() < 0.1, "{left} {right}");
    // Naming the other one is a change that a run sees.
    r.gradings = thicker(&[5, 25]);
    assert!(solid_near(&r, 25.0) > 1.4 * right);
}

#[test]
fn rows_that_bend_are_cleaned_as_nets_are() {
    let part = Part::prepare(&ulmix_part::own_shapes::mesh(&ulmix_recipe::OwnShape::Tube {
        diameter_mm: 50.0,
        bore_mm: 26.0,
        height_mm: 30.0,
    }))
    .unwrap();
    let course = Course::Polar { about: None, counts: [0; 3] };
    let of = |clean: CleanUp, weld: f64| {
        let rows = Some(BentRows { course: course.clone(), clean: CleanUp { weld, ..clean } });
        let pattern = Pattern::Cell(CellPattern { cell: CellKind::BodyCentred, rows });
        facts(&part, &Structure { pattern, cell_mm: [7.0; 3], ..Structure::default() })
    };
    let plain = of(CleanUp::default(), 0.1);
    let most = of(CleanUp { most_at_node: 6, ..CleanUp::default() }, 0.1);
    assert!(plain.rows.is_some() && most.drawn_apart > 0 && plain.drawn_apart == 0);
    let welded = of(CleanUp::default(), 0.4);
    assert!(welded.welded >= plain.welded && welded.struts <= plain.struts);
}

/// Counts rounds of relaxing.
#[derive(Default)]
struct Rounds(AtomicU32);

impl Watch for Rounds {
    fn relaxing(&self, _: u32, _: u32) -> bool {
        self.0.fetch_add(1, Ordering::Relaxed);
        false
    }
}

#[test]
fn points_are_relaxed_once_whatever_else_changes() {
    let part = cube(30.0);
    let pipeline = Pipeline::new(100 << 20);
    let mut r = recipe(&part, SeededKind::Voronoi, 7.0);
    let rounds = |r: &Recipe| {
        let watch = Rounds::default();
        let found = pipeline.estimate(&part, r, &watch).unwrap().0.fill.structure.unwrap();
        assert_eq!(found.rounds, r.structure.seeds().unwrap().rounds);
        watch.0.into_inner()
    };
    seeds(&mut r).rounds = 12;
    assert_eq!(rounds(&r), 12);
    r.joins.blend_mm = 0.7;
    assert_eq!(rounds(&r), 0, "joins do not move points");
    clean(&mut r).weld = 0.2;
    clean(&mut r).curved = 2;
    assert_eq!(rounds(&r), 0, "nor does the clean-up");
    r.structure.choose(Kind::Seeded(SeededKind::VoronoiWalls));
    assert_eq!(rounds(&r), 0, "nor another kind of the same points");
    seeds(&mut r).rounds = 15;
    assert_eq!(rounds(&r), 3, "more rounds go on");
    seeds(&mut r).random += 1;
    assert_eq!(rounds(&r), 15, "other points begin again");
}

#[test]
fn limits_that_leave_nothing_are_refused() {
    let part = cube(20.0);
    let mut r = recipe(&part, SeededKind::Delaunay, 6.0);
    for (shortest, longest, field) in [
        (0.8, 0.7, "shortest"),
        (1.5, 2.0, "shortest"),
        (0.0, 9.0, "longest"),
        (0.0, f64::NAN, "longest"),
    ] {
        *lengths(&mut r) = StrutLengths { shortest, longest };
        let refused = r.validate(&part.mesh.bounds()).unwrap_err();
        assert!(refused.field.ends_with(field) && !refused.hint().is_empty(), "{refused:?}");
    }
    *lengths(&mut r) = StrutLengths::default();
    seeds(&mut r).apart = 0.71;
    assert!(r.validate(&part.mesh.bounds()).unwrap_err().field.ends_with("apart"));
    seeds(&mut r).apart = 0.0;
    clean(&mut r).curved = 4;
    assert!(r.validate(&part.mesh.bounds()).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]
    #[test]
    fn any_points_and_any_clean_up_give_a_closed_manifold(
        kind in prop::sample::select(vec![SeededKind::Voronoi, SeededKind::VoronoiWalls, SeededKind::Delaunay, SeededKind::Neighbours]),
        layout in prop::sample::select(vec![Layout::Inside, Layout::Surface, Layout::Both]),
        dead_ends in prop::sample::select(vec![DeadEnds::Kept, DeadEnds::Removed, DeadEnds::Extended]),
        (cell, loose, from_above, net, inner, keep_loose) in (3.0..11.0f64, any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>()),
        (rounds, apart, shortest, longest, weld) in (0u32..6, 0.0..0.7f64, 0.0..0.9f64, 1.0..3.0f64, 0.0..0.4f64),
        (curved, most_at_node, least_left) in (0u32..4, prop::sample::select(vec![0u32, 4, 7]), 0.0..0.6f64),
        toward in prop::option::of(prop::sample::select(vec![Source::Surface, Source::Zone { id: 2 }])),
        flat in any::<bool>(),
        percent in 4.0..45.0f64,
        is_ball in any::<bool>(),
    ) {
        let part = if is_ball { ball() } else { cube(21.0) };
        let mut r = recipe(&part, kind, cell);
        let spread = if loose { Spread::Loose } else { Spread::Even };
        let all = seeds(&mut r);
        *all = Seeds { layout, spread, from_above, rounds, apart, ..all.clone() };
        match &mut r.structure.pattern {
            Pattern::Voronoi(p) => p.net = net.then_some(SurfaceNet { inner, edges: true }),
            Pattern::Delaunay(_) | Pattern::Neighbours(_) => {
                *lengths(&mut r) = StrutLengths { shortest, longest };
            }
            _ => {}
        }
        if let Some(clean) = r.structure.clean_mut() {
            *clean = CleanUp { weld, dead_ends, least_left, most_at_node, keep_loose, curved };
        }
        r.thicken = Thicken::RelativeDensity { percent };
        if flat {
            r.joins.section = StrutSection::Rectangular { taller_mm: 0.8, turn_deg: 30.0 };
        }
        let thicker = |from| Grading::fading(GradedValue::Thickness, Given::Added, [from], [0.6, 0.0], 6.0);
        r.gradings = toward.into_iter().map(thicker).collect();
        let place = Place::Sphere { centre_mm: [2.0, 3.0, 4.0], radius_mm: 4.0 };
        r.zones.list = vec![Zone::new(2, "Here", Role::Reference, place)];
        r.mesh.step_mm = Some(0.5);
        let o = Pipeline::new(0).run(&part, &r, Quality::Final, &Unwatched).unwrap();
        let t = Topology::of(&o.solid.mesh);
        prop_assert!(t.sound(), "{:?}", (t.open_edges, t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices));
        prop_assert!(o.report.volume_mm3.is_finite() && o.report.fill_density_percent.is_finite());
        let thinnest = o.linked.fill.thickness_mm;
        prop_assume!(thinnest > o.step_mm);
        prop_assert_eq!(o.solid.crossings.as_ref().map(Vec::len), Some(0));
    }
}
