//! Meshes for the view: GLB with a role, a shade and, when asked, a thickness for every point.

use crate::stopwatch::StageTime;
use serde::{Deserialize, Serialize};
use ulmix_core::compose::Owner;
use ulmix_core::pipeline::{Outcome, Quality};
use ulmix_core::report::{thickness_at_points, EstimatedReport, Report};
use ulmix_core::result::{Cost, FinishedMesh, Linked};
use ulmix_core::stand::Placing;
use ulmix_formats::glb::{self, Attribute, Values};
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::shading::shade;
use ulmix_mesh::TriMesh;
use ulmix_part::moved::{map, Map};
use ulmix_part::Part;
use utoipa::ToSchema;

/// Most triangles that a picture holds; files for printing are full.
const MOST: usize = 2_000_000;
/// Points of a picture whose thickness is measured; the rest take their neighbours'.
const MEASURED: usize = 120_000;
pub(crate) const CREASE_DEGREES: f64 = 32.0;

/// What a run found; rides in the picture's `asset.extras`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunInfo {
    /// How fine the mesh is.
    pub quality: Quality,
    /// What thickness and density lead to.
    pub linked: Linked,
    /// What the final mesh will take.
    #[serde(alias = "prediction")]
    pub cost: Cost,
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
pub struct Estimate {
    /// What thickness and density lead to.
    pub linked: Linked,
    /// What the final mesh will take.
    pub cost: Cost,
    /// Numbers of the result.
    pub report: EstimatedReport,
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
            cost: o.cost.clone(),
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
pub fn draw(solid: &FinishedMesh, info: &RunInfo) -> Vec<u8> {
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

fn fewer(solid: &FinishedMesh, step: f64) -> (TriMesh, Vec<u32>) {
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
