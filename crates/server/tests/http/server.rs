//! A server of its own for a test, and what is asked of it.

use super::asking::Address;
use serde_json::{json, Value};
use std::io::{BufRead, BufReader};
use std::ops::Deref;
use std::path::Path;
use std::time::Duration;
use tokio::net::TcpListener;
use ulmix_server::Server;

pub(crate) struct Running {
    address: Address,
    runtime: tokio::runtime::Runtime,
    stop: Option<tokio::sync::oneshot::Sender<()>>,
    served: Option<tokio::task::JoinHandle<()>>,
}

impl Deref for Running {
    type Target = Address;

    fn deref(&self) -> &Address {
        &self.address
    }
}

impl Drop for Running {
    /// Ends as it does by a signal, so that another may open its file.
    fn drop(&mut self) {
        drop(self.stop.take());
        if let Some(served) = self.served.take() {
            let _ = self.runtime.block_on(served);
        }
    }
}

pub(crate) fn start(data: &Path) -> Running {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let config = ulmix_server::Config {
        data: data.into(),
        token: None,
        picture_triangles: Some(100_000),
        memory_mb: None,
    };
    let server = runtime.block_on(async {
        Server::open(config, TcpListener::from_std(listener).unwrap()).unwrap()
    });
    let (stop, stopped) = tokio::sync::oneshot::channel();
    let served = runtime.spawn(server.run(async move { drop(stopped.await) }));
    Running { address: Address { url }, runtime, stop: Some(stop), served: Some(served) }
}

/// A server with projects of its own, which go with the folder.
pub(crate) fn fresh() -> (tempfile::TempDir, Running) {
    let dir = tempfile::tempdir().unwrap();
    let server = start(&dir.path().join("u.sqlite"));
    (dir, server)
}

impl Running {
    /// A small box project that is quick to mesh: its id and state.
    pub(crate) fn small_box(&self) -> (String, Value) {
        let p = self.post(
            "/api/projects",
            &json!({ "from": "shape", "shape": { "shape": "box", "size_mm": [20, 16, 12], "round_mm": 0 } }),
        );
        assert_eq!(p.status, 201);
        let p = p.json();
        (p["id"].as_str().unwrap().to_owned(), p)
    }

    /// On a grid that is quick to mesh.
    pub(crate) fn make_final(&self, id: &str) -> Value {
        let p = self.get(&format!("/api/projects/{id}")).json();
        let mut recipe = p["recipe"].clone();
        recipe["mesh"]["step_mm"] = json!(0.3);
        assert_eq!(self.put_recipe(id, &p["revision"], &recipe).status, 200);
        let mut jobs = self.jobs(id);
        assert_eq!(self.post(&format!("/api/projects/{id}/final"), &json!(null)).status, 202);
        let last = jobs.find(over).expect("events go on until a run is over");
        assert_ne!(last["state"], "failed", "{last}");
        let p = self.get(&format!("/api/projects/{id}")).json();
        assert!(!p["finished"].is_null(), "{p}");
        p
    }

    /// A project's final runs, from now on, as they change.
    pub(crate) fn jobs(&self, id: &str) -> impl Iterator<Item = Value> {
        self.events(id).filter_map(|event| event.get("job").cloned())
    }

    /// What happens to a project from now on.
    pub(crate) fn events(&self, id: &str) -> impl Iterator<Item = Value> {
        // A server that says nothing for so long has failed.
        let patient = ureq::AgentBuilder::new().timeout_read(Duration::from_secs(60)).build();
        let events = patient
            .get(&format!("{}/api/projects/{id}/events", self.url))
            .call()
            .unwrap()
            .into_reader();
        let data = BufReader::new(events)
            .lines()
            .map(Result::unwrap)
            .filter_map(|l| l.strip_prefix("data:").map(str::to_owned));
        data.map(|l| serde_json::from_str::<Value>(&l).unwrap())
    }
}

/// Has a final run come to an end?
pub(crate) fn over(job: &Value) -> bool {
    !matches!(job["state"].as_str(), Some("queued" | "running"))
}

/// Brings a file in; its upload.
pub(crate) fn upload(s: &Running, name: &str, bytes: &[u8]) -> Value {
    let r = s.send("POST", &format!("/api/uploads?name={name}"), &[], bytes);
    assert_eq!(r.status, 200);
    r.json()["upload"].clone()
}
