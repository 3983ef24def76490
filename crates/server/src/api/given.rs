//! What a structure takes from files: tables of seed points, struts, a cell.

use super::extract::{Query, Raw};
use super::work::watched_for;
use super::App;
use crate::problem::{Answer, Problem};
use axum::body::Bytes;
use axum::extract::State;
use axum::Json;
use serde::Deserialize;
use std::time::Duration;
use ulmix_formats::Limits;
use ulmix_lattice::from_mesh::{self, FoundMesh};
use ulmix_recipe::grading::{FoundTable, ValueTable};
use ulmix_recipe::{FoundStruts, OwnPoints, OwnStruts, RecipeError};
use utoipa::IntoParams;

/// Name of a file that is sent.
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

/// A table of numbers at places that is sent.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct TableQuery {
    /// Name of the file.
    name: String,
    /// The column or array that is wanted; the first one where none is named.
    column: Option<String>,
    /// Unit of length of the file, in mm; 1 where none is given.
    mm: Option<f64>,
}

/// Reads numbers at places from CSV or from the VTU file of a simulation, for a recipe.
#[utoipa::path(post, path = "/api/table", params(TableQuery), request_body(content_type = "application/octet-stream", description = "CSV with x, y, z and numbers, or VTU"),
    responses((status = 200, body = FoundTable), (status = 422, body = Problem)))]
pub async fn table(
    State(app): State<App>,
    Query(query): Query<TableQuery>,
    Raw(body): Raw,
) -> Answer<Json<FoundTable>> {
    let TableQuery { name, column, mm } = query;
    read(app, name, body, move |name, bytes, limits| {
        ValueTable::read(name, bytes, column.as_deref(), mm.unwrap_or(1.0), limits)
    })
    .await
}

/// Reads the struts of a 3MF beam lattice, for a recipe.
#[utoipa::path(post, path = "/api/struts", params(FileName), request_body(content_type = "application/octet-stream", description = "3MF with a beam lattice"),
    responses((status = 200, body = FoundStruts), (status = 422, body = Problem)))]
pub async fn struts(
    State(app): State<App>,
    Query(file): Query<FileName>,
    Raw(body): Raw,
) -> Answer<Json<FoundStruts>> {
    read(app, file.name, body, OwnStruts::read).await
}

/// Reads the solid of one cell from any mesh file, for a recipe.
#[utoipa::path(post, path = "/api/cell", params(FileName), request_body(content_type = "application/octet-stream", description = "A mesh file"),
    responses((status = 200, body = FoundMesh), (status = 422, body = Problem)))]
pub async fn cell(
    State(app): State<App>,
    Query(file): Query<FileName>,
    Raw(body): Raw,
) -> Answer<Json<FoundMesh>> {
    read(app, file.name, body, from_mesh::read).await
}

/// What a reader finds in a file, within the time and memory for it.
async fn read<T: Send + 'static>(
    app: App,
    name: String,
    bytes: Bytes,
    reader: impl Fn(&str, &[u8], &Limits) -> Result<T, RecipeError> + Send + 'static,
) -> Answer<Json<T>> {
    watched_for(app, TIME, move |app, waiting| {
        let found = reader(&name, &bytes, &app.studio.limits(&|| waiting.stopped()));
        // A reader that was stopped has refused the file for no fault of its own.
        waiting.go_on()?;
        Ok(Json(found?))
    })
    .await
}
