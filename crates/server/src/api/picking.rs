//! What is picked in the picture: faces, loops of edges around them, and what lies in a zone or
//! body.

use super::extract::{JsonBody, Path, Query, Raw};
use super::work::{computed, watched};
use super::App;
use crate::lanes::{Lane, Tab};
use crate::problem::{Answer, Problem};
use crate::waiting::Waiting;
use axum::extract::State;
use axum::http::{header, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::Json;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use ulmix_mesh::edge_loops::{edge_loops, EdgeLoop};
use ulmix_part::solids::{Reach, Solid};
use ulmix_part::Part;
use ulmix_recipe::{PartStep, Recipe};
use ulmix_runner::faces::draw_faces;
use ulmix_runner::packed::distances;
use utoipa::{IntoParams, ToSchema};

fn part_of(app: &App, id: &str, step: PartStep, waiting: &Waiting) -> Answer<Arc<Part>> {
    let row = app.studio.store.project(id)?;
    let recipe = Recipe { part: step, ..row.read_recipe()? };
    app.studio.part(&row, &recipe, waiting)
}

#[utoipa::path(post, path = "/api/projects/{id}/faces", request_body = PartStep,
    responses((status = 200, content_type = "model/gltf-binary", description = "The part with its faces; FaceInfo by number in asset.extras"), (status = 404, body = Problem)))]
pub(super) async fn faces(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
    JsonBody(step): JsonBody<PartStep>,
) -> Answer<Response> {
    computed(app, (Lane::Faces, id, tab), move |app, id, waiting| {
        let glb = draw_faces(&*part_of(app, id, step, waiting)?, &|| waiting.stopped())?
            .ok_or_else(Problem::cancelled)?;
        Ok(([(header::CONTENT_TYPE, "model/gltf-binary")], glb).into_response())
    })
    .await
}

/// A closed loop of edges along the border of a face.
#[derive(Serialize, ToSchema)]
pub(super) struct LoopInfo {
    pub points_mm: Vec<[f64; 3]>,
    /// Numbers of the faces on its other side.
    pub beyond: Vec<u32>,
}

#[utoipa::path(post, path = "/api/projects/{id}/faces/{face}/loops", request_body = PartStep,
    params(("id" = String, Path), ("face" = u32, Path, description = "Its number")),
    responses((status = 200, body = [LoopInfo]), (status = 404, body = Problem)))]
pub(super) async fn loops(
    State(app): State<App>,
    Path((id, face)): Path<(String, u32)>,
    JsonBody(step): JsonBody<PartStep>,
) -> Answer<Json<Vec<LoopInfo>>> {
    watched(app, move |app, waiting| {
        let part = part_of(app, &id, step, waiting)?;
        if face as usize >= part.faces().list.len() {
            return Err(Problem::not_found("The face"));
        }
        let list = edge_loops(part.faced(), &part.faces().of, face);
        let info = |l: EdgeLoop| LoopInfo {
            points_mm: l.points.iter().map(|p| p.to_array()).collect(),
            beyond: l.beyond,
        };
        Ok(Json(list.into_iter().map(info).collect()))
    })
    .await
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct Of {
    /// Number of a zone of the recipe.
    zone: Option<u32>,
    /// Name of a body of the part, in the place of `zone`.
    body: Option<String>,
}

/// For each place, three 32-bit floats, little-endian, mm: how far it is from the region's border,
/// negative inside.
#[utoipa::path(post, path = "/api/projects/{id}/within", params(("id" = String, Path), Of),
    request_body(content_type = "application/octet-stream", description = "Places as 32-bit floats"),
    responses((status = 200, content_type = "application/octet-stream", description = "A 32-bit float for each place"),
        (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn within(
    State(app): State<App>,
    Path(id): Path<String>,
    Query(of): Query<Of>,
    Raw(places): Raw,
) -> Answer<Response> {
    if !places.len().is_multiple_of(12) {
        let hint = "Send x, y and z of each as 32-bit floats.";
        return Err(Problem::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "bad_places",
            "These are no whole places.",
            hint,
        ));
    }
    watched(app, move |app, waiting| {
        let row = app.studio.store.project(&id)?;
        let recipe = row.read_recipe()?;
        let part = app.studio.part(&row, &recipe, waiting)?;
        let solid = match (&of.zone, &of.body) {
            (Some(id), _) => {
                recipe.zones.list.iter().find(|z| z.id == *id).map(|z| Solid::of(&z.place, &part).0)
            }
            (None, body) => part
                .bodies
                .iter()
                .find(|b| Some(&b.facts.name) == body.as_ref())
                .map(|b| Solid::Body(Arc::clone(b), Reach::Own)),
        }
        .ok_or_else(|| Problem::not_found("The zone or body"))?;
        let far = distances(&solid, &places);
        Ok(([(header::CONTENT_TYPE, "application/octet-stream")], far).into_response())
    })
    .await
}
