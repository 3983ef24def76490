//! Drafts, final runs, pictures and events.

use super::extract::{JsonBody, Path, Query};
use super::shared::shared_bytes;
use super::work::{blocking, computed, watched};
use super::App;
use crate::events::Job;
use crate::lanes::{Lane, Tab};
use crate::problem::{Answer, Problem};
use axum::extract::State;
use axum::http::{header, StatusCode};
use axum::response::sse::{self, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::Json;
use serde::Deserialize;
use std::convert::Infallible;
use tokio_stream::wrappers::BroadcastStream;
use tokio_stream::{Stream, StreamExt};
use ulmix_core::pipeline::Quality;
use ulmix_core::result::Cost;
use ulmix_part::spread::SourceSpread;
use ulmix_recipe::Recipe;
use ulmix_runner::picture::Estimate;
use utoipa::{IntoParams, ToSchema};

/// A picture wanted of a recipe, saved or not.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftRequest {
    /// The recipe, saved or not.
    pub recipe: Recipe,
    /// A value is moving: the quickest picture.
    pub drag: bool,
    /// With wall thickness for colouring.
    pub thickness: bool,
}

fn glb(bytes: impl Into<axum::body::Body>) -> Response {
    (
        [(header::CONTENT_TYPE, "model/gltf-binary"), (header::CACHE_CONTROL, "no-store")],
        bytes.into(),
    )
        .into_response()
}

fn numbers(bytes: Vec<u8>) -> Response {
    (
        [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-store")],
        bytes,
    )
        .into_response()
}

#[utoipa::path(post, path = "/api/projects/{id}/draft", request_body = DraftRequest,
    responses((status = 200, content_type = "model/gltf-binary", description = "RunInfo in asset.extras"), (status = 409, body = Problem), (status = 422, body = Problem)))]
/// A picture of a recipe at once.
pub async fn draft(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
    JsonBody(r): JsonBody<DraftRequest>,
) -> Answer<Response> {
    let quality = if r.drag { Quality::Drag } else { Quality::Draft };
    computed(app, (Lane::Draft, id, tab), move |app, id, waiting| {
        app.studio.draft(id, &r.recipe, (quality, r.thickness), !r.drag, waiting)
    })
    .await
    .map(glb)
}

#[utoipa::path(delete, path = "/api/projects/{id}/draft",
    responses((status = 204, description = "No draft is under way any more: one that was answers 409")))]
/// Ends the drawing that this page waits for.
pub async fn stop_draft(State(app): State<App>, tab: Tab, Path(id): Path<String>) -> StatusCode {
    app.studio.lanes.end(&(Lane::Draft, id, tab));
    StatusCode::NO_CONTENT
}

#[utoipa::path(post, path = "/api/projects/{id}/estimate", request_body = Recipe,
    responses((status = 200, body = Estimate, description = "What is known without a mesh"), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
/// Numbers of a recipe without a mesh.
pub async fn estimate(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Json<Estimate>> {
    computed(app, (Lane::Draft, id, tab), move |app, id, waiting| {
        app.studio.estimate(id, &recipe, waiting)
    })
    .await
    .map(Json)
}

#[utoipa::path(post, path = "/api/projects/{id}/cost", request_body = Recipe,
    responses((status = 200, body = Cost, description = "What the final mesh will take, from blocks that are made of it"), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
/// What a final run will take.
pub async fn cost(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Json<Cost>> {
    computed(app, (Lane::Draft, id, tab), move |app, id, waiting| {
        app.studio.cost(id, &recipe, waiting)
    })
    .await
    .map(Json)
}

/// The zone, if any, whose structure is meant.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Whose {
    /// Number of a zone in the recipe's list, for its own; absent: the part's.
    pub zone: Option<usize>,
}

#[utoipa::path(post, path = "/api/projects/{id}/skeleton", request_body = Recipe, params(Whose),
    responses((status = 200, content_type = "application/octet-stream", description = "Seven little-endian 32-bit floats per strut: both ends, mm; 0 inside, 1 cut \
         by the surface, 2 on the surface, 3 with a dead end"), (status = 404, body = Problem), (status = 422, body = Problem)))]
/// Nodes and struts of a structure.
pub async fn skeleton(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
    Query(Whose { zone }): Query<Whose>,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Response> {
    computed(app, (Lane::Skeleton, id, tab), move |app, id, waiting| {
        app.studio.skeleton(id, &recipe, zone, waiting)
    })
    .await
    .map(numbers)
}

#[utoipa::path(post, path = "/api/projects/{id}/cells", request_body = Recipe, params(Whose),
    responses((status = 200, content_type = "application/octet-stream", description = "Little-endian 32-bit floats: how many seed points, how many of their cells \
         lie whole in the part, three for each point, six for each edge of their \
         cells, mm"), (status = 404, body = Problem), (status = 422, body = Problem)))]
