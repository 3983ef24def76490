//! Real HTTP against a real SQLite file.

mod asking;
mod everywhere;
mod given;
mod gradings;
mod refusals;
mod server;
mod structures;

use serde_json::{json, Value};
use server::{fresh, over, start, upload, Running};
use std::io::Read;
use ulmix_formats::{stl, Limits};
use ulmix_mesh::{Topology, TriMesh};

#[test]
fn files_beside_the_part_and_in_its_place_are_kept_with_the_history() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("u.sqlite");
    let s = start(&data);
    let cube = |from: f64, to: f64| {
        stl::write(&TriMesh::cuboid(glam::DVec3::splat(from), glam::DVec3::splat(to)))
    };
    let first = upload(&s, "core.stl", &cube(0.0, 20.0));
    let p =
        s.post("/api/projects", &json!({ "from": "upload", "upload": first, "unit": "mm" })).json();
    let path = format!("/api/projects/{}", p["id"].as_str().unwrap());
    let add = |revision: &str, becomes: &str, upload: &Value| {
        let body = json!({ "upload": upload, "unit": "mm", "becomes": becomes }).to_string();
        s.send(
            "POST",
            &format!("{path}/files"),
            &[("content-type", "application/json"), ("if-match", revision)],
            body.as_bytes(),
        )
    };
    let pin = upload(&s, "pin.stl", &cube(5.0, 8.0));
    add("7", "bodies", &pin).problem(412, "changed_elsewhere");
    add("1", "bodies", &json!("gone")).problem(404, "upload_gone");
    let with = add("1", "bodies", &pin).json();
    assert_eq!(with["part"]["list"][1]["name"], "pin");
    assert_eq!(with["recipe"]["part"]["beside"][0]["file"]["name"], "pin.stl");

    let health = s.get(&format!("{path}/health")).json();
    let sound = |checks: &Value| {
        checks
            .as_array()
            .is_some_and(|all| all.len() >= 5 && all.iter().all(|c| c["verdict"] == "pass"))
    };
    assert!(sound(&health["whole"]), "{health}");
    let bodies = health["bodies"].as_array().unwrap();
    assert_eq!(
        bodies.iter().map(|b| b["body"].as_str().unwrap()).collect::<Vec<_>>(),
        ["Part", "pin"]
    );
    assert!(bodies.iter().all(|b| sound(&b["checks"])), "{health}");

    // A role takes the pin out of the part, and it shows as a ghost.
    assert!(s.get(&format!("{path}/ghosts")).body.is_empty());
    let mut recipe = with["recipe"].clone();
    recipe["part"]["roles"] = json!({ "pin": "keep_clear" });
    let id = p["id"].as_str().unwrap();
    let cleared = s.put_recipe(id, "2", &recipe).json();
    assert_eq!(cleared["part"]["list"][1]["role"], "keep_clear");
    assert_eq!(s.get(&format!("{path}/ghosts")).body.len(), 12 * 3 * 12);

    // The part swapped; undo finds the old one, also after a restart.
    let longer = upload(&s, "longer.stl", &cube(0.0, 30.0));
    let swapped = add("3", "part", &longer).json();
    assert_eq!(
        (
            swapped["part"]["size_mm"][0].as_f64(),
            swapped["recipe"]["part"]["roles"]["pin"].as_str()
        ),
        (Some(30.0), Some("keep_clear"))
    );
    drop(s);
    let s = start(&data);
    let undone = s.send("POST", &format!("{path}/undo"), &[("if-match", "4")], &[]).json();
    assert_eq!(undone["part"]["size_mm"][0], 20.0);
    // Names of files that are not the project's lead nowhere.
    recipe["part"]["beside"][0]["file"]["sha256"] = json!("0".repeat(64));
    s.put_recipe(id, "3", &recipe).problem(404, "not_found");
}

fn draft_body(recipe: &Value, drag: bool) -> Value {
    json!({ "recipe": recipe, "drag": drag, "thickness": false })
}

fn extras(glb: &[u8]) -> Value {
    ulmix_formats::glb::header(glb).unwrap()["asset"]["extras"].clone()
}

