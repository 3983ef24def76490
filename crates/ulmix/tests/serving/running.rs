//! The real binary serving a real file of projects.
#![allow(unsafe_code, reason = "signals are sent to children of ours")]

use super::asking::Address;
use serde_json::{json, Value};
use std::io::{BufRead, BufReader};
use std::net::TcpStream;
use std::ops::Deref;
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

pub(crate) struct ServedApp {
    child: Child,
    address: Address,
}

pub(crate) fn binary() -> Command {
    Command::new(env!("CARGO_BIN_EXE_ulmix"))
}

/// Runs a command to its end: exit code, and what it told of errors.
pub(crate) fn failing(args: &[&str]) -> (Option<i32>, String) {
    let o = binary().args(args).output().unwrap();
    (o.status.code(), String::from_utf8_lossy(&o.stderr).into_owned())
}

pub(crate) fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

/// Waits for something to become so.
pub(crate) fn until(what: &str, mut so: impl FnMut() -> bool) {
    let start = Instant::now();
    while !so() {
        assert!(start.elapsed() < Duration::from_secs(60), "waited for: {what}");
        std::thread::yield_now();
    }
}

impl Deref for ServedApp {
    type Target = Address;

    fn deref(&self) -> &Address {
        &self.address
    }
}

impl ServedApp {
    pub(crate) fn start(data: &Path) -> ServedApp {
        ServedApp::with(data, &[])
    }

    pub(crate) fn with(data: &Path, more: &[&str]) -> ServedApp {
        let bind = if more.contains(&"--bind") { &[][..] } else { &["--bind", "127.0.0.1:0"] };
        ServedApp::spawned(&[&["serve", "--data", text(data)], bind, more].concat())
    }

    pub(crate) fn demo(data: &Path) -> ServedApp {
        ServedApp::spawned(&["demo", "--data", text(data)])
    }

    fn spawned(args: &[&str]) -> ServedApp {
        let mut child =
            binary().args(args).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let url = line.trim().rsplit(' ').next().unwrap();
        let url = url.split_once("/?").map_or(url, |u| u.0).trim_end_matches('/').to_owned();
        assert!(url.starts_with("http://"), "{line}");
        ServedApp { child, address: Address { url } }
    }

    /// A project of a file that is brought in, in mm.
    pub(crate) fn project_of(&self, name: &str, file: &[u8]) -> Value {
        let upload = self.send("POST", &format!("/api/uploads?name={name}"), &[], file).json()
            ["upload"]
            .clone();
        let p = self
            .post("/api/projects", &json!({ "from": "upload", "upload": upload, "unit": "mm" }));
        assert_eq!(p.status, 201);
        p.json()
    }

    /// A small box: its id and recipe.
    pub(crate) fn small_box(&self) -> (String, Value) {
        let shape = json!({ "shape": "box", "size_mm": [20, 16, 12], "round_mm": 0 });
        let p = self.post("/api/projects", &json!({ "from": "shape", "shape": shape }));
        assert_eq!(p.status, 201);
        let p = p.json();
        (p["id"].as_str().unwrap().to_owned(), p["recipe"].clone())
    }

    /// The card of a project on the start screen.
    pub(crate) fn card(&self, id: &str) -> Value {
        let all = self.get("/api/projects").json();
        all.as_array().unwrap().iter().find(|p| p["id"] == id).expect("it is listed").clone()
    }

    pub(crate) fn connect(&self) -> TcpStream {
        TcpStream::connect(self.url.trim_start_matches("http://")).unwrap()
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    /// A figure of the process that the kernel tells, in MB.
    pub(crate) fn megabytes(&self, name: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.pid())).unwrap();
        let line = status.lines().find_map(|l| l.strip_prefix(name)).unwrap();
        line.trim_matches([':', ' ', '\t'])
            .split(' ')
            .next()
            .unwrap()
            .trim()
            .parse::<u64>()
            .unwrap()
            / 1024
    }

    /// Seconds of processors that it has used.
    pub(crate) fn worked(&self) -> f64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.pid())).unwrap();
        let fields: Vec<&str> = stat.rsplit_once(')').unwrap().1.split_whitespace().collect();
        let ticks = |n: usize| fields[n].parse::<f64>().unwrap();
        // The kernel counts hundredths of a second.
        (ticks(11) + ticks(12)) / 100.0
    }

    /// Has it used hardly any processor for half a second?
    pub(crate) fn is_idle(&self) -> bool {
        let (before, start) = (self.worked(), Instant::now());
        until("half a second", || start.elapsed() > Duration::from_millis(500));
        self.worked() - before < 0.1
    }

    /// Ends it by a signal; how it ended, and after how long.
    pub(crate) fn end(mut self, signal: i32) -> (ExitStatus, Duration) {
        let start = Instant::now();
        // SAFETY: a signal to a child of ours that has not been waited for.
        unsafe { libc::kill(self.pid() as i32, signal) };
        (self.child.wait().unwrap(), start.elapsed())
    }
}

impl Drop for ServedApp {
    fn drop(&mut self) {
        // SIGKILL: nothing is tidied up.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
