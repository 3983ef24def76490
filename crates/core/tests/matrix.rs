//! Every Reedling part with every kind of structure gives a closed, manifold final mesh.

use ulmix_core::demo::Reedling;
use ulmix_core::part::Part;
use ulmix_core::pipeline::{Pipeline, Quality, Unwatched};
use ulmix_core::recipe::{Kind, Thicken};
use ulmix_mesh::Topology;

/// Steps along a part's longest side, and in a wall or strut: coarse, which is harder.
const STEPS: f64 = 90.0;
const THICK: f64 = 1.8;
/// Cells over thickness.
const CELL: f64 = 6.0;

fn closes(which: impl Fn(usize, usize) -> bool) {
    for (p, reedling) in Reedling::ALL.into_iter().enumerate() {
        let (mesh, mut recipe) = reedling.make();
        let part = Part::prepare(&mesh).unwrap();
        let step = mesh.bounds().size().max_element() / STEPS;
        recipe.mesh.step_mm = Some(step);
        recipe.structure.cell_mm = [CELL * THICK * step; 3];
        recipe.thicken = Thicken::Thickness { thickness_mm: THICK * step };
        for (_, kind) in Kind::all().into_iter().enumerate().filter(|(k, _)| which(p, *k)) {
            recipe.structure.kind = kind;
            let o = Pipeline::new(0).run(&part, &recipe, Quality::Final, &Unwatched).unwrap();
            let t = Topology::of(&o.solid.mesh);
            assert!(t.sound(), "{reedling:?} {kind:?}: {} open, {} non-manifold", t.open_edges, t.non_manifold_edges);
            assert!(o.solid.mesh.volume() > 0.0 && o.solid.mesh.volume() < mesh.volume(), "{reedling:?} {kind:?}");
        }
    }
}

/// Each part with kinds of all families.
#[test]
fn parts_and_kinds_in_turn_close() {
    closes(|p, k| (k + 2 * p).is_multiple_of(10));
}

#[test]
#[ignore = "takes many minutes; the test above takes a tenth of it"]
fn all_parts_with_all_kinds_close() {
    closes(|_, _| true);
}
