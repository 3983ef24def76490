//! The indexed triangle mesh.

use crate::parallel;
use glam::DVec3;
use std::ops::Range;

/// Axis-aligned box; empty when `min > max`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bounds {
    /// Low corner.
    pub min: DVec3,
    /// High corner.
    pub max: DVec3,
}

impl Bounds {
    /// The box of nothing.
    pub const EMPTY: Bounds =
        Bounds { min: DVec3::splat(f64::INFINITY), max: DVec3::splat(f64::NEG_INFINITY) };

    /// The box around points.
    pub fn of(points: impl IntoIterator<Item = DVec3>) -> Bounds {
        points.into_iter().fold(Bounds::EMPTY, |b, p| b.with(p))
    }

    /// The box grown to hold a point.
    pub fn with(self, p: DVec3) -> Bounds {
        Bounds { min: self.min.min(p), max: self.max.max(p) }
    }

    /// The box around two boxes.
    pub fn union(self, o: Bounds) -> Bounds {
        Bounds { min: self.min.min(o.min), max: self.max.max(o.max) }
    }

    /// The box with all sides moved out.
    pub fn grown(self, by: f64) -> Bounds {
        Bounds { min: self.min - by, max: self.max + by }
    }

    /// Lengths of the sides.
    pub fn size(&self) -> DVec3 {
        self.max - self.min
    }

    /// Middle of the box.
    pub fn centre(&self) -> DVec3 {
        (self.min + self.max) * 0.5
    }

    /// Do the boxes share a point?
    pub fn overlaps(&self, o: &Bounds) -> bool {
        self.min.cmple(o.max).all() && o.min.cmple(self.max).all()
    }

    /// Does the other box lie in this one?
    pub fn contains(&self, o: &Bounds) -> bool {
        self.min.cmple(o.min).all() && o.max.cmple(self.max).all()
    }

    /// Squared distance from `p` to the box, 0 inside.
    pub fn distance_squared(&self, p: DVec3) -> f64 {
        (self.min - p).max(p - self.max).max(DVec3::ZERO).length_squared()
    }
}

/// Triangles over shared points; a front face is counter-clockwise seen from outside.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TriMesh {
    /// Places of the points.
    pub points: Vec<DVec3>,
    /// Numbers of the points at the corners, counter-clockwise as seen from outside.
    pub triangles: Vec<[u32; 3]>,
}

impl TriMesh {
    /// Places of a triangle's corners.
    #[inline]
    pub fn corners(&self, t: usize) -> [DVec3; 3] {
        // Spelled out: `array::map` over points is left as calls through memory.
        let [a, b, c] = self.triangles[t];
        [self.points[a as usize], self.points[b as usize], self.points[c as usize]]
    }

    /// Middle of a triangle's corners.
    pub fn middle(&self, t: usize) -> DVec3 {
        self.corners(t).iter().sum::<DVec3>() / 3.0
    }

    /// Twice the area, along the front side.
    pub fn area_vector(&self, t: usize) -> DVec3 {
        let [a, b, c] = self.corners(t);
        (b - a).cross(c - a)
    }

    /// Area-weighted outward direction at every point, not unit.
    pub fn point_normals(&self) -> Vec<DVec3> {
        let mut normals = vec![DVec3::ZERO; self.points.len()];
        for (t, tri) in self.triangles.iter().enumerate() {
            let n = self.area_vector(t);
            tri.iter().for_each(|&v| normals[v as usize] += n);
        }
        normals
    }

    /// The box around all points.
    pub fn bounds(&self) -> Bounds {
        Bounds::of(self.points.iter().copied())
    }

    /// Area of all triangles.
    pub fn area(&self) -> f64 {
        self.sum(|m, t| m.area_vector(t).length() * 0.5)
    }

    /// Signed volume (divergence theorem): positive for a closed mesh that faces outward.
    pub fn volume(&self) -> f64 {
        let o = self.points.first().copied().unwrap_or_default();
        self.sum(|m, t| {
            let [a, b, c] = m.corners(t).map(|p| p - o);
            a.dot(b.cross(c)) / 6.0
        })
    }

    // Fixed chunks added in order: the same sum on any number of threads.
    fn sum(&self, f: impl Fn(&TriMesh, usize) -> f64 + Sync) -> f64 {
        const CHUNK: usize = 1 << 14;
        let of_run = |run: Range<usize>| run.map(|t| f(self, t)).sum::<f64>();
        parallel::runs(self.triangles.len(), CHUNK, of_run).into_iter().sum()
    }

