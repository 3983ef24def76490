//! The web app, shipped inside the binary.

use axum::http::{header, StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use include_dir::{include_dir, Dir};

static DIST: Dir = include_dir!("$CARGO_MANIFEST_DIR/../../web/dist");

/// Written last when the web app is built. Without it this crate does not compile: it would embed a
/// part of the app.
const _: &[u8] = include_bytes!("../../../web/dist/.built");

/// A file of the app; any other path is the app's own to show.
pub async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let (name, file) = match DIST.get_file(path) {
        Some(f) if !path.is_empty() => (path, f),
        _ if path.starts_with("assets/") => return StatusCode::NOT_FOUND.into_response(),
        _ => match DIST.get_file("index.html") {
            Some(f) => ("index.html", f),
            None => {
                return (StatusCode::NOT_FOUND, "The web app was not built into this binary.")
                    .into_response()
            }
        },
    };
    let kind = match name.rsplit_once('.').map_or("", |n| n.1) {
        "html" => "text/html; charset=utf-8",
        "js" => "text/javascript",
        "css" => "text/css",
        "svg" => "image/svg+xml",
        "woff2" => "font/woff2",
        "png" => "image/png",
        _ => "application/octet-stream",
    };
    // Built files carry their hash in their name.
    let keep = if name.starts_with("assets/") {
        "public, max-age=31536000, immutable"
    } else {
        "no-cache"
    };
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, keep)], file.contents()).into_response()
}
