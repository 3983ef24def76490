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

pub fn repair(mesh: &mut TriMesh, placed: &[Placed]) {
    // Only triangles at a crease, or with a vertex out of its cell, can cross.
    let near: Vec<u32> = (0..mesh.triangles.len() as u32)
        .into_par_iter()
        .filter(|&t| mesh.triangles[t as usize].iter().any(|&v| placed[v as usize].crease || placed[v as usize].left_cell))
        .collect();
    let mut suspects = vec![true; near.len()];
    let mut moved: BTreeMap<u32, (u32, DVec3)> = BTreeMap::new();
    for _ in 0..ROUNDS {
        let part = TriMesh {
            triangles: near.iter().map(|&t| mesh.triangles[t as usize]).collect(),
            points: std::mem::take(&mut mesh.points),
        };
        let bvh = Bvh::new(&part);
        let among = (0..near.len() as u32).into_par_iter().filter(|&t| suspects[t as usize]);
        let pairs = crossing_pairs_among(&part, &bvh, among);
        let mut hit: Vec<u32> = pairs.iter().flatten().flat_map(|&t| part.triangles[t as usize]).collect();
        hit.extend(folded(&part, &suspects));
        mesh.points = part.points;
        hit.sort_unstable();
        hit.dedup();
        if hit.is_empty() {
            return;
        }
        for &v in &hit {
            let (times, start) = moved.entry(v).or_insert((0, mesh.points[v as usize]));
            *times += 1;
            // Half the way twice, then all of it.
            let share = if *times < 3 { 0.5f64.powi(*times as i32) } else { 0.0 };
            mesh.points[v as usize] = *start + Vec3::from(placed[v as usize].to_mean).as_dvec3() * (1.0 - share);
        }
        for (t, s) in near.iter().zip(&mut suspects) {
            *s = mesh.triangles[*t as usize].iter().any(|v| hit.binary_search(v).is_ok());
        }
    }
}

/// Vertices of neighbouring triangles that are folded onto each other.
fn folded(mesh: &TriMesh, suspects: &[bool]) -> Vec<u32> {
    let mut sides: Vec<(u64, u32)> = Vec::new();
    for (t, tri) in mesh.triangles.iter().enumerate().filter(|(t, _)| suspects[*t]) {
        for c in 0..3 {
            let (a, b) = (tri[c], tri[(c + 1) % 3]);
            sides.push(((a.min(b) as u64) << 32 | a.max(b) as u64, t as u32));
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
