//! Recipes of older versions, brought up step by step.

mod three;
mod two;

use super::{RecipeError, RecipeFault, VERSION};
use serde_json::{json, Value};

/// Brings a recipe of any known version up to this one.
///
/// # Errors
/// A version that is not known, and values that its version did not have.
pub(super) fn brought_up(recipe: &mut Value) -> Result<(), RecipeError> {
    loop {
        match recipe["ulmix"].as_u64() {
            Some(v) if v == VERSION as u64 => return Ok(()),
            Some(1) => from_version_1(recipe),
            Some(2) => two::to_version_3(recipe)?,
            Some(3) => three::to_version_4(recipe)?,
            Some(v) => return Err(other_version(v)),
            None => return Err(RecipeError::new("recipe", RecipeFault::NotARecipe)),
        }
    }
}

/// A recipe of a version that this program does not read.
pub(super) fn other_version(v: u64) -> RecipeError {
    RecipeError::new("ulmix", RecipeFault::OtherVersion { found: v, read: VERSION })
}

/// Version 1 knew one skin all around and kept cylinders.
fn from_version_1(recipe: &mut Value) {
    let zones = &recipe["zones"];
    let depth = zones["skin_mm"].as_f64().unwrap_or(0.0);
    let skins: Vec<Value> =
        if depth > 0.0 { vec![json!({ "name": "Skin", "depth_mm": depth })] } else { Vec::new() };
    let kept = zones["keep_solid"].as_array().cloned().unwrap_or_default();
    let list: Vec<Value> = kept
        .into_iter()
        .map(|k| {
            let place =
                json!({ "shape": "cylinder", "base_mm": k["base_mm"], "axis_mm": k["axis_mm"], "radius_mm": k["radius_mm"] });
            json!({ "name": k["name"], "role": "keep_solid", "place": place })
        })
        .collect();
    recipe["zones"] = json!({ "rest": "fill", "list": list, "skins": skins });
    recipe["ulmix"] = json!(2);
}

#[cfg(test)]
mod tests {
    use super::super::*;

    /// A recipe as version 1 wrote it.
    const ONE: &str = include_str!("one.json");
    /// A recipe as version 2 wrote it, with a structure of its own in a zone, and struts that were
    /// brought in and are not in use.
    const TWO: &str = include_str!("two.json");
    /// A recipe as version 3 wrote it, with cells that are smaller and struts that are thicker near
    /// zones, and a zone filled in its own way.
    const THREE: &str = include_str!("three.json");

    #[test]
    fn a_recipe_of_version_1_keeps_its_skin_and_its_solid_places() {
        let r = Recipe::from_json(ONE).unwrap();
        assert_eq!(r.ulmix, VERSION);
        assert_eq!(r.structure, Structure { cell_mm: [11.0; 3], ..Structure::default() });
        let zone = &r.zones.list[0];
        assert_eq!((zone.id, zone.name.as_str(), zone.role), (1, "Eye", Role::KeepSolid));
        assert_eq!((r.zones.skins[0].id, r.zones.skins[0].depth_mm), (1, 1.5));
        assert!(r.kept.is_empty());
        assert_eq!(Recipe::from_json(&r.to_json()).unwrap(), r);
    }

