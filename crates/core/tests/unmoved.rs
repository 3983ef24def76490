//! Recipes whose final meshes are known bit by bit: what is computed stays the same while the code
//! around it changes.
//!
//! Each line of `unmoved.jsonl` is a part by its name, a recipe as it was stored, and the SHA-256
//! of the final mesh. The recipes reach over all kinds of structures and all parts. A change that
//! is meant to move a mesh comes with new sums: `ULMIX_UNMOVED=write` writes them.

mod named_parts;

use rayon::prelude::*;
use serde_json::Value;
use sha2::{Digest, Sha256};
use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
use ulmix_mesh::{Topology, TriMesh};
use ulmix_recipe::Recipe;

/// From the crate's folder.
const KEPT: &str = "tests/unmoved.jsonl";

/// The sum of all coordinates and corners, in their order.
fn sum(mesh: &TriMesh) -> String {
    let mut sum = Sha256::new();
    mesh.points.iter().flat_map(|p| p.to_array()).for_each(|v| sum.update(v.to_le_bytes()));
    mesh.triangles.iter().flatten().for_each(|corner| sum.update(corner.to_le_bytes()));
    sum.finalize().iter().map(|b| format!("{b:02x}")).collect()
}

#[test]
fn final_meshes_are_the_same_bit_by_bit() {
    let kept: Vec<Value> = std::fs::read_to_string(KEPT)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    assert!(kept.len() >= 40);
    let now: Vec<Value> = kept
        .par_iter()
        .map(|k| {
            let part = named_parts::named(k["part"].as_str().unwrap());
            let recipe = Recipe::from_json(&k["recipe"].to_string()).unwrap();
            let outcome = Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
            let mesh = &outcome.solid.mesh;
            assert!(
                Topology::of(mesh).sound(),
                "{} with {}",
                k["part"],
                k["recipe"]["structure"]["kind"]
            );
            Value::String(sum(mesh))
        })
        .collect();
    if std::env::var("ULMIX_UNMOVED").is_ok_and(|v| v == "write") {
        let mut lines = String::new();
        for (mut k, sum) in kept.into_iter().zip(now) {
            k["sha256"] = sum;
            lines += &format!("{k}\n");
        }
        std::fs::write(KEPT, lines).unwrap();
        return;
    }
    let moved: Vec<String> =
        (kept.iter().zip(&now).enumerate().filter(|(_, (k, sum))| k["sha256"] != **sum))
            .map(|(n, (k, _))| {
                format!("line {}: {} with {}", n + 1, k["part"], k["recipe"]["structure"]["kind"])
            })
            .collect();
    assert!(moved.is_empty(), "{moved:#?}");
}
