//! Normals for drawing: smooth where the surface is, split where it has an edge.

use crate::groups::corners_at_points;
use crate::TriMesh;
use glam::{DVec3, Vec3};
use rayon::prelude::*;

/// A mesh for the screen: one normal per point, points doubled along creases.
#[derive(Default)]
pub struct Shaded {
    pub positions: Vec<Vec3>,
    pub normals: Vec<Vec3>,
    pub triangles: Vec<[u32; 3]>,
    /// Point of the original mesh behind each drawn point.
    pub source: Vec<u32>,
}

/// Gives every corner the area-weighted normal of the faces around it that turn less than
/// `crease_degrees` from its own face.
pub fn shade(mesh: &TriMesh, crease_degrees: f64) -> Shaded {
    let n = mesh.points.len();
    let around = corners_at_points(mesh);
    let area: Vec<DVec3> = (0..mesh.triangles.len()).into_par_iter().map(|t| mesh.area_vector(t)).collect();
    let unit: Vec<DVec3> = area.par_iter().map(|a| a.normalize_or_zero()).collect();
    let least = crease_degrees.to_radians().cos();

    // Chunks of points on their own, then numbered through in order.
    const CHUNK: usize = 2048;
    let chunks: Vec<Chunk> = (0..n.div_ceil(CHUNK))
        .into_par_iter()
        .map(|c| {
            let mut out = Chunk::default();
            for v in c * CHUNK..((c + 1) * CHUNK).min(n) {
                out.add(v as u32, around.get(v), &area, &unit, least);
            }
            out
        })
        .collect();
    let mut out = Shaded { triangles: vec![[0; 3]; mesh.triangles.len()], ..Default::default() };
    for chunk in chunks {
        let base = out.source.len() as u32;
        for (corner, index) in chunk.corners {
            out.triangles[corner as usize / 3][corner as usize % 3] = base + index;
        }
        out.positions.extend(chunk.source.iter().map(|&v| mesh.points[v as usize].as_vec3()));
        out.normals.extend(chunk.normals);
        out.source.extend(chunk.source);
    }
    out
}

/// Drawn points of a run of mesh points.
#[derive(Default)]
struct Chunk {
    normals: Vec<Vec3>,
    source: Vec<u32>,
    /// Corner of the mesh (three a triangle) and its drawn point.
    corners: Vec<(u32, u32)>,
}

impl Chunk {
    fn add(&mut self, v: u32, corners: &[u32], area: &[DVec3], unit: &[DVec3], least: f64) {
        let first = self.normals.len();
        let mean = corners.iter().map(|&c| area[c as usize / 3]).sum::<DVec3>().normalize_or_zero();
        if corners.iter().all(|&c| unit[c as usize / 3].dot(mean) > least.max(0.85)) {
            self.normals.push(mean.as_vec3());
            self.source.push(v);
            self.corners.extend(corners.iter().map(|&c| (c, first as u32)));
            return;
        }
        for &c in corners {
            let own = unit[c as usize / 3];
            let near = corners.iter().map(|&o| o as usize / 3).filter(|&o| unit[o].dot(own) > least);
            let normal = near.map(|o| area[o]).sum::<DVec3>().normalize_or(own).as_vec3();
            let known = (first..self.normals.len()).find(|&i| self.normals[i].distance_squared(normal) < 1e-4);
            let index = known.unwrap_or_else(|| {
                self.normals.push(normal);
                self.source.push(v);
                self.normals.len() - 1
            });
            self.corners.push((c, index as u32));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_box_keeps_its_edges_and_a_sphere_stays_smooth() {
        let b = shade(&TriMesh::cuboid(DVec3::ZERO, DVec3::ONE), 35.0);
        assert_eq!(b.positions.len(), 24);
        let m = TriMesh::sphere(1.0, 4);
        let s = shade(&m, 35.0);
        assert_eq!(s.positions.len(), m.points.len());
        assert!(s.positions.iter().zip(&s.normals).all(|(p, n)| p.dot(*n) > 0.99));
    }
}
