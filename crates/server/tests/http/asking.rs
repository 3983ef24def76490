//! What is asked of a server over HTTP, and what it answers. Tests of the binary use it, too.

use serde_json::Value;
use std::fmt::Display;
use std::io::Read;

/// An answer.
pub(crate) struct Reply {
    pub status: u16,
    pub etag: String,
    /// Its content type.
    pub kind: String,
    pub body: Vec<u8>,
}

impl Reply {
    pub(crate) fn json(&self) -> Value {
        serde_json::from_slice(&self.body)
            .unwrap_or_else(|_| panic!("no JSON: {}", String::from_utf8_lossy(&self.body)))
    }

    /// The words of a problem document with a hint, of the code expected.
    pub(crate) fn problem(&self, status: u16, code: &str) -> String {
        let p = self.json();
        let found = (self.status, p["code"].as_str(), self.kind.as_str());
        assert_eq!(found, (status, Some(code), "application/problem+json"), "{p}");
        assert!(
            p["message"].as_str().is_some_and(|m| m.len() > 10)
                && p["hint"].as_str().is_some_and(|h| h.len() > 5),
            "{p}"
        );
        p["message"].as_str().unwrap().to_owned()
    }
}

/// Asks and reads the whole answer; redirects are answers, too.
pub(crate) fn ask(url: &str, method: &str, headers: &[(&str, &str)], body: &[u8]) -> Reply {
    let agent = ureq::AgentBuilder::new().redirects(0).build();
    let request =
        headers.iter().fold(agent.request(method, url), |r, (name, value)| r.set(name, value));
    let response = match request.send_bytes(body) {
        Ok(r) | Err(ureq::Error::Status(_, r)) => r,
        Err(e) => panic!("{method} {url}: {e}"),
    };
    let header = |name: &str| response.header(name).unwrap_or_default().to_owned();
    let mut reply = Reply {
        status: response.status(),
        etag: header("etag"),
        kind: header("content-type"),
        body: Vec::new(),
    };
    response.into_reader().read_to_end(&mut reply.body).unwrap();
    reply
}

/// Where a server answers.
pub(crate) struct Address {
    pub url: String,
}

impl Address {
    pub(crate) fn send(
        &self,
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: &[u8],
    ) -> Reply {
        ask(&format!("{}{path}", self.url), method, headers, body)
    }

    pub(crate) fn get(&self, path: &str) -> Reply {
        self.send("GET", path, &[], &[])
    }

    pub(crate) fn post(&self, path: &str, body: &Value) -> Reply {
        let headers = [("content-type", "application/json")];
        self.send("POST", path, &headers, body.to_string().as_bytes())
    }

    pub(crate) fn put_recipe(&self, id: &str, revision: impl Display, recipe: &Value) -> Reply {
        let revision = revision.to_string();
        let headers = [("content-type", "application/json"), ("if-match", revision.as_str())];
        let path = format!("/api/projects/{id}/recipe");
        self.send("PUT", &path, &headers, recipe.to_string().as_bytes())
    }
}
