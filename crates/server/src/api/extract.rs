//! What a request brings, with words of our own where it cannot be read.

use crate::lanes::Tab;
use crate::problem::Problem;
use axum::body::Bytes;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::request::Parts;
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::Json;
use serde::de::DeserializeOwned;
use std::error::Error;

/// A JSON body.
pub struct JsonBody<T>(pub T);

/// A body as it came.
pub struct Raw(pub Bytes);

/// Parameters in the path.
pub struct Path<T>(pub T);

/// Parameters in the query.
pub struct Query<T>(pub T);

impl<S: Send + Sync> FromRequestParts<S> for Tab {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        let named =
            parts.headers.get("x-ulmix-tab").and_then(|v| v.to_str().ok()).unwrap_or_default();
        Ok(Tab(named.chars().take(LONGEST_TAB).collect()))
    }
}

/// Characters of a tab's name.
const LONGEST_TAB: usize = 40;

fn unread(status: StatusCode, why: String) -> Problem {
    if status == StatusCode::PAYLOAD_TOO_LARGE {
        return Problem::new(
            status,
            "too_large",
            "The request is larger than this address takes.",
            "Send less at once.",
        );
    }
    let why = format!("The request cannot be read: {}.", why.trim_end_matches('.'));
    Problem::new(status, "bad_request", why, "Check the request against /api/openapi.json.")
}

/// The reason of an error: what it was made from, without what its library says of itself.
fn reason(e: &dyn Error) -> String {
    e.source().map_or_else(|| e.to_string(), |source| source.to_string())
}

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for JsonBody<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        let read = Json::<T>::from_request(request, state).await;
        read.map(|body| JsonBody(body.0)).map_err(|e| unread(e.status(), reason(&e)))
    }
}

impl<S: Send + Sync> FromRequest<S> for Raw {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        let read = Bytes::from_request(request, state).await;
        read.map(Raw)
            .map_err(|e| unread(e.into_response().status(), "it did not arrive whole".into()))
    }
}

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Path<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        let read = axum::extract::Path::<T>::from_request_parts(parts, state).await;
        read.map(|path| Path(path.0)).map_err(|e| unread(e.status(), reason(&e)))
    }
}

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Query<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        let read = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        read.map(|query| Query(query.0)).map_err(|e| unread(e.status(), reason(&e)))
    }
}