/// Cells of the seed points.
pub async fn cells(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
    Query(Whose { zone }): Query<Whose>,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Response> {
    computed(app, (Lane::Cells, id, tab), move |app, id, waiting| {
        app.studio.seed_cells(id, &recipe, zone, waiting)
    })
    .await
    .map(numbers)
}

#[utoipa::path(post, path = "/api/projects/{id}/gradings/{grading}", request_body = Recipe, params(Whose),
    responses((status = 200, content_type = "application/octet-stream", description = "Little-endian 32-bit floats: place of the first sample and distance of \
         neighbouring ones, mm; how many along x, y and z; the samples, x first. No bytes where the \
         part does not have what the sources name"), (status = 404, body = Problem), (status = 422, body = Problem)))]
/// What a grading gives in the part's box.
pub async fn graded_field(
    State(app): State<App>,
    tab: Tab,
    Path((id, grading)): Path<(String, u32)>,
    Query(Whose { zone }): Query<Whose>,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Response> {
    computed(app, (Lane::Field, id, tab), move |app, id, waiting| {
        app.studio.graded_field(id, &recipe, (zone, grading), waiting)
    })
    .await
    .map(numbers)
}

#[utoipa::path(post, path = "/api/projects/{id}/gradings/{grading}/spread", request_body = Recipe, params(Whose),
    responses((status = 200, body = Vec<Option<SourceSpread>>), (status = 404, body = Problem), (status = 422, body = Problem)))]
/// How the numbers of a grading's sources are spread over the part.
pub async fn source_spreads(
    State(app): State<App>,
    tab: Tab,
    Path((id, grading)): Path<(String, u32)>,
    Query(Whose { zone }): Query<Whose>,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Json<Vec<Option<SourceSpread>>>> {
    computed(app, (Lane::Spread, id, tab), move |app, id, waiting| {
        app.studio.source_spreads(id, &recipe, (zone, grading), waiting)
    })
    .await
    .map(Json)
}

#[utoipa::path(get, path = "/api/projects/{id}/picture",
    responses((status = 200, content_type = "model/gltf-binary", description = "RunInfo in asset.extras"), (status = 404, body = Problem)))]
/// The picture of the last final mesh.
pub async fn picture(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    let found = watched(app, move |app, waiting| app.studio.picture(&id, waiting)).await?;
    found
        .map(|picture| glb(shared_bytes(picture)))
        .ok_or_else(|| Problem::not_found("A picture of this recipe"))
}

/// Queues a final run.
#[utoipa::path(post, path = "/api/projects/{id}/final", responses((status = 202, body = Job), (status = 429, body = Problem)))]
pub async fn start_final(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    let job = watched(app, move |app, waiting| app.studio.start_final(&id, waiting)).await?;
    Ok((StatusCode::ACCEPTED, Json(job)).into_response())
}

/// Ends the final run.
#[utoipa::path(delete, path = "/api/jobs/{id}", responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub async fn cancel(State(app): State<App>, Path(id): Path<String>) -> Answer<Json<Job>> {
    blocking(move || app.studio.cancel(&id).map(Json)).await
}

#[utoipa::path(get, path = "/api/projects/{id}/events",
    responses((status = 200, content_type = "text/event-stream", description = "Event as JSON in each data line")))]
/// What happens to a project, as it happens.
pub async fn events(
    State(app): State<App>,
    Path(id): Path<String>,
) -> Sse<impl Stream<Item = Result<sse::Event, Infallible>>> {
    let stream = BroadcastStream::new(app.studio.events.subscribe()).filter_map(move |e| match e {
        Ok(e) if e.project() == id => sse::Event::default().json_data(&e).ok().map(Ok),
        Ok(_) => None,
        // Some were missed: the page asks for the whole state.
        Err(_) => Some(Ok(sse::Event::default().event("missed").data("{}"))),
    });
    Sse::new(stream).keep_alive(KeepAlive::default())
}
