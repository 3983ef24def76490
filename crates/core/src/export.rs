//! Files to print from: written, read again by our own reader and checked before they are offered.

use crate::report::BodyApart;
use crate::stand::Placing;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use ulmix_check::{checks_given, crossing_within, Check, CheckGroup};
use ulmix_formats::{stl, threemf, FormatError, Limits};
use ulmix_mesh::TriMesh;
use ulmix_part::bodies::make_unique;
use ulmix_recipe::{Form, Pattern, Recipe, Structure};
use utoipa::ToSchema;

/// Why no file can be written. The words are for a person.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ExportError {
    /// The one body that was asked for is not there.
    #[error("The final mesh has no body “{0}” of its own.")]
    NoBody(String),
    /// STL knows no bodies.
    #[error("An STL file holds one body, and there are several.")]
    SeveralBodies,
    /// Rounding to the format's numbers has cost triangles or names.
    #[error("The file reads back with {found} triangles instead of {expected}.")]
    ReadsBack {
        /// Triangles of the file.
        found: usize,
        /// Triangles of the mesh.
        expected: usize,
    },
    /// The file that was written cannot be read again.
    #[error(transparent)]
    Unreadable(#[from] FormatError),
}

impl ExportError {
    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> &'static str {
        match self {
            ExportError::NoBody(_) => {
                "Export all of it, or have lattice and solids made as bodies of their own."
            }
            ExportError::SeveralBodies => {
                "Choose one of them, or write a 3MF file, which holds all."
            }
            ExportError::ReadsBack { .. } => {
                "Make the final mesh with a larger grid step and export again."
            }
            ExportError::Unreadable(e) => e.hint(),
        }
    }
}

/// A format that meshes are written in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum FileKind {
    /// Binary STL.
    Stl,
    /// 3MF, with a body for each of lattice and solids where these are apart.
    #[serde(rename = "3mf")]
    ThreeMf,
}

impl FileKind {
    /// Ending of file names, without the dot.
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
    /// The file.
    pub bytes: Vec<u8>,
    /// Checks of the file as it was read again.
    pub checks: Vec<Check>,
    /// Triangles that the file holds.
    pub triangles: usize,
    /// Volume that they enclose.
    pub volume_mm3: f64,
}

impl Exported {
    /// What reading it again found, and then how the mesh in it holds against the request:
    /// `of_mesh` are the checks of the final mesh's report.
    pub fn all_checks(&self, of_mesh: Option<&[Check]>) -> Vec<Check> {
        let asked = of_mesh.unwrap_or_default().iter().filter(|c| c.group == CheckGroup::AsAsked);
        self.checks.iter().chain(asked).cloned().collect()
    }
}

/// What goes into a file: a final mesh, whole or in its bodies.
pub struct Contents<'a> {
    /// As [`crate::result::FinishedMesh::as_it_leaves`].
    pub mesh: &'a TriMesh,
    /// How it was placed on the bed; bodies left as they are come along.
    pub placing: Option<Placing>,
    /// As [`crate::report::Report::apart`]; empty for one body.
    pub apart: &'a [BodyApart],
    /// Only the body of this name.
    pub only: Option<&'a str>,
    /// Bodies expected in all of it.
    pub bodies: usize,
    /// Bodies of the part that leave as they came, by name.
    pub alongside: &'a [(String, TriMesh)],
}

impl Contents<'_> {
    /// Named bodies, as they stand; the one body has the recipe's name.
    fn objects(&self, recipe: &Recipe) -> Result<Vec<(String, Cow<'_, TriMesh>)>, ExportError> {
        let mut objects: Vec<(String, Cow<TriMesh>)> = Vec::new();
        let mut from = 0;
        for b in self.apart {
            let range = from..from + b.triangles;
            from = range.end;
            if self.only.is_none_or(|name| name == b.name) {
                objects
                    .push((b.name.clone(), Cow::Owned(self.mesh.filtered(|t| range.contains(&t)))));
            }
        }
        if self.apart.is_empty() && self.only.is_none_or(|name| name == recipe.name) {
            objects.push((recipe.name.clone(), Cow::Borrowed(self.mesh)));
        }
        let beside = self.alongside.iter().filter(|b| self.only.is_none_or(|name| name == b.0));
        for (name, mesh) in beside {
            let placed = self
                .placing
                .map_or(Cow::Borrowed(mesh), |placing| Cow::Owned(placing.of_mesh(mesh)));
            objects.push((name.clone(), placed));
        }
        if let (Some(name), true) = (self.only, objects.is_empty()) {
            return Err(ExportError::NoBody(name.to_owned()));
        }
        make_unique(&mut objects.iter_mut().map(|o| &mut o.0).collect::<Vec<_>>());
        Ok(objects)
    }
}

/// Writes, reads again and checks. The bytes follow from mesh and recipe alone.
///
/// # Errors
/// A mesh that files cannot hold, or a file that does not read back as that mesh.
pub fn export(
    contents: &Contents,
    recipe: &Recipe,
    kind: FileKind,
) -> Result<Exported, ExportError> {
    let objects = contents.objects(recipe)?;
    let named: Vec<(&str, &TriMesh)> =
        objects.iter().map(|(name, mesh)| (name.as_str(), &**mesh)).collect();
    let bytes = match (kind, &named[..]) {
        (FileKind::ThreeMf, objects) => {
            threemf::write(objects, &recipe.name, &[("Description", &describe(recipe))])
        }
        (FileKind::Stl, [(_, mesh)]) => stl::write(mesh),
        (FileKind::Stl, _) => return Err(ExportError::SeveralBodies),
    };
    let again = ulmix_formats::read(
        &bytes,
        &Limits { triangles: usize::MAX, points: usize::MAX, ..Limits::default() },
    )?;
    let expected: usize = objects.iter().map(|o| o.1.triangles.len()).sum();
    let names = || again.bodies.iter().map(|b| b.name.as_str());
    if again.mesh.triangles.len() != expected
        || objects.len() > 1 && !names().eq(objects.iter().map(|o| o.0.as_str()))
    {
        return Err(ExportError::ReadsBack { found: again.mesh.triangles.len(), expected });
    }
    let triangles: Vec<usize> = objects.iter().map(|o| o.1.triangles.len()).collect();
    let crossing = crossing_within(&again.mesh, &triangles);
    let bodies =
        (contents.alongside.is_empty() && contents.only.is_none()).then_some(contents.bodies);
    Ok(Exported {
        checks: checks_given(&again.mesh, bodies, &crossing),
        triangles: again.mesh.triangles.len(),
        volume_mm3: again.mesh.volume(),
        bytes,
    })
}

