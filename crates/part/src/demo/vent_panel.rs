//! The vent panel: a thin plate with rounded corners in a rim that stays solid.

use super::{recipe, skin};
use crate::builder::{flat, rounded_rectangle, Builder};
use glam::{DVec2, DVec3};
use ulmix_mesh::{weld::weld, TriMesh};
use ulmix_recipe::{Kind, PlanarKind, Recipe, Thicken};

const HALF: DVec2 = DVec2::new(55.0, 36.0);
const CORNER: f64 = 12.0;
const RIM: f64 = 5.0;
const RIM_HEIGHT: f64 = 7.0;
const HEIGHT: f64 = 3.5;

pub(super) fn vent_panel() -> (TriMesh, Recipe) {
    let mesh = plate();
    let mut recipe = recipe(&mesh, Kind::Planar(PlanarKind::PlanarVoronoi), 8.0);
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.4 };
    // As deep as the rim is wide, from its outer side.
    let outer = |p: DVec3| p.x.abs() > HALF.x - CORNER || p.y.abs() > HALF.y - 0.5 * RIM;
    let upright = |p: DVec3| (p.z - 0.5 * RIM_HEIGHT).abs() < 0.05;
    recipe.zones.skins = vec![skin(&mesh, "Rim", RIM, |f| outer(f.place) && upright(f.place))];
    (mesh, recipe)
}

fn plate() -> TriMesh {
    let [outer, inner] =
        [0.0, RIM].map(|inset| rounded_rectangle(DVec2::ZERO, HALF - inset, CORNER - inset, 24));
    let mut b = Builder::default();
    b.face(&outer, &[], false, flat(0.0));
    b.wall(&outer, true, flat(0.0), flat(RIM_HEIGHT));
    b.face(&outer, &[&inner], true, flat(RIM_HEIGHT));
    b.wall(&inner, false, flat(HEIGHT), flat(RIM_HEIGHT));
    b.face(&inner, &[], true, flat(HEIGHT));
    weld(&b.mesh, 1e-6).mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::PI;

    #[test]
    fn the_panel_has_the_volume_of_its_plate_and_rim() {
        let (m, recipe) = vent_panel();
        let area = |half: DVec2, corner: f64| 4.0 * half.x * half.y - (4.0 - PI) * corner * corner;
        let (whole, inside) = (area(HALF, CORNER), area(HALF - RIM, CORNER - RIM));
        let want = whole * RIM_HEIGHT - inside * (RIM_HEIGHT - HEIGHT);
        assert!((m.volume() / want - 1.0).abs() < 1e-3, "{} for {want}", m.volume());
        assert_eq!(
            recipe.zones.skins[0].faces.as_ref().map(Vec::len),
            Some(8),
            "four sides and four corners"
        );
    }
}
