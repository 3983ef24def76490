//! Values that nothing can be made of are refused by the name of their field, whatever else a
//! recipe holds.

mod random_recipes;

use random_recipes::numbered;
use serde_json::{json, Value};
use std::collections::BTreeSet;
use ulmix_recipe::Recipe;

/// Recipes whose values are tried.
const RECIPES: u64 = 16;

/// A place in a recipe: keys of objects and numbers in lists.
type Path = Vec<String>;

/// Where a recipe holds numbers.
fn numbers(value: &Value, at: &mut Path, out: &mut Vec<Path>) {
    let mut into = |key: String, value: &Value| {
        at.push(key);
        numbers(value, at, out);
        at.pop();
    };
    match value {
        Value::Object(fields) => fields.iter().for_each(|(key, value)| into(key.clone(), value)),
        Value::Array(list) => {
            list.iter().enumerate().for_each(|(n, value)| into(n.to_string(), value))
        }
        Value::Number(_) => out.push(at.clone()),
        _ => {}
    }
}

fn with(recipe: &Value, path: &Path, value: Value) -> Value {
    let mut out = recipe.clone();
    *out.pointer_mut(&format!("/{}", path.join("/"))).expect("the path leads somewhere") = value;
    out
}

#[test]
fn numbers_beyond_all_bounds_are_refused_by_their_field_and_with_a_hint() {
    let mut taken = BTreeSet::new();
    for n in 0..RECIPES {
        let (_, part, recipe) = numbered(n);
        let bounds = part.mesh.bounds();
        assert!(recipe.validate(&bounds).is_ok(), "{n}");
        let recipe: Value = serde_json::from_str(&recipe.to_json()).unwrap();
        let mut paths = Vec::new();
        numbers(&recipe, &mut Vec::new(), &mut paths);
        for (path, bad) in paths.iter().flat_map(|p| [1e30, -1e30].map(|bad| (p, bad))) {
            let refused = match Recipe::from_json(&with(&recipe, path, json!(bad)).to_string()) {
                Ok(r) => r.validate(&bounds).err(),
                Err(e) => Some(e),
            };
            let Some(e) = refused else {
                taken.insert(
                    path.iter()
                        .filter(|key| key.parse::<usize>().is_err())
                        .cloned()
                        .collect::<Path>()
                        .join("."),
                );
                continue;
            };
            let first = e.field.split(['.', '[']).next().unwrap_or_default();
            assert!(first == path[0] || first == "recipe", "{path:?} is refused as {}", e.field);
            assert!(e.message().len() > 10 && e.hint().len() > 5, "{path:?}: {e:?}");
        }
    }
    // What turns comes around again.
    let turns = ["structure.rotation_deg", "zones.list.own.structure.rotation_deg"];
    assert_eq!(
        taken.iter().filter(|p| !turns.contains(&p.as_str())).collect::<Vec<_>>(),
        Vec::<&String>::new()
    );
}

#[test]
fn unknown_fields_and_kinds_are_refused_by_name() {
    let (_, _, recipe) = numbered(0);
    let recipe: Value = serde_json::from_str(&recipe.to_json()).unwrap();
    for path in ["/structure", "/zones", "/joins", "/mesh", "/thicken"] {
        let mut odd = recipe.clone();
        odd.pointer_mut(path).unwrap()["no_such_field"] = json!(1);
        let e = Recipe::from_json(&odd.to_string()).unwrap_err();
        assert!(e.message().contains("no_such_field") && !e.hint().is_empty(), "{path}: {e:?}");
    }
    for (path, field) in [("/structure/pattern", "kind"), ("/structure/pattern", "no_such_field")] {
        let mut odd = recipe.clone();
        odd.pointer_mut(path).unwrap()[field] = json!("no_such_kind");
        let e = Recipe::from_json(&odd.to_string()).unwrap_err();
        assert!(e.message().contains("no_such_") && !e.hint().is_empty(), "{e:?}");
    }
}
