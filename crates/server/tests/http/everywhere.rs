//! What every endpoint answers to nonsense, from the OpenAPI document.

use super::server::{fresh, Running};
use serde_json::Value;

/// All operations, by method and path, with a value for every parameter of their paths.
fn operations(id: &str) -> Vec<(String, String, Value)> {
    let document: Value = serde_json::from_str(&ulmix_server::api::openapi()).unwrap();
    let mut out = Vec::new();
    for (path, operations) in document["paths"].as_object().unwrap() {
        for (method, operation) in operations.as_object().unwrap() {
            let filled: Vec<&str> =
                path.split('/').map(|part| if part.starts_with('{') { id } else { part }).collect();
            out.push((method.to_uppercase(), filled.join("/"), operation.clone()));
        }
    }
    out
}

/// A refusal in words: a problem with its code, and what to do.
fn refused(s: &Running, method: &str, path: &str, body: &[u8], kind: &str) {
    let r = s.send(method, path, &[("content-type", kind), ("if-match", "1")], body);
    assert!((400..500).contains(&r.status), "{method} {path}: {}", r.status);
    let problem: Value = serde_json::from_slice(&r.body)
        .unwrap_or_else(|_| panic!("{method} {path} answers no JSON"));
    for field in ["code", "message", "hint"] {
        assert!(
            problem[field].as_str().is_some_and(|text| text.len() > 3),
            "{method} {path}: no {field} in {problem}"
        );
    }
}

#[test]
fn unknown_names_are_refused_in_words_by_every_endpoint_that_takes_one() {
    let (_folder, s) = fresh();
    let mut tried = 0;
    for id in ["none", "..%2f..%2fetc", "%00", "a%20b"] {
        for (method, path, operation) in operations(id) {
            // A stream of events begins without knowing of whom; stopping what does not run is no
            // fault.
            let silent = path.ends_with("/events") || method == "DELETE";
            if !path.contains(id) || silent {
                continue;
            }
            let body: &[u8] = if operation["requestBody"].is_null() { b"" } else { b"{}" };
            refused(&s, &method, &path, body, "application/json");
            tried += 1;
        }
    }
    assert!(tried > 60, "{tried}");
}

#[test]
fn bodies_that_are_no_json_or_of_other_fields_are_refused_in_words() {
    let (_folder, s) = fresh();
    let (id, made) = s.small_box();
    let mut tried = 0;
    for (method, path, operation) in operations(&id) {
        if operation["requestBody"]["content"]["application/json"].is_null() {
            continue;
        }
        for body in [&b"{"[..], b"[]", b"\"\"", b"{\"no_such_field\":1}", b"\xff\xfe", b"null"] {
            refused(&s, &method, &path, body, "application/json");
            tried += 1;
        }
        // And what calls itself something else.
        refused(&s, &method, &path, b"{}", "text/plain");
    }
    assert!(tried > 40, "{tried}");
    // Nothing of it has changed the project.
    let after = s.get(&format!("/api/projects/{id}")).json();
    assert_eq!(after["recipe"], made["recipe"]);
}

#[test]
fn queries_that_cannot_be_read_are_refused_in_words() {
    let (_folder, s) = fresh();
    let (id, _) = s.small_box();
    let mut tried = 0;
    for (method, path, operation) in operations(&id) {
        for parameter in
            operation["parameters"].as_array().into_iter().flatten().filter(|p| p["in"] == "query")
        {
            // Any text is a name; a number must be one.
            let kinds = parameter["schema"]["type"].to_string();
            if kinds.contains("integer") || kinds.contains("number") || kinds.contains("boolean") {
                let name = parameter["name"].as_str().unwrap();
                refused(&s, &method, &format!("{path}?{name}=neither"), b"{}", "application/json");
                tried += 1;
            }
        }
    }
    assert!(tried > 3, "{tried}");
}

#[test]
fn every_operation_declares_its_parameters_and_what_it_answers() {
    let document: Value = serde_json::from_str(&ulmix_server::api::openapi()).unwrap();
    let mut names = std::collections::BTreeSet::new();
    for (path, operations) in document["paths"].as_object().unwrap() {
        for (method, operation) in operations.as_object().unwrap() {
            assert!(
                names.insert(operation["operationId"].as_str().unwrap()),
                "{method} {path}: its name is taken"
            );
            for name in path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'))
            {
                let all = operation["parameters"]
                    .as_array()
                    .unwrap_or_else(|| panic!("{method} {path} declares nothing"));
                let declared = all
                    .iter()
                    .filter(|p| p["name"] == name && p["in"] == "path" && p["required"] == true);
                assert_eq!(declared.count(), 1, "{method} {path}: {name}");
            }
            let responses = operation["responses"].as_object().unwrap();
            for (status, response) in responses {
                assert!(response["description"].is_string(), "{method} {path}: {status}");
                let content = response.get("content");
                assert!(
                    content.is_none_or(|c| c.as_object().is_some_and(|c| !c.is_empty())),
                    "{method} {path}: {status}"
                );
                let refusal =
                    status == "default" || status.starts_with('4') || status.starts_with('5');
                let of_problem = |c: &Value| {
                    c["application/problem+json"]["schema"]["$ref"]
                        == "#/components/schemas/Problem"
                };
                assert!(!refusal || content.is_some_and(of_problem), "{method} {path}: {status}");
            }
            assert!(responses.contains_key("default"), "{method} {path}");
        }
    }
    assert!(names.len() > 35, "{}", names.len());
}
