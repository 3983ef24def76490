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
//! | [`vtu`] | VTK XML of unstructured grids, the numbers of points and cells |
//! | [`polygon`] | polygons to triangles |
//!
//! [`Limits`] bound what a file can make grow.
//!
//! ```
//! use ulmix_formats::{read, stl, Limits};
//! use ulmix_mesh::TriMesh;
//!
//! let cube = TriMesh::cuboid(glam::DVec3::ZERO, glam::DVec3::splat(20.0));
//! let loaded = read(&stl::write(&cube), &Limits::default())?;
//! assert_eq!(loaded.format, "STL");
//! assert_eq!(loaded.mesh.triangles.len(), 12);
//!
//! let refused = read(b"solid", &Limits::default()).unwrap_err();
//! assert!(!refused.hint().is_empty(), "{refused}");
//! # Ok::<(), ulmix_formats::FormatError>(())
//! ```

mod error;
pub mod glb;
pub mod glb_read;
mod limits;
pub mod obj;
pub mod ply;
pub mod polygon;
pub mod stl;
pub mod strut;
pub mod threemf;
pub mod vtu;

pub use error::{Format, FormatError};
use glam::DVec3;
pub use limits::{go_on, Limits, Stopped};
use ulmix_mesh::TriMesh;

/// Bytes of the largest file that is read at all.
pub const LARGEST_FILE: u64 = 512 << 20;

/// A body that the file names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Name of the object.
    pub name: String,
    /// How many triangles it has; those of the next one follow.
    pub triangles: usize,
    /// The body is made of beams alone.
    pub beams: bool,
}

/// A round strut of a lattice.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beam {
    /// Places of both ends, in units of the file.
    pub ends: [DVec3; 2],
    /// At both ends.
    pub radii: [f64; 2],
}

impl Named {
    /// Ends the body that began at triangle `from`, if it has any.
    fn end(name: &str, from: usize, mesh: &TriMesh, out: &mut Vec<Named>) {
        if mesh.triangles.len() > from {
            out.push(Named {
                name: name.trim().to_owned(),
                triangles: mesh.triangles.len() - from,
                beams: false,
            });
        }
    }
}

/// A mesh as read, with the unit when the format states one.
#[derive(Debug, Clone)]
pub struct Loaded {
    /// All triangles, in units of the file.
    pub mesh: TriMesh,
    /// The bodies that make up the mesh, in order, when the file tells them apart.
    pub bodies: Vec<Named>,
    /// Millimetres per file unit, when the file says so.
    pub millimetres_per_unit: Option<f64>,
    /// Beams, which the mesh holds as closed struts too.
    pub beams: Vec<Beam>,
    /// Name of the format.
    pub format: &'static str,
}

impl Loaded {
    /// Do beams stand beside a solid, as its filling?
    pub fn beams_fill(&self) -> bool {
        !self.beams.is_empty() && self.bodies.iter().any(|b| !b.beams)
    }
}

