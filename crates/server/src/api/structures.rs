//! Small pictures of structures to choose from.

use super::extract::{JsonBody, Path, Query};
use super::pictures;
use super::work::blocking;
use crate::problem::{Answer, Problem};

use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::Json;
use serde::Deserialize;
use ulmix_lattice::thumbnail::thumbnail;
use ulmix_recipe::{Form, Joins, Kind, Pattern, Structure};
use utoipa::IntoParams;

const SIZE: u32 = 112;

/// How a structure is looked at.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct Look {
    /// Cell size along each axis. mm.
    x: f64,
    y: f64,
    z: f64,
    /// mm.
    thickness: f64,
    #[serde(default)]
    blend: f64,
    #[serde(default)]
    node: f64,
    #[serde(default)]
    form: Form,
    /// An own cell's struts, as in a recipe.
    #[serde(default)]
    own: Option<String>,
}

fn refuse(what: &str, hint: &str) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_structure", what, hint)
}

/// The pattern of a kind, by its name, that takes the place of another.
fn chosen(before: &Pattern, kind: &str) -> Answer<Pattern> {
    let kind: Kind = serde_json::from_value(kind.into()).map_err(|_| {
        refuse("No structure has that kind.", "Kinds are listed in /api/openapi.json.")
    })?;
    before.of_kind(kind).ok_or_else(|| {
        refuse("A structure of that kind comes from a file.", "Bring the file in instead.")
    })
}

#[utoipa::path(post, path = "/api/structures/{kind}/pattern", request_body = Pattern,
    params(("kind" = String, Path)),
    responses((status = 200, body = Pattern), (status = 422, body = Problem)))]
/// A pattern of a kind with first values, and of the one that it takes the place of what both have.
pub async fn pattern_of_kind(
    Path(kind): Path<String>,
    JsonBody(before): JsonBody<Pattern>,
) -> Answer<Json<Pattern>> {
    Ok(Json(chosen(&before, &kind)?))
}

#[utoipa::path(get, path = "/api/structures/{kind}/picture", params(("kind" = String, Path), Look),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 422, body = Problem)))]
/// A small picture of a structure.
pub async fn structure_picture(
    Path(kind): Path<String>,
    Query(look): Query<Look>,
) -> Answer<impl IntoResponse> {
    let mut pattern = chosen(&Structure::default().pattern, &kind)?;
    let cell_mm = [look.x, look.y, look.z];
    let (least, most) = (
        cell_mm.iter().copied().fold(f64::INFINITY, f64::min),
        cell_mm.iter().copied().fold(0.0, f64::max),
    );
    // Very uneven cells would take long to walk through.
    let usable = least > 0.0
        && most < 1e5
        && most <= 20.0 * least
        && look.thickness > 0.0
        && look.thickness <= 2.0 * most;
    if !usable || !(0.0..=most).contains(&look.blend) || !(0.0..=most).contains(&look.node) {
        return Err(refuse(
            "That structure cannot be drawn.",
            "Choose a cell size and a thickness above zero, with cells of similar sides.",
        ));
    }
    let joins =
        Joins { blend_mm: look.blend.min(0.5 * least), node_mm: look.node, ..Joins::default() };
    match (&mut pattern, look.own) {
        (Pattern::Surface(p), _) => p.form = look.form,
        (Pattern::OwnCell(p), Some(struts)) => {
            p.own.struts = serde_json::from_str(&struts).map_err(|e| {
                refuse(&format!("The struts cannot be read: {e}."), "Give them as a recipe does.")
            })?;
            p.own.validate()?;
        }
        _ => {}
    }
    let structure = Structure { pattern, cell_mm, ..Structure::default() };
    let png = blocking(move || {
        let pixels = thumbnail(&structure, joins, look.thickness, SIZE).ok_or_else(|| {
            refuse("That structure cannot be drawn.", "Choose another cell size.")
        })?;
        pictures::png(&pixels, [SIZE, SIZE])
    })
    .await?;
    Ok(pictures::unchanging(png))
}