    #[test]
    fn a_recipe_of_version_2_keeps_every_value_that_applied_and_what_was_brought_in() {
        let r = Recipe::from_json(TWO).unwrap();
        let Pattern::Neighbours(p) = &r.structure.pattern else { panic!("{:?}", r.structure) };
        assert_eq!((p.neighbours, p.lengths.shortest, p.lengths.longest), (6, 0.2, 1.9));
        assert_eq!((p.seeds.count, p.seeds.random, p.seeds.rounds), (Some(300), 7, 9));
        assert_eq!((p.clean.weld, p.clean.dead_ends), (0.15, DeadEnds::Removed));
        assert_eq!(r.structure.shift_mm, [1.0, 2.0, 3.0]);
        let zones = &r.zones;
        assert_eq!(zones.list.iter().map(|z| z.id).collect::<Vec<_>>(), [1, 2]);
        let own = &zones.list[1].own_fill().unwrap().structure;
        let Some(BentRows { course, clean }) = own.bent() else { panic!("{own:?}") };
        assert_eq!(*course, Course::Polar { about: None, counts: [2, 12, 3] });
        assert_eq!((clean.weld, own.kind()), (0.1, Kind::Cell(CellKind::Kelvin)));
        assert_eq!((r.part.pockets[0].id, zones.skins[0].id, zones.skins[1].id), (1, 1, 2));
        // Both structures hold the same drawn cell.
        let [Pattern::OwnCell(cell), Pattern::OwnStruts(struts)] = &r.kept[..] else {
            panic!("{:?}", r.kept)
        };
        assert_eq!((cell.own.struts.len(), struts.own.name.as_str()), (1, "frame.3mf"));
        assert_eq!(Recipe::from_json(&r.to_json()).unwrap(), r);
    }

    #[test]
    fn smaller_cells_and_tapered_struts_of_version_3_become_gradings() {
        use crate::grading::{Given, GradedValue, Grading, Source, SourceRule, ValueCurve};
        let r = Recipe::from_json(THREE).unwrap();
        let told = |g: &Grading| {
            let from: Vec<Source> = g.sources.iter().map(|s| s.from.clone()).collect();
            let curve = g.sources[0].curve.clone().unwrap();
            assert!(g.sources.iter().all(|s| s.curve.as_ref() == Some(&curve)));
            (g.id, g.of, g.given, g.rule, from, curve)
        };
        let zone = |id: u32| Source::Zone { id };
        let [cells, struts] = &r.gradings[..] else { panic!("{:?}", r.gradings) };
        assert_eq!(
            told(cells),
            (
                1,
                GradedValue::CellSize,
                Given::Percent,
                SourceRule::Least,
                vec![zone(4), zone(2), Source::Surface],
                ValueCurve::smooth([0.0, 50.0], [12.0, 100.0]),
            )
        );
        assert_eq!(
            told(struts),
            (
                2,
                GradedValue::Thickness,
                Given::Added,
                SourceRule::Greatest,
                vec![zone(2)],
                ValueCurve::smooth([0.0, 0.9], [15.0, 0.0]),
            )
        );
        // A foam sheet has no struts: its taper changed nothing.
        let own = r.zones.list[1].own_fill().unwrap();
        let [cells] = &own.gradings[..] else { panic!("{:?}", own.gradings) };
        let share = ValueCurve::smooth([0.0, 25.0], [9.0, 100.0]);
        assert_eq!(told(cells).4, [zone(4), zone(2)]);
        assert_eq!(told(cells).5, share);
        assert_eq!(Recipe::from_json(&r.to_json()).unwrap(), r);
        let part =
            ulmix_mesh::Bounds { min: glam::DVec3::splat(-40.0), max: glam::DVec3::splat(40.0) };
        assert_eq!(r.validate(&part), Ok(()));
        let e = Recipe::from_json(&THREE.replacen("\"share\"", "\"part\"", 1)).unwrap_err();
        assert!(e.field.contains("structure") && e.message().contains("part"), "{e:?}");
    }

    #[test]
    fn values_that_an_older_version_did_not_have_are_refused_where_they_stand() {
        let wrong = TWO.replacen("\"apart\"", "\"apart_mm\"", 1);
        let e = Recipe::from_json(&wrong).unwrap_err();
        assert!(e.field == "structure" && e.message().contains("apart_mm"), "{e:?}");
        let wrong = TWO.replacen("\"counts\"", "\"count\"", 1);
        assert_eq!(Recipe::from_json(&wrong).unwrap_err().field, "zones.list.1.own.structure");
        let e = Recipe::from_json(&TWO.replace("\"neighbours\",", "\"own_mesh\",")).unwrap_err();
        assert!(e.message().contains("does not hold"), "{e:?}");
    }
}
