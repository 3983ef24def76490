//! Errors as problem details (RFC 9457): what is wrong, where, and what to do.

use axum::http::{header, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use ulmix_core::pipeline::RunError;
use ulmix_core::recipe::RecipeError;
use ulmix_formats::FormatError;
use utoipa::ToSchema;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    pub status: u16,
    /// Stable name, for programs.
    pub code: String,
    /// For a person.
    pub message: String,
    pub hint: String,
    /// Recipe field that is meant, when it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}

pub type Answer<T> = Result<T, Problem>;

impl Problem {
    pub fn new(status: StatusCode, code: &str, message: impl Into<String>, hint: impl Into<String>) -> Problem {
        Problem { status: status.as_u16(), code: code.into(), message: message.into(), hint: hint.into(), field: None }
    }

    pub fn not_found(what: &str) -> Problem {
        Problem::new(
            StatusCode::NOT_FOUND,
            "not_found",
            format!("{what} is not here."),
            "It may have been deleted. Go back to the start.",
        )
    }

    /// A fault of ours: logged in full, told in short.
    pub fn internal(cause: impl std::fmt::Display) -> Problem {
        tracing::error!("{cause}");
        Problem::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "Something went wrong inside Ulmix; your project is safe.",
            "Try again. If it stays, restart Ulmix and look at its log.",
        )
    }
}

impl From<FormatError> for Problem {
    fn from(e: FormatError) -> Problem {
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_file", e.message, e.hint)
    }
}

impl From<RecipeError> for Problem {
    fn from(e: RecipeError) -> Problem {
        Problem { field: Some(e.field), ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_value", e.message, e.hint) }
    }
}

impl From<RunError> for Problem {
    fn from(e: RunError) -> Problem {
        match e {
            RunError::Cancelled => Problem::new(StatusCode::CONFLICT, "cancelled", "A newer value took over.", "Nothing to do."),
            RunError::Recipe(e) => e.into(),
            RunError::TooLarge(e) => Problem { code: "too_large".into(), ..e.into() },
        }
    }
}

impl From<rusqlite::Error> for Problem {
    fn from(e: rusqlite::Error) -> Problem {
        if let rusqlite::Error::SqliteFailure(f, _) = &e {
            if matches!(f.code, rusqlite::ErrorCode::DiskFull | rusqlite::ErrorCode::ReadOnly) {
                return Problem::new(
                    StatusCode::INSUFFICIENT_STORAGE,
                    "cannot_save",
                    "The project could not be saved: the disk is full or cannot be written to.",
                    "Make room and try again.",
                );
            }
        }
        Problem::internal(e)
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&self).unwrap_or_default();
        (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response()
    }
}
