//! Random recipes over all kinds and options: every result is sound, and what was asked is there or it is told.
//!
//! `ULMIX_PROMISES=200` makes so many of them, `ULMIX_PROMISE=7` only that one; both print what each came to.

mod random_recipes;

use random_recipes::numbered;
use std::fmt::Write;
use ulmix_core::check::{worst, CheckGroup, Verdict};
use ulmix_core::pipeline::{Outcome, Pipeline, Quality, Unwatched};
use ulmix_mesh::Topology;

/// How many without being asked for more.
const FEW: u64 = 24;
/// Of those none with more triangles before reduction.
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
        let large = || pipeline.foresee(&part, &recipe, &Unwatched).is_ok_and(|(_, e)| e.raw_triangles > MOST_TRIANGLES);
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
                "{n:>4} {name}, {:?} {:?}, step {:.2}, {} triangles, {:.1} s (estimated {:.1}): {:?}{}",
                recipe.structure.kind,
                recipe.thicken,
                o.step_mm,
                o.report.triangles,
                started.elapsed().as_secs_f64(),
                o.prediction.seconds,
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
            faults.push(format!("{n}: {} open edges, {bad} non-manifold, {crossings} crossing", t.open_edges));
        }
        assert!(checks.iter().any(|c| c.group == CheckGroup::AsAsked), "{n}");
    }
    assert!(faults.is_empty(), "{faults:#?}");
}
