//! Triangles of about one size by the bins that their boxes reach: quicker to fill than a tree is
//! to build.

use crate::parallel;
use crate::{Bounds, TriMesh};
use glam::{DVec3, UVec3};

/// More bins than this are not made: they grow instead.
const MOST: f64 = 4e6;

/// Triangles of a mesh in a raster of cubes.
pub struct TriangleBins {
    low: DVec3,
    edge: f64,
    size: UVec3,
    /// First entry of each bin, and the end.
    starts: Vec<u32>,
    entries: Vec<BoxedTriangle>,
}

/// A triangle in one of its bins, with its box from [`TriangleBins::low`] on, which 32 bits may widen.
#[derive(Clone, Copy, Default)]
struct BoxedTriangle {
    low: [f32; 3],
    high: [f32; 3],
    triangle: u32,
}

impl BoxedTriangle {
    fn overlaps(&self, low: &[f32; 3], high: &[f32; 3]) -> bool {
        let along = |a: usize| (self.low[a] <= high[a]) & (self.high[a] >= low[a]);
        along(0) & along(1) & along(2)
    }
}

impl TriangleBins {
    /// Bins of about the given `edge`: some times the length of a triangle.
    pub fn new(mesh: &TriMesh, edge: f64) -> TriangleBins {
        let bounds = mesh.bounds_of_triangles();
        if mesh.triangles.is_empty() {
            return TriangleBins {
                low: DVec3::ZERO,
                edge,
                size: UVec3::ZERO,
                starts: vec![0],
                entries: Vec::new(),
            };
        }
        let room = bounds.size();
        let edge = edge
            .max((room.x * room.y * room.z / MOST).cbrt())
            .max(room.max_element() / MOST.cbrt());
        let size = (room / edge).as_uvec3() + 1;
        let mut out =
            TriangleBins { low: bounds.min, edge, size, starts: Vec::new(), entries: Vec::new() };
        let boxes: Vec<BoxedTriangle> = parallel::map_cheap(mesh.triangles.len(), |t| {
            let (low, high) = out.wide(&Bounds::of(mesh.corners(t)));
            BoxedTriangle { low, high, triangle: t as u32 }
        });
        let mut starts = vec![0u32; (size.x * size.y * size.z) as usize + 1];
        boxes.iter().for_each(|b| out.each_bin(&b.low, &b.high, |bin| starts[bin] += 1));
        (1..starts.len()).for_each(|n| starts[n] += starts[n - 1]);
        let mut entries = vec![BoxedTriangle::default(); starts[starts.len() - 1] as usize];
        // From the back, so that every bin's end becomes its start.
        for b in boxes.iter().rev() {
            out.each_bin(&b.low, &b.high, |bin| {
                starts[bin] -= 1;
                entries[starts[bin] as usize] = *b;
            });
        }
        (out.starts, out.entries) = (starts, entries);
        out
    }

    /// A box from `low` on, widened by more than rounding.
    #[inline(always)]
    fn wide(&self, bounds: &Bounds) -> ([f32; 3], [f32; 3]) {
        let (low, high) = (bounds.min - self.low, bounds.max - self.low);
        let widened = |v: f64, by: f64| (v + by * (v.abs() + 1e-3 * self.edge)) as f32;
        let all = |p: DVec3, by: f64| [widened(p.x, by), widened(p.y, by), widened(p.z, by)];
        (all(low, -1e-6), all(high, 1e-6))
    }

    /// Calls `f` for the bins that a box reaches.
    fn each_bin(&self, low: &[f32; 3], high: &[f32; 3], mut f: impl FnMut(usize)) {
        let inverse = 1.0 / self.edge as f32;
        // The cast saturates.
        let bin = |v: f32, axis: usize| ((v * inverse) as u32).min(self.size[axis] - 1);
        for z in bin(low[2], 2)..=bin(high[2], 2) {
            for y in bin(low[1], 1)..=bin(high[1], 1) {
                let row = (z * self.size.y + y) * self.size.x;
                (bin(low[0], 0)..=bin(high[0], 0)).for_each(|x| f((row + x) as usize));
            }
        }
    }

    /// Calls `f` for the triangles whose boxes overlap `bounds`, for some of them more than once,
    /// and for some whose boxes are beside it by no more than rounding.
    pub fn overlapping(&self, bounds: &Bounds, mut f: impl FnMut(u32)) {
        if self.entries.is_empty() {
            return;
        }
        let (low, high) = self.wide(bounds);
        self.each_bin(&low, &high, |bin| {
            let entries = &self.entries[self.starts[bin] as usize..self.starts[bin + 1] as usize];
            entries.iter().filter(|e| e.overlaps(&low, &high)).for_each(|e| f(e.triangle));
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Bvh;

    #[test]
    fn bins_find_what_a_tree_finds() {
        let mesh = TriMesh::sphere(10.0, 4).mapped(|p| p * DVec3::new(1.0, 0.3, 2.0) + 40.0);
        let bvh = Bvh::new(&mesh);
        for edge in [0.2, 3.0, 1000.0] {
            let bins = TriangleBins::new(&mesh, edge);
            for n in 0..200 {
                let at = mesh.points[n * 11 % mesh.points.len()];
                let around =
                    Bounds { min: at - 0.1 * (n % 30) as f64, max: at + 0.07 * (n % 13) as f64 };
                let (mut a, mut b) = (Vec::new(), Vec::new());
                bvh.overlapping(around, |t| a.push(t));
                bins.overlapping(&around, |t| b.push(t));
                a.sort_unstable();
                b.sort_unstable();
                b.dedup();
                assert!(
                    !a.is_empty() && a.iter().all(|t| b.contains(t)),
                    "edge {edge}: {a:?} {b:?}"
                );
                let is_near =
                    |t: &u32| Bounds::of(mesh.corners(*t as usize)).grown(1e-3).overlaps(&around);
                assert!(b.iter().all(is_near));
            }
        }
        TriangleBins::new(&TriMesh::default(), 1.0)
            .overlapping(&mesh.bounds(), |_| panic!("nothing there"));
    }
}
