//! Normals for drawing: smooth where the surface is, split where it has an edge.

use crate::TriMesh;
use glam::{DVec3, Vec3};

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
    let mut start = vec![0u32; n + 1];
    for v in mesh.triangles.iter().flatten() {
        start[*v as usize + 1] += 1;
    }
    for i in 0..n {
        start[i + 1] += start[i];
    }
    let mut fill = start.clone();
    let mut around = vec![0u32; mesh.triangles.len() * 3];
    for (c, v) in mesh.triangles.iter().flatten().enumerate() {
        around[fill[*v as usize] as usize] = c as u32;
        fill[*v as usize] += 1;
    }
    let area: Vec<DVec3> = (0..mesh.triangles.len()).map(|t| mesh.area_vector(t)).collect();
    let unit: Vec<DVec3> = area.iter().map(|a| a.normalize_or_zero()).collect();
    let least = crease_degrees.to_radians().cos();

    let mut out = Shaded { triangles: vec![[0; 3]; mesh.triangles.len()], ..Default::default() };
    for v in 0..n {
        let corners = &around[start[v] as usize..start[v + 1] as usize];
        let first = out.normals.len();
        let smooth: DVec3 = corners.iter().map(|&c| area[c as usize / 3]).sum();
        let mean = smooth.normalize_or_zero();
        let flat = corners.iter().all(|&c| unit[c as usize / 3].dot(mean) > least.max(0.85));
        for &c in corners {
            let own = unit[c as usize / 3];
            let normal = if flat {
                mean
            } else {
                let near = corners.iter().map(|&o| o as usize / 3).filter(|&o| unit[o].dot(own) > least);
                near.map(|o| area[o]).sum::<DVec3>().normalize_or(own)
            }
            .as_vec3();
            let known = (first..out.normals.len()).find(|&i| out.normals[i].distance_squared(normal) < 1e-4);
            let index = known.unwrap_or_else(|| {
                out.positions.push(mesh.points[v].as_vec3());
                out.normals.push(normal);
                out.source.push(v as u32);
                out.normals.len() - 1
            });
            out.triangles[c as usize / 3][c as usize % 3] = index as u32;
        }
    }
    out
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