#[test]
fn from_a_dropped_file_to_a_checked_export() {
    let (_dir, s) = fresh();
    // One inch across, as a file that does not say so.
    let ball = stl::write(&TriMesh::sphere(0.5, 4));
    let up = s.send("POST", "/api/uploads?name=float%20ball.stl", &[], &ball);
    assert_eq!(up.status, 200);
    let up = up.json();
    let inch = up["contents"]["choices"]
        .as_array()
        .unwrap()
        .iter()
        .find(|c| c["unit"] == "inch")
        .unwrap()
        .clone();
    assert!((inch["size_mm"][0].as_f64().unwrap() - 25.4).abs() < 1e-4);
    assert_eq!(up["contents"]["closed"], true);

    let p = s.post(
        "/api/projects",
        &json!({ "from": "upload", "upload": up["upload"], "unit": "inch" }),
    );
    assert_eq!(p.status, 201);
    let p = p.json();
    let id = p["id"].as_str().unwrap();
    assert_eq!(p["recipe"]["name"], "float ball");
    assert!((p["part"]["size_mm"][2].as_f64().unwrap() - 25.4).abs() < 1e-4);

    let none =
        s.post(&format!("/api/projects/{id}/export"), &json!({ "kind": "stl", "file_name": "x" }));
    none.problem(409, "no_final");
    let done = s.make_final(id);
    assert_eq!(done["finished"]["quality"], "final");
    for (kind, name) in [("3mf", "ball 1"), ("stl", "ball.stl")] {
        let e = s
            .post(
                &format!("/api/projects/{id}/export"),
                &json!({ "kind": kind, "file_name": name }),
            )
            .json();
        assert!(sound_file(&e), "{e}");
        let file = s.get(e["url"].as_str().unwrap());
        assert_eq!(file.body.len() as u64, e["bytes"].as_u64().unwrap());
        let mesh = ulmix_formats::read(&file.body, &Limits::default()).unwrap().mesh;
        assert!(ulmix_mesh::Topology::of(&mesh).sound());
        let want = done["finished"]["report"]["volume_mm3"].as_f64().unwrap();
        assert!((mesh.volume() / want - 1.0).abs() < 1e-5);
    }
    s.post(&format!("/api/projects/{id}/export"), &json!({ "kind": "stl", "file_name": "../x" }))
        .problem(422, "bad_name");
    assert_eq!(s.get(&format!("/api/projects/{id}/part")).body, ball);
    assert_eq!(s.get(&format!("/api/projects/{id}/recipe.json")).json(), done["recipe"]);
}

#[test]
fn estimates_come_by_stage_and_what_a_run_taught_outlives_the_server() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let estimated = |s: &Running, id: &str| {
        let recipe = s.get(&format!("/api/projects/{id}")).json()["recipe"].clone();
        s.post(&format!("/api/projects/{id}/cost"), &recipe).json()
    };
    let seconds = |p: &Value| p["seconds"].as_f64().unwrap();
    let (id, before, learned) = {
        let s = start(&data);
        let (id, _) = s.small_box();
        s.make_final(&id);
        // The same recipe on a server that has made none.
        let (_other, fresh) = fresh();
        let (same, p) = fresh.small_box();
        let mut recipe = p["recipe"].clone();
        recipe["mesh"]["step_mm"] = json!(0.3);
        assert_eq!(fresh.put_recipe(&same, &p["revision"], &recipe).status, 200);
        (id.clone(), estimated(&fresh, &same), estimated(&s, &id))
    };
    for p in [&before, &learned] {
        let stages = p["stages"].as_array().unwrap();
        let sum: f64 = stages.iter().map(seconds).sum();
        assert!(stages.len() == 7 && (sum / seconds(p) - 1.0).abs() < 1e-9, "{p}");
    }
    assert_ne!(seconds(&before), seconds(&learned), "a run teaches");
    let again = start(&data);
    assert_eq!(estimated(&again, &id), learned);
    // What came out is as was estimated, and the picture of a value at rest knows it from then on.
    let p = again.get(&format!("/api/projects/{id}")).json();
    let made = p["finished"]["report"]["triangles"].as_f64().unwrap();
    let triangles = |p: &Value| p["triangles"].as_f64().unwrap();
    assert!((made / triangles(&learned) - 1.0).abs() < 0.25, "{made} for {}", triangles(&learned));
    let drawn = extras(
        &again.post(&format!("/api/projects/{id}/draft"), &draft_body(&p["recipe"], false)).body,
    );
    assert_eq!(triangles(&drawn["cost"]), triangles(&learned));
}

