//! Readers and writers of open mesh formats.
//!
//! Readers are given bytes and [`Limits`]; they never panic and never allocate from a count that
//! the file merely claims. What they refuse comes back as a [`FormatError`] with words for a
//! person: what is wrong, where, and what to do.
//!
//! | module | format |
//! |---|---|
//! | [`stl`] | STL, binary and ASCII (3D Systems 1989) |
//! | [`threemf`], [`strut`] | 3MF core specification 1.3; beam lattices (1.2) as round struts |
//! | [`obj`] | Wavefront OBJ, its polygons and objects; groups and materials are passed over |
//! | [`ply`] | PLY, ASCII and both binaries (Turk 1994) |
//! | [`glb`] | glTF 2.0 binary with KHR_mesh_quantization, written for the view |
//! | [`glb_read`] | glTF 2.0 binary, its triangles in their places |
//! | [`polygon`] | polygons to triangles |

pub mod glb;
pub mod glb_read;
pub mod obj;
pub mod ply;
pub mod polygon;
pub mod stl;
pub mod strut;
pub mod threemf;

use glam::DVec3;
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

/// A body that the file names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    pub name: String,
    /// How many triangles it has; those of the next one follow.
    pub triangles: usize,
    /// It is made of beams alone.
    pub beams: bool,
}

/// A round strut of a lattice.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beam {
    pub ends: [DVec3; 2],
    /// At both ends.
    pub radii: [f64; 2],
}

impl Named {
    /// Ends the body that began at triangle `from`, if it has any.
    fn end(name: &str, from: usize, mesh: &TriMesh, out: &mut Vec<Named>) {
        if mesh.triangles.len() > from {
            out.push(Named { name: name.trim().to_owned(), triangles: mesh.triangles.len() - from, beams: false });
        }
    }
}

/// A mesh as read, with the unit when the format states one.
#[derive(Debug, Clone)]
pub struct Loaded {
    pub mesh: TriMesh,
    /// The bodies that make up the mesh, in order, when the file tells them apart.
    pub bodies: Vec<Named>,
    /// Millimetres per file unit, when the file says so.
    pub millimetres_per_unit: Option<f64>,
    /// Beams, which the mesh holds as closed struts too.
    pub beams: Vec<Beam>,
    pub format: &'static str,
}

impl Loaded {
    /// Do beams stand beside a solid? Then they are its filling.
    pub fn beams_fill(&self) -> bool {
        !self.beams.is_empty() && self.bodies.iter().any(|b| !b.beams)
    }
}

/// Recognises the format by content, whatever the file is called, and reads it.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    if bytes.is_empty() {
        return Err(FormatError::new("The file is empty.", "Export the part again and choose that file."));
    }
    if bytes.starts_with(b"PK\x03\x04") {
        return threemf::read(bytes, limits);
    }
    if bytes.starts_with(b"glTF") {
        return glb_read::read(bytes, limits);
    }
    if bytes.starts_with(b"ply\n") || bytes.starts_with(b"ply\r") {
        return ply::read(bytes, limits);
    }
    let known: [(&[u8], &str); 4] = [
        (b"\x89PNG", "a PNG picture"),
        (b"\xff\xd8\xff", "a JPEG picture"),
        (b"%PDF", "a PDF document"),
        (b"ISO-10303-21", "a STEP file"),
    ];
    if let Some((_, what)) = known.iter().find(|(magic, _)| bytes.starts_with(magic)) {
        return Err(FormatError::new(
            format!("This is {what}, not a mesh."),
            "Export the part as STL, 3MF, OBJ, PLY or GLB and choose that file.",
        ));
    }
    if obj::looks_like(bytes) {
        return obj::read(bytes, limits);
    }
    stl::read(bytes, limits)
}

/// Refuses what no step could use: nothing, too much, indices of points that are not there,
/// coordinates that are no numbers.
fn usable(
    mesh: TriMesh,
    bodies: Vec<Named>,
    limits: &Limits,
    format: &'static str,
    millimetres_per_unit: Option<f64>,
) -> Result<Loaded, FormatError> {
    if mesh.triangles.is_empty() {
        return Err(FormatError::new("The file holds no triangles.", "Export the part again; it seems nothing was selected."));
    }
    if mesh.triangles.len() > limits.triangles {
        return Err(too_many(limits));
    }
    if let Some(t) = mesh.triangles.iter().position(|t| t.iter().any(|&v| v as usize >= mesh.points.len())) {
        return Err(FormatError::new(
            format!("Triangle {} names a point that the file does not hold.", t + 1),
            "The file is damaged. Export the part again.",
        ));
    }
    if let Some(v) = mesh.points.iter().position(|p| !p.is_finite() || p.abs().max_element() > 1e9) {
        return Err(FormatError::new(
            format!("Point {} has a coordinate that is not a usable number ({}).", v + 1, mesh.points[v]),
            "Coordinates must be finite and below 1 000 000 000. Repair or export the part again.",
        ));
    }
    Ok(Loaded { mesh, bodies, millimetres_per_unit, beams: Vec::new(), format })
}

fn too_many(limits: &Limits) -> FormatError {
    FormatError::new(
        format!("The file holds more than {} million triangles.", limits.triangles / 1_000_000),
        "Reduce the part before bringing it in.",
    )
}
