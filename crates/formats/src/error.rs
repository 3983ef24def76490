//! Why a file was refused, with what a person can do about it.

/// Why a file was refused. The words are for a person.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FormatError {
    /// No fault of the file: the work was ended from outside, by
    /// [`Limits::stopped`](crate::Limits::stopped).
    #[error("Reading the file was stopped.")]
    Stopped,
    /// The file has no bytes.
    #[error("The file is empty.")]
    Empty,
    /// The bytes are those of something else, named with its article.
    #[error("This is {0}, not a mesh.")]
    NotAMesh(&'static str),
    /// Text that is of no known format.
    #[error("The file is text without facets, not a mesh.")]
    Text,
    /// Too few bytes for what has no other mark.
    #[error("With {0} bytes the file is too short to be an STL mesh.")]
    TooShort(usize),
    /// Nothing is left of the file.
    #[error("The file holds no triangles.")]
    NoTriangles,
    /// Nothing of the file is to be built.
    #[error("The file holds no triangles to build.")]
    NothingToBuild,
    /// The file says that it holds more than it does.
    #[error("The file says it holds {told} triangles but ends after {held}.")]
    CutShort {
        /// Triangles that the file says it holds.
        told: usize,
        /// Triangles that are there.
        held: usize,
    },
    /// The last triangle has fewer than three corners.
    #[error("The file ends in the middle of a triangle.")]
    EndsWithin,
    /// A facet of an STL text that is no triangle, by the line where it ends.
    #[error("Line {0}: the facet that ends here does not have three vertices.")]
    NoTriangle(usize),
    /// A triangle, by its number from 1, names a point that is not there.
    #[error("Triangle {0} names a point that the file does not hold.")]
    MissingPoint(usize),
    /// A coordinate is no number, or far too large.
    #[error("{of} {number} has a coordinate that is not a usable number ({place}).")]
    Coordinate {
        /// What has it: `Point` or `Triangle`.
        of: &'static str,
        /// Number of that, from 1.
        number: usize,
        /// All of its coordinates.
        place: String,
    },
    /// More than the limits allow, before all are counted.
    #[error("The file holds more than {} {what}.", round(*most))]
    TooMany {
        /// What there are too many of.
        what: &'static str,
        /// How many there may be.
        most: usize,
    },
    /// More triangles than the limits allow.
    #[error("The file holds {found} triangles; up to {most} can be read.")]
    TooManyTriangles {
        /// How many there are.
        found: usize,
        /// How many there may be.
        most: usize,
    },
    /// More objects, or places of objects, than the limits allow.
    #[error("The file places more than {most} objects.")]
    TooManyObjects {
        /// How many there may be.
        most: usize,
    },
    /// A polygon with more corners than can be cut into triangles.
    #[error("A face of the file has {corners} corners; up to {most} can be cut into triangles.")]
    WideFace {
        /// How many it has.
        corners: usize,
        /// How many it may have.
        most: usize,
    },
    /// The description that goes before the data is too long to be read.
    #[error("The file's description has {megabytes} MB; up to {most} MB are read.")]
    LongDescription {
        /// How long it is.
        megabytes: usize,
        /// How long it may be.
        most: usize,
    },
    /// An archive holds more than may be unpacked.
    #[error("The model inside the archive is larger than {most} MB.")]
    LargeModel {
        /// How large it may be. MB.
        most: u64,
    },
    /// A 3MF file cannot be understood without an extension of the format, named here.
    #[error("The file requires the 3MF extension “{0}”, which is not read here.")]
    UnknownExtension(String),
    /// The file is not what its format asks for.
    #[error("{what}")]
    Damaged {
        /// The format that it seems to be of.
        format: Format,
        /// What is wrong, and where, in a sentence.
        what: String,
    },
}

/// A format that a file may be of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// 3D Manufacturing Format, a ZIP archive.
    ThreeMf,
    /// Binary glTF.
    Glb,
    /// Wavefront object text.
    Obj,
    /// Polygon file format, as text or binary.
    Ply,
    /// Stereolithography text.
    Stl,
    /// VTK XML of an unstructured grid.
    Vtu,
}

impl FormatError {
    /// A file that is not what its format asks for.
    pub(crate) fn damaged(format: Format, what: impl Into<String>) -> FormatError {
        FormatError::Damaged { format, what: what.into() }
    }

    /// Is this no fault of the file: was the work ended from outside?
    pub fn is_stopped(&self) -> bool {
        *self == FormatError::Stopped
    }

    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> &'static str {
        match self {
            FormatError::Stopped => "Bring it in again.",
            FormatError::Empty => "Export the part again and choose that file.",
            FormatError::NotAMesh(_) => {
                "Export the part as STL, 3MF, OBJ, PLY or GLB and choose that file."
            }
            FormatError::Text | FormatError::TooShort(_) => {
                "Choose an STL, 3MF, OBJ, PLY or GLB file."
            }
            FormatError::NoTriangles | FormatError::NothingToBuild => {
                "Export the part again; it seems nothing was selected."
            }
            FormatError::CutShort { .. } => {
                "It was cut short or is not an STL file. Copy or export it again."
            }
            FormatError::EndsWithin => "It was cut short. Copy or export it again.",
            FormatError::NoTriangle(_) => {
                "Only triangles are allowed in STL. Export the part again."
            }
            FormatError::MissingPoint(_) => "The file is damaged. Export the part again.",
            FormatError::Coordinate { .. } => {
                "Coordinates must be finite and below 1 000 000 000. Repair or export the part \
                 again."
            }
            FormatError::TooMany { .. }
            | FormatError::TooManyTriangles { .. }
            | FormatError::LargeModel { .. } => "Reduce the part before bringing it in.",
            FormatError::UnknownExtension(_) => "Export the part without it, or as STL.",
            FormatError::TooManyObjects { .. } => {
                "Join its objects before exporting, or export the part alone."
            }
            FormatError::WideFace { .. } => "Export the part as triangles.",
            FormatError::LongDescription { .. } => {
                "Join its objects before exporting, or export the part as 3MF or STL."
            }
            FormatError::Damaged { format, .. } => match format {
                Format::ThreeMf => "The 3MF file is damaged or not a 3MF file. Export it again.",
                Format::Glb => {
                    "The file is damaged or uses what Ulmix does not read. Export the part as \
                     3MF or STL."
                }
                Format::Obj => "The file is damaged or no OBJ. Export the part again.",
                Format::Ply => "The file is damaged or no PLY. Export the part again.",
                Format::Stl => "The file is damaged there. Export it again.",
                Format::Vtu => {
                    "Write the simulation's result as VTU again, with plain or zlib-compressed \
                     arrays, or as CSV."
                }
            },
        }
    }
}

/// A count for a person.
fn round(n: usize) -> String {
    if n > 0 && n.is_multiple_of(1_000_000) {
        format!("{} million", n / 1_000_000)
    } else {
        n.to_string()
    }
}
