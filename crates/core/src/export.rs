//! Files to print from: written, read again by our own reader and checked before they are offered.

use crate::recipe::{Form, Kind, Recipe};
use crate::report::{checks, Check, Verdict};
use serde::{Deserialize, Serialize};
use ulmix_formats::{stl, threemf, FormatError, Limits};
use ulmix_mesh::TriMesh;
use utoipa::ToSchema;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum FileKind {
    Stl,
    #[serde(rename = "3mf")]
    ThreeMf,
}

impl FileKind {
    pub fn extension(self) -> &'static str {
        match self {
            FileKind::Stl => "stl",
            FileKind::ThreeMf => "3mf",
        }
    }

    /// By the ending of a file's name.
    pub fn of_name(name: &str) -> Option<FileKind> {
        let ending = name.rsplit_once('.')?.1.to_ascii_lowercase();
        [FileKind::Stl, FileKind::ThreeMf].into_iter().find(|k| k.extension() == ending)
    }
}

/// A written file and what reading it again found.
pub struct Exported {
    pub bytes: Vec<u8>,
    pub checks: Vec<Check>,
    pub triangles: usize,
    pub volume_mm3: f64,
}

impl Exported {
    pub fn passed(&self) -> bool {
        self.checks.iter().all(|c| c.verdict != Verdict::Fail)
    }
}

/// Writes, reads again and checks. The bytes follow from mesh and recipe alone.
pub fn export(mesh: &TriMesh, recipe: &Recipe, kind: FileKind, bodies: Option<usize>) -> Result<Exported, FormatError> {
    let bytes = match kind {
        FileKind::Stl => stl::write(mesh),
        FileKind::ThreeMf => threemf::write(mesh, &recipe.name, &[("Description", &describe(recipe))]),
    };
    let again = ulmix_formats::read(&bytes, &Limits { triangles: usize::MAX, ..Limits::default() })?.mesh;
    if again.triangles.len() != mesh.triangles.len() {
        return Err(FormatError::new(
            format!("The file reads back with {} triangles instead of {}.", again.triangles.len(), mesh.triangles.len()),
            "Make the final mesh with a larger grid step and export again.",
        ));
    }
    Ok(Exported { checks: checks(&again, bodies), triangles: again.triangles.len(), volume_mm3: again.volume(), bytes })
}

/// The recipe's structure in one line.
pub fn describe(recipe: &Recipe) -> String {
    let s = &recipe.structure;
    let form = match (s.kind, s.form) {
        (Kind::Surface(_), Form::Walls) => " walls",
        (Kind::Surface(_), Form::Network) => " network",
        (Kind::Surface(_), Form::OtherNetwork) => " other network",
        _ => "",
    };
    let [x, y, z] = s.cell_mm;
    let cell = if x == y && y == z { format!("{x} mm") } else { format!("{x} × {y} × {z} mm") };
    format!("{}{form}, {cell} cells", s.kind.title())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_files_read_back_as_the_same_sound_body() {
        let mesh = TriMesh::sphere(20.0, 4).mapped(|p| p.as_vec3().as_dvec3());
        let recipe = Recipe::for_part(&mesh.bounds());
        for kind in [FileKind::Stl, FileKind::ThreeMf] {
            let e = export(&mesh, &recipe, kind, Some(1)).unwrap();
            assert!(e.passed() && e.triangles == mesh.triangles.len());
            assert!((e.volume_mm3 / mesh.volume() - 1.0).abs() < 1e-6);
        }
        assert_eq!(FileKind::of_name("a.b.3MF"), Some(FileKind::ThreeMf));
        assert_eq!(FileKind::of_name("a.obj"), None);
    }
}
