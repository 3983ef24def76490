//! The binary as a person or a script uses it.

use serde_json::Value;
use std::path::Path;
use std::process::{Command, Output, Stdio};
use ulmix_formats::stl;
use ulmix_mesh::TriMesh;

fn ulmix(args: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_ulmix")).args(args).output().unwrap()
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// The demo part with a recipe that meshes quickly.
fn quick_demo(folder: &Path) -> (String, String) {
    assert!(ulmix(&["demo", "--files", text(folder)]).status.success());
    let recipe = folder.join("keel-bracket.recipe.json");
    let mut r: Value = serde_json::from_slice(&std::fs::read(&recipe).unwrap()).unwrap();
    r["mesh"]["step_mm"] = 0.9.into();
    r["structure"]["cell_mm"] = serde_json::json!([22.0, 22.0, 22.0]);
    r["thicken"]["thickness_mm"] = 2.8.into();
    r["structure"]["rotation_deg"] = serde_json::json!([0.0, 12.0, 30.0]);
    std::fs::write(&recipe, r.to_string()).unwrap();
    (text(&recipe).into(), text(&folder.join("keel-bracket.stl")).into())
}

#[test]
fn build_gives_the_same_bytes_on_one_and_two_threads_and_check_agrees() {
    let dir = tempfile::tempdir().unwrap();
    let (recipe, part) = quick_demo(dir.path());
    for ending in ["3mf", "stl"] {
        let out = |n: &str| dir.path().join(format!("out{n}.{ending}"));
        for n in ["1", "2"] {
            let o = ulmix(&[
                "build",
                &recipe,
                "--part",
                &part,
                "-o",
                text(&out(n)),
                "--threads",
                n,
                "--json",
            ]);
            assert_eq!(o.status.code(), Some(0), "{}", String::from_utf8_lossy(&o.stderr));
            let report: Value = serde_json::from_slice(&o.stdout).unwrap();
            assert_eq!(
                report["summary"],
                serde_json::json!({ "verdict": "pass", "words": "every check passes" }),
                "{report}"
            );
            assert!(report["report"]["saved_percent"].as_f64().unwrap() > 20.0);
            assert!(report["peak_memory_mb"].as_f64().unwrap() > 1.0);
            assert!(report["stages"].as_array().unwrap().len() >= 6);
        }
        assert!(std::fs::read(out("1")).unwrap() == std::fs::read(out("2")).unwrap());
        let o = ulmix(&["check", text(&out("1")), "--json"]);
        assert_eq!(o.status.code(), Some(0));
        let found: Value = serde_json::from_slice(&o.stdout).unwrap();
        assert!(
            found["checks"].as_array().unwrap().iter().all(|c| c["verdict"] != "fail"),
            "{found}"
        );
    }
}

#[test]
fn a_file_is_checked_against_the_recipe_it_was_made_by() {
    let dir = tempfile::tempdir().unwrap();
    let (recipe, part) = quick_demo(dir.path());
    let out = dir.path().join("out.3mf");
    assert!(ulmix(&["build", &recipe, "--part", &part, "-o", text(&out)]).status.success());
    let check =
        |recipe: &str| ulmix(&["check", text(&out), "--recipe", recipe, "--part", &part, "--json"]);
    let told = |o: &Output| serde_json::from_slice::<Value>(&o.stdout).unwrap();
    let o = check(&recipe);
    assert_eq!(o.status.code(), Some(0), "{:#}", told(&o));
    assert!(told(&o)["checks"]
        .as_array()
        .unwrap()
        .iter()
        .any(|c| c["group"] == "as_asked" && c["id"] == "density"));
    // The same file by a recipe with walls half as thick.
    let mut r: Value = serde_json::from_slice(&std::fs::read(&recipe).unwrap()).unwrap();
    r["thicken"]["thickness_mm"] = 1.4.into();
    let other = dir.path().join("other.json");
    std::fs::write(&other, r.to_string()).unwrap();
    let o = check(text(&other));
    assert_eq!(o.status.code(), Some(1));
    let failed =
        |c: &Value| c["id"] == "thickness" && c["verdict"] == "fail" && c["hint"].is_string();
    assert!(told(&o)["checks"].as_array().unwrap().iter().any(failed), "{:#}", told(&o));
    assert_eq!(
        ulmix(&["check", text(&out), "--part", &part]).status.code(),
        Some(2),
        "a part belongs to a recipe"
    );
    // Bodies apart are not told from a file of one body: that is refused in words. From one that
    // names both they are.
    r["thicken"]["thickness_mm"] = 2.8.into();
    r["mesh"]["apart_mm"] = 0.2.into();
    r["zones"]["skins"] =
        serde_json::json!([{ "id": 1, "name": "Skin", "faces": null, "depth_mm": 2.0 }]);
    std::fs::write(&other, r.to_string()).unwrap();
    let o = check(text(&other));
    assert_eq!(o.status.code(), Some(2));
    assert!(
        told(&o)["error"].as_str().is_some_and(|e| e.contains("bodies of their own")),
        "{:#}",
        told(&o)
    );
    assert!(matches!(
        ulmix(&["build", text(&other), "--part", &part, "-o", text(&out)]).status.code(),
        Some(0 | 3)
    ));
    let o = check(text(&other));
    assert!(matches!(o.status.code(), Some(0 | 3)), "{:#}", told(&o));
    let skins = |c: &Value| c["id"] == "skins" && c["verdict"] == "pass";
    assert!(told(&o)["checks"].as_array().unwrap().iter().any(skins), "{:#}", told(&o));
}

#[test]
fn a_reader_who_leaves_early_changes_neither_file_nor_exit_code() {
    let dir = tempfile::tempdir().unwrap();
    let (recipe, part) = quick_demo(dir.path());
    let out = dir.path().join("out.stl");
    let unread = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_ulmix"));
        let mut child =
            command.args(args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        let o = child.wait_with_output().unwrap();
        (o.status.code(), String::from_utf8_lossy(&o.stderr).into_owned())
    };
    assert_eq!(
        unread(&["build", &recipe, "--part", &part, "-o", text(&out)]),
        (Some(0), String::new())
    );
    assert_eq!(unread(&["check", text(&out), "--json"]), (Some(0), String::new()));
    assert_eq!(unread(&["openapi"]), (Some(0), String::new()));
}

#[test]
fn exit_codes_tell_bad_meshes_from_bad_input() {
    let dir = tempfile::tempdir().unwrap();
    let file = |name: &str, bytes: &[u8]| {
        let p = dir.path().join(name);
        std::fs::write(&p, bytes).unwrap();
        text(&p).to_owned()
    };
    let open = file("open.stl", &stl::write(&TriMesh::sphere(5.0, 3).filtered(|t| t > 3)));
    let o = ulmix(&["check", &open]);
    assert_eq!(o.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&o.stdout).contains("open edges"));
    let junk = file("junk.stl", b"\x00\x01\x02");
    for args in [vec!["check", junk.as_str()], vec!["check", "/nowhere/at all.stl"]] {
        let o = ulmix(&args);
        assert_eq!(o.status.code(), Some(2), "{args:?}");
        assert!(String::from_utf8_lossy(&o.stderr).lines().count() >= 2, "words and a hint");
    }
    let (recipe, part) = quick_demo(dir.path());
    // Walls of two steps: nothing fails, and that is no pass.
    let mut thin: Value = serde_json::from_slice(&std::fs::read(&recipe).unwrap()).unwrap();
    thin["thicken"]["thickness_mm"] = 1.8.into();
    let thin = file("thin.json", thin.to_string().as_bytes());
    let o = ulmix(&["build", &thin, "--part", &part, "-o", text(&dir.path().join("thin.stl"))]);
    let told = String::from_utf8_lossy(&o.stdout);
    assert_eq!(o.status.code(), Some(3), "{told}");
    assert!(
        told.contains("look Grid steps")
            && told.contains("2.0 through walls")
            && told.contains("nothing fails, 1 to look at")
    );
    assert!(told.contains("note: A step of 0.9 mm is coarse for walls of 1.80 mm"), "{told}");
    // What does not fit is refused in words that tell what would.
    let o = ulmix(&[
        "build",
        &recipe,
        "--part",
        &part,
        "-o",
        text(&dir.path().join("o.stl")),
        "--memory-mb",
        "40",
    ]);
    let told = String::from_utf8_lossy(&o.stderr);
    assert_eq!(o.status.code(), Some(2), "{told}");
    assert!(
        told.contains("40 MB may be used") && told.contains("It fits with a grid step of"),
        "{told}"
    );
    assert!(!dir.path().join("o.stl").exists());
    let out = text(&dir.path().join("o.3mf")).to_owned();
    let bad_recipe = file("bad.json", b"{\"ulmix\": 1}");
    let other_ending = text(&dir.path().join("o.obj")).to_owned();
    for args in [
        ["build", &bad_recipe, "--part", &part, "-o", &out],
        ["build", &recipe, "--part", &junk, "-o", &out],
        ["build", &recipe, "--part", &part, "-o", &other_ending],
        ["build", &recipe, "--part", &part, "-o", "/nowhere/o.3mf"],
    ] {
        assert_eq!(ulmix(&args).status.code(), Some(2), "{args:?}");
    }
}
