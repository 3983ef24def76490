//! Clients that keep the server waiting, or leave it alone with its work.

use super::endings::long_request;
use super::running::{until, ServedApp};
use serde_json::json;
use std::io::{Read, Write};

#[test]
fn work_ends_when_its_client_leaves() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (id, recipe) = s.small_box();
    let client = long_request(&s, &id, &recipe);
    drop(client);
    until("it works no more", || s.is_idle());
    // And when something newer of the same kind comes, as from the same page.
    let client = long_request(&s, &id, &recipe);
    let few = s.post(&format!("/api/projects/{id}/cells"), &recipe);
    assert_eq!(few.status, 200);
    until("it works no more", || s.is_idle());
    let mut told = [0; 12];
    let mut client = client;
    client.read_exact(&mut told).unwrap();
    assert_eq!(&told, b"HTTP/1.1 409");
}

#[test]
fn connections_that_nobody_uses_shut_nobody_out() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (id, _) = s.small_box();
    // Half of them say nothing, half begin a request and never end it.
    let idle: Vec<_> = (0..600)
        .map(|n| {
            let mut stream = s.connect();
            if n % 2 == 0 {
                let _ =
                    stream.write_all(b"GET /api/options HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: ");
            }
            stream
        })
        .collect();
    for _ in 0..20 {
        assert_eq!(s.get(&format!("/api/projects/{id}")).status, 200);
    }
    drop(idle);
}

#[test]
fn a_file_that_is_too_large_is_refused_before_it_is_read() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let mut stream = s.connect();
    stream
        .write_all(
            b"POST /api/uploads?name=x.stl HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: \
         900000000\r\n\r\n",
        )
        .unwrap();
    let mut told = [0; 12];
    stream.read_exact(&mut told).unwrap();
    assert_eq!(&told, b"HTTP/1.1 413");
    // What comes in waits on disk, and goes when its sender does.
    let waiting = dir.path().join("u.sqlite.uploads");
    let kept = || std::fs::read_dir(&waiting).unwrap().count();
    let mut stream = s.connect();
    stream
        .write_all(
            b"POST /api/uploads?name=x.stl HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: \
         400000000\r\n\r\n",
        )
        .unwrap();
    let before = s.megabytes("VmRSS");
    let chunk = vec![1u8; 1 << 20];
    (0..200).for_each(|_| stream.write_all(&chunk).unwrap());
    until("it lies on disk", || kept() == 1);
    assert!(s.megabytes("VmRSS") < before + 100, "{} MB, then {}", before, s.megabytes("VmRSS"));
    drop(stream);
    until("it is gone", || kept() == 0);
}

#[test]
fn every_refusal_is_a_problem_document() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let (id, _) = s.small_box();
    let many = vec![b' '; 3 << 20];
    let long: String = "x".repeat(40_000);
    let cases: [(&str, String, &[u8], u16); 8] = [
        ("PATCH", "/api/projects".into(), b"", 405),
        ("GET", "/api/nothing".into(), b"", 404),
        ("POST", "/api/points".into(), b"1,2,3", 400),
        ("PUT", format!("/api/projects/{id}/card"), &many, 413),
        ("POST", format!("/api/projects/{id}/faces"), &many, 413),
        ("POST", format!("/api/projects/{id}/skeleton?zone=x"), b"{}", 400),
        ("POST", "/api/projects".into(), b"{", 400),
        ("GET", format!("/api/projects/{long}"), b"", 404),
    ];
    for (method, path, body, status) in cases {
        let r = s.send(method, &path, &[("content-type", "application/json")], body);
        let shown = &path[..path.len().min(60)];
        assert_eq!(
            (r.status, r.kind.as_str()),
            (status, "application/problem+json"),
            "{method} {shown}"
        );
        let p = r.json();
        assert!(
            p["code"].is_string() && p["message"].is_string() && p["hint"].is_string(),
            "{method} {shown}: {p}"
        );
    }
}

#[test]
fn answers_in_json_are_not_kept_by_browsers_and_other_sites_may_not_fetch_them() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::start(&dir.path().join("u.sqlite"));
    let r = ureq::get(&format!("{}/api/options", s.url)).call().unwrap();
    assert_eq!(r.header("cache-control"), Some("no-store"));
    s.send("GET", "/api/projects", &[("sec-fetch-site", "cross-site")], &[])
        .problem(403, "bad_origin");
    assert_eq!(
        s.send("GET", "/api/projects", &[("sec-fetch-site", "same-origin")], &[]).status,
        200
    );
}

#[test]
fn a_job_for_which_there_is_no_memory_is_refused_and_not_queued() {
    let dir = tempfile::tempdir().unwrap();
    let s = ServedApp::with(&dir.path().join("u.sqlite"), &["--memory-mb", "60"]);
    let (id, mut recipe) = s.small_box();
    recipe["mesh"]["step_mm"] = json!(0.01);
    assert_eq!(s.put_recipe(&id, 1, &recipe).status, 200);
    let words =
        s.post(&format!("/api/projects/{id}/final"), &json!(null)).problem(422, "too_large");
    assert!(words.contains("60 MB may be used"), "{words}");
    assert!(s.get(&format!("/api/projects/{id}")).json()["job"].is_null());
}