#[test]
fn lattice_and_solids_apart_are_two_objects_of_a_file_or_files_of_their_own() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    recipe["zones"]["skins"] = json!([{ "id": 1, "name": "Skin", "depth_mm": 1.0 }]);
    recipe["mesh"]["apart_mm"] = json!(-1);
    let refused = s.put_recipe(&id, &p["revision"], &recipe);
    assert_eq!(refused.json()["field"], "mesh.apart_mm");
    recipe["mesh"]["apart_mm"] = json!(0.2);
    assert_eq!(s.put_recipe(&id, &p["revision"], &recipe).status, 200);
    let done = s.make_final(&id);
    let names: Vec<&str> = done["finished"]["report"]["apart"]
        .as_array()
        .unwrap()
        .iter()
        .map(|b| b["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["Lattice", "Solids"]);
    let export = |body: Value| s.post(&format!("/api/projects/{id}/export"), &body);
    let file = |kind: &str, body: Option<&str>| {
        let e = export(json!({ "kind": kind, "file_name": "box", "body": body })).json();
        assert!(sound_file(&e), "{e}");
        ulmix_formats::read(&s.get(e["url"].as_str().unwrap()).body, &Limits::default()).unwrap()
    };
    let both = file("3mf", None);
    assert_eq!(both.bodies.iter().map(|b| b.name.as_str()).collect::<Vec<_>>(), names);
    let alone = ["Lattice", "Solids"].map(|n| file("stl", Some(n)).mesh);
    assert!(alone.iter().all(|m| Topology::of(m).sound()));
    assert_eq!(alone[0].triangles.len() + alone[1].triangles.len(), both.mesh.triangles.len());
    let one = export(json!({ "kind": "stl", "file_name": "box" }));
    assert!(one.status == 422 && one.json()["message"].as_str().unwrap().contains("one body"));
}

#[test]
fn a_body_left_as_it_is_leaves_beside_the_result_and_both_stand_on_the_bed() {
    let (_dir, s) = fresh();
    let mut both = TriMesh::cuboid(glam_zero(), glam::DVec3::new(20.0, 16.0, 12.0));
    both.append(&TriMesh::sphere(3.0, 3).mapped(|p| p + glam::DVec3::new(30.0, 8.0, 6.0)));
    let up = upload(&s, "pair.stl", &stl::write(&both));
    let p =
        s.post("/api/projects", &json!({ "from": "upload", "upload": up, "unit": "mm" })).json();
    let id = p["id"].as_str().unwrap();
    let mut recipe = p["recipe"].clone();
    let ball = p["part"]["list"][1]["name"].clone();
    recipe["part"]["roles"] = json!({ ball.as_str().unwrap(): "alongside" });
    recipe["stand"] = json!({ "down": [0, 0, 0], "turn_deg": 0, "bed_mm": [100, 80, 18] });
    let refused = s.put_recipe(id, &p["revision"], &recipe);
    assert_eq!(refused.json()["field"], "stand.down");
    recipe["stand"]["down"] = json!([1, 0, 0]);
    let saved = s.put_recipe(id, &p["revision"], &recipe).json();
    // Standing on its side it is 20 mm tall, under 18 mm.
    assert_eq!(saved["standing"]["fits"], false);
    assert_eq!(saved["standing"]["contact_mm2"], 16.0 * 12.0);
    s.make_final(id);
    let file = |kind: &str, body: Option<&Value>| {
        let e = s
            .post(
                &format!("/api/projects/{id}/export"),
                &json!({ "kind": kind, "file_name": "pair", "body": body }),
            )
            .json();
        assert!(sound_file(&e), "{e}");
        ulmix_formats::read(&s.get(e["url"].as_str().unwrap()).body, &Limits::default()).unwrap()
    };
    let all = file("3mf", None);
    assert_eq!(
        all.bodies.iter().map(|b| b.name.as_str()).collect::<Vec<_>>(),
        ["pair", ball.as_str().unwrap()]
    );
    let whole = file("stl", Some(&json!("pair"))).mesh.bounds();
    assert!(whole.min.z.abs() < 1e-4 && (whole.max.z - 20.0).abs() < 0.01, "{whole:?}");
    assert!(
        (whole.centre().truncate() - glam::DVec2::new(50.0, 40.0)).length() < 0.05,
        "{whole:?}"
    );
    let alone = file("stl", Some(&ball)).mesh;
    assert_eq!(alone.triangles.len(), TriMesh::sphere(3.0, 3).triangles.len());
    // What lay to the right lies below now.
    assert!((alone.bounds().max.z + 7.0).abs() < 0.01, "{:?}", alone.bounds());
}

#[test]
fn a_sheet_is_given_thickness_and_its_mending_shown_as_a_map() {
    let (_dir, s) = fresh();
    let ball = TriMesh::sphere(20.0, 5);
    let hull = ball.filtered(|t| ball.middle(t).z > 0.0);
    let r = s.send("POST", "/api/uploads?name=hull.stl", &[], &stl::write(&hull)).json();
    assert_eq!((&r["contents"]["sheet"], &r["contents"]["closed"]), (&json!(true), &json!(true)));
    let p = s
        .post("/api/projects", &json!({ "from": "upload", "upload": r["upload"], "unit": "mm" }))
        .json();
    assert_eq!(p["recipe"]["part"]["shell"]["thickness_mm"], 1.0);
    let id = p["id"].as_str().unwrap();
    let mut recipe = p["recipe"].clone();
    recipe["part"]["shell"] = Value::Null;
    recipe["part"]["mend"]["fewer_to"] = json!(600);
    let few = s.put_recipe(id, &p["revision"], &recipe).json();
    assert!(
        few["part"]["triangles"].as_u64().unwrap() <= 600 && few["part"]["closed"] == false,
        "{few}"
    );
    let map = s.get(&format!("/api/projects/{id}/moved"));
    let greatest = extras(&map.body)["greatest"].as_f64().unwrap();
    assert!(map.body.starts_with(b"glTF") && greatest > 0.01 && greatest < 2.0, "{greatest}");
    s.get("/api/projects/nobody/moved").problem(404, "not_found");
    // In the place of a solid part it is given thickness, too.
    let (solid, p) = s.small_box();
    let body = json!({ "upload": r["upload"], "unit": "mm", "becomes": "part" }).to_string();
    let headers = [("content-type", "application/json"), ("if-match", &p["revision"].to_string())];
    let swapped =
        s.send("POST", &format!("/api/projects/{solid}/files"), &headers, body.as_bytes()).json();
    assert_eq!(
        (&swapped["recipe"]["part"]["shell"]["thickness_mm"], &swapped["part"]["closed"]),
        (&json!(1.0), &json!(true))
    );
}

#[test]
fn an_edit_re_runs_only_what_depends_on_it() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    let stages = |recipe: &Value| -> Vec<(String, bool)> {
        let glb = s.post(&format!("/api/projects/{id}/draft"), &draft_body(recipe, false));
        assert_eq!(glb.status, 200);
        let e = extras(&glb.body);
        let list = e["stages"].as_array().unwrap();
        list.iter()
            .map(|s| (s["stage"].as_str().unwrap().to_owned(), s["cached"].as_bool().unwrap()))
            .collect()
    };
    let cached =
        |list: &[(String, bool)], stage: &str| list.iter().find(|s| s.0 == stage).unwrap().1;
    assert!(stages(&recipe).iter().all(|s| !s.1));
    assert!(stages(&recipe).iter().all(|s| s.1), "the same again is answered from the cache");
    recipe["material"] = json!({ "name": "PLA", "density": 1.24 });
    let after = stages(&recipe);
    assert!(cached(&after, "surface") && cached(&after, "finish") && !cached(&after, "report"));
    recipe["thicken"] = json!({ "lead": "thickness", "thickness_mm": 0.9 });
    let after = stages(&recipe);
    assert!(cached(&after, "skeleton") && !cached(&after, "lattice"), "{after:?}");
    recipe["structure"]["shift_mm"] = json!([0.3, 0.0, 0.0]);
    let after = stages(&recipe);
    assert!(
        cached(&after, "zones")
            && !cached(&after, "skeleton")
            && !cached(&after, "thickness")
            && !cached(&after, "lattice"),
        "{after:?}"
    );
}

