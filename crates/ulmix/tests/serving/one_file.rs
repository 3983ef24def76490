//! One file of projects: who may open it, how it is copied, and what leaves it.

use super::running::{binary, failing, text, until, ServedApp};
use rusqlite::Connection;
use serde_json::json;
use std::path::Path;

fn pragma(path: &Path, name: &str) -> i64 {
    Connection::open(path).unwrap().pragma_query_value(None, name, |r| r.get(0)).unwrap()
}

#[test]
fn a_second_server_is_told_where_the_first_one_is_and_harms_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let (id, recipe) = s.small_box();
    let job = json!({ "recipe": recipe, "drag": false, "thickness": false });
    std::thread::scope(|threads| {
        let editing = threads.spawn(|| {
            (1..=40).all(|n| {
                let mut next = recipe.clone();
                next["structure"]["cell_mm"] = json!([3.0 + n as f64 * 0.01, 4.0, 4.0]);
                s.put_recipe(&id, n, &next).status == 200
            })
        });
        for command in ["serve", "demo"] {
            let port = if command == "serve" { ["--bind", "127.0.0.1:0"] } else { ["--port", "0"] };
            let (code, told) = failing(&[command, "--data", text(&data), port[0], port[1]]);
            assert_eq!(code, Some(2), "{told}");
            assert!(told.contains(&format!("served already at {}", s.url)), "{told}");
        }
        assert!(editing.join().unwrap(), "no edit fails meanwhile");
    });
    assert_eq!(s.post(&format!("/api/projects/{id}/draft"), &job).status, 200);
    // After a kill the file is free again.
    drop(s);
    assert_eq!(ServedApp::start(&data).get(&format!("/api/projects/{id}")).json()["revision"], 41);
}

#[test]
fn a_back_up_beside_a_running_server_holds_all_and_overwrites_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let (data, copy) = (dir.path().join("u.sqlite"), dir.path().join("copy.sqlite"));
    let s = ServedApp::start(&data);
    let (id, recipe) = s.small_box();
    let back_up = |from: &Path, to: &Path| failing(&["backup", text(to), "--data", text(from)]);
    let o = binary().args(["backup", text(&copy), "--data", text(&data)]).output().unwrap();
    let told = String::from_utf8_lossy(&o.stdout);
    assert!(
        o.status.success()
            && told.contains("holds 1 project,")
            && told.contains("opened and checked"),
        "{told}"
    );
    let again = ServedApp::start(&copy);
    assert_eq!(again.get(&format!("/api/projects/{id}")).json()["recipe"], recipe);
    let (code, told) = back_up(&data, &copy);
    assert!(code == Some(2) && told.contains("exists already"), "{told}");
    let (code, told) = back_up(&dir.path().join("none.sqlite"), &dir.path().join("x.sqlite"));
    assert!(code == Some(2) && told.contains("not there"), "{told}");
    let junk = dir.path().join("junk");
    std::fs::write(&junk, [7u8; 9000]).unwrap();
    let (code, told) = back_up(&junk, &dir.path().join("x.sqlite"));
    assert!(code == Some(2) && told.contains("not a file of Ulmix projects"), "{told}");
    assert!(!dir.path().join("x.sqlite").exists());
}

#[test]
fn files_of_other_programs_and_newer_ones_are_refused_in_words_and_stay_as_they_are() {
    let dir = tempfile::tempdir().unwrap();
    let refuse = |name: &str, sql: &str, words: &str| {
        let path = dir.path().join(name);
        Connection::open(&path).unwrap().execute_batch(sql).unwrap();
        let before = std::fs::read(&path).unwrap();
        let (code, told) = failing(&["serve", "--bind", "127.0.0.1:0", "--data", text(&path)]);
        assert!(code == Some(2) && told.contains(words) && told.lines().count() >= 2, "{told}");
        assert!(std::fs::read(&path).unwrap() == before, "{name} was changed");
    };
    refuse(
        "other.sqlite",
        "CREATE TABLE bills (n); PRAGMA user_version = 2;",
        "database of another program",
    );
    refuse(
        "named.sqlite",
        "CREATE TABLE bills (n); PRAGMA application_id = 99;",
        "database of another program",
    );
    let data = dir.path().join("newer.sqlite");
    drop(ServedApp::start(&data));
    refuse("newer.sqlite", "PRAGMA user_version = 99;", "newer Ulmix");
}

#[test]
fn an_older_file_is_copied_before_it_is_brought_up_and_keeps_its_projects() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let (id, recipe) = s.small_box();
    assert_eq!(s.end(libc::SIGTERM).0.code(), Some(0));
    assert_ne!(pragma(&data, "application_id"), 0);
    // As the program before left it.
    let older = "DROP TABLE cards; DROP INDEX jobs_of_project; DROP INDEX finals_by_mesh; DROP INDEX finals_by_picture;
        DROP INDEX files_by_blob; DROP INDEX pictures_by_blob; DROP INDEX projects_by_part;
        PRAGMA user_version = 3; PRAGMA application_id = 0; PRAGMA auto_vacuum = 0; VACUUM;";
    Connection::open(&data).unwrap().execute_batch(older).unwrap();
    let s = ServedApp::start(&data);
    assert_eq!(s.card(&id)["facts"]["name"], recipe["name"]);
    assert_eq!(s.get(&format!("/api/projects/{id}")).json()["recipe"], recipe);
    let kept = dir.path().join("u.sqlite.before-version-4");
    assert_eq!((pragma(&kept, "user_version"), pragma(&data, "user_version")), (3, 4));
}

#[test]
fn a_deleted_project_leaves_the_file_and_nobody_else_may_read_it() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let file = ulmix_formats::stl::write(&ulmix_mesh::TriMesh::sphere(10.0, 6).mapped(|p| p * 1.7));
    let p = s.project_of("ball.stl", &file);
    let mut recipe = p["recipe"].clone();
    let mark = "A name that nobody else is to know";
    recipe["name"] = json!(mark);
    assert_eq!(s.put_recipe(p["id"].as_str().unwrap(), 1, &recipe).status, 200);
    let all = || {
        let mut all = std::fs::read(&data).unwrap();
        all.extend(std::fs::read(dir.path().join("u.sqlite-wal")).unwrap_or_default());
        all
    };
    let holds = |all: &[u8]| all.windows(mark.len()).any(|w| w == mark.as_bytes());
    let before = all();
    assert!(holds(&before), "the name lies in the file");
    let path = format!("/api/projects/{}", p["id"].as_str().unwrap());
    assert_eq!(s.send("DELETE", &path, &[], &[]).status, 204);
    assert_eq!(s.end(libc::SIGTERM).0.code(), Some(0));
    let after = all();
    assert!(
        !holds(&after) && after.len() * 2 < before.len(),
        "{} bytes, then {}",
        before.len(),
        after.len()
    );
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(std::fs::metadata(&data).unwrap().permissions().mode() & 0o777, 0o600);
    }
}

#[test]
fn edits_wait_for_another_program_that_writes() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let s = ServedApp::start(&data);
    let (id, mut recipe) = s.small_box();
    let other = Connection::open(&data).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    recipe["name"] = json!("Waited");
    std::thread::scope(|threads| {
        let edit = threads.spawn(|| s.put_recipe(&id, 1, &recipe).status);
        until("the edit is on its way", || s.get("/api/projects").status == 200);
        other.execute_batch("COMMIT").unwrap();
        assert_eq!(edit.join().unwrap(), 200);
    });
}
