//! What gradings give, and that what is made counts for the gradings that it was made with.

use super::server::fresh;
use serde_json::{json, Value};

/// A thickness along z: 2 mm at the bottom of a part that is 12 mm high, 1 mm at its top.
fn falling() -> Value {
    json!({ "id": 4, "name": "", "of": "thickness",
        "sources": [{ "from": { "kind": "direction", "from_mm": [0, 0, 0], "along": [0, 0, 1] },
            "curve": { "points": [[0, 2], [12, 1]], "smooth": false } }] })
}

#[test]
fn a_field_is_given_as_numbers_and_a_bad_grading_is_refused() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    recipe["gradings"] = json!([falling()]);
    let asked =
        |recipe: &Value, of: &str| s.post(&format!("/api/projects/{id}/gradings/{of}"), recipe);
    let reply = asked(&recipe, "4");
    assert_eq!((reply.status, reply.kind.as_str()), (200, "application/octet-stream"));
    let numbers: Vec<f64> = reply
        .body
        .chunks_exact(4)
        .map(|v| f32::from_le_bytes(v.try_into().unwrap()) as f64)
        .collect();
    let (low, step) = (numbers[2], numbers[3]);
    let [nx, ny, nz] = [4, 5, 6].map(|n| numbers[n] as usize);
    assert_eq!(numbers.len(), 7 + nx * ny * nz);
    for (n, value) in numbers[7..].iter().enumerate() {
        let z = low + step * (n / (nx * ny)) as f64;
        let wanted = 2.0 - (z / 12.0).clamp(0.0, 1.0);
        assert!((value - wanted).abs() < 1e-5, "{value} at {z}");
    }
    // The part's material by the height at which it lies.
    let spread = asked(&recipe, "4/spread").json();
    let percents = spread[0]["percents"].as_array().unwrap();
    assert_eq!((percents.len(), spread.as_array().unwrap().len()), (32, 1));
    assert!(percents.iter().all(|p| (p.as_f64().unwrap() - 3.125).abs() < 0.5), "{spread}");
    assert_eq!(asked(&recipe, "5/spread").json(), json!([]));
    // No grading of that number, none in a zone, and a source that is gone give no numbers.
    assert!(asked(&recipe, "5").body.is_empty() && asked(&recipe, "4?zone=0").status == 200);
    let mut gone = recipe.clone();
    gone["gradings"][0]["sources"][0]["from"] = json!({ "kind": "zone", "id": 77 });
    assert!(asked(&gone, "4").body.is_empty());
    // What cannot be used is named by its place.
    recipe["gradings"][0]["sources"][0]["curve"]["points"] = json!([[3, 1], [3, 2]]);
    let refused = asked(&recipe, "4");
    assert!(refused.problem(422, "bad_value").contains("Point 2"), "{}", refused.json());
    assert_eq!(refused.json()["field"], "gradings.0.sources.0");
    assert_eq!(asked(&recipe, "x").status, 400);
}

#[test]
fn a_final_counts_for_the_gradings_that_it_was_made_with() {
    let (_dir, s) = fresh();
    let (id, _) = s.small_box();
    let made = s.make_final(&id);
    let mut recipe = made["recipe"].clone();
    recipe["gradings"] = json!([falling()]);
    let saved = s.put_recipe(&id, made["revision"].as_u64().unwrap(), &recipe).json();
    assert!(saved["finished"].is_null(), "the final is of even walls");
    // Back at the recipe that it was made of it counts again.
    recipe.as_object_mut().unwrap().remove("gradings");
    let back = s.put_recipe(&id, saved["revision"].as_u64().unwrap(), &recipe).json();
    assert_eq!(back["finished"], made["finished"]);
}

#[test]
fn a_table_is_read_with_its_columns_and_leads_a_grading() {
    let (_dir, s) = fresh();
    let send = |query: &str, body: &str| {
        s.send("POST", &format!("/api/table?{query}"), &[], body.as_bytes())
    };
    let csv = "x,y,z,heat,force\n0,0,0,1,5\n2,0,0,3,6\n";
    let found = send("name=t.csv&column=force&mm=10", csv).json();
    assert_eq!(found["columns"], json!(["heat", "force"]));
    assert_eq!((&found["rows"], &found["range"]), (&json!(2), &json!([5.0, 6.0])));
    assert_eq!(found["table"]["places_mm"][1], json!([20.0, 0.0, 0.0]));
    for (query, body, words) in [
        ("name=t.csv", "x,y,z,heat\n1,2\n", "Line 2"),
        ("name=t.csv&column=cold", csv, "cold"),
        ("name=t.csv&mm=0", csv, "unit of length"),
        ("name=t.vtu", "<VTKFile type=\"UnstructuredGrid\"><UnstructuredGrid>", "no points"),
        ("name=t.vtu", "<VTKFile type=\"ImageData\"/>", "unstructured grid"),
    ] {
        let told = send(query, body).problem(422, "bad_value");
        assert!(told.contains(words), "{told} for {words}");
    }
    // What was read is a source as it stands.
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    let mut grading = falling();
    grading["sources"][0]["from"] = json!({ "kind": "table", "table": found["table"] });
    grading["sources"][0]["curve"]["points"] = json!([[5, 2], [6, 1]]);
    recipe["gradings"] = json!([grading]);
    let reply = s.post(&format!("/api/projects/{id}/gradings/4"), &recipe);
    assert!(reply.status == 200 && reply.body.len() > 28, "{}", reply.status);
    recipe["gradings"][0]["sources"][0]["from"]["table"]["values"] = json!([1.0]);
    let refused = s.post(&format!("/api/projects/{id}/gradings/4"), &recipe);
    assert!(refused.problem(422, "bad_value").contains("as many numbers"));
}
