//! Parts turned about an axis: the lamp guard and the mooring link sleeve.

use super::{recipe, skin};
use crate::builder::revolve;
use glam::DVec2;
use std::f64::consts::FRAC_PI_2;
use ulmix_mesh::faces::FaceForm;
use ulmix_mesh::{weld::weld, TriMesh};
use ulmix_recipe::profile::arc;
use ulmix_recipe::{CellKind, FoamKind, Kind, Place, Recipe, Role, Thicken, Zone};

const AROUND: usize = 144;
const RING: f64 = 10.0;
const RING_OUTER: f64 = 46.0;
const DOME_OUTER: f64 = 40.0;
const DOME_INNER: f64 = 32.0;

/// A dome over a ring that stays solid.
pub(super) fn lamp_guard() -> (TriMesh, Recipe) {
    let top = DVec2::new(0.0, RING);
    let mut profile = vec![
        DVec2::new(DOME_INNER, 0.0),
        DVec2::new(RING_OUTER, 0.0),
        DVec2::new(RING_OUTER, RING),
    ];
    let on_axis = |p: DVec2| if p.x < 1e-9 { p.with_x(0.0) } else { p };
    profile.extend(arc(top, DOME_OUTER, 0.0, FRAC_PI_2, 40).map(on_axis));
    profile.extend(arc(top, DOME_INNER, FRAC_PI_2, 0.0, 40).map(on_axis));
    let mesh = weld(&revolve(&profile, AROUND), 1e-6).mesh;
    let mut recipe = recipe(&mesh, Kind::Foam(FoamKind::FoamSheet), 9.0);
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.2 };
    let ring = Place::Cylinder {
        base_mm: [0.0, 0.0, -1.0],
        axis_mm: [0.0, 0.0, RING + 1.0],
        radius_mm: RING_OUTER + 1.0,
    };
    recipe.zones.list = vec![Zone::new(1, "Ring", Role::KeepSolid, ring)];
    (mesh, recipe)
}

const SLEEVE: [f64; 2] = [10.0, 17.0];
const SLEEVE_HEIGHT: f64 = 34.0;

/// A short tube, lined where the link runs.
pub(super) fn link_sleeve() -> (TriMesh, Recipe) {
    let [bore, outer] = SLEEVE;
    let profile =
        [(bore, 0.0), (outer, 0.0), (outer, SLEEVE_HEIGHT), (bore, SLEEVE_HEIGHT)].map(DVec2::from);
    let mesh = weld(&revolve(&profile, AROUND), 1e-6).mesh;
    let mut recipe = recipe(&mesh, Kind::Cell(CellKind::Kelvin), 5.0);
    recipe.thicken = Thicken::Thickness { thickness_mm: 1.0 };
    let lined = |kind: FaceForm| matches!(kind, FaceForm::Cylinder { radius } if radius < 0.5 * (bore + outer));
    recipe.zones.skins = vec![skin(&mesh, "Bore", 1.0, |f| lined(f.kind))];
    (mesh, recipe)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::PI;

    #[test]
    fn guard_and_sleeve_have_their_textbook_volume() {
        let (guard, _) = lamp_guard();
        let ring = PI * (RING_OUTER.powi(2) - DOME_INNER.powi(2)) * RING;
        let dome = 2.0 / 3.0 * PI * (DOME_OUTER.powi(3) - DOME_INNER.powi(3));
        assert!((guard.volume() / (ring + dome) - 1.0).abs() < 2e-3, "{}", guard.volume());
        let (sleeve, _) = link_sleeve();
        let want = PI * (SLEEVE[1].powi(2) - SLEEVE[0].powi(2)) * SLEEVE_HEIGHT;
        assert!((sleeve.volume() / want - 1.0).abs() < 1e-3, "{}", sleeve.volume());
    }
}
