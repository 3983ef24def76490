//! How it ends: by signals, and by being killed.
#![allow(unsafe_code, reason = "signals are sent to children of ours")]

use super::running::{text, until, ServedApp};
use serde_json::{json, Value};
use std::io::Write;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// A request that computes for minutes, sent on a connection of its own.
pub(crate) fn long_request(s: &ServedApp, id: &str, recipe: &Value) -> std::net::TcpStream {
    let mut recipe = recipe.clone();
    recipe["structure"]["pattern"] = json!({ "kind": "voronoi" });
    recipe["structure"]["pattern"]["seeds"]["count"] = json!(300_000);
    recipe["structure"]["pattern"]["seeds"]["rounds"] = json!(2000);
    let body = recipe.to_string();
    let mut stream = s.connect();
    let head = format!(
        "POST /api/projects/{id}/cells HTTP/1.1\r\nHost: \
             127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n",
        body.len()
    );
    let before = s.worked();
    stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body.as_bytes())).unwrap();
    until("it is at work", || s.worked() - before > 1.0);
    stream
}

#[test]
fn both_signals_end_it_within_seconds_also_at_work_and_a_plain_copy_holds_all() {
    let dir = tempfile::tempdir().unwrap();
    for signal in [libc::SIGTERM, libc::SIGINT] {
        let data = dir.path().join(format!("{signal}.sqlite"));
        let s = ServedApp::start(&data);
        let (id, recipe) = s.small_box();
        let working = long_request(&s, &id, &recipe);
        let (status, took) = s.end(signal);
        assert_eq!(status.code(), Some(0), "signal {signal}");
        assert!(took.as_secs_f64() < 5.0, "signal {signal}: {took:?}");
        drop(working);
        // The one file alone, without the log beside it.
        let copy = dir.path().join("copy.sqlite");
        std::fs::copy(&data, &copy).unwrap();
        let again = ServedApp::start(&copy);
        assert_eq!(again.get(&format!("/api/projects/{id}")).json()["recipe"], recipe);
    }
}

#[test]
fn kills_at_any_moment_lose_nothing_that_was_called_saved() {
    let kills = std::env::var("ULMIX_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(6);
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    let (mut id, mut revision, mut saved) = (String::new(), 1, Value::Null);
    // Each edit differs from all before: one that changes nothing has no revision of its own.
    let (mut acknowledged, mut edit) = (0, 0);
    for kill in 0..kills {
        let s = ServedApp::start(&data);
        if kill == 0 {
            (id, saved) = s.small_box();
        }
        let p = s.get(&format!("/api/projects/{id}")).json();
        // What was on its way when it was killed may be there or not.
        assert!(p["revision"].as_i64().unwrap() >= revision, "kill {kill}");
        if p["revision"] == revision {
            assert_eq!(p["recipe"], saved, "kill {kill}");
        }
        (revision, saved) = (p["revision"].as_i64().unwrap(), p["recipe"].clone());
        let pid = s.pid() as i32;
        // After some edits, and somewhere within the next one.
        let (edits, turns) = (kill % 5, 700 * (kill % 11));
        let done = AtomicUsize::new(0);
        let killed = AtomicBool::new(false);
        std::thread::scope(|threads| {
            threads.spawn(|| {
                until("edits are saved", || done.load(Ordering::Relaxed) > edits);
                (0..turns).for_each(|_| std::thread::yield_now());
                killed.store(true, Ordering::Relaxed);
                // SAFETY: a signal to a child that is waited for only after this thread has ended.
                unsafe { libc::kill(pid, libc::SIGKILL) };
            });
            loop {
                edit += 1;
                let mut next = saved.clone();
                next["structure"]["cell_mm"] =
                    json!([3.0 + 0.001 * (edit % 1000) as f64, 4.0, 4.0]);
                let put = ureq::put(&format!("{}/api/projects/{id}/recipe", s.url))
                    .set("if-match", &revision.to_string());
                match put.set("content-type", "application/json").send_string(&next.to_string()) {
                    Ok(r) if r.status() == 200 => {
                        (revision, saved, acknowledged) = (revision + 1, next, acknowledged + 1)
                    }
                    // Only a killed server may leave an edit without its answer.
                    other => {
                        assert!(
                            killed.load(Ordering::Relaxed),
                            "kill {kill}, edit {edit}: {other:?}"
                        );
                        break;
                    }
                }
                done.fetch_add(1, Ordering::Relaxed);
            }
        });
    }
    assert!(acknowledged > kills, "{acknowledged} edits");
    let s = ServedApp::start(&data);
    let p = s.get(&format!("/api/projects/{id}")).json();
    assert!(p["revision"].as_i64().unwrap() >= revision, "{} in {}", p["revision"], text(&data));
}
