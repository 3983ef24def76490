//! Many clients at once: `cargo bench -p ulmix --bench load [-- SECONDS]`.
//!
//! 64 clients edit, show and draw 8 projects for 90 s, each without a pause. One JSON line for each
//! kind of request, with the median and the 99th percentile in seconds, and one for the memory of
//! the server before and after; then the time of a list of 200 projects.

use serde_json::{json, Value};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::Mutex;
use std::time::{Duration, Instant};

const CLIENTS: usize = 64;
const PROJECTS: usize = 8;

struct LoadedServer(Child, String);

impl Drop for LoadedServer {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl LoadedServer {
    fn start(data: &std::path::Path) -> LoadedServer {
        let mut child = Command::new(env!("CARGO_BIN_EXE_ulmix"))
            .args(["serve", "--bind", "127.0.0.1:0", "--picture-triangles", "100000", "--data"])
            .arg(data)
            .stdout(Stdio::piped())
            .spawn()
            .expect("the binary");
        let mut line = String::new();
        BufReader::new(child.stdout.take().expect("a pipe"))
            .read_line(&mut line)
            .expect("its address");
        let url =
            line.trim().rsplit(' ').next().expect("an address").trim_end_matches('/').to_owned();
        LoadedServer(child, url)
    }

    fn memory_mb(&self) -> u64 {
        let status =
            std::fs::read_to_string(format!("/proc/{}/status", self.0.id())).unwrap_or_default();
        let line = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap_or("0");
        line.split_whitespace().next().and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) / 1024
    }

    fn get(&self, path: &str) -> Value {
        ureq::get(&format!("{}{path}", self.1))
            .call()
            .expect("an answer")
            .into_json()
            .expect("JSON")
    }

    fn project(&self, n: usize) -> String {
        let from = match n % 2 {
            0 => json!({ "from": "reedling", "part": "keel_bracket" }),
            _ => {
                json!({ "from": "shape", "shape": { "shape": "box", "size_mm": [40, 30, 20], "round_mm": 0 } })
            }
        };
        let made: Value = ureq::post(&format!("{}/api/projects", self.1))
            .send_json(from)
            .expect("made")
            .into_json()
            .expect("JSON");
        made["id"].as_str().expect("an id").to_owned()
    }
}

fn main() {
    let seconds = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(90);
    let dir = tempfile::tempdir().expect("a folder");
    let server = LoadedServer::start(&dir.path().join("u.sqlite"));
    let projects: Vec<String> = (0..PROJECTS).map(|n| server.project(n)).collect();
    let before = server.memory_mb();
    let taken: Mutex<Vec<(&str, f64, u16)>> = Mutex::default();
    let end = Instant::now() + Duration::from_secs(seconds);
    std::thread::scope(|threads| {
        for client in 0..CLIENTS {
            let (server, projects, taken) = (&server, &projects, &taken);
            threads.spawn(move || work(client, server, &projects[client % PROJECTS], taken, end));
        }
    });
    let taken = taken.into_inner().expect("no client fell");
    for kind in ["edit", "show", "draft", "list"] {
        let mut of: Vec<f64> = taken.iter().filter(|t| t.0 == kind).map(|t| t.1).collect();
        of.sort_by(f64::total_cmp);
        let at = |share: f64| {
            of.get(((of.len() as f64 * share) as usize).min(of.len().saturating_sub(1))).copied()
        };
        let failed = taken.iter().filter(|t| t.0 == kind && t.2 >= 500).count();
        println!(
            "{}",
            json!({ "name": format!("load_{kind}"), "requests": of.len(), "median": at(0.5), "p99": at(0.99), "most": of.last(), "failed": failed })
        );
    }
    let (at_end, start) = (server.memory_mb(), Instant::now());
    // Memory goes back in the first pause.
    while server.memory_mb() > before + 300 && start.elapsed() < Duration::from_secs(60) {
        std::thread::yield_now();
    }
    println!(
        "{}",
        json!({ "name": "load_memory_mb", "before": before, "at_end": at_end, "after": server.memory_mb(), "after_seconds": start.elapsed().as_secs_f64() })
    );
    (PROJECTS..200).for_each(|n| drop(server.project(n)));
    let mut list: Vec<f64> = (0..20)
        .map(|_| {
            let start = Instant::now();
            assert_eq!(server.get("/api/projects").as_array().map(Vec::len), Some(200));
            start.elapsed().as_secs_f64()
        })
        .collect();
    list.sort_by(f64::total_cmp);
    println!("{}", json!({ "name": "list_of_200", "seconds": list[10] }));
}

/// A client that edits half of the time, shows, draws and lists.
fn work(
    client: usize,
    server: &LoadedServer,
    id: &str,
    taken: &Mutex<Vec<(&str, f64, u16)>>,
    end: Instant,
) {
    let agent = ureq::AgentBuilder::new().timeout(Duration::from_secs(120)).build();
    let url = |path: &str| format!("{}{path}", server.1);
    let tab = format!("client-{client}");
    let mut shown = server.get(&format!("/api/projects/{id}"));
    for n in client.. {
        if Instant::now() > end {
            return;
        }
        let start = Instant::now();
        let (kind, answer) = match n % 10 {
            0..=4 => {
                shown["recipe"]["structure"]["shift_mm"] =
                    json!([(n % 97) as f64 * 0.01, 0.0, 0.0]);
                let put = agent
                    .put(&url(&format!("/api/projects/{id}/recipe")))
                    .set("if-match", &shown["revision"].to_string());
                ("edit", put.send_json(&shown["recipe"]))
            }
            5..=7 => ("show", agent.get(&url(&format!("/api/projects/{id}"))).call()),
            8 => {
                let wish = json!({ "recipe": shown["recipe"], "drag": true, "thickness": false });
                (
                    "draft",
                    agent
                        .post(&url(&format!("/api/projects/{id}/draft")))
                        .set("x-ulmix-tab", &tab)
                        .send_json(wish),
                )
            }
            _ => ("list", agent.get(&url("/api/projects")).call()),
        };
        let (status, body) = match answer {
            Ok(r) | Err(ureq::Error::Status(_, r)) => (r.status(), {
                let mut bytes = Vec::new();
                let _ = std::io::Read::read_to_end(&mut r.into_reader(), &mut bytes);
                bytes
            }),
            Err(_) => (599, Vec::new()),
        };
        taken.lock().expect("no client fell").push((kind, start.elapsed().as_secs_f64(), status));
        // Others edit the same project: who was late takes the newest state.
        if kind == "edit" || kind == "show" {
            match serde_json::from_slice::<Value>(&body) {
                Ok(p) if p["revision"].is_i64() => shown = p,
                _ => shown = server.get(&format!("/api/projects/{id}")),
            }
        }
    }
}
