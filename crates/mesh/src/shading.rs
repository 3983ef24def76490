//! Normals for drawing: smooth where the surface is, split where it has an edge.

use crate::groups::corners_at_points;
use crate::parallel;
use crate::TriMesh;
use glam::Vec3;

/// A mesh for the screen: one normal per point, points doubled along creases.
#[derive(Default)]
pub struct Shaded {
    /// Places by corner.
    pub positions: Vec<Vec3>,
    /// Normals by corner.
    pub normals: Vec<Vec3>,
    /// Corners of each triangle.
    pub triangles: Vec<[u32; 3]>,
    /// Point of the original mesh behind each drawn point.
    pub source: Vec<u32>,
}

/// Gives every corner the area-weighted normal of the faces around it that turn less than
/// `crease_degrees` from its own face.
pub fn shade(mesh: &TriMesh, crease_degrees: f64) -> Shaded {
    let n = mesh.points.len();
    let around = corners_at_points(mesh);
    let faces: Vec<ShadedFace> =
        parallel::map_cheap(mesh.triangles.len(), |t| ShadedFace::of(mesh, t));
    let least = crease_degrees.to_radians().cos() as f32;

    // Chunks of points on their own, then numbered through in order.
    let chunks: Vec<Chunk> = parallel::runs(n, CHUNK, |run| {
        let mut out = Chunk::default();
        run.for_each(|v| out.add(v as u32, around.get(v), &faces, least));
        out
    });
    let mut out = Shaded::default();
    // The first drawn point of every point of the mesh, and the corners that have another.
    let mut first = Vec::with_capacity(n);
    let mut others = Vec::new();
    for chunk in chunks {
        let base = out.source.len() as u32;
        first.extend(chunk.first.iter().map(|f| base + f));
        others.extend(chunk.others.iter().map(|&(corner, drawn)| (corner, base + drawn)));
        out.positions.extend(chunk.source.iter().map(|&v| mesh.points[v as usize].as_vec3()));
        out.normals.extend(chunk.normals);
        out.source.extend(chunk.source);
    }
    out.triangles = parallel::map_list_cheap(&mesh.triangles, |t| t.map(|v| first[v as usize]));
    for (corner, drawn) in others {
        out.triangles[corner as usize / 3][corner as usize % 3] = drawn;
    }
    out
}

/// Points, or triangles, worked on at a time.
const CHUNK: usize = 2048;

#[derive(Clone, Copy)]
struct ShadedFace {
    area: Vec3,
    unit: Vec3,
}

impl ShadedFace {
    fn of(mesh: &TriMesh, t: usize) -> ShadedFace {
        let area = mesh.area_vector(t);
        ShadedFace { area: area.as_vec3(), unit: area.normalize_or_zero().as_vec3() }
    }
}

/// Drawn points of a run of mesh points.
#[derive(Default)]
struct Chunk {
    normals: Vec<Vec3>,
    source: Vec<u32>,
    /// First drawn point of each point.
    first: Vec<u32>,
    /// Corners of the mesh (three a triangle) with a drawn point that is not their point's first.
    others: Vec<(u32, u32)>,
    /// Scratch: the faces around a point.
    star: Vec<ShadedFace>,
}

impl Chunk {
    fn add(&mut self, v: u32, corners: &[u32], faces: &[ShadedFace], least: f32) {
        let first = self.normals.len();
        self.first.push(first as u32);
        self.star.clear();
        self.star.extend(corners.iter().map(|&c| faces[c as usize / 3]));
        let star = &self.star;
        let mean = star.iter().map(|f| f.area).sum::<Vec3>().normalize_or_zero();
        if star.iter().all(|f| f.unit.dot(mean) > least.max(0.85)) {
            self.normals.push(mean);
            self.source.push(v);
            return;
        }
        for (own, &corner) in star.iter().zip(corners) {
            let near = star.iter().filter(|o| o.unit.dot(own.unit) > least);
            let normal = near.map(|o| o.area).sum::<Vec3>().normalize_or(own.unit);
            // The same faces, added in the same order, give the same bits.
            let known = self.normals[first..].iter().position(|n| *n == normal);
            let n = known.unwrap_or_else(|| {
                self.normals.push(normal);
                self.source.push(v);
                self.normals.len() - 1 - first
            });
            if n > 0 {
                self.others.push((corner, (first + n) as u32));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

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
