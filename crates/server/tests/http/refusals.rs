//! What the interface refuses: each refusal says what, where and what to do, and changes nothing.

use super::asking::Reply;
use super::server::fresh;
use serde_json::{json, Value};

/// The problem of an answer: it has words, and a hint that says something else.
fn told(what: &str, reply: &Reply, status: u16) -> Value {
    assert_eq!(reply.status, status, "{what}: {}", String::from_utf8_lossy(&reply.body));
    let problem = reply.json();
    let words = |name: &str| problem[name].as_str().unwrap_or_default().to_owned();
    let (message, hint) = (words("message"), words("hint"));
    assert!(message.ends_with(['.', '?']) && hint.ends_with('.'), "{what}: {problem}");
    assert_ne!(message, hint, "{what}");
    problem
}

/// A place of a recipe, what is put there, and the field that is named.
type Change = (&'static str, Value, &'static str);

#[test]
fn values_that_no_step_could_use_are_named_by_their_field() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let ball = |id: u32, role: &str| {
        json!({ "id": id, "name": "Ball", "role": role,
            "place": { "shape": "sphere", "centre_mm": [10, 8, 6], "radius_mm": 3 } })
    };
    let skin = |id: u32| json!({ "id": id, "name": "Skin", "depth_mm": 1 });
    let polar = json!({ "kind": "cell", "cell": "cubic",
        "rows": { "course": { "course": "polar", "counts": [1, 2, 1] } } });
    let own_cell = json!({ "kind": "own_cell", "own": { "struts": [[[0, 0, 0], [0, 0, 0]]] } });
    let flat = json!({ "kind": "planar_voronoi", "seeds": { "layout": "surface" } });
    let changes: Vec<Change> = vec![
        ("/name", json!("n".repeat(201)), "name"),
        ("/thicken", json!({ "lead": "thickness", "thickness_mm": -1 }), "thicken.thickness_mm"),
        ("/thicken", json!({ "lead": "relative_density", "percent": 99 }), "thicken.percent"),
        ("/structure/cell_mm", json!([0, 1, 1]), "structure.cell_mm"),
        ("/structure/shift_mm", json!([1e9, 0, 0]), "structure.shift_mm"),
        ("/structure/pattern", polar, "structure.pattern.rows"),
        ("/structure/pattern", own_cell, "structure.pattern.own"),
        ("/structure/pattern", flat, "structure.pattern.seeds.layout"),
        ("/joins/blend_mm", json!(500), "joins.blend_mm"),
        ("/zones/rest", json!("reference"), "zones.rest"),
        ("/zones/list", json!([ball(1, "keep_solid"), ball(1, "fill")]), "zones.list"),
        ("/zones/list", json!([ball(1, "alongside")]), "zones.list.0"),
        ("/zones/skins", json!([skin(4), skin(4)]), "zones.skins"),
        ("/mesh/step_mm", json!(1e-6), "mesh.step_mm"),
        ("/mesh/reduce_mm", json!(-1), "mesh.reduce_mm"),
        ("/material/density", json!(0), "material.density"),
        (
            "/stand",
            json!({ "down": [0, 0, 0], "turn_deg": 0, "bed_mm": [200, 200, 200] }),
            "stand.down",
        ),
    ];
    for (at, value, field) in changes {
        let mut recipe = p["recipe"].clone();
        let (parent, name) = at.rsplit_once('/').unwrap();
        recipe.pointer_mut(parent).unwrap()[name] = value;
        let what = format!("{at} for {field}");
        let problem = told(&what, &s.post(&format!("/api/projects/{id}/estimate"), &recipe), 422);
        assert_eq!(problem["field"], field, "{what}: {problem}");
        let saved = s.put_recipe(&id, &p["revision"], &recipe);
        assert_eq!(told(&what, &saved, 422)["message"], problem["message"], "{what}");
    }
    let after = s.get(&format!("/api/projects/{id}")).json();
    assert_eq!((&after["recipe"], &after["revision"]), (&p["recipe"], &p["revision"]));
}

#[test]
fn a_refusal_in_a_zone_names_the_zone_and_the_value_in_it() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    let mut structure = recipe["structure"].clone();
    structure["cell_mm"] = json!([-3, 4, 4]);
    recipe["zones"]["list"] = json!([{ "id": 1, "name": "Rim", "role": "fill",
        "place": { "shape": "sphere", "centre_mm": [10, 8, 6], "radius_mm": 3 },
        "own": { "structure": structure, "thicken": recipe["thicken"], "joins": recipe["joins"],
            "blend_mm": 0 } }]);
    let reply = s.post(&format!("/api/projects/{id}/estimate"), &recipe);
    let problem = told("a zone's own cells", &reply, 422);
    assert_eq!(problem["field"], "zones.list.0.own.structure.cell_mm");
    assert!(problem["message"].as_str().unwrap().starts_with("In the zone “Rim”: "), "{problem}");
}

#[test]
fn what_is_not_there_and_what_is_no_json_is_told_as_such() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    for path in [
        "/api/projects/none",
        "/api/projects/none/picture",
        "/api/projects/none/health",
        "/api/projects/none/part",
        "/api/exports/none/file.3mf",
        "/api/reedling/none/picture",
        "/api/shapes/999/picture",
        "/api/nothing/of/that/kind",
    ] {
        told(path, &s.get(path), 404);
    }
    for path in ["estimate", "cost", "skeleton", "cells", "final", "export"] {
        let what = format!("POST {path} of none");
        let body = if path == "export" {
            json!({ "kind": "3mf", "file_name": "a" })
        } else {
            p["recipe"].clone()
        };
        told(&what, &s.post(&format!("/api/projects/none/{path}"), &body), 404);
    }
    let send = |path: &str, body: &[u8]| {
        s.send("POST", path, &[("content-type", "application/json")], body)
    };
    let path = format!("/api/projects/{id}/estimate");
    for body in [&b"{"[..], b"[]", b"", b"\xff\xfe", br#"{"ulmix":3}"#] {
        let reply = send(&path, body);
        assert!((400..500).contains(&reply.status), "{}", reply.status);
        told(&String::from_utf8_lossy(body), &reply, reply.status);
    }
}

#[test]
fn parts_and_shapes_to_begin_with_are_drawn() {
    let (_dir, s) = fresh();
    let options = s.get("/api/options").json();
    let parts = options["reedling"].as_array().unwrap().iter();
    let parts = parts.map(|p| format!("/api/reedling/{}/picture", p["part"].as_str().unwrap()));
    let shapes = options["shapes"].as_array().unwrap().len();
    assert!(shapes > 10, "{shapes}");
    let all: Vec<String> =
        parts.chain((0..shapes).map(|n| format!("/api/shapes/{n}/picture"))).collect();
    let mut sizes = Vec::new();
    for path in &all {
        let reply = s.get(path);
        assert_eq!(reply.status, 200, "{path}");
        let decoder = png::Decoder::new(std::io::Cursor::new(&reply.body));
        let mut reader = decoder.read_info().unwrap();
        let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
        let info = reader.next_frame(&mut pixels).unwrap();
        assert_eq!([info.width, info.height], [168, 120], "{path}");
        let covered = pixels.chunks(4).filter(|p| p[3] == 255).count() as f64 / (168.0 * 120.0);
        assert!((0.05..0.9).contains(&covered), "{path} covers {covered}");
        sizes.push(reply.body);
    }
    sizes.sort();
    sizes.dedup();
    // A ball of triangles looks like a ball, and three parts are there twice.
    assert!(sizes.len() + 4 >= all.len(), "{} of {} differ", sizes.len(), all.len());
}
