//! Every Reedling part with every kind of structure gives a closed, manifold final mesh.

use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
use ulmix_mesh::Topology;
use ulmix_part::demo::Reedling;
use ulmix_recipe::{Kind, Thicken};

/// Steps along a part's longest side, and in a wall or strut: coarse, which is harder.
const STEPS: f64 = 90.0;
const THICK: f64 = 1.8;
/// Cells over thickness.
const CELL: f64 = 6.0;

/// Each part with kinds of all families; with `ULMIX_MATRIX=all` each with every kind, which takes
/// ten times as long.
#[test]
fn parts_and_kinds_close() {
    let all = std::env::var("ULMIX_MATRIX").is_ok_and(|v| v == "all");
    for (p, reedling) in Reedling::SHAPES.iter().copied().enumerate() {
        let (part, mut recipe) = reedling.part();
        let step = part.mesh.bounds().size().max_element() / STEPS;
        recipe.mesh.step_mm = Some(step);
        recipe.structure.cell_mm = [CELL * THICK * step; 3];
        recipe.thicken = Thicken::Thickness { thickness_mm: THICK * step };
        let taken = |k: usize| all || (k + 2 * p).is_multiple_of(10);
        for (_, kind) in Kind::all().into_iter().enumerate().filter(|(k, _)| taken(*k)) {
            recipe.structure.choose(kind);
            let o = Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
            let t = Topology::of(&o.solid.mesh);
            assert!(
                t.sound(),
                "{reedling:?} {kind:?}: {} open, {} non-manifold",
                t.open_edges,
                t.non_manifold_edges
            );
            assert!(
                o.solid.mesh.volume() > 0.0 && o.solid.mesh.volume() < part.mesh.volume(),
                "{reedling:?} {kind:?}"
            );
        }
    }
}