#[test]
fn two_tabs_never_overwrite_each_other_and_undo_reaches_everything() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = start(&data);
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    recipe["name"] = json!("First");
    let first = s.put_recipe(&id, "\"1\"", &recipe);
    assert_eq!((first.status, first.etag.as_str()), (200, "\"2\""));
    recipe["name"] = json!("Second tab");
    assert!(s
        .put_recipe(&id, "\"1\"", &recipe)
        .problem(412, "changed_elsewhere")
        .contains("another tab"));
    s.send(
        "PUT",
        &format!("/api/projects/{id}/recipe"),
        &[("content-type", "application/json")],
        recipe.to_string().as_bytes(),
    )
    .problem(428, "no_revision");

    recipe["structure"]["cell_mm"] = json!([-3.0, 4.0, 4.0]);
    let refused = s.put_recipe(&id, "\"2\"", &recipe);
    refused.problem(422, "bad_value");
    assert_eq!(refused.json()["field"], "structure.cell_mm");

    let step = |what: &str, from: &str| {
        s.send("POST", &format!("/api/projects/{id}/{what}"), &[("if-match", from)], &[])
    };
    let back = step("undo", "\"2\"").json();
    assert_eq!(
        (back["recipe"]["name"].as_str(), back["can_undo"].as_bool(), back["can_redo"].as_bool()),
        (Some("Box"), Some(false), Some(true))
    );
    step("undo", "\"1\"").problem(409, "history_end");
    drop(s);
    // History is on disk: another process redoes.
    let s = start(&data);
    let redone =
        s.send("POST", &format!("/api/projects/{id}/redo"), &[("if-match", "\"1\"")], &[]).json();
    assert_eq!(redone["recipe"]["name"], "First");
}

