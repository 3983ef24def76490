//! Random parts and recipes over all kinds and options, which repeat by number.

#[path = "../named_parts/mod.rs"]
mod named_parts;

use glam::DVec3;
use named_parts::{named, shapes};
use ulmix_part::demo::Reedling;
use ulmix_part::Part;
use ulmix_recipe::grading::{Given, GradedValue, Grading, Source};
use ulmix_recipe::{
    Form, Joins, Kind, OwnFill, Pattern, Place, Recipe, Role, Skin, StrutSection, Thicken, Zone,
};

/// The part and recipe of a number, and the part's name.
pub(crate) fn numbered(n: u64) -> (String, Part, Recipe) {
    let mut dice = Dice(n);
    let (name, part) = part_of(&mut dice);
    let recipe = recipe_of(&mut dice, &part);
    (name, part, recipe)
}

/// Random numbers that repeat (SplitMix64, Steele et al. 2014).
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn between(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    fn one_of<T: Clone>(&mut self, of: &[T]) -> T {
        of[(self.next() % of.len() as u64) as usize].clone()
    }

    fn chance(&mut self, share: f64) -> bool {
        self.between(0.0, 1.0) < share
    }
}

/// A part, with its name.
fn part_of(dice: &mut Dice) -> (String, Part) {
    let shapes = shapes();
    let n = dice.next() as usize % (shapes.len() + Reedling::SHAPES.len());
    let name = shapes
        .get(n)
        .map_or_else(|| format!("{:?}", Reedling::SHAPES[n - shapes.len()]), |s| s.0.to_string());
    let part = named(&name);
    (name, part)
}

/// A recipe for a part, with values that a person might type.
fn recipe_of(dice: &mut Dice, part: &Part) -> Recipe {
    let bounds = part.mesh.bounds();
    let mut r = Recipe::for_part(&bounds);
    let mut sides = bounds.size().to_array();
    sides.sort_by(f64::total_cmp);
    let cell = dice.between(0.13, 0.3) * sides[1].max(20.0);
    let kinds = Kind::all();
    let structure = |dice: &mut Dice, r: &mut Recipe| {
        r.structure.choose(dice.one_of(&kinds));
        let form = dice.one_of(&[Form::Walls, Form::Walls, Form::Network]);
        if let Pattern::Surface(p) = &mut r.structure.pattern {
            p.form = form;
        }
        r.structure.cell_mm = [cell; 3];
        if dice.chance(0.3) {
            r.structure.cell_mm = [cell * 0.9, cell, cell * 1.2];
        }
        if dice.chance(0.5) {
            r.structure.rotation_deg = [0.0; 3].map(|_| dice.between(-90.0, 90.0));
        }
        r.thicken = if dice.chance(0.5) {
            Thicken::RelativeDensity { percent: dice.between(8.0, 45.0).round() }
        } else {
            Thicken::Thickness { thickness_mm: cell * dice.between(0.1, 0.22) }
        };
        r.joins = Joins {
            blend_mm: if dice.chance(0.5) { cell / 20.0 } else { 0.0 },
            ..Joins::default()
        };
        if dice.chance(0.15) {
            r.joins.section = StrutSection::Rectangular {
                taller_mm: cell * 0.08,
                turn_deg: dice.between(0.0, 90.0),
            };
        }
        if dice.chance(0.15) {
            let from = dice.one_of(&[Source::Surface, Source::Solids]);
            let (of, more) = (GradedValue::Thickness, [0.1 * cell, 0.0]);
            r.gradings = vec![Grading::fading(of, Given::Added, [from], more, 2.0 * cell)];
        }
        r.joins.proud = dice.chance(0.1);
    };
    structure(dice, &mut r);
    if dice.chance(0.25) {
        let mut own = r.clone();
        structure(dice, &mut own);
        let blend_mm = if dice.chance(0.5) { cell } else { 0.0 };
        let fill = OwnFill {
            structure: own.structure,
            thicken: own.thicken,
            joins: own.joins,
            gradings: own.gradings,
            blend_mm,
            loose_ends: false,
        };
        let size_mm = (bounds.size() * DVec3::new(0.5, 1.2, 1.2)).to_array();
        let place =
            Place::Box { centre_mm: bounds.min.to_array(), size_mm, rotation_deg: [0.0; 3] };
        r.zones
            .list
            .push(Zone { own: Some(Box::new(fill)), ..Zone::new(1, "Own", Role::Fill, place) });
    }
    if dice.chance(0.4) {
        let depth_mm = dice.between(0.03, 0.1) * cell * 2.0;
        r.zones.skins = vec![Skin { id: 1, name: "Skin".into(), faces: None, depth_mm }];
    }
    if dice.chance(0.3) {
        let radius_mm = 0.15 * sides[1];
        let (centre, up) = (bounds.centre(), DVec3::Z * bounds.size().z);
        let place = Place::Cylinder {
            base_mm: (centre - up).to_array(),
            axis_mm: (2.0 * up).to_array(),
            radius_mm,
        };
        let role = dice.one_of(&[Role::KeepSolid, Role::KeepSolid, Role::KeepClear]);
        r.zones.list.insert(0, Zone::new(2, "Post", role, place));
    }
    if dice.chance(0.2) {
        r.mesh.apart_mm = Some(dice.one_of(&[0.0, 0.1 * cell]));
    }
    if dice.chance(0.15) {
        r.mesh.smoothing = 2;
    }
    // Coarse steps must be told; fine ones take long.
    let longest = sides[2];
    if dice.chance(0.6) {
        r.mesh.step_mm = Some(longest / dice.between(60.0, 160.0));
    }
    if dice.chance(0.2) {
        r.mesh.crumb_mm3 = Some(0.0);
    }
    r
}
