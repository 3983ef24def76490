//! Tables of seed points.

use crate::problem::{Answer, Problem};
use axum::body::Bytes;
use axum::extract::Query;
use axum::Json;
use serde::Deserialize;
use ulmix_core::recipe::OwnPoints;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct Table {
    /// Of the file.
    name: String,
}

/// Reads a table of points, for a recipe.
#[utoipa::path(post, path = "/api/points", params(Table), request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = OwnPoints), (status = 422, body = Problem)))]
pub async fn points(Query(table): Query<Table>, body: Bytes) -> Answer<Json<OwnPoints>> {
    Ok(Json(OwnPoints::from_csv(&table.name, &String::from_utf8_lossy(&body))?))
}
