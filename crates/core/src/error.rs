//! Why a run has no result.

use ulmix_recipe::RecipeError;

/// Why a run has no result.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum RunError {
    /// Whoever watched it asked it to end.
    #[error("cancelled")]
    Cancelled,
    /// A value of the recipe cannot be used.
    #[error("{0}")]
    Recipe(#[from] RecipeError),
    /// The run would use more memory than it may.
    #[error("{0}")]
    TooLarge(RecipeError),
}
