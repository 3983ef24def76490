//! The OpenAPI document: derived from the types, and completed with what holds for every operation.

use super::{exports, given, picking, pictures, projects, runs, structures, uploads};
use axum::http::StatusCode;
use serde_json::{json, Map, Value};
use utoipa::OpenApi;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Ulmix",
        description = "Lengths in millimetres, angles in degrees. Errors are problem details."
    ),
    paths(
        super::options,
        uploads::upload,
        projects::list,
        projects::create,
        projects::show,
        projects::remove,
        projects::set_recipe,
        projects::undo,
        projects::redo,
        projects::set_card,
        projects::card,
        picking::faces,
        projects::add_file,
        projects::ghosts,
        projects::moved,
        projects::health,
        runs::draft,
        runs::stop_draft,
        runs::picture,
        runs::skeleton,
        runs::cells,
        runs::graded_field,
        runs::source_spreads,
        runs::estimate,
        runs::cost,
        runs::start_final,
        runs::cancel,
        runs::events,
        exports::export,
        exports::download,
        exports::recipe,
        exports::part,
        structures::structure_picture,
        pictures::reedling_picture,
        pictures::shape_picture,
        structures::pattern_of_kind,
        picking::within,
        picking::loops,
        given::points,
        given::struts,
        given::table,
        given::cell
    ),
    components(schemas(
        crate::events::Event,
        ulmix_runner::picture::RunInfo,
        ulmix_runner::faces::FaceInfo
    ))
)]
struct Doc;

const PROBLEM: &str = "#/components/schemas/Problem";
const PROBLEM_KIND: &str = "application/problem+json";

/// The OpenAPI document as text.
pub fn openapi() -> String {
    let mut document = serde_json::to_value(Doc::openapi()).expect("a static document");
    document["paths"]["/api/session"] = session();
    for (path, operations) in document["paths"].as_object_mut().into_iter().flatten() {
        for operation in operations.as_object_mut().into_iter().flat_map(|all| all.values_mut()) {
            declare_parameters(path, operation);
            declare_problems(operation);
        }
    }
    serde_json::to_string_pretty(&document).expect("a static document") + "\n"
}

/// What the guard answers before anything else.
fn session() -> Value {
    let token = json!({ "type": "object", "required": ["token"], "properties": { "token": { "type": "string" } } });
    json!({
        "post": {
            "tags": ["session"], "operationId": "log_in", "summary": "Begins a session with the access token",
            "requestBody": { "required": true, "content": { "application/x-www-form-urlencoded": { "schema": token } } },
            "responses": { "303": { "description": "Let in, with a cookie" } },
        },
        "delete": {
            "tags": ["session"], "operationId": "log_out", "summary": "Ends the session",
            "responses": { "204": { "description": "Logged out" } },
        },
    })
}

/// Every parameter in a path is declared: those that no type describes are text.
fn declare_parameters(path: &str, operation: &mut Value) {
    let named = path.split('/').filter_map(|part| part.strip_prefix('{')?.strip_suffix('}'));
    for name in named {
        let known = operation["parameters"]
            .as_array()
            .is_some_and(|all| all.iter().any(|p| p["name"] == name && p["in"] == "path"));
        if !known {
            let parameter = json!({ "name": name, "in": "path", "required": true, "schema": { "type": "string" } });
            match operation["parameters"].as_array_mut() {
                Some(all) => all.push(parameter),
                None => operation["parameters"] = json!([parameter]),
            }
        }
    }
}

/// Every refusal is a problem document, also one that an operation does not tell of by its status.
fn declare_problems(operation: &mut Value) {
    let Some(responses) = operation["responses"].as_object_mut() else { return };
    for (status, response) in responses.iter_mut() {
        if response["description"].is_null() {
            let known =
                status.parse().ok().and_then(|status: StatusCode| status.canonical_reason());
            response["description"] = known.unwrap_or("Answered").into();
        }
        if let Some(content) = response.get_mut("content").and_then(Value::as_object_mut) {
            let of_problem =
                content.get("application/json").is_some_and(|c| c["schema"]["$ref"] == PROBLEM);
            if let Some(problem) = of_problem.then(|| content.remove("application/json")).flatten()
            {
                content.insert(PROBLEM_KIND.into(), problem);
            }
        }
    }
    let content: Map<String, Value> =
        [(PROBLEM_KIND.into(), json!({ "schema": { "$ref": PROBLEM } }))].into_iter().collect();
    responses.insert(
        "default".into(),
        json!({ "description": "Refused, with words and a hint", "content": content }),
    );
}
