//! The opening that is told of a structure against the largest ball that passes through its mesh.

mod patterns;

use glam::{DVec3, UVec3};
use patterns::{set_form, set_holes};
use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
use ulmix_mesh::distance::SignedDistance;
use ulmix_mesh::topology::UnionFind;
use ulmix_mesh::{Topology, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::grading::{Given, GradedValue, Grading, Source};
use ulmix_recipe::{Form, Kind, Recipe, SeededKind, StrutSection, Thicken};

const SIDE: f64 = 36.0;
/// Places lie so far apart, around the middle of the part, where a cell's corner is: windows have
/// their middles there.
const SPACING: f64 = 8.0 / 24.0;
/// Places along a side.
const PLACES: u32 = 79;

/// Diameter of the largest ball whose centre can move through the middle of the part from a side to
/// the one opposite, in the direction in which it may be largest. mm.
fn largest_ball(mesh: &TriMesh) -> f64 {
    let distance = SignedDistance::new(mesh, &Topology::of(mesh));
    let from = 0.5 * (SIDE - SPACING * (PLACES - 1) as f64);
    let count = PLACES.pow(3);
    let at = |n: u32| UVec3::new(n % PLACES, n / PLACES % PLACES, n / PLACES / PLACES);
    let places: Vec<DVec3> = (0..count).map(|n| from + SPACING * at(n).as_dvec3()).collect();
    let values = distance.values(&places);
    let mut order: Vec<u32> = (0..count).collect();
    order.sort_by(|&a, &b| values[b as usize].total_cmp(&values[a as usize]));
    let across = |axis: usize| {
        let (low, high) = (count, count + 1);
        let mut joined = UnionFind::new(count as usize + 2);
        let mut is_open = vec![false; count as usize];
        for &n in &order {
            is_open[n as usize] = true;
            let c = at(n);
            if c[axis] == 0 {
                joined.join(n, low);
            }
            if c[axis] == PLACES - 1 {
                joined.join(n, high);
            }
            for step in (0..27u32).map(|s| UVec3::new(s % 3, s / 3 % 3, s / 9)) {
                let beside = (c + step).wrapping_sub(UVec3::ONE);
                if beside.max_element() < PLACES {
                    let m = (beside.z * PLACES + beside.y) * PLACES + beside.x;
                    if is_open[m as usize] {
                        joined.join(n, m);
                    }
                }
            }
            if joined.root(low) == joined.root(high) {
                return values[n as usize];
            }
        }
        0.0
    };
    2.0 * (0..3).map(across).fold(0.0, f64::max)
}

fn recipe(part: &Part, kind: Kind) -> Recipe {
    let mut r = Recipe::for_part(&part.mesh.bounds());
    r.structure.choose(kind);
    r.structure.cell_mm = [8.0; 3];
    r.thicken = Thicken::Thickness { thickness_mm: 1.0 };
    r.joins.blend_mm = 0.0;
    r
}

/// The opening told and the largest ball of a draft. mm.
fn told_and_passing(part: &Part, r: &Recipe) -> (f64, f64) {
    let o = Pipeline::new(0).run(part, r, Quality::Draft, &Unwatched).unwrap();
    (o.linked.fill.opening_mm, largest_ball(&o.solid.mesh))
}

/// Every kind with nodes, gradings, ribbons or holes where it can have them.
fn variants(part: &Part) -> Vec<(String, Recipe)> {
    let mut out = Vec::new();
    for kind in Kind::all() {
        let mut add = |name: &str, change: &dyn Fn(&mut Recipe)| {
            let mut r = recipe(part, kind);
            change(&mut r);
            out.push((format!("{kind:?} {name}"), r));
        };
        match kind {
            // Walls without holes let nothing pass.
            Kind::Seeded(SeededKind::VoronoiWalls) => {
                add("small holes", &|r| set_holes(r, 0.5));
                add("large holes", &|r| set_holes(r, 0.8));
                continue;
            }
            Kind::Surface(_) => add("network", &|r| set_form(r, Form::Network)),
            Kind::Cell(_) | Kind::Seeded(_) => {
                let (of, surface) = (GradedValue::Thickness, [Source::Surface]);
                let thicker = Grading::fading(of, Given::Added, surface, [1.0, 0.0], 40.0);
                add("nodes", &|r| r.joins.node_mm = 1.9);
                add("thicker at the surface", &|r| r.gradings = vec![thicker.clone()]);
                add("ribbons", &|r| {
                    r.joins.section = StrutSection::Rectangular { taller_mm: 1.5, turn_deg: 0.0 }
                });
            }
            _ => {}
        }
        add("plain", &|_| ());
    }
    out
}

/// With `ULMIX_MATRIX=all` all of them, which takes minutes.
#[test]
fn openings_are_the_largest_balls_that_pass() {
    let part = Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(SIDE))).unwrap();
    let all = std::env::var("ULMIX_MATRIX").is_ok_and(|v| v == "all");
    let few = [
        "Seeded(Voronoi) plain",
        "Seeded(Delaunay) ribbons",
        "large holes",
        "PlanarVoronoi",
        "Diamond) nodes",
    ];
    for (name, r) in
        variants(&part).into_iter().filter(|(name, _)| all || few.iter().any(|f| name.contains(f)))
    {
        let (told, passing) = told_and_passing(&part, &r);
        // Between the places a ball may be a little larger.
        let (least, most) = (0.85 * passing, 1.15 * passing + 0.25 * SPACING);
        assert!((least..most).contains(&told), "{name}: {told} mm told, {passing} mm pass");
    }
}
