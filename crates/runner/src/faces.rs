//! The faces of a part, to be picked.

use crate::picture::CREASE_DEGREES;
use serde::{Deserialize, Serialize};
use ulmix_formats::glb::{self, Attribute, Values};
use ulmix_mesh::faces::FaceForm;
use ulmix_mesh::shading::{shade, Shaded};
use ulmix_mesh::weld::weld;
use ulmix_mesh::TriMesh;
use ulmix_part::{mark, Part};
use ulmix_recipe::FaceMark;
use utoipa::ToSchema;

/// A face of the part, to be picked.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FaceInfo {
    /// The face's description.
    pub mark: FaceMark,
    /// Radius of a cylinder or sphere; absent for other faces. mm.
    pub radius_mm: Option<f64>,
    /// Faces that share an edge with it.
    pub beside: Vec<Neighbour>,
}

/// A face beside another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Neighbour {
    /// Number of the face.
    pub face: u32,
    /// By how much the surface turns at the edge between.
    pub turn_deg: f64,
}

/// Faces that a part may have for them to be picked: a page cannot hold descriptions of many more.
const MOST_FACES: usize = 50_000;

/// The part has more faces than can be picked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("The part has {count} faces; of up to {MOST_FACES} one can be picked.")]
pub struct TooManyFaces {
    /// Faces of the part.
    pub count: usize,
}

impl TooManyFaces {
    /// What to do about it, in a sentence for a person.
    pub fn hint(&self) -> &'static str {
        "Choose a larger angle at which faces end, or bring in a simpler part."
    }
}

/// The part with the number of its face at every point. `None` when cancelled.
///
/// # Errors
/// More faces than can be picked.
pub fn draw_faces(
    part: &Part,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Result<Option<Vec<u8>>, TooManyFaces> {
    let Some(faces) = part.faces_until(cancelled) else { return Ok(None) };
    if faces.list.len() > MOST_FACES {
        return Err(TooManyFaces { count: faces.list.len() });
    }
    let mut all = Shaded::default();
    let mut of: Vec<f32> = Vec::new();
    for (n, face) in faces.list.iter().enumerate() {
        if cancelled() {
            return Ok(None);
        }
        // Each face on its own: points on a border belong to several.
        let own = TriMesh {
            points: face.triangles.iter().flat_map(|&t| part.faced().corners(t as usize)).collect(),
            triangles: (0..face.triangles.len() as u32)
                .map(|t| [3 * t, 3 * t + 1, 3 * t + 2])
                .collect(),
        };
        let own = shade(&weld(&own, 0.0).mesh, CREASE_DEGREES);
        let base = all.positions.len() as u32;
        of.extend(std::iter::repeat_n(n as f32, own.positions.len()));
        all.positions.extend(&own.positions);
        all.normals.extend(&own.normals);
        all.triangles.extend(own.triangles.iter().map(|t| t.map(|v| v + base)));
    }
    let info: Vec<FaceInfo> = faces
        .list
        .iter()
        .map(|f| FaceInfo {
            mark: mark(f),
            radius_mm: match f.kind {
                FaceForm::Cylinder { radius } | FaceForm::Sphere { radius } => Some(radius),
                _ => None,
            },
            beside: f
                .beside
                .iter()
                .map(|&(face, turn)| Neighbour { face, turn_deg: (turn * 100.0).round() / 100.0 })
                .collect(),
        })
        .collect();
    Ok(Some(glb::write(
        &all,
        &[Attribute { name: "FACE", values: Values::Floats(of) }],
        serde_json::json!({ "faces": info }),
    )))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_of_very_many_faces_is_refused_for_picking() {
        let mut cubes = TriMesh::default();
        for n in 0..8_400 {
            let at =
                glam::DVec3::new((n % 20) as f64, (n / 20 % 20) as f64, (n / 400) as f64) * 2.0;
            cubes.append(&TriMesh::cuboid(at, at + 1.0));
        }
        let part = Part::prepare(&cubes).unwrap();
        let refused = draw_faces(&part, &|| false).unwrap_err();
        assert_eq!(refused, TooManyFaces { count: 50_400 });
        assert!(refused.to_string().contains("50400 faces"));
        let ball = Part::prepare(&TriMesh::sphere(3.0, 3)).unwrap();
        assert!(draw_faces(&ball, &|| false).unwrap().is_some());
        assert_eq!(draw_faces(&ball, &|| true), Ok(None));
        let fresh = Part::prepare(&TriMesh::sphere(3.0, 3)).unwrap();
        assert_eq!(draw_faces(&fresh, &|| true), Ok(None));
    }
}
