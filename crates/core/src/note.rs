//! Something that a person should know.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that a person should know.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Note {
    /// What should be known, as sentences.
    pub text: String,
    /// A place to look at, when there is one. mm.
    pub place_mm: Option<[f64; 3]>,
}

impl From<String> for Note {
    fn from(text: String) -> Note {
        Note { text, place_mm: None }
    }
}
