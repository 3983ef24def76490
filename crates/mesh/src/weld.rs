//! One index per distinct position.

use crate::TriMesh;
use glam::DVec3;
use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};

/// Multiply-and-rotate hash for small integer keys; far faster than the default here.
#[derive(Default, Clone)]
pub struct FastHasher(u64);

impl Hasher for FastHasher {
    fn write(&mut self, bytes: &[u8]) {
        // Arrays of numbers come as the bytes of all.
        let words = bytes.chunks_exact(8);
        for b in words.remainder() {
            self.write_u64(*b as u64);
        }
        words.for_each(|w| self.write_u64(u64::from_le_bytes(w.try_into().expect("eight bytes"))));
    }
    fn write_u64(&mut self, v: u64) {
        self.0 = (self.0.rotate_left(26) ^ v).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    }
    fn write_u32(&mut self, v: u32) {
        self.write_u64(v as u64);
    }
    fn write_i64(&mut self, v: i64) {
        self.write_u64(v as u64);
    }
    fn write_usize(&mut self, v: usize) {
        self.write_u64(v as u64);
    }
    fn finish(&self) -> u64 {
        self.0 ^ (self.0 >> 29)
    }
}

/// A map whose keys are hashed by [`FastHasher`].
pub type FastMap<K, V> = HashMap<K, V, BuildHasherDefault<FastHasher>>;

/// What [`weld`] did.
pub struct Welded {
    /// The mesh with its points merged.
    pub mesh: TriMesh,
    /// Points that were merged into another.
    pub merged: usize,
    /// Triangles dropped because two of their corners became one point.
    pub collapsed: usize,
}

/// No point.
const NONE: u32 = u32::MAX;

/// Merges points closer than `tolerance` with one that came before; 0 merges only equal positions.
/// Triangles that collapse are dropped.
pub fn weld(mesh: &TriMesh, tolerance: f64) -> Welded {
    let mut points: Vec<DVec3> = Vec::with_capacity(mesh.points.len() / 4);
    let mut new = Vec::with_capacity(mesh.points.len());
    if tolerance <= 0.0 {
        let mut seen: FastMap<[u64; 3], u32> = FastMap::default();
        seen.reserve(mesh.points.len() / 4);
        for &p in &mesh.points {
            // Adding 0.0 makes −0.0 and 0.0 the same key.
            let key = [p.x + 0.0, p.y + 0.0, p.z + 0.0].map(f64::to_bits);
            new.push(*seen.entry(key).or_insert_with(|| {
                points.push(p);
                points.len() as u32 - 1
            }));
        }
    } else {
        // Cells some tolerances wide: few points lie so close to a border that the next cell
        // matters.
        const WIDE: f64 = 4.0;
        let mut cells: FastMap<[i64; 3], u32> = FastMap::default();
        // Of each point the one that came before it in its cell.
        let mut before: Vec<u32> = Vec::with_capacity(mesh.points.len() / 4);
        for &p in &mesh.points {
            let at = p / (WIDE * tolerance);
            let own = at.floor();
            let within = ((at - own) * WIDE).to_array();
            let own = own.to_array().map(|v| v as i64);
            let beside =
                |axis: usize| -((within[axis] <= 1.0) as i64)..=(within[axis] >= WIDE - 1.0) as i64;
            let mut found = None;
            'search: for dz in beside(2) {
                for dy in beside(1) {
                    for dx in beside(0) {
                        let mut near = cells
                            .get(&[own[0] + dx, own[1] + dy, own[2] + dz])
                            .copied()
                            .unwrap_or(NONE);
                        while near != NONE {
                            if points[near as usize].distance_squared(p) <= tolerance * tolerance {
                                found = Some(near);
                                break 'search;
                            }
                            near = before[near as usize];
                        }
                    }
                }
            }
            new.push(found.unwrap_or_else(|| {
                points.push(p);
                let i = points.len() as u32 - 1;
                before.push(cells.insert(own, i).unwrap_or(NONE));
                i
            }));
        }
    }
    let merged = mesh.points.len() - points.len();
    let triangles: Vec<[u32; 3]> = mesh
        .triangles
        .iter()
        .map(|t| t.map(|i| new[i as usize]))
        .filter(|[a, b, c]| a != b && b != c && c != a)
        .collect();
    let collapsed = mesh.triangles.len() - triangles.len();
    Welded { mesh: TriMesh { points, triangles }, merged, collapsed }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn soup_becomes_a_shared_mesh_and_slivers_go() {
        let b = TriMesh::cuboid(DVec3::ZERO, DVec3::ONE);
        let mut soup = TriMesh::default();
        for t in 0..b.triangles.len() {
            let base = soup.points.len() as u32;
            soup.points.extend(b.corners(t).map(|p| p + DVec3::splat(1e-7 * t as f64)));
            soup.triangles.push([base, base + 1, base + 2]);
        }
        let n = soup.points.len() as u32;
        soup.points.extend([DVec3::splat(0.5), DVec3::splat(0.5), DVec3::ONE]);
        soup.triangles.push([n, n + 1, n + 2]);
        let w = weld(&soup, 1e-5);
        assert_eq!((w.mesh.points.len(), w.mesh.triangles.len(), w.collapsed), (9, 12, 1));
        assert_eq!(weld(&b, 0.0).merged, 0);
    }

    proptest! {
        #[test]
        fn points_are_merged_as_by_looking_at_all_that_were_kept(
            places in prop::collection::vec((-40i32..40, -40i32..40, -40i32..40), 3..120), tolerance in 0.5..9.0f64
        ) {
            let points: Vec<DVec3> = places.iter().map(|&(x, y, z)| DVec3::new(x as f64, y as f64, z as f64) * 0.7).collect();
            let triangles = (0..points.len() as u32 / 3).map(|t| [3 * t, 3 * t + 1, 3 * t + 2]).collect();
            let welded = weld(&TriMesh { points: points.clone(), triangles }, tolerance);
            let kept = &welded.mesh.points;
            // Those kept are farther apart than that, and each point has one as near.
            let near = |p: &DVec3, q: &DVec3| p.distance_squared(*q) <= tolerance * tolerance;
            prop_assert!((0..kept.len()).all(|i| (0..i).all(|j| !near(&kept[i], &kept[j]))));
            prop_assert!(points.iter().all(|p| kept.iter().any(|q| near(p, q))));
            prop_assert_eq!(kept.len() + welded.merged, points.len());
        }
    }
}
