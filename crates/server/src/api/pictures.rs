//! Small pictures of parts and shapes to begin with.

use super::extract::Path;
use super::work::blocking;
use crate::problem::{Answer, Problem};
use axum::http::{header, StatusCode};
use axum::response::IntoResponse;
use ulmix_mesh::thumbnail::thumbnail;
use ulmix_mesh::TriMesh;
use ulmix_part::demo::Reedling;
use ulmix_part::own_shapes;

/// Width and height of a picture to begin with.
const SIZE: [u32; 2] = [168, 120];

#[utoipa::path(get, path = "/api/reedling/{part}/picture", params(("part" = Reedling, Path)),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem)))]
/// A small picture of a part to try.
pub async fn reedling_picture(Path(part): Path<String>) -> Answer<impl IntoResponse> {
    let part: Reedling = serde_json::from_value(part.into()).map_err(|_| unknown())?;
    picture_of(move || part.make().0).await
}

#[utoipa::path(get, path = "/api/shapes/{number}/picture", params(("number" = usize, Path)),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem)))]
/// A small picture of a shape to begin with, by its number in the list of options.
pub async fn shape_picture(Path(number): Path<usize>) -> Answer<impl IntoResponse> {
    let (_, shape) = own_shapes::first_shapes().into_iter().nth(number).ok_or_else(unknown)?;
    picture_of(move || own_shapes::mesh(&shape)).await
}

fn unknown() -> Problem {
    Problem::new(
        StatusCode::NOT_FOUND,
        "no_such_beginning",
        "There is nothing of that name to begin with.",
        "Parts and shapes are listed in /api/options.",
    )
}

async fn picture_of(mesh: impl FnOnce() -> TriMesh + Send + 'static) -> Answer<impl IntoResponse> {
    let [width, height] = SIZE;
    let drawn = move || png(&thumbnail(&mesh(), width as usize, height as usize), SIZE);
    Ok(unchanging(blocking(drawn).await?))
}

/// Pixels of red, green, blue and opacity as a PNG file.
pub(super) fn png(pixels: &[u8], [width, height]: [u32; 2]) -> Answer<Vec<u8>> {
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Rgba);
    encoder
        .write_header()
        .and_then(|mut w| w.write_image_data(pixels))
        .map_err(Problem::internal)?;
    Ok(out)
}

/// A PNG file that stays what it is under its address.
pub(super) fn unchanging(png: Vec<u8>) -> impl IntoResponse {
    let headers = [
        (header::CONTENT_TYPE, "image/png"),
        (header::CACHE_CONTROL, "private, max-age=31536000, immutable"),
    ];
    (headers, png)
}
