//! Projects that cannot be read, beside others.

use super::running::ServedApp;
use rusqlite::{params, Connection};
use serde_json::json;

#[test]
fn a_recipe_of_another_version_is_not_stored() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (id, recipe) = s.small_box();
    for version in [0, 1, 2, 3, 5, 99] {
        let mut other = recipe.clone();
        other["ulmix"] = json!(version);
        assert!(s.put_recipe(&id, 1, &other).problem(422, "bad_value").contains("version"));
    }
    let p = s.get(&format!("/api/projects/{id}")).json();
    assert_eq!((&p["recipe"], &p["revision"]), (&recipe, &json!(1)));
}

#[test]
fn a_project_that_an_older_version_stored_opens_and_can_be_edited() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let (id, recipe) = s.small_box();
    assert_eq!(s.end(libc::SIGTERM).0.code(), Some(0));
    // As version 2 held it: the kind among all values that any kind has, and names alone.
    let mut older = recipe.clone();
    older["ulmix"] = json!(2);
    let structure = older["structure"].as_object_mut().unwrap();
    structure.remove("pattern");
    structure.insert("kind".into(), json!("voronoi"));
    structure.insert("seeds".into(), json!({ "count": 50, "net": false, "weld": 0.2 }));
    older["zones"]["skins"] = json!([{ "name": "Skin", "depth_mm": 1.0 }]);
    let db = Connection::open(&data).unwrap();
    let sql = "UPDATE revisions SET recipe = ? WHERE project = ?";
    db.execute(sql, params![older.to_string(), id]).unwrap();
    drop(db);

    let s = ServedApp::start(&data);
    let mut p = s.get(&format!("/api/projects/{id}")).json();
    let pattern = &p["recipe"]["structure"]["pattern"];
    assert_eq!((&p["recipe"]["ulmix"], &pattern["kind"]), (&json!(4), &json!("voronoi")));
    assert_eq!((&pattern["seeds"]["count"], &pattern["clean"]["weld"]), (&json!(50), &json!(0.2)));
    assert!(pattern["net"].is_null() && p["recipe"]["zones"]["skins"][0]["id"] == 1);
    let recipe = p["recipe"].take();
    let draft = json!({ "recipe": recipe, "drag": true, "thickness": false });
    assert_eq!(s.post(&format!("/api/projects/{id}/draft"), &draft).status, 200);
    assert_eq!(s.put_recipe(&id, &p["revision"], &recipe).status, 200);
}

#[test]
fn what_cannot_be_read_is_listed_as_such_with_ways_out_and_hides_nothing_else() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let (good, _) = s.small_box();
    let (newer, recipe) = s.small_box();
    let ball = ulmix_formats::stl::write(&ulmix_mesh::TriMesh::sphere(10.0, 4));
    let p = s.project_of("ball.stl", &ball);
    let damaged = p["id"].as_str().unwrap().to_owned();
    assert_eq!(s.end(libc::SIGTERM).0.code(), Some(0));
    let db = Connection::open(&data).unwrap();
    let mut later = recipe.clone();
    later["ulmix"] = json!(9);
    later["wings"] = json!("many");
    let later = later.to_string();
    // What a newer program left, and what a bad disk left.
    db.execute("UPDATE revisions SET recipe = ? WHERE project = ?", params![later, newer]).unwrap();
    db.execute("DELETE FROM cards WHERE project = ?", [&newer]).unwrap();
    let sql = "UPDATE blobs SET data = zeroblob(length(data)) WHERE hash = (SELECT \
         part_blob FROM projects WHERE id = ?)";
    assert_eq!(db.execute(sql, [&damaged]).unwrap(), 1);
    drop(db);

    let s = ServedApp::start(&data);
    let card = s.card(&newer);
    assert_eq!(card["name"], recipe["name"], "its name can still be told");
    assert!(
        card["facts"].is_null() && card["fault"].as_str().unwrap().contains("version 9"),
        "{card}"
    );
    assert!(s.card(&good)["fault"].is_null() && s.card(&good)["facts"]["size_mm"][0] == 20.0);
    let show = |id: &str| s.get(&format!("/api/projects/{id}"));
    assert_eq!(show(&good).status, 200);
    assert!(show(&newer).problem(409, "unreadable").contains("version 9"));
    // Its recipe leaves as it is.
    assert_eq!(s.get(&format!("/api/projects/{newer}/recipe.json")).body, later.as_bytes());

    // Damage shows when it is opened, is told as damage, and then on the start screen.
    let words = show(&damaged).problem(500, "damaged");
    assert!(words.contains("damaged") && !words.contains("safe"), "{words}");
    assert_eq!(s.card(&damaged)["fault"].as_str(), Some(words.as_str()));
    assert_eq!(s.get(&format!("/api/projects/{damaged}/recipe.json")).json(), p["recipe"]);
    s.get(&format!("/api/projects/{damaged}/part")).problem(500, "damaged");
    for id in [&newer, &damaged] {
        assert_eq!(s.send("DELETE", &format!("/api/projects/{id}"), &[], &[]).status, 204);
    }
    assert_eq!(s.get("/api/projects").json().as_array().unwrap().len(), 1);
}

#[test]
fn the_list_shows_what_is_kept_and_builds_no_part() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let ball = ulmix_formats::stl::write(&ulmix_mesh::TriMesh::sphere(10.0, 4));
    let p = s.project_of("ball.stl", &ball);
    let id = p["id"].as_str().unwrap();
    // A part that is mended is none that was kept as it came in.
    let mut recipe = p["recipe"].clone();
    recipe["part"]["mend"]["fewer_mm"] = json!(0.05);
    recipe["name"] = json!("Mended");
    assert_eq!(s.put_recipe(id, 1, &recipe).status, 200);
    let before = s.card(id);
    assert_eq!(
        (&before["facts"]["name"], before["facts"]["part_volume_mm3"].as_f64().unwrap() > 4000.0),
        (&json!("Mended"), true)
    );
    assert_eq!(s.end(libc::SIGTERM).0.code(), Some(0));
    // Without the parts the list is the same: none of them is looked at.
    Connection::open(&data).unwrap().execute_batch("DELETE FROM blobs").unwrap();
    assert_eq!(ServedApp::start(&data).card(id), before);
}
