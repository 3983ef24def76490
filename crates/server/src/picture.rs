//! Meshes for the view: GLB with a role, a shade and, when asked, a thickness for every point.

use crate::problem::{Answer, Problem};
use crate::stopwatch::StageTime;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use ulmix_core::compose::Owner;
use ulmix_core::pipeline::{Outcome, Quality};
use ulmix_core::report::{thickness_at_points, Foretold, Report};
use ulmix_core::result::Linked;
use ulmix_core::result::Prediction;
use ulmix_core::result::Solid;
use ulmix_core::stand::Placing;
use ulmix_formats::glb::{self, Attribute, Values};
use ulmix_mesh::faces::Kind;
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::shading::{shade, Shaded};
use ulmix_mesh::weld::weld;
use ulmix_mesh::TriMesh;
use ulmix_part::moved::{map, Map};
use ulmix_part::{mark, Part};
use ulmix_recipe::FaceMark;
use utoipa::ToSchema;

/// Most triangles that a picture holds; files for printing are full.
const MOST: usize = 2_000_000;
/// Points of a picture whose thickness is measured; the rest take their neighbours'.
const MEASURED: usize = 120_000;
const CREASE_DEGREES: f64 = 32.0;

/// What a run found; rides in the picture's `asset.extras`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunInfo {
    /// How fine the mesh is.
    pub quality: Quality,
    /// What thickness and density lead to.
    pub linked: Linked,
    /// Of the final mesh.
    pub prediction: Prediction,
    /// Step of the grid.
    pub step_mm: f64,
    /// Numbers, checks and notes.
    pub report: Report,
    /// Seconds by stage.
    pub stages: Vec<StageTime>,
    /// Seconds of all stages.
    pub seconds: f64,
    /// The picture carries thickness.
    pub has_thickness: bool,
    /// How the final mesh stands on the bed, where it does.
    pub placing: Option<Placing>,
}

/// What is known of a recipe without a mesh.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Foreseen {
    /// What thickness and density lead to.
    pub linked: Linked,
    /// Of the final mesh.
    pub prediction: Prediction,
    /// Numbers of the result.
    pub report: Foretold,
    /// Seconds by stage.
    pub stages: Vec<StageTime>,
    /// Seconds of all stages.
    pub seconds: f64,
}

impl RunInfo {
    /// What is told of a run.
    pub fn new(o: &Outcome, stages: Vec<StageTime>, has_thickness: bool) -> RunInfo {
        RunInfo {
            quality: o.quality,
            linked: o.linked.clone(),
            prediction: o.prediction.clone(),
            step_mm: o.step_mm,
            report: (*o.report).clone(),
            seconds: stages.iter().map(|s| s.seconds).sum(),
            stages,
            has_thickness,
            placing: o.solid.placing,
        }
    }
}

/// The picture of a mesh, as GLB.
pub fn draw(solid: &Solid, info: &RunInfo) -> Vec<u8> {
    let mut mesh = &solid.mesh;
    let (smaller, source);
    if mesh.triangles.len() > MOST {
        (smaller, source) = fewer(solid, info.step_mm);
        mesh = &smaller;
    } else {
        source = (0..mesh.points.len() as u32).collect();
    }
    let shaded = shade(mesh, CREASE_DEGREES);
    let at = |i: &u32| source[*i as usize] as usize;
    let owners = shaded.source.iter().map(|i| solid.owners[at(i)] as u8).collect();
    let open = shaded.source.iter().map(|i| solid.openness[at(i)]).collect();
    let mut attributes = vec![
        Attribute { name: "ROLE", values: Values::Bytes(owners) },
        Attribute { name: "OPEN", values: Values::Bytes(open) },
    ];
    if info.has_thickness {
        let limit = 6.0 * info.linked.fill.thickness_mm;
        let at_points = thickness_at_points(mesh, limit, MEASURED);
        let filled = over_edges(mesh, at_points, info.linked.fill.thickness_mm as f32);
        let values = shaded.source.iter().map(|&i| filled[i as usize]).collect();
        attributes.push(Attribute { name: "THICKNESS", values: Values::Floats(values) });
    }
    glb::write(&shaded, &attributes, serde_json::json!(info))
}

/// A face of the part, to be picked.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FaceInfo {
    /// The face's description.
    pub mark: FaceMark,
    /// Of a cylinder or sphere. mm.
    pub radius_mm: Option<f64>,
    /// Faces that share an edge with it.
    pub beside: Vec<Neighbour>,
}

/// A face beside another.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Neighbour {
    /// Its number.
    pub face: u32,
    /// By how much the surface turns at the edge between.
    pub turn_deg: f64,
}

/// Faces that a part may have for them to be picked: a page cannot hold descriptions of many more.
const MOST_FACES: usize = 50_000;

/// The part with the number of its face at every point.
///
/// # Errors
/// More faces than can be picked.
pub fn draw_faces(part: &Part) -> Answer<Vec<u8>> {
    let faces = part.faces();
    if faces.list.len() > MOST_FACES {
        return Err(Problem::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "too_many_faces",
            format!(
                "The part has {} faces; of up to {MOST_FACES} one can be picked.",
                faces.list.len()
            ),
            "Choose a larger angle at which faces end, or bring in a simpler part.",
        ));
    }
    let mut all = Shaded::default();
    let mut of: Vec<f32> = Vec::new();
    for (n, face) in faces.list.iter().enumerate() {
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
                Kind::Cylinder { radius } | Kind::Sphere { radius } => Some(radius),
                _ => None,
            },
            beside: f
                .beside
                .iter()
                .map(|&(face, turn)| Neighbour { face, turn_deg: (turn * 100.0).round() / 100.0 })
                .collect(),
        })
        .collect();
    Ok(glb::write(
        &all,
        &[Attribute { name: "FACE", values: Values::Floats(of) }],
        serde_json::json!({ "faces": info }),
    ))
}

