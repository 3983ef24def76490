//! What the app makes, a script makes; and what a killed server was at.

use super::running::{binary, text, until, ServedApp};
use serde_json::{json, Value};

/// The keel bracket as a project: its id and recipe.
fn bracket(s: &ServedApp) -> (String, Value) {
    let p = s.post("/api/projects", &json!({ "from": "reedling", "part": "keel_bracket" })).json();
    (format!("/api/projects/{}", p["id"].as_str().unwrap()), p["recipe"].clone())
}

#[test]
fn a_run_that_was_cut_off_by_a_kill_says_so() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let (path, recipe) = bracket(&s);
    assert_eq!(s.post(&format!("{path}/final"), &json!(null)).status, 202);
    until("it is at work", || s.get(&path).json()["job"]["state"] == "running");
    drop(s);
    let p = ServedApp::start(&data).get(&path).json();
    assert_eq!((&p["recipe"], &p["interrupted"]), (&recipe, &json!(true)));
}

#[test]
fn what_the_app_makes_a_script_makes_byte_for_byte() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (path, mut recipe) = bracket(&s);
    recipe["mesh"]["step_mm"] = json!(0.9);
    recipe["zones"]["skins"] = json!([{ "id": 1, "name": "Skin", "depth_mm": 1.5 }]);
    assert_eq!(s.put_recipe(path.rsplit('/').next().unwrap(), 1, &recipe).status, 200);
    assert_eq!(s.post(&format!("{path}/final"), &json!(null)).status, 202);
    until("it is made", || !s.get(&path).json()["finished"].is_null());
    let fetch = |path: &str, name: &str| {
        let file = dir.path().join(name);
        std::fs::write(&file, s.get(path).body).unwrap();
        text(&file).to_owned()
    };
    let recipe = fetch(&format!("{path}/recipe.json"), "r.json");
    let part = fetch(&format!("{path}/part"), "p.stl");
    for kind in ["3mf", "stl"] {
        let e =
            s.post(&format!("{path}/export"), &json!({ "kind": kind, "file_name": "app" })).json();
        let app = fetch(e["url"].as_str().unwrap(), &format!("app.{kind}"));
        let own = text(&dir.path().join(format!("own.{kind}"))).to_owned();
        let built = binary()
            .args(["build", &recipe, "--part", &part, "-o", &own, "--threads", "1"])
            .output()
            .unwrap();
        let verdict = match built.status.code() {
            Some(0) => "pass",
            Some(3) => "look",
            other => panic!("{other:?}"),
        };
        assert_eq!(e["summary"]["verdict"], verdict, "the app and a script judge alike");
        assert!(std::fs::read(&app).unwrap() == std::fs::read(&own).unwrap(), "{kind} differs");
        assert!(ulmix_formats::read(
            &std::fs::read(&app).unwrap(),
            &ulmix_formats::Limits::default()
        )
        .is_ok());
    }
}

#[test]
fn the_demo_part_is_there_once() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    for _ in 0..2 {
        let s = ServedApp::demo(&data);
        let all = s.get("/api/projects").json();
        assert_eq!((all.as_array().unwrap().len(), &all[0]["name"]), (1, &json!("Keel bracket")));
        assert_eq!(s.end(libc::SIGTERM).0.code(), Some(0));
    }
}
