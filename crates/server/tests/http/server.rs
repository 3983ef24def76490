//! A server of its own for a test, and what is asked of it.

use serde_json::{json, Value};
use std::io::Read;
use std::net::TcpListener;
use std::path::Path;
use std::time::{Duration, Instant};

pub struct Server {
    pub url: String,
    _runtime: tokio::runtime::Runtime,
}

pub fn start(data: &Path) -> Server {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let config = ulmix_server::Config { data: data.into(), token: None, picture_triangles: Some(100_000) };
    runtime.spawn(async move {
        let listener = tokio::net::TcpListener::from_std(listener).unwrap();
        ulmix_server::serve(config, listener).await.unwrap();
    });
    // Bound already: who asks before it serves waits.
    Server { url, _runtime: runtime }
}

/// A server with projects of its own, which go with the folder.
pub fn fresh() -> (tempfile::TempDir, Server) {
    let dir = tempfile::tempdir().unwrap();
    let server = start(&dir.path().join("u.sqlite"));
    (dir, server)
}

pub fn until<T>(what: &str, mut f: impl FnMut() -> Option<T>) -> T {
    let start = Instant::now();
    loop {
        if let Some(v) = f() {
            return v;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "waited too long until {what}");
        // Asking without a pause would take the time that the server needs.
        std::thread::sleep(Duration::from_millis(10));
    }
}

pub struct Reply {
    pub status: u16,
    pub etag: String,
    pub body: Vec<u8>,
}

impl Reply {
    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|_| panic!("no JSON: {}", String::from_utf8_lossy(&self.body)))
    }

    /// A problem with words and a hint, of the code expected.
    pub fn problem(&self, status: u16, code: &str) -> String {
        let p = self.json();
        assert_eq!((self.status, p["code"].as_str()), (status, Some(code)), "{p}");
        assert!(p["message"].as_str().is_some_and(|m| m.len() > 10) && p["hint"].as_str().is_some_and(|h| h.len() > 5), "{p}");
        p["message"].as_str().unwrap().to_owned()
    }
}

impl Server {
    pub fn send(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Reply {
        let mut r = ureq::request(method, &format!("{}{path}", self.url));
        for (k, v) in headers {
            r = r.set(k, v);
        }
        let response = match r.send_bytes(body) {
            Ok(r) | Err(ureq::Error::Status(_, r)) => r,
            Err(e) => panic!("{method} {path}: {e}"),
        };
        let (status, etag) = (response.status(), response.header("etag").unwrap_or_default().to_owned());
        let mut body = Vec::new();
        response.into_reader().read_to_end(&mut body).unwrap();
        Reply { status, etag, body }
    }

    pub fn get(&self, path: &str) -> Reply {
        self.send("GET", path, &[], &[])
    }

    pub fn post(&self, path: &str, body: &Value) -> Reply {
        self.send("POST", path, &[("content-type", "application/json")], body.to_string().as_bytes())
    }

    pub fn put_recipe(&self, id: &str, revision: &str, recipe: &Value) -> Reply {
        let headers = [("content-type", "application/json"), ("if-match", revision)];
        self.send("PUT", &format!("/api/projects/{id}/recipe"), &headers, recipe.to_string().as_bytes())
    }

    /// A small box project that is quick to mesh: its id and state.
    pub fn small_box(&self) -> (String, Value) {
        let p = self.post(
            "/api/projects",
            &json!({ "from": "shape", "shape": { "shape": "box", "size_mm": [20, 16, 12], "round_mm": 0 } }),
        );
        assert_eq!(p.status, 201);
        let p = p.json();
        (p["id"].as_str().unwrap().to_owned(), p)
    }

    /// On a grid that is quick to mesh.
    pub fn make_final(&self, id: &str) -> Value {
        let p = self.get(&format!("/api/projects/{id}")).json();
        let mut recipe = p["recipe"].clone();
        recipe["mesh"]["step_mm"] = json!(0.3);
        assert_eq!(self.put_recipe(id, &p["revision"].to_string(), &recipe).status, 200);
        assert_eq!(self.post(&format!("/api/projects/{id}/final"), &json!(null)).status, 202);
        until("the final mesh is made", || {
            let p = self.get(&format!("/api/projects/{id}")).json();
            assert_ne!(p["job"]["state"], "failed", "{p}");
            (!p["finished"].is_null()).then_some(p)
        })
    }
}

/// Brings a file in; its upload.
pub fn upload(s: &Server, name: &str, bytes: &[u8]) -> Value {
    let r = s.send("POST", &format!("/api/uploads?name={name}"), &[], bytes);
    assert_eq!(r.status, 200);
    r.json()["upload"].clone()
}
