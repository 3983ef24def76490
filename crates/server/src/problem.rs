//! Errors as problem details (RFC 9457): what is wrong, where, and what to do.

use crate::store::StoreError;
use axum::http::{header, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use ulmix_core::export::ExportError;
use ulmix_core::pipeline::RunError;
use ulmix_formats::FormatError;
use ulmix_part::PartError;
use ulmix_recipe::RecipeError;
use ulmix_runner::faces::TooManyFaces;
use utoipa::ToSchema;

/// Why a request has no answer (RFC 9457).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Status of the answer.
    pub status: u16,
    /// Stable name, for programs.
    pub code: String,
    /// For a person.
    pub message: String,
    /// What to do about it, in a sentence for a person.
    pub hint: String,
    /// Recipe field that is meant, when it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}

/// An answer, or why there is none.
pub type Answer<T> = Result<T, Problem>;

impl Problem {
    /// A problem of this status and code.
    pub fn new(
        status: StatusCode,
        code: &str,
        message: impl Into<String>,
        hint: impl Into<String>,
    ) -> Problem {
        Problem {
            status: status.as_u16(),
            code: code.into(),
            message: message.into(),
            hint: hint.into(),
            field: None,
        }
    }

    /// Something, named by words that begin a sentence, is not there.
    pub fn not_found(what: &'static str) -> Problem {
        StoreError::Missing(what).into()
    }

    /// Nobody waits for the answer any more.
    pub fn cancelled() -> Problem {
        Problem::new(
            StatusCode::CONFLICT,
            "cancelled",
            "A newer value took over.",
            "Nothing to do.",
        )
    }

    /// Is this about what is stored, so that the project cannot be shown until it is changed?
    pub fn is_lasting(&self) -> bool {
        matches!(self.code.as_str(), "damaged" | "unreadable")
    }

    /// A fault of ours: logged in full, told in short.
    pub fn internal(cause: impl std::fmt::Display) -> Problem {
        tracing::error!("{cause}");
        Problem::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "Something went wrong inside Ulmix. What was saved before is kept.",
            "Try again. If it stays, restart Ulmix and look at its log.",
        )
    }
}

impl From<FormatError> for Problem {
    fn from(e: FormatError) -> Problem {
        if e.is_stopped() {
            return Problem::cancelled();
        }
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_file", e.to_string(), e.hint())
    }
}

impl From<PartError> for Problem {
    fn from(e: PartError) -> Problem {
        match e {
            PartError::File(e) => e.into(),
            PartError::Recipe(e) => e.into(),
            e => {
                let (words, hint) = (e.to_string(), e.hint());
                Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_file", words, hint)
            }
        }
    }
}

impl From<ExportError> for Problem {
    fn from(e: ExportError) -> Problem {
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_file", e.to_string(), e.hint())
    }
}

impl From<RecipeError> for Problem {
    fn from(e: RecipeError) -> Problem {
        let (words, hint) = (e.message(), e.hint());
        Problem {
            field: Some(e.field),
            ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_value", words, hint)
        }
    }
}

impl From<RunError> for Problem {
    fn from(e: RunError) -> Problem {
        match e {
            RunError::Cancelled => Problem::cancelled(),
            RunError::Recipe(e) => e.into(),
            RunError::TooLarge(e) => Problem { code: "too_large".into(), ..e.into() },
        }
    }
}

impl From<TooManyFaces> for Problem {
    fn from(e: TooManyFaces) -> Problem {
        let (words, hint) = (e.to_string(), e.hint());
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "too_many_faces", words, hint)
    }
}

impl From<StoreError> for Problem {
    fn from(e: StoreError) -> Problem {
        let (status, code) = match &e {
            StoreError::Missing(_) => (StatusCode::NOT_FOUND, "not_found"),
            StoreError::Damaged(_) => (StatusCode::INTERNAL_SERVER_ERROR, "damaged"),
            StoreError::Unreadable(_) => (StatusCode::CONFLICT, "unreadable"),
            StoreError::ChangedElsewhere => (StatusCode::PRECONDITION_FAILED, "changed_elsewhere"),
            StoreError::NothingToUndo | StoreError::NothingToRedo => {
                (StatusCode::CONFLICT, "history_end")
            }
            StoreError::CannotSave => (StatusCode::INSUFFICIENT_STORAGE, "cannot_save"),
            StoreError::Busy => (StatusCode::SERVICE_UNAVAILABLE, "busy"),
            StoreError::Internal(_) => return Problem::internal(e),
        };
        if let StoreError::Damaged(what) = &e {
            tracing::error!("{what}: damaged in the store");
        }
        Problem::new(status, code, e.to_string(), e.hint())
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&self).unwrap_or_default();
        (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_core::pipeline::RunError;

    #[test]
    fn every_refusal_says_what_where_and_what_to_do() {
        let value = RecipeError::new("mesh.step_mm", ulmix_recipe::RecipeFault::RoleOfRest);
        let file = FormatError::EndsWithin;
        let cases: [(Problem, u16, &str, Option<&str>); 5] = [
            (value.clone().into(), 422, "bad_value", Some("mesh.step_mm")),
            (file.into(), 422, "bad_file", None),
            (RunError::TooLarge(value).into(), 422, "too_large", Some("mesh.step_mm")),
            (RunError::Cancelled.into(), 409, "cancelled", None),
            (Problem::not_found("The project"), 404, "not_found", None),
        ];
        for (problem, status, code, field) in cases {
            assert_eq!(
                (problem.status, problem.code.as_str(), problem.field.as_deref()),
                (status, code, field)
            );
            assert!(problem.message.ends_with('.') && problem.hint.ends_with('.'));
            let response = problem.clone().into_response();
            assert_eq!(response.status().as_u16(), status);
            assert_eq!(response.headers()[header::CONTENT_TYPE], "application/problem+json");
        }
    }

    #[test]
    fn a_full_disk_is_told_and_other_faults_of_the_store_are_ours() {
        let stored = |code| {
            let failure = rusqlite::ffi::Error { code, extended_code: 0 };
            StoreError::from(rusqlite::Error::SqliteFailure(failure, None))
        };
        for code in [rusqlite::ErrorCode::DiskFull, rusqlite::ErrorCode::ReadOnly] {
            assert_eq!(Problem::from(stored(code)).code, "cannot_save");
        }
        let ours = Problem::from(stored(rusqlite::ErrorCode::ApiMisuse));
        // What went wrong inside is for the log, not for the person.
        assert_eq!((ours.status, ours.code.as_str()), (500, "internal"));
        assert!(!ours.message.contains("isuse") && ours.field.is_none());
        // Damage is told as damage, and a lock of another program as one.
        assert_eq!(Problem::from(stored(rusqlite::ErrorCode::DatabaseCorrupt)).code, "damaged");
        assert_eq!(Problem::from(stored(rusqlite::ErrorCode::DatabaseBusy)).status, 503);
    }
}