/// Recognises the format by content, whatever the file is called, and reads it.
///
/// # Errors
/// What is wrong with the bytes, where, and what to do.
pub fn read(bytes: &[u8], limits: &Limits) -> Result<Loaded, FormatError> {
    if bytes.is_empty() {
        return Err(FormatError::Empty);
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
        return Err(FormatError::NotAMesh(what));
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
        return Err(FormatError::NoTriangles);
    }
    limits.hold(&mesh)?;
    if let Some(t) =
        mesh.triangles.iter().position(|t| t.iter().any(|&v| v as usize >= mesh.points.len()))
    {
        return Err(FormatError::MissingPoint(t + 1));
    }
    if let Some(v) = mesh.points.iter().position(|p| !p.is_finite() || p.abs().max_element() > 1e9)
    {
        return Err(FormatError::Coordinate {
            of: "Point",
            number: v + 1,
            place: mesh.points[v].to_string(),
        });
    }
    Ok(Loaded { mesh, bodies, millimetres_per_unit, beams: Vec::new(), format })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::strut::strut;

    fn refused(bytes: &[u8]) -> FormatError {
        read(bytes, &Limits::default()).expect_err("nothing that a part could be made of")
    }

    #[test]
    fn the_format_is_told_by_the_content_alone() {
        let ball = TriMesh::sphere(5.0, 2).mapped(|p| p.as_vec3().as_dvec3());
        let obj: String =
            ball.points.iter().map(|p| format!("v {} {} {}\n", p.x, p.y, p.z)).collect::<String>()
                + &ball
                    .triangles
                    .iter()
                    .map(|t| format!("f {} {} {}\n", t[0] + 1, t[1] + 1, t[2] + 1))
                    .collect::<String>();
        let ply = format!(
            "ply\nformat ascii 1.0\nelement vertex {}\nproperty float x\nproperty float y\nproperty float z\n\
             element face {}\nproperty list uchar int vertex_indices\nend_header\n{}{}",
            ball.points.len(),
            ball.triangles.len(),
            ball.points.iter().map(|p| format!("{} {} {}\n", p.x, p.y, p.z)).collect::<String>(),
            ball.triangles.iter().map(|t| format!("3 {} {} {}\n", t[0], t[1], t[2])).collect::<String>()
        );
        let files =
            [("STL", stl::write(&ball)), ("3MF", threemf::write(&[("Ball", &ball)], "Ball", &[]))];
        for (format, bytes) in
            files.into_iter().chain([("OBJ", obj.into_bytes()), ("PLY", ply.into_bytes())])
        {
            let back = read(&bytes, &Limits::default()).unwrap_or_else(|e| panic!("{format}: {e}"));
            assert!(back.format.contains(format), "{format} is read as {}", back.format);
            assert_eq!(back.mesh.triangles.len(), ball.triangles.len(), "{format}");
            assert!((back.mesh.volume() / ball.volume() - 1.0).abs() < 1e-6, "{format}");
        }
    }

    #[test]
    fn files_that_are_no_meshes_are_called_by_what_they_are() {
        for (bytes, what) in [
            (&b"\x89PNG\r\n\x1a\n..."[..], "a PNG picture"),
            (b"\xff\xd8\xff\xe0", "a JPEG picture"),
            (b"%PDF-1.7", "a PDF document"),
            (b"ISO-10303-21;", "a STEP file"),
            (b"", "empty"),
        ] {
            let e = refused(bytes);
            assert!(e.to_string().contains(what) && !e.hint().is_empty(), "{e:?}");
        }
    }

    #[test]
    fn meshes_that_no_step_could_use_are_refused_by_the_first_fault() {
        let limits = Limits { triangles: 1_000_000, ..Limits::default() };
        let given = |mesh: TriMesh, limits: &Limits| {
            usable(mesh, Vec::new(), limits, "OBJ", None).map(|l| l.mesh.triangles.len())
        };
        let sound = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        assert_eq!(given(sound.clone(), &limits), Ok(12));
        let message = |mesh: TriMesh| given(mesh, &limits).unwrap_err().to_string();
        assert!(message(TriMesh { points: sound.points.clone(), triangles: vec![] })
            .contains("no triangles"));
        let mut odd = sound.clone();
        odd.triangles[4][1] = 8;
        assert!(message(odd).contains("Triangle 5 names a point"));
        for bad in [f64::NAN, f64::INFINITY, 2e9, -2e9] {
            let mut odd = sound.clone();
            odd.points[6].y = bad;
            assert!(message(odd).contains("Point 7"), "{bad}");
        }
        let few = Limits { triangles: 11, ..Limits::default() };
        assert!(given(sound, &few).unwrap_err().to_string().contains("more than"));
    }

    #[test]
    fn bodies_without_triangles_are_none_and_beams_fill_only_beside_a_solid() {
        let mesh = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        let mut bodies = Vec::new();
        Named::end(" core ", 0, &mesh, &mut bodies);
        Named::end("nothing", 12, &mesh, &mut bodies);
        assert_eq!(bodies, [Named { name: "core".into(), triangles: 12, beams: false }]);
        let beam = Beam { ends: [DVec3::ZERO, DVec3::X], radii: [0.1; 2] };
        let loaded = |bodies: Vec<Named>, beams: Vec<Beam>| Loaded {
            mesh: strut(DVec3::ZERO, DVec3::X, [0.1; 2], 12),
            bodies,
            millimetres_per_unit: None,
            beams,
            format: "3MF",
        };
        let of_beams = Named { name: "frame".into(), triangles: 1, beams: true };
        assert!(!loaded(vec![of_beams.clone()], vec![beam]).beams_fill());
        assert!(!loaded(bodies.clone(), vec![]).beams_fill());
        assert!(loaded([bodies, vec![of_beams]].concat(), vec![beam]).beams_fill());
    }
}