    /// The box around the triangles: a mesh may have far more points than they use.
    pub(crate) fn bounds_of_triangles(&self) -> Bounds {
        const CHUNK: usize = 1 << 14;
        let of_triangle = |t: usize| Bounds::of(self.corners(t));
        let of_run = |run: Range<usize>| run.map(of_triangle).fold(Bounds::EMPTY, Bounds::union);
        let runs = parallel::runs(self.triangles.len(), CHUNK, of_run);
        runs.into_iter().fold(Bounds::EMPTY, Bounds::union)
    }

    /// Moves every point.
    pub fn mapped(mut self, f: impl Fn(DVec3) -> DVec3) -> TriMesh {
        self.points.iter_mut().for_each(|p| *p = f(*p));
        self
    }

    /// Keeps the triangles for which `keep` holds, and only the points they use.
    pub fn filtered(&self, keep: impl Fn(usize) -> bool) -> TriMesh {
        self.filtered_with_sources(keep).0
    }

    /// The mesh of [`TriMesh::filtered`], and for each of its points the point of this mesh.
    pub fn filtered_with_sources(&self, keep: impl Fn(usize) -> bool) -> (TriMesh, Vec<u32>) {
        let mut new = vec![u32::MAX; self.points.len()];
        let (mut out, mut sources) = (TriMesh::default(), Vec::new());
        for (t, tri) in self.triangles.iter().enumerate() {
            if !keep(t) {
                continue;
            }
            out.triangles.push(tri.map(|v| {
                let slot = &mut new[v as usize];
                if *slot == u32::MAX {
                    *slot = sources.len() as u32;
                    sources.push(v);
                    out.points.push(self.points[v as usize]);
                }
                *slot
            }));
        }
        (out, sources)
    }

    /// Appends another mesh.
    pub fn append(&mut self, other: &TriMesh) {
        let base = self.points.len() as u32;
        self.points.extend_from_slice(&other.points);
        self.triangles.extend(other.triangles.iter().map(|t| t.map(|i| i + base)));
    }

    /// An axis-aligned box of 12 triangles.
    pub fn cuboid(min: DVec3, max: DVec3) -> TriMesh {
        let pick = |i: usize, bit: usize, axis: usize| {
            if i >> bit & 1 == 1 {
                max[axis]
            } else {
                min[axis]
            }
        };
        let points =
            (0..8).map(|i| DVec3::new(pick(i, 0, 0), pick(i, 1, 1), pick(i, 2, 2))).collect();
        let quads =
            [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]];
        let triangles = quads.iter().flat_map(|&[a, b, c, d]| [[a, b, c], [a, c, d]]).collect();
        TriMesh { points, triangles }
    }

    /// A sphere around the origin: an octahedron split `levels` times, points pushed to `radius`.
    pub fn sphere(radius: f64, levels: usize) -> TriMesh {
        let n = 1usize << levels;
        let mut soup = Vec::new();
        for oct in 0..8 {
            let s = DVec3::new(
                if oct & 1 == 0 { 1.0 } else { -1.0 },
                if oct & 2 == 0 { 1.0 } else { -1.0 },
                if oct & 4 == 0 { 1.0 } else { -1.0 },
            );
            let flip = s.x * s.y * s.z < 0.0;
            let at = |i: usize, j: usize| {
                DVec3::new(i as f64, j as f64, (n - i - j) as f64).normalize() * s * radius
            };
            for i in 0..n {
                for j in 0..n - i {
                    let mut add = |a, b, c| soup.push(if flip { [a, c, b] } else { [a, b, c] });
                    add(at(i, j), at(i + 1, j), at(i, j + 1));
                    if i + j + 1 < n {
                        add(at(i + 1, j), at(i + 1, j + 1), at(i, j + 1));
                    }
                }
            }
        }
        let points = soup.iter().flatten().copied().collect();
        let triangles = (0..soup.len() as u32).map(|t| [3 * t, 3 * t + 1, 3 * t + 2]).collect();
        crate::weld::weld(&TriMesh { points, triangles }, radius * 1e-9).mesh
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn box_and_sphere_have_their_textbook_volume_and_area() {
        let b = TriMesh::cuboid(DVec3::new(1.0, 2.0, 3.0), DVec3::new(4.0, 4.0, 4.0));
        assert!((b.volume() - 6.0).abs() < 1e-12);
        assert!((b.area() - 22.0).abs() < 1e-12);
        let s = TriMesh::sphere(2.0, 6);
        assert_eq!(s.points.len(), 4 * 64 * 64 + 2);
        assert!((s.volume() / (32.0 * std::f64::consts::PI / 3.0) - 1.0).abs() < 1e-3);
    }

    #[test]
    fn filtering_drops_unused_points() {
        let b = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        let half = b.filtered(|t| t < 2);
        assert_eq!((half.points.len(), half.triangles.len()), (4, 2));
    }
}
