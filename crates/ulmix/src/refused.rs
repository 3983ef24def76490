//! What stops a command, in words, and the exit code that goes with it.

use std::process::ExitCode;
use ulmix_core::export::ExportError;
use ulmix_core::pipeline::RunError;
use ulmix_formats::FormatError;
use ulmix_part::PartError;
use ulmix_recipe::RecipeError;
use ulmix_server::problem::Problem;
use ulmix_server::store::{OpenError, StoreError};

/// What stopped a command: words and what to do.
pub(crate) struct Refused {
    pub message: String,
    pub hint: String,
}

impl Refused {
    pub(crate) fn new(message: impl Into<String>, hint: impl Into<String>) -> Refused {
        Refused { message: message.into(), hint: hint.into() }
    }

    /// Tells a person; the exit code of bad input.
    pub(crate) fn told(&self) -> ExitCode {
        eprintln!("{}\n{}", self.message, self.hint);
        ExitCode::from(2)
    }
}

impl From<FormatError> for Refused {
    fn from(e: FormatError) -> Refused {
        Refused::new(e.to_string(), e.hint())
    }
}

impl From<PartError> for Refused {
    fn from(e: PartError) -> Refused {
        match e {
            PartError::Recipe(e) => e.into(),
            e => Refused::new(e.to_string(), e.hint()),
        }
    }
}

impl From<ExportError> for Refused {
    fn from(e: ExportError) -> Refused {
        Refused::new(e.to_string(), e.hint())
    }
}

impl From<RecipeError> for Refused {
    fn from(e: RecipeError) -> Refused {
        Refused::new(format!("{}: {}", e.field, e.message()), e.hint())
    }
}

impl From<RunError> for Refused {
    fn from(e: RunError) -> Refused {
        match e {
            RunError::Recipe(e) | RunError::TooLarge(e) => Refused::from(e),
            RunError::Cancelled => Refused::new("The run was cancelled.", "Start it again."),
        }
    }
}

impl From<OpenError> for Refused {
    fn from(e: OpenError) -> Refused {
        Refused::new(e.message, e.hint)
    }
}

impl From<StoreError> for Refused {
    fn from(e: StoreError) -> Refused {
        Refused::new(e.to_string(), e.hint())
    }
}

impl From<Problem> for Refused {
    fn from(p: Problem) -> Refused {
        Refused::new(p.message, p.hint)
    }
}
