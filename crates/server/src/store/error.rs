//! Why something cannot be stored or read, with what a person can do about it.

use rusqlite::ErrorCode;
use ulmix_recipe::RecipeError;

/// What the store answers, or why it cannot.
pub type Stored<T> = Result<T, StoreError>;

/// Why something cannot be stored or read. The words are for a person.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// Something, named by words that begin a sentence, is not in the file of projects.
    #[error("{0} is not here.")]
    Missing(&'static str),
    /// Something, named by words that begin a sentence, is not what was stored.
    #[error("{0} is damaged in the file of projects and cannot be read.")]
    Damaged(String),
    /// The recipe is one that this version cannot read.
    #[error("The project cannot be read. {0}")]
    Unreadable(RecipeError),
    /// The revision that a change begins with is no longer the newest one.
    #[error("This project was changed in another tab or window.")]
    ChangedElsewhere,
    /// The oldest revision is shown.
    #[error("Nothing to undo.")]
    NothingToUndo,
    /// The newest revision is shown.
    #[error("Nothing to redo.")]
    NothingToRedo,
    /// The disk is full, or cannot be written to.
    #[error("The project could not be saved: the disk is full or cannot be written to.")]
    CannotSave,
    /// Another process holds the file.
    #[error("Another program holds the file of projects, so that nothing can be saved.")]
    Busy,
    /// A fault of ours.
    #[error("the store: {0}")]
    Internal(Box<dyn std::error::Error + Send + Sync>),
}

impl StoreError {
    /// A fault of ours.
    pub(super) fn internal(cause: impl std::error::Error + Send + Sync + 'static) -> StoreError {
        StoreError::Internal(Box::new(cause))
    }

    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> &'static str {
        match self {
            StoreError::Missing(_) => "It may have been deleted. Go back to the start.",
            StoreError::Damaged(_) => {
                "Take it from a back-up made by “ulmix backup”, or save what is left of the \
                 project and delete it."
            }
            StoreError::Unreadable(_) => {
                "Save its recipe and its part as they are, or delete it. A newer Ulmix may read it."
            }
            StoreError::ChangedElsewhere => {
                "The newest state is shown now; make your change again."
            }
            StoreError::NothingToUndo | StoreError::NothingToRedo => "The history ends here.",
            StoreError::CannotSave => "Make room and try again.",
            StoreError::Busy => "End that program and try again.",
            StoreError::Internal(_) => "Try again. If it stays, restart Ulmix and look at its log.",
        }
    }
}

impl From<rusqlite::Error> for StoreError {
    fn from(e: rusqlite::Error) -> StoreError {
        match e.sqlite_error_code() {
            Some(ErrorCode::DiskFull | ErrorCode::ReadOnly) => StoreError::CannotSave,
            Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
                tracing::error!("{e}");
                StoreError::Damaged("Something that was stored".into())
            }
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => StoreError::Busy,
            _ => StoreError::internal(e),
        }
    }
}