#[test]
fn pictures_and_finals_come_back_from_the_store_without_computing() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = start(&data);
    let (id, p) = s.small_box();
    let path = format!("/api/projects/{id}/picture");
    s.get(&path).problem(404, "not_found");
    let draft = s.post(&format!("/api/projects/{id}/draft"), &draft_body(&p["recipe"], false)).body;
    assert_eq!(s.get(&path).body, draft);
    let dragged =
        s.post(&format!("/api/projects/{id}/draft"), &draft_body(&p["recipe"], true)).body;
    assert_ne!(dragged, draft);
    assert_eq!(s.get(&path).body, draft, "a picture on the way is not kept");
    s.make_final(&id);
    let last = s.get(&path).body;
    assert_eq!(extras(&last)["quality"], "final");
    drop(s);
    let s = start(&data);
    assert_eq!(s.get(&path).body, last);
    let e =
        s.post(&format!("/api/projects/{id}/export"), &json!({ "kind": "stl", "file_name": "x" }));
    assert_eq!(e.status, 200, "no new run is needed to export");
    assert_eq!(s.send("DELETE", &format!("/api/projects/{id}"), &[], &[]).status, 204);
    s.get(&path).problem(404, "not_found");
    assert_eq!(s.get("/api/projects").json(), json!([]));
}

#[test]
fn hostile_uploads_are_refused_with_words_and_the_server_goes_on() {
    let (_dir, s) = fresh();
    let good = stl::write(&TriMesh::sphere(10.0, 3));
    let mut lying = good.clone();
    lying[80..84].copy_from_slice(&u32::MAX.to_le_bytes());
    let mut nan = good.clone();
    nan[100..104].copy_from_slice(&f32::NAN.to_le_bytes());
    let flat = stl::write(&TriMesh::cuboid(glam_zero(), [10.0, 10.0, 0.0].into()));
    let cases: [(&str, &[u8], &str); 7] = [
        ("empty.stl", b"", "empty"),
        ("cut.stl", &good[..good.len() / 2], "ends after"),
        ("lying.stl", &lying, "4294967295"),
        ("nan.stl", &nan, "not a usable number"),
        ("flat.stl", &flat, "flat"),
        ("picture.stl", b"\x89PNG\r\n\x1a\n0000", "PNG"),
        (
            "letter.txt",
            b"Dear workshop, the float arrived in good shape and floats rather \
                 well indeed, thank you very much again.",
            "not a mesh",
        ),
    ];
    for (name, bytes, words) in cases {
        let said = s
            .send("POST", &format!("/api/uploads?name={name}"), &[], bytes)
            .problem(422, "bad_file");
        assert!(said.contains(words), "{name}: {said}");
    }
    // A good mesh is welcome whatever it is called.
    assert_eq!(s.send("POST", "/api/uploads?name=part.txt", &[], &good).status, 200);
    s.post("/api/projects", &json!({ "from": "upload", "upload": "gone", "unit": "mm" }))
        .problem(404, "upload_gone");
    s.post("/api/projects", &json!({ "from": "shape", "shape": { "shape": "box", "size_mm": [0, 5, 5], "round_mm": 0 } }))
        .problem(422, "bad_value");
    s.post("/api/projects", &json!({ "from": "nowhere" })).problem(422, "bad_request");
    s.get("/api/nothing").problem(404, "not_found");
    s.get("/api/projects/none").problem(404, "not_found");
    s.send("GET", "/api/projects", &[("host", "evil.example")], &[]).problem(403, "bad_host");
    s.send("GET", "/api/projects", &[("origin", "http://evil.example")], &[])
        .problem(403, "bad_origin");
    assert_eq!(s.get("/api/options").status, 200);
}

