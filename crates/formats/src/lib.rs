//! Readers and writers of open mesh formats.
//!
//! Readers are given bytes and [`Limits`]; they never panic and never allocate from a count that
//! the file merely claims. What they refuse comes back as a [`FormatError`] with words for a
//! person: what is wrong, where, and what to do.
//!
//! | module | format |
//! |---|---|
//! | [`stl`] | STL, binary and ASCII (3D Systems 1989) |
//! | [`threemf`] | 3MF core specification 1.3 |
//! | [`glb`] | glTF 2.0 binary with KHR_mesh_quantization, written for the view |

pub mod glb;
pub mod stl;
pub mod threemf;

use ulmix_mesh::TriMesh;

/// Bytes of the largest file that is read at all.
pub const LARGEST_FILE: u64 = 512 << 20;

/// What a reader may spend on a file.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    pub triangles: usize,
    /// Bytes of one unpacked archive entry.
    pub unpacked_bytes: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Limits { triangles: 12_000_000, unpacked_bytes: 2 << 30 }
    }
}

/// Why a file was refused, in words for a person.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct FormatError {
    pub message: String,
    pub hint: String,
}

impl FormatError {
    pub fn new(message: impl Into<String>, hint: impl Into<String>) -> FormatError {
        FormatError { message: message.into(), hint: hint.into() }
    }
}

/// A mesh as read, with the unit when the format states one.
#[derive(Debug, Clone)]
pub struct Loaded {
    pub mesh: TriMesh,
    /// Millimetres per file unit, when the file says so.
    pub millimetres_per_unit: Option<f64>,
    pub format: &'static str,
}

/// Recognises the format by content, whatever the file is called, and reads it.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    if bytes.is_empty() {
        return Err(FormatError::new("The file is empty.", "Export the part again and choose that file."));
    }
    if bytes.starts_with(b"PK\x03\x04") {
        return threemf::read(bytes, limits);
    }
    let known: [(&[u8], &str); 7] = [
        (b"\x89PNG", "a PNG picture"),
        (b"\xff\xd8\xff", "a JPEG picture"),
        (b"%PDF", "a PDF document"),
        (b"ISO-10303-21", "a STEP file"),
        (b"glTF", "a GLB file"),
        (b"ply\n", "a PLY file"),
        (b"ply\r", "a PLY file"),
    ];
    if let Some((_, what)) = known.iter().find(|(magic, _)| bytes.starts_with(magic)) {
        return Err(FormatError::new(
            format!("This is {what}, not an STL or 3MF mesh."),
            "Export the part as STL (binary or ASCII) or 3MF and choose that file.",
        ));
    }
    stl::read(bytes, limits)
}
