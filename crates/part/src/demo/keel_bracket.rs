//! The keel bracket, made face by face.

use crate::builder::{circle, flat, rounded_rectangle, Builder};
use glam::{DVec2, DVec3};
use std::f64::consts::PI;
use ulmix_mesh::{weld::weld, TriMesh};
use ulmix_recipe::profile::arc;
use ulmix_recipe::{Place, Recipe, Role, Zone};

/// The keel bracket with its first recipe: a sole with rounded corners and two bolt bosses, an
/// upright with a fillet at its root, and an eye with a bore. 120 × 72 × 88 mm.
pub fn keel_bracket() -> (TriMesh, Recipe) {
    let mesh = bracket();
    let mut recipe = Recipe::for_part(&mesh.bounds());
    recipe.name = "Keel bracket".into();
    let solid = |id: u32, name: &str, base_mm: [f64; 3], axis_mm: [f64; 3], radius_mm: f64| {
        Zone::new(id, name, Role::KeepSolid, Place::Cylinder { base_mm, axis_mm, radius_mm })
    };
    let boss = |id: u32, name: &str, y: f64| {
        solid(id, name, [BOSS_X, y, -1.0], [0.0, 0.0, SOLE + BOSS_HEIGHT + 2.0], BOSS + 2.0)
    };
    let eye = [EYE_X, -HALF_WIDTH - 1.0, EYE_Z];
    recipe.zones.list = vec![
        boss(1, "Bolt boss, port", BOSS_Y),
        boss(2, "Bolt boss, starboard", -BOSS_Y),
        solid(3, "Eye", eye, [0.0, 2.0 * HALF_WIDTH + 2.0, 0.0], EYE + 1.0),
    ];
    (mesh, recipe)
}

const LENGTH: f64 = 120.0;
const HALF_SOLE: f64 = 36.0;
const SOLE: f64 = 22.0;
const CORNER: f64 = 10.0;
const HALF_WIDTH: f64 = 27.0;
const LEFT: f64 = 12.0;
const RIGHT: f64 = 40.0;
const FILLET: f64 = 8.0;
const EYE_X: f64 = 26.0;
const EYE_Z: f64 = 66.0;
const EYE: f64 = 22.0;
const EYE_BORE: f64 = 11.0;
const BOSS_X: f64 = 96.0;
const BOSS_Y: f64 = 19.0;
const BOSS: f64 = 11.0;
const BOSS_HEIGHT: f64 = 6.0;
const BOLT: f64 = 4.5;

fn bracket() -> TriMesh {
    let mut b = Builder::default();

    // The sole, seen from above.
    let outline = rounded_rectangle(
        DVec2::new(0.5 * LENGTH, 0.0),
        DVec2::new(0.5 * LENGTH, HALF_SOLE),
        CORNER,
        12,
    );
    let centres = [DVec2::new(BOSS_X, BOSS_Y), DVec2::new(BOSS_X, -BOSS_Y)];
    let bolts = centres.map(|c| circle(c, BOLT, 48));
    let bosses = centres.map(|c| circle(c, BOSS, 72));
    let foot = [
        (LEFT, -HALF_WIDTH),
        (RIGHT + FILLET, -HALF_WIDTH),
        (RIGHT + FILLET, HALF_WIDTH),
        (LEFT, HALF_WIDTH),
    ]
    .map(|(x, y)| DVec2::new(x, y))
    .to_vec();

    b.face(&outline, &[&bolts[0], &bolts[1]], false, flat(0.0));
    b.wall(&outline, true, flat(0.0), flat(SOLE));
    b.face(&outline, &[&foot, &bosses[0], &bosses[1]], true, flat(SOLE));
    for (bolt, boss) in bolts.iter().zip(&bosses) {
        b.wall(boss, true, flat(SOLE), flat(SOLE + BOSS_HEIGHT));
        b.face(boss, &[bolt], true, flat(SOLE + BOSS_HEIGHT));
        b.wall(bolt, false, flat(0.0), flat(SOLE + BOSS_HEIGHT));
    }

    // The upright with its eye, seen along y; it stands open on the sole.
    let eye = DVec2::new(EYE_X, EYE_Z);
    let half = (RIGHT - LEFT) / 2.0;
    let down = (EYE * EYE - half * half).sqrt().atan2(half);
    let mut side = vec![DVec2::new(LEFT, SOLE)];
    side.extend(arc(DVec2::new(RIGHT + FILLET, SOLE + FILLET), FILLET, 1.5 * PI, PI, 16));
    side.extend(arc(eye, EYE, -down, PI + down, 96));
    let bore = circle(eye, EYE_BORE, 72);
    let at = |y: f64| move |p: DVec2| DVec3::new(p.x, y, p.y);
    b.face(&side, &[&bore], true, at(-HALF_WIDTH));
    b.face(&side, &[&bore], false, at(HALF_WIDTH));
    for pair in side.windows(2).skip(1).chain([[side[side.len() - 1], side[0]].as_slice()]) {
        b.quad(pair[0], pair[1], at(HALF_WIDTH), at(-HALF_WIDTH));
    }
    b.wall(&bore, false, at(HALF_WIDTH), at(-HALF_WIDTH));
    weld(&b.mesh, 1e-6).mesh
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::Topology;

    #[test]
    fn the_bracket_is_one_sound_body_of_the_stated_size_and_volume() {
        let (m, recipe) = keel_bracket();
        let t = Topology::of(&m);
        assert!(
            t.sound(),
            "{:?}",
            (t.open_edges, t.non_manifold_edges, t.flipped_edges, t.non_manifold_vertices)
        );
        assert_eq!(t.components, 1);
        let size = m.bounds().size();
        assert!((size - DVec3::new(120.0, 72.0, 88.0)).length() < 0.1, "{size}");
        // Sole, bosses and bolt holes by formula; the upright adds the rest.
        let sole = (LENGTH * 2.0 * HALF_SOLE - (4.0 - PI) * CORNER * CORNER) * SOLE;
        let bosses = 2.0 * PI * (BOSS * BOSS * BOSS_HEIGHT - BOLT * BOLT * (SOLE + BOSS_HEIGHT));
        let root = FILLET * FILLET * (1.0 - PI / 4.0);
        let (half, eye2) = (14.0f64, EYE * EYE);
        let drop = (eye2 - half * half).sqrt();
        let upright = 28.0 * (EYE_Z - drop - SOLE) + root;
        let cap = eye2 * (half / EYE).asin() - half * drop;
        let eye = PI * (eye2 - EYE_BORE * EYE_BORE) - cap;
        let want = sole + bosses + (upright + eye) * 2.0 * HALF_WIDTH;
        assert!((m.volume() / want - 1.0).abs() < 1e-3, "{} for {want}", m.volume());
        assert!(recipe.validate(&m.bounds()).is_ok());
    }
}