#[test]
fn a_shape_keeps_its_dimensions_editable_and_shows_its_faces() {
    let (_dir, s) = fresh();
    let tube = json!({ "shape": "tube", "diameter_mm": 30, "bore_mm": 16, "height_mm": 20 });
    let p = s.post("/api/projects", &json!({ "from": "shape", "shape": tube })).json();
    let id = p["id"].as_str().unwrap();
    assert_eq!(
        (p["recipe"]["name"].as_str(), p["part"]["size_mm"][2].as_f64()),
        (Some("Tube"), Some(20.0))
    );

    // Its faces, by kind and size.
    let glb = s.post(&format!("/api/projects/{id}/faces"), &p["recipe"]["part"]);
    let faces = extras(&glb.body)["faces"].clone();
    let kinds: Vec<&str> =
        faces.as_array().unwrap().iter().map(|f| f["mark"]["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["cylinder", "cylinder", "plane", "plane"]);
    assert!((faces[0]["radius_mm"].as_f64().unwrap() - 15.0).abs() < 1e-3);

    // A skin on the outer face survives a taller tube.
    let mut recipe = p["recipe"].clone();
    recipe["zones"]["skins"] =
        json!([{ "id": 1, "name": "Outside", "faces": [faces[0]["mark"]], "depth_mm": 2.0 }]);
    recipe["part"]["shape"]["height_mm"] = json!(22);
    let saved = s.put_recipe(id, "1", &recipe);
    assert_eq!(saved.status, 200);
    assert_eq!(saved.json()["part"]["size_mm"][2], 22.0);
    let draft = s.post(&format!("/api/projects/{id}/draft"), &draft_body(&recipe, true));
    let linked = extras(&draft.body)["linked"].clone();
    assert_eq!(linked["lost_faces"], json!([]));
    let ring = std::f64::consts::PI * (15.0f64.powi(2) - 13.0f64.powi(2)) * 22.0;
    assert!((linked["solid_volume_mm3"].as_f64().unwrap() / ring - 1.0).abs() < 0.03, "{linked}");

    // The part as a file, dimensions that make no part, a unit that would be another part.
    let file = s.get(&format!("/api/projects/{id}/part"));
    assert!(
        (stl::read(&file.body, &Limits::default()).unwrap().mesh.bounds().size().z - 22.0).abs()
            < 1e-5
    );
    let mut bad = recipe.clone();
    bad["part"]["shape"]["bore_mm"] = json!(40);
    assert!(s.put_recipe(id, "2", &bad).problem(422, "bad_value").contains("bore"));
    bad = recipe.clone();
    bad["part"]["shape"] = json!(null);
    s.put_recipe(id, "2", &bad).problem(422, "bad_value");
    assert_eq!(s.get("/api/projects").json()[0]["facts"]["size_mm"][2], 22.0);
}

fn glam_zero() -> glam::DVec3 {
    glam::DVec3::ZERO
}

#[test]
fn more_bytes_than_a_file_may_have_are_counted_and_refused() {
    let (_dir, s) = fresh();
    let big = std::io::repeat(7).take(600 << 20);
    let response = match ureq::post(&format!("{}/api/uploads?name=big.stl", s.url))
        .set("content-length", &(600u64 << 20).to_string())
        .send(big)
    {
        Ok(r) | Err(ureq::Error::Status(_, r)) => r,
        Err(e) => panic!("{e}"),
    };
    assert_eq!(response.status(), 413);
    let p: Value = response.into_json().unwrap();
    assert_eq!(p["message"], "The file has 600 MB; files up to 512 MB can be brought in.");
}

#[test]
fn a_final_run_reports_its_stages_and_can_be_cancelled() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    // Heavy enough to be caught while it runs.
    recipe["mesh"]["step_mm"] = json!(0.03);
    assert_eq!(s.put_recipe(&id, "\"1\"", &recipe).status, 200);
    let mut jobs = s.jobs(&id);
    let job = s.post(&format!("/api/projects/{id}/final"), &json!(null)).json();
    assert!(job["predicted_seconds"].as_f64().unwrap() > 0.5, "{job}");
    let mut seen = Vec::new();
    let last = loop {
        let j = jobs.next().expect("events go on until a run is over");
        if j["stage"] == "lattice" && seen.last() != Some(&"lattice".to_string()) {
            assert_eq!(
                s.send("DELETE", &format!("/api/jobs/{}", job["id"].as_str().unwrap()), &[], &[])
                    .status,
                200
            );
        }
        if let Some(stage) = j["stage"].as_str() {
            seen.push(stage.to_owned());
        }
        if over(&j) {
            break j;
        }
    };
    assert_eq!(last["state"], "cancelled", "{last}");
    assert!(seen.contains(&"zones".to_owned()), "{seen:?}");
    let after = s.get(&format!("/api/projects/{id}")).json();
    assert_eq!(
        (after["finished"].clone(), after["interrupted"].clone()),
        (Value::Null, json!(false))
    );
    s.send("DELETE", "/api/jobs/none", &[], &[]).problem(404, "not_found");
}

#[test]
fn a_long_draft_tells_what_it_is_at_and_can_be_stopped() {
    let (_dir, s) = fresh();
    let (id, p) = s.small_box();
    let mut recipe = p["recipe"].clone();
    recipe["structure"]["pattern"] = json!({ "kind": "voronoi" });
    recipe["structure"]["pattern"]["seeds"]["count"] = json!(40_000);
    recipe["structure"]["pattern"]["seeds"]["rounds"] = json!(40);
    let mut told = s.events(&id);
    let path = format!("/api/projects/{id}/draft");
    let draft = std::thread::scope(|scope| {
        let draft = scope.spawn(|| s.post(&path, &draft_body(&recipe, false)));
        // First the part, then the points.
        let mut stages =
            told.by_ref().filter(|e| e["event"] == "drawing").map(|e| e["stage"].clone());
        assert_eq!(stages.next(), Some(Value::Null));
        assert_eq!(stages.next(), Some(json!("skeleton")));
        assert_eq!(s.send("DELETE", &path, &[], &[]).status, 204);
        draft.join().unwrap()
    });
    draft.problem(409, "cancelled");
    // The next one is drawn as ever.
    assert_eq!(s.post(&path, &draft_body(&p["recipe"], false)).status, 200);
    assert_eq!(s.send("DELETE", "/api/projects/none/draft", &[], &[]).status, 204);
}

#[test]
fn the_kept_openapi_document_is_the_served_one() {
    let kept =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json"))
            .unwrap();
    assert_eq!(kept, ulmix_server::api::openapi(), "run `make types`");
}

/// Is the written file itself sound? On the coarse grids of these tests not all is as asked.
fn sound_file(ready: &Value) -> bool {
    let of_mesh = |c: &&Value| c["group"] == "sound";
    let checks = ready["checks"].as_array().unwrap();
    assert!(
        checks.iter().any(|c| c["group"] == "as_asked"),
        "it is held against the request as well"
    );
    checks.iter().filter(of_mesh).all(|c| c["verdict"] != "fail")
}

#[test]
fn parameters_are_in_the_path_where_it_names_them_and_else_in_the_query() {
    let document: Value = serde_json::from_str(&ulmix_server::api::openapi()).unwrap();
    let mut of_query = 0;
    for (path, operations) in document["paths"].as_object().unwrap() {
        for (method, operation) in operations.as_object().unwrap() {
            for parameter in operation["parameters"].as_array().into_iter().flatten() {
                let (name, place) =
                    (parameter["name"].as_str().unwrap(), parameter["in"].as_str().unwrap());
                let named = path.contains(&format!("{{{name}}}"));
                assert_eq!(place == "path", named, "{method} {path}: {name} in {place}");
                of_query += (place == "query") as usize;
            }
        }
    }
    assert!(of_query > 10);
}
