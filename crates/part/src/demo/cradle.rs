//! The battery cradle: a block with two pockets for round cells.

use super::{recipe, skin};
use crate::builder::{circle, flat, rounded_rectangle, Builder};
use glam::{DVec2, DVec3};
use ulmix_mesh::faces::FaceForm;
use ulmix_mesh::{weld::weld, TriMesh};
use ulmix_recipe::{ExtrudedKind, Kind, Recipe, Thicken};

const HALF: DVec2 = DVec2::new(29.0, 17.0);
const HEIGHT: f64 = 46.0;
const CORNER: f64 = 6.0;
const POCKET_X: f64 = 13.0;
const POCKET: f64 = 9.4;
const FLOOR: f64 = 6.0;

pub(super) fn cradle() -> (TriMesh, Recipe) {
    let mesh = block();
    let mut recipe = recipe(&mesh, Kind::Extruded(ExtrudedKind::Hexagons), 6.0);
    recipe.thicken = Thicken::Thickness { thickness_mm: 0.9 };
    let in_pocket = |k: FaceForm| matches!(k, FaceForm::Cylinder { radius } if radius > 0.5 * (CORNER + POCKET));
    let pocket_floor = |place: DVec3| (place.z - FLOOR).abs() < 0.1;
    recipe.zones.skins =
        vec![skin(&mesh, "Pockets", 1.2, |f| in_pocket(f.kind) || pocket_floor(f.place))];
    (mesh, recipe)
}

fn block() -> TriMesh {
    let outline = rounded_rectangle(DVec2::ZERO, HALF, CORNER, 16);
    let pockets = [POCKET_X, -POCKET_X].map(|x| circle(DVec2::new(x, 0.0), POCKET, 72));
    let mut b = Builder::default();
    b.face(&outline, &[], false, flat(0.0));
    b.wall(&outline, true, flat(0.0), flat(HEIGHT));
    b.face(&outline, &[&pockets[0], &pockets[1]], true, flat(HEIGHT));
    for pocket in &pockets {
        b.wall(pocket, false, flat(FLOOR), flat(HEIGHT));
        b.face(pocket, &[], true, flat(FLOOR));
    }
    weld(&b.mesh, 1e-6).mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::PI;

    #[test]
    fn the_cradle_has_the_volume_of_its_block_less_its_pockets() {
        let (m, recipe) = cradle();
        let sole = 4.0 * HALF.x * HALF.y - (4.0 - PI) * CORNER * CORNER;
        let want = sole * HEIGHT - 2.0 * PI * POCKET * POCKET * (HEIGHT - FLOOR);
        assert!((m.volume() / want - 1.0).abs() < 2e-3, "{} for {want}", m.volume());
        assert_eq!(
            recipe.zones.skins[0].faces.as_ref().map(Vec::len),
            Some(4),
            "two walls and two floors"
        );
    }
}