/// A part with how far every place of it lies from where it was before mending moved it.
pub fn draw_moved(part: &Part, before: &Part) -> Vec<u8> {
    let Map { mesh, far, moved } = map(&part.mesh, &before.mesh);
    let shaded = shade(&mesh, CREASE_DEGREES);
    let points = shaded.source.len();
    let far_at: Vec<f32> = shaded.source.iter().map(|&i| far[i as usize] as f32).collect();
    let attributes = [
        Attribute { name: "ROLE", values: Values::Bytes(vec![Owner::Solid as u8; points]) },
        Attribute { name: "OPEN", values: Values::Bytes(vec![255; points]) },
        Attribute { name: "THICKNESS", values: Values::Floats(far_at) },
    ];
    glb::write(&shaded, &attributes, serde_json::json!({ "greatest": moved.greatest }))
}

fn fewer(solid: &Solid, step: f64) -> (TriMesh, Vec<u32>) {
    let labels: Vec<u8> = solid.owners.iter().map(|r: &Owner| *r as u8).collect();
    let mut error = 0.05 * step;
    loop {
        let options = ReduceOptions {
            error,
            labels: Some(&labels),
            faithful: (&[], 0.0),
            kept: &[],
            cancelled: &|| false,
        };
        let r = reduce(&solid.mesh, &options);
        if r.mesh.triangles.len() <= MOST || error > step {
            return (r.mesh, r.source);
        }
        error *= 2.0;
    }
}

/// Points without a thickness of their own (at sharp edges, or not measured) take their neighbours'
/// mean.
fn over_edges(mesh: &TriMesh, mut values: Vec<f32>, otherwise: f32) -> Vec<f32> {
    for _ in 0..6 {
        let mut sums = vec![(0f32, 0u32); values.len()];
        for t in &mesh.triangles {
            for &v in t.iter().filter(|&&v| values[v as usize].is_nan()) {
                for &w in t.iter().filter(|&&w| !values[w as usize].is_nan()) {
                    sums[v as usize].0 += values[w as usize];
                    sums[v as usize].1 += 1;
                }
            }
        }
        for (v, (sum, n)) in values.iter_mut().zip(sums).filter(|(v, s)| v.is_nan() && s.1 > 0) {
            *v = sum / n as f32;
        }
    }
    values.iter().map(|v| if v.is_nan() { otherwise } else { *v }).collect()
}

/// A final mesh for the store: counts, 32-bit points, indices. Points are exact in 32 bits.
pub fn pack(mesh: &TriMesh) -> Vec<u8> {
    let mut out = Vec::with_capacity(8 + mesh.points.len() * 12 + mesh.triangles.len() * 12);
    out.extend((mesh.points.len() as u32).to_le_bytes());
    out.extend((mesh.triangles.len() as u32).to_le_bytes());
    for p in &mesh.points {
        p.as_vec3().to_array().iter().for_each(|v| out.extend(v.to_le_bytes()));
    }
    mesh.triangles.iter().flatten().for_each(|v| out.extend(v.to_le_bytes()));
    out
}

/// `None` when the bytes are not a packed mesh.
pub fn unpack(bytes: &[u8]) -> Option<TriMesh> {
    let word = |at: usize| <[u8; 4]>::try_from(bytes.get(at..at + 4)?).ok();
    let (points, triangles) =
        (u32::from_le_bytes(word(0)?) as usize, u32::from_le_bytes(word(4)?) as usize);
    if bytes.len() != 8 + 12 * (points + triangles) {
        return None;
    }
    let (p, t) = bytes[8..].split_at(12 * points);
    let four = |b: &[u8]| [b[0], b[1], b[2], b[3]];
    Some(TriMesh {
        points: p
            .chunks_exact(12)
            .map(|c| [0, 4, 8].map(|i| f32::from_le_bytes(four(&c[i..])) as f64).into())
            .collect(),
        triangles: t
            .chunks_exact(12)
            .map(|c| [0, 4, 8].map(|i| u32::from_le_bytes(four(&c[i..]))))
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packed_meshes_come_back() {
        let m = TriMesh::sphere(3.0, 3).mapped(|p| p.as_vec3().as_dvec3());
        assert_eq!(unpack(&pack(&m)), Some(m.clone()));
        assert_eq!(unpack(&pack(&m)[..40]), None);
        assert_eq!(unpack(&[1, 2, 3]), None);
    }

    #[test]
    fn a_part_of_very_many_faces_is_refused_for_picking() {
        let mut cubes = TriMesh::default();
        for n in 0..8_400 {
            let at =
                glam::DVec3::new((n % 20) as f64, (n / 20 % 20) as f64, (n / 400) as f64) * 2.0;
            cubes.append(&TriMesh::cuboid(at, at + 1.0));
        }
        let part = Part::prepare(&cubes).unwrap();
        let refused = draw_faces(&part).unwrap_err();
        assert!(
            refused.code == "too_many_faces" && refused.message.contains("50400 faces"),
            "{refused:?}"
        );
        assert!(draw_faces(&Part::prepare(&TriMesh::sphere(3.0, 3)).unwrap()).is_ok());
    }
}