/// The recipe's structures in one line.
pub fn describe(recipe: &Recipe) -> String {
    let own = recipe.zones.list.iter().filter_map(|z| {
        Some(format!("; {} in {}", kind_and_cell(&z.own_fill()?.structure), z.name))
    });
    std::iter::once(kind_and_cell(&recipe.structure)).chain(own).collect()
}

fn kind_and_cell(s: &Structure) -> String {
    let form = match &s.pattern {
        Pattern::Surface(p) => match p.form {
            Form::Walls => " walls",
            Form::Network => " network",
            Form::OtherNetwork => " other network",
        },
        Pattern::OwnStruts(p) => {
            return format!("{} struts from {}", p.own.struts.len(), p.own.name);
        }
        _ => "",
    };
    let [x, y, z] = s.cell_mm;
    let cell = if x == y && y == z { format!("{x} mm") } else { format!("{x} × {y} × {z} mm") };
    format!("{}{form}, {cell} cells", s.kind().title())
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use ulmix_check::{worst, Verdict};
    use ulmix_recipe::Stand;

    #[test]
    fn both_files_read_back_as_the_same_sound_body() {
        let mesh = TriMesh::sphere(20.0, 4).mapped(|p| p.as_vec3().as_dvec3());
        let recipe = Recipe::for_part(&mesh.bounds());
        for kind in [FileKind::Stl, FileKind::ThreeMf] {
            let e = export(
                &Contents {
                    mesh: &mesh,
                    placing: None,
                    apart: &[],
                    only: None,
                    bodies: 1,
                    alongside: &[],
                },
                &recipe,
                kind,
            )
            .unwrap();
            assert!(worst(&e.checks) == Verdict::Pass && e.triangles == mesh.triangles.len());
            assert!((e.volume_mm3 / mesh.volume() - 1.0).abs() < 1e-6);
        }
        let lattice = BodyApart {
            name: "Lattice".into(),
            triangles: mesh.triangles.len(),
            volume_mm3: mesh.volume(),
        };
        let mut two = mesh.clone();
        two.append(&mesh.clone().mapped(|p| p + glam::DVec3::X));
        let apart = [lattice.clone(), BodyApart { name: "Solids".into(), ..lattice }];
        let of = |only, kind| {
            export(
                &Contents {
                    mesh: &two,
                    placing: None,
                    apart: &apart,
                    only,
                    bodies: 1,
                    alongside: &[],
                },
                &recipe,
                kind,
            )
        };
        let both = of(None, FileKind::ThreeMf).unwrap();
        assert!(
            worst(&both.checks) != Verdict::Fail && both.triangles == two.triangles.len(),
            "bodies that overlap do not cross themselves"
        );
        let one = of(Some("Solids"), FileKind::Stl).unwrap();
        assert!(worst(&one.checks) == Verdict::Pass && one.triangles == mesh.triangles.len());
        assert!(of(None, FileKind::Stl).is_err_and(|e| e.to_string().contains("one body")));
        assert!(of(Some("Skin"), FileKind::Stl).is_err_and(|e| e.to_string().contains("“Skin”")));
        // A body that is left as it is comes along, and all stand on the bed together.
        let pin = TriMesh::cuboid(DVec3::new(30.0, -2.0, -2.0), DVec3::new(40.0, 2.0, 2.0));
        let beside = [(recipe.name.clone(), pin)];
        let standing = Recipe {
            stand: Some(Stand { down: [1.0, 0.0, 0.0], ..Stand::default() }),
            ..recipe.clone()
        };
        let placing = standing.stand.as_ref().map(|stand| Placing::of(&mesh, stand));
        let stood = placing.unwrap().of_mesh(&mesh).mapped(|p| p.as_vec3().as_dvec3());
        let contents = |only| Contents {
            mesh: &stood,
            placing,
            apart: &[],
            only,
            bodies: 1,
            alongside: &beside,
        };
        let of = |only, kind| export(&contents(only), &standing, kind);
        let all = of(None, FileKind::ThreeMf).unwrap();
        let read = ulmix_formats::read(&all.bytes, &Limits::default()).unwrap();
        let names: Vec<&str> = read.bodies.iter().map(|b| b.name.as_str()).collect();
        assert_eq!(names, ["Part", "Part 2"]);
        // The ball stands on the bed's middle; the pin, which lay to its right, lies below.
        let bounds = read.mesh.bounds();
        assert!(
            (bounds.max - DVec3::new(130.0, 130.0, 40.0)).abs().max_element() < 0.05
                && (bounds.min.z + 20.0).abs() < 0.05
        );
        assert!(of(None, FileKind::Stl).is_err_and(|e| e.to_string().contains("several")));
        assert_eq!(FileKind::of_name("a.b.3MF"), Some(FileKind::ThreeMf));
        assert_eq!(FileKind::of_name("a.obj"), None);
    }
}
