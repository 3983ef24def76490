//! Recipes that ask for nonsense.

use super::running::ServedApp;
use serde_json::{json, Value};

/// Numbers that repeat (Knuth 1997).
struct RandomNumbers(u64);

impl RandomNumbers {
    fn below(&mut self, n: usize) -> usize {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % n.max(1)
    }
}

/// All places of a value that hold no others.
fn leaves(value: &Value, at: String, out: &mut Vec<String>) {
    match value {
        Value::Object(all) if !all.is_empty() => {
            all.iter().for_each(|(k, v)| leaves(v, format!("{at}/{k}"), out))
        }
        Value::Array(all) if !all.is_empty() => {
            all.iter().enumerate().for_each(|(n, v)| leaves(v, format!("{at}/{n}"), out))
        }
        _ => out.push(at),
    }
}

#[test]
fn any_change_of_a_recipe_is_kept_or_refused_in_words() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let p = s.post("/api/projects", &json!({ "from": "reedling", "part": "keel_bracket" })).json();
    let (id, first) = (p["id"].as_str().unwrap().to_owned(), p["recipe"].clone());
    let mut places = Vec::new();
    leaves(&first, String::new(), &mut places);
    let mut numbers = RandomNumbers(19);
    let (mut revision, mut kept, mut refused) = (1, 0, 0);
    for n in 0..300 {
        let mut recipe = first.clone();
        let place = &places[numbers.below(places.len())];
        let odd = [
            json!(null),
            json!(-1),
            json!(0),
            json!(1e300),
            json!(-1e-300),
            json!(1e12),
            json!(""),
            json!("x".repeat(300)),
            json!([]),
            json!([[1]]),
            json!({}),
            json!(true),
            json!(u64::MAX),
            json!(0.5),
            json!(1000),
        ];
        *recipe.pointer_mut(place).unwrap() = odd[numbers.below(odd.len())].clone();
        let r = s.put_recipe(&id, revision, &recipe);
        match r.status {
            200 => {
                revision = r.json()["revision"].as_i64().unwrap();
                kept += 1;
                // What is kept can be read again, and drawn or refused with words.
                if n % 4 == 0 {
                    let wish = json!({ "recipe": recipe, "drag": true, "thickness": false });
                    let drawn = s.post(&format!("/api/projects/{id}/draft"), &wish);
                    assert!(
                        drawn.status == 200 || drawn.status == 422,
                        "{place}: {}",
                        drawn.status
                    );
                }
            }
            400..=499 => {
                let p = r.json();
                assert!(
                    p["message"].as_str().is_some_and(|m| m.len() > 10) && p["hint"].is_string(),
                    "{place}: {p}"
                );
                refused += 1;
            }
            other => panic!("{place}: {other}"),
        }
    }
    assert!(kept > 20 && refused > 100, "{kept} kept, {refused} refused");
    assert_eq!(s.get(&format!("/api/projects/{id}")).status, 200);
}

#[test]
fn fields_are_refused_by_what_they_mean() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (id, first) = s.small_box();
    let refuse = |change: &dyn Fn(&mut Value), field: &str| {
        let mut recipe = first.clone();
        change(&mut recipe);
        let r = s.put_recipe(&id, 1, &recipe);
        r.problem(422, "bad_value");
        assert_eq!(r.json()["field"], field);
    };
    let far = json!({ "name": "far.csv", "points_mm": [[1, 1, 1], [1e6, 0, 0]] });
    refuse(
        &|r| r["structure"]["pattern"] = json!({ "kind": "voronoi", "seeds": { "own": far } }),
        "structure.pattern.seeds.own",
    );
    let face = |direction: Value, area: f64| json!({ "kind": "plane", "place_mm": [0, 0, 0], "direction": direction, "area_mm2": area });
    for face in [face(json!([0, 0, 1]), -1.0), face(json!([0, 0, 1e12]), 5.0)] {
        let skin = json!([{ "id": 1, "name": "Skin", "faces": [face], "depth_mm": 1.0 }]);
        refuse(&|r| r["zones"]["skins"] = skin.clone(), "zones.skins.0");
    }
    // What mending asks for is looked at before the part is mended.
    refuse(&|r| r["part"]["mend"]["rewrap_mm"] = json!(1e-9), "part.mend.rewrap_mm");
    refuse(&|r| r["material"]["name"] = json!("m".repeat(201)), "material.name");
}

#[test]
fn what_may_be_brought_in_may_be_edited() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (id, mut recipe) = s.small_box();
    // The most struts that a file may bring, with all their digits.
    let nodes: Vec<[f64; 3]> = (0..100_001)
        .map(|n| [n as f64 * 1.234_567_890_123e-4, (n % 317) as f64 * 0.052_345_678_901, 1.0 / 3.0])
        .collect();
    let struts: Vec<[u32; 2]> = (0..100_000).map(|n| [n, n + 1]).collect();
    recipe["structure"]["pattern"] = json!({ "kind": "own_struts", "own": { "name": "frame.3mf", "nodes_mm": nodes, "struts": struts } });
    let kept = s.put_recipe(&id, 1, &recipe);
    assert_eq!((kept.status, kept.etag.as_str()), (200, "\"2\""));
}
