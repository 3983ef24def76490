//! Takes back the few vertices that make triangles cross or fold.
//!
//! A crease that just misses a cell still shows in its normals, and the vertex then wants to
//! leave the cell. Most of that is right and keeps edges sharp; where it makes triangles cross, the
//! vertex steps back toward the mean of its hits, which never crosses.

use super::vertex::Placed;
use glam::{DVec3, Vec3};
use rayon::prelude::*;
use std::collections::BTreeMap;
use ulmix_mesh::crossing::crossing_pairs_among;
use ulmix_mesh::{Bvh, TriMesh};

const ROUNDS: u32 = 8;
/// Neighbouring normals that turn more than about 154° are a fold.
const FOLD: f64 = -0.9;

/// Works on triangles with a vertex that left its cell; `step` is the grid's.
pub fn repair(mesh: &mut TriMesh, placed: &[Placed], step: f64) {
    let with = |wanted: &(dyn Fn(&Placed) -> bool + Sync)| -> Vec<u32> {
        (0..mesh.triangles.len() as u32)
            .into_par_iter()
            .filter(|&t| mesh.triangles[t as usize].iter().any(|&v| wanted(&placed[v as usize])))
            .collect()
    };
    let near = with(&|p| p.crease || p.left_cell);
    let mut part = TriMesh {
        triangles: near.iter().map(|&t| mesh.triangles[t as usize]).collect(),
        points: std::mem::take(&mut mesh.points),
    };
    // Points move by less than a cell and a half: boxes grown by that find the same pairs later.
    let bvh = Bvh::new(&part);
    let suspect = |hit: &dyn Fn(u32) -> bool, part: &TriMesh| -> Vec<u32> {
        (0..part.triangles.len() as u32).filter(|&t| part.triangles[t as usize].iter().any(|&v| hit(v))).collect()
    };
    let mut suspects = suspect(&|v| placed[v as usize].left_cell, &part);
    let mut moved: BTreeMap<u32, (u32, DVec3)> = BTreeMap::new();
    let mut slack = 0.0;
    for _ in 0..ROUNDS {
        let pairs = crossing_pairs_among(&part, &bvh, suspects.par_iter().copied(), slack);
        let mut hit: Vec<u32> = pairs.iter().flatten().flat_map(|&t| part.triangles[t as usize]).collect();
        hit.extend(folded(&part, &suspects));
        hit.sort_unstable();
        hit.dedup();
        if hit.is_empty() {
            break;
        }
        for &v in &hit {
            let (times, start) = moved.entry(v).or_insert((0, part.points[v as usize]));
            *times += 1;
            // Half the way twice, then all of it.
            let share = if *times < 3 { 0.5f64.powi(*times as i32) } else { 0.0 };
            part.points[v as usize] = *start + Vec3::from(placed[v as usize].to_mean).as_dvec3() * (1.0 - share);
        }
        suspects = suspect(&|v| hit.binary_search(&v).is_ok(), &part);
        slack = 1.5 * step;
    }
    mesh.points = part.points;
}

/// Vertices of neighbouring triangles that are folded onto each other.
fn folded(mesh: &TriMesh, suspects: &[u32]) -> Vec<u32> {
    let mut sides: Vec<(u64, u32)> = Vec::new();
    for &t in suspects {
        let tri = mesh.triangles[t as usize];
        for c in 0..3 {
            let (a, b) = (tri[c], tri[(c + 1) % 3]);
            sides.push(((a.min(b) as u64) << 32 | a.max(b) as u64, t));
        }
    }
    sides.sort_unstable();
    let unit = |t: u32| -> DVec3 { mesh.area_vector(t as usize).normalize_or_zero() };
    let mut out = Vec::new();
    for two in sides.windows(2).filter(|w| w[0].0 == w[1].0) {
        if unit(two[0].1).dot(unit(two[1].1)) < FOLD {
            out.extend(mesh.triangles[two[0].1 as usize]);
            out.extend(mesh.triangles[two[1].1 as usize]);
        }
    }
    out
}
