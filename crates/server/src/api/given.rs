//! What a structure takes from files: tables of seed points, struts, a cell.

use super::extract::{Query, Raw};
use super::{watched_for, App};
use crate::problem::{Answer, Problem};
use axum::extract::State;
use axum::Json;
use serde::Deserialize;
use std::time::Duration;
use ulmix_core::lattice::from_mesh::{self, FoundMesh};
use ulmix_core::recipe::{FoundStruts, OwnPoints, OwnStruts};
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct FileName {
    /// Of the file.
    name: String,
}

/// Time for reading a file.
const TIME: Duration = Duration::from_secs(8);

/// Reads a table of points, for a recipe.
#[utoipa::path(post, path = "/api/points", params(FileName), request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = OwnPoints), (status = 422, body = Problem)))]
pub async fn points(Query(file): Query<FileName>, Raw(body): Raw) -> Answer<Json<OwnPoints>> {
    Ok(Json(OwnPoints::from_csv(&file.name, &String::from_utf8_lossy(&body))?))
}

/// Reads the struts of a 3MF beam lattice, for a recipe.
#[utoipa::path(post, path = "/api/struts", params(FileName), request_body(content_type = "application/octet-stream", description = "3MF with a beam lattice"),
    responses((status = 200, body = FoundStruts), (status = 422, body = Problem)))]
pub async fn struts(State(app): State<App>, Query(file): Query<FileName>, Raw(body): Raw) -> Answer<Json<FoundStruts>> {
    watched_for(app, TIME, move |app, waiting| {
        let found = OwnStruts::read(&file.name, &body, &app.studio.limits(&|| waiting.stopped()));
        waiting.go_on()?;
        Ok(Json(found?))
    })
    .await
}

/// Reads the solid of one cell from any mesh file, for a recipe.
#[utoipa::path(post, path = "/api/cell", params(FileName), request_body(content_type = "application/octet-stream", description = "A mesh file"),
    responses((status = 200, body = FoundMesh), (status = 422, body = Problem)))]
pub async fn cell(State(app): State<App>, Query(file): Query<FileName>, Raw(body): Raw) -> Answer<Json<FoundMesh>> {
    watched_for(app, TIME, move |app, waiting| {
        let found = from_mesh::read(&file.name, &body, &app.studio.limits(&|| waiting.stopped()));
        waiting.go_on()?;
        Ok(Json(found?))
    })
    .await
}
