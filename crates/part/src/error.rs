//! Why no part can be made, with what a person can do about it.

use ulmix_formats::FormatError;
use ulmix_recipe::RecipeError;

/// Why no part can be made. The words are for a person.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum PartError {
    /// A file of the part cannot be read, or nobody waits for it any more.
    #[error(transparent)]
    File(#[from] FormatError),
    /// A value that the part is made by cannot be used.
    #[error(transparent)]
    Recipe(#[from] RecipeError),
    /// No body is material of the part.
    #[error("No body is material of the part: nothing is left to fill.")]
    NothingSolid,
    /// The bodies are points in space beside their distance.
    #[error("The bodies lie too far apart for their size.")]
    FarApart,
    /// Closed surfaces without anything inside.
    #[error("The part encloses no volume.")]
    NoVolume,
    /// No size along some direction.
    #[error("The part is flat: it encloses no volume.")]
    Flat,
    /// Too small or too large; the length is for a person.
    #[error("The part would be {0} long; parts from 0.01 mm to 100 m can be worked on.")]
    Size(String),
    /// All triangles are lines.
    #[error("Every triangle of the part has collapsed to a line.")]
    Collapsed,
    /// More separate pieces than can be worked on.
    #[error("The part falls into {found} separate pieces; up to {most} can be worked on.")]
    Pieces {
        /// How many there are.
        found: usize,
        /// How many there may be.
        most: usize,
    },
    /// More triangles at one point than can be worked on.
    #[error("{found} triangles of the part meet at one point; up to {most} can be worked on.")]
    AtAPoint {
        /// How many there are.
        found: u32,
        /// How many there may be.
        most: u32,
    },
    /// What crosses itself is thinner than the step at which that is resolved.
    #[error("Nothing of the part is left at a step of {step_mm} mm.")]
    NothingLeft {
        /// The step of mending.
        step_mm: f64,
    },
    /// Even triangles would be too many.
    #[error("Edges of {edge_mm} mm would make about {millions:.1} million triangles.")]
    TooEven {
        /// The edges that were asked for.
        edge_mm: f64,
        /// Triangles that they would make.
        millions: f64,
        /// Edges that make as many as can be worked on.
        least_mm: f64,
    },
}

impl PartError {
    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> String {
        match self {
            PartError::File(e) => e.hint(),
            PartError::Recipe(e) => return e.hint(),
            PartError::NothingSolid => "Give one of the bodies another role.",
            PartError::FarApart => {
                "Bring them in closer together, or each in a project of its own."
            }
            PartError::NoVolume => {
                "Bring in a closed body, or give a sheet its thickness as a shell."
            }
            PartError::Flat => {
                "Bring in a body with thickness in all three directions, or give a sheet its \
                 thickness as a shell."
            }
            PartError::Size(_) => "Choose another unit, or scale the part before exporting it.",
            PartError::Collapsed => "Export the part again at a larger scale.",
            PartError::Pieces { .. } => {
                "Join or remove loose pieces in the program that it came from, or export it with \
                 its points joined."
            }
            PartError::AtAPoint { .. } => "Export the part with larger triangles there.",
            PartError::NothingLeft { .. } => "Choose a finer step for resolving crossings.",
            PartError::TooEven { least_mm, .. } => {
                return format!("Choose edges of {least_mm:.2} mm or longer.")
            }
        }
        .into()
    }

    /// Is this no fault of the part: was the work ended from outside?
    pub fn is_stopped(&self) -> bool {
        matches!(self, PartError::File(e) if e.is_stopped())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_recipe::RecipeFault;

    #[test]
    fn each_error_says_what_is_wrong_and_what_to_do() {
        let all = [
            PartError::File(FormatError::Empty),
            PartError::Recipe(RecipeError::new("part.mend", RecipeFault::RoleOfRest)),
            PartError::NothingSolid,
            PartError::FarApart,
            PartError::NoVolume,
            PartError::Flat,
            PartError::Size("3 km".into()),
            PartError::Collapsed,
            PartError::Pieces { found: 9, most: 3 },
            PartError::AtAPoint { found: 9, most: 3 },
            PartError::NothingLeft { step_mm: 0.5 },
            PartError::TooEven { edge_mm: 0.1, millions: 20.0, least_mm: 0.3 },
        ];
        for e in &all {
            let (words, hint) = (e.to_string(), e.hint());
            assert!(words.ends_with('.') && hint.ends_with('.') && words != hint, "{e:?}");
        }
        let stopped = PartError::File(FormatError::Stopped);
        assert!(stopped.is_stopped() && !all.iter().any(PartError::is_stopped));
    }
}
