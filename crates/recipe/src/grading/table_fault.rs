//! What can be wrong with a table of numbers, with the words for a person.

use thiserror::Error;

/// What is wrong with a table. Displayed, it is a sentence; [`TableFault::hint`] is what to do.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum TableFault {
    /// Places and numbers of a table that do not belong together.
    #[error("The table “{0}” has not as many numbers as places.")]
    RaggedTable(String),
    /// A table without a column of numbers.
    #[error("“{0}” has no column beside x, y and z.")]
    NoColumn(String),
    /// A table without the column that is asked for.
    #[error("“{name}” has no column “{column}”.")]
    NoSuchColumn {
        /// Name of the file.
        name: String,
        /// Name of the column.
        column: String,
    },
    /// A table without rows.
    #[error("“{0}” has no rows of numbers.")]
    NoRows(String),
    /// A table of too many rows.
    #[error("“{name}” has more than {most} rows.")]
    TooManyRows {
        /// Name of the file.
        name: String,
        /// How many there may be.
        most: usize,
    },
    /// A line without the numbers of a place and its value.
    #[error("Line {line} of “{name}” is not x, y, z and a number: {text}")]
    NotARow {
        /// Name of the file.
        name: String,
        /// Number of the line, from 1.
        line: usize,
        /// How the line begins.
        text: String,
    },
    /// What is no number in an array of a simulation.
    #[error("Number {row} of “{column}” in “{name}” is not finite.")]
    NotANumber {
        /// Name of the file.
        name: String,
        /// Name of the array.
        column: String,
        /// Place of the number in the array, from 1.
        row: usize,
    },
}

impl TableFault {
    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> &'static str {
        use TableFault::*;
        match self {
            RaggedTable(_) => "Bring the file in again.",
            NoColumn(_) | NoRows(_) | NotARow { .. } => {
                "Each line is x, y, z and a number, with a first line of names if wanted."
            }
            NoSuchColumn { .. } => "Choose one of the columns that the file has.",
            TooManyRows { .. } => "Export fewer points of the measurement.",
            NotANumber { .. } => "Export the result without points that have none.",
        }
    }
}
