//! Random recipes over all kinds and options: every result is sound, and what was asked is there or
//! it is told.
//!
//! `ULMIX_PROMISES=200` makes so many of them, `ULMIX_PROMISE=7` only that one; both print what
//! each came to.

mod random_recipes;

use glam::DVec3;
use random_recipes::numbered;
use rayon::prelude::*;
use std::f64::consts::PI;
use std::fmt::Write;
use ulmix_check::{worst, CheckGroup, Verdict};
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_mesh::topology::component_volumes;
use ulmix_mesh::{SignedDistance, Topology, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::Recipe;

/// How many recipes are run without being asked for more.
const FEW: u64 = 16;
/// Recipes with more triangles before reduction are run only when they are asked for.
const MOST_TRIANGLES: u64 = 2_000_000;

fn told(o: &Outcome) -> String {
    let mut out = String::new();
    for c in o.report.checks.iter().flatten().filter(|c| c.verdict != Verdict::Pass) {
        let limit = c.limit.as_deref().unwrap_or_default();
        let place = c.place_mm.map_or_else(String::new, |p| format!(", at {p:.1?}"));
        let _ = write!(out, "\n      {:?} {}: {} ({limit}{place})", c.verdict, c.id, c.figure);
    }
    out
}

/// A place of a piece that lies in the material of others, or of an inside-out one that does not;
/// none where there are many pieces, which take long to tell.
fn astray(mesh: &TriMesh, t: &Topology) -> Option<DVec3> {
    const MANY: usize = 60;
    if t.components < 2 || t.components > MANY {
        return None;
    }
    let volumes = component_volumes(mesh, &t.component_of, t.components);
    (0..t.components).find_map(|component| {
        let first = t.component_of.iter().position(|p| *p as usize == component)?;
        let at = mesh.middle(first);
        let others = (0..mesh.triangles.len())
            .into_par_iter()
            .filter(|f| t.component_of[*f] as usize != component);
        let around =
            others.map(|f| solid_angle(mesh.corners(f).map(|p| p - at))).sum::<f64>() / (4.0 * PI);
        let wanted = if volumes[component] > 0.0 { 0.0 } else { 1.0 };
        ((around - wanted).abs() > 0.5).then_some(at)
    })
}

/// The solid angle under which a triangle is seen from the origin, in steradians (Van Oosterom &
/// Strackee 1983).
fn solid_angle([a, b, c]: [DVec3; 3]) -> f64 {
    let [x, y, z] = [a, b, c].map(|p| p.length());
    2.0 * a.dot(b.cross(c)).atan2(x * y * z + a.dot(b) * z + b.dot(c) * x + c.dot(a) * y)
}

fn stands_proud(recipe: &Recipe) -> bool {
    let mut own = recipe.zones.list.iter().filter_map(|z| z.own.as_ref());
    recipe.joins.proud || own.any(|o| o.joins.proud)
}

/// By how much the result leaves the part, in mm, and where.
fn farthest_out(part: &Part, o: &Outcome) -> (f64, DVec3) {
    let inside = SignedDistance::new(&part.mesh, &Topology::of(&part.mesh));
    let outs = o.solid.mesh.points.par_iter().map(|p| (inside.value(*p), *p));
    outs.max_by(|a, b| a.0.total_cmp(&b.0)).unwrap()
}

#[test]
fn any_recipe_is_kept_or_told() {
    let number = |name: &str| std::env::var(name).ok().and_then(|v| v.parse::<u64>().ok());
    let (only, asked) = (number("ULMIX_PROMISE"), number("ULMIX_PROMISES"));
    let range = only.map_or(0..asked.unwrap_or(FEW), |n| n..n + 1);
    let mut faults = Vec::new();
    for n in range {
        let (name, part, recipe) = numbered(n);
        let started = std::time::Instant::now();
        let pipeline = Pipeline::new(0);
        // The few are to be quick.
        let large = || {
            pipeline
                .estimate(&part, &recipe, &Unwatched)
                .is_ok_and(|(_, e)| e.raw_triangles > MOST_TRIANGLES)
        };
        if only.or(asked).is_none() && large() {
            continue;
        }
        let o = match pipeline.run(&part, &recipe, Quality::Final, &Unwatched) {
            Ok(o) => o,
            // A refusal is told.
            Err(e) => {
                println!("{n:>4} {name}: refused: {e}");
                continue;
            }
        };
        let checks = o.report.checks.as_ref().unwrap();
        if only.or(asked).is_some() {
            println!(
                "{n:>4} {name}, {:?} {:?}, step {:.2}, {} triangles, {:.1} s \
                     (estimated {:.1}): {:?}{}",
                recipe.structure.kind(),
                recipe.thicken,
                o.step_mm,
                o.report.triangles,
                started.elapsed().as_secs_f64(),
                o.cost.seconds,
                worst(checks),
                told(&o)
            );
            if only.is_some() {
                println!("{}", recipe.to_json());
            }
        }
        if o.solid.mesh.triangles.is_empty() {
            assert!(!o.report.notes.is_empty(), "{n}: an empty result is told");
            continue;
        }
        let t = Topology::of(&o.solid.mesh);
        let crossings = o.solid.crossings.as_ref().map_or(0, Vec::len);
        if !t.sound() || crossings > 0 {
            let bad = t.non_manifold_edges + t.non_manifold_vertices;
            faults.push(format!(
                "{n}: {} open edges, {bad} non-manifold, {crossings} crossing",
                t.open_edges
            ));
        }
        assert!(checks.iter().any(|c| c.group == CheckGroup::AsAsked), "{n}");
        // Bodies apart touch, or overlap.
        if let Some(at) = astray(&o.solid.mesh, &t).filter(|_| o.solid.apart.is_none()) {
            faults.push(format!("{n}: a shell is nested or inside out at {at:.1}"));
        }
        // Reduction may move points by its tolerance; smoothing and what stands proud may leave the
        // part.
        if recipe.mesh.smoothing == 0 && !stands_proud(&recipe) {
            let most = recipe.mesh.reduce_mm + 0.01 * o.step_mm;
            let (out, place) = farthest_out(&part, &o);
            if out > most {
                faults.push(format!("{n}: leaves the part by {out:.4} mm at {place:.1}"));
            }
        }
    }
    assert!(faults.is_empty(), "{faults:#?}");
}
