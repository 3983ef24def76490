//! From the raw mesh to the one that is exported: crumbs removed, reduced within the error bound,
//! rounded to what files hold, with a role and a shade for every point.

use crate::grid::{Bits, Grid};
use crate::occlusion;
use crate::shape::{Composed, Role};
use glam::DVec3;
use rayon::prelude::*;
use std::collections::HashSet;
use ulmix_mesh::crossing::crossing_pairs;
use ulmix_mesh::reduce::{reduce, ReduceOptions};
use ulmix_mesh::topology::piece_volumes;
use ulmix_mesh::{Bvh, Topology, TriMesh};

/// A mesh ready to be looked at or exported.
pub struct Solid {
    pub mesh: TriMesh,
    /// Role of the material at every point.
    pub roles: Vec<Role>,
    /// How open the surroundings of every point are: 0 hidden, 255 free.
    pub openness: Vec<u8>,
    pub crumbs: Crumbs,
    /// Triangles before reduction.
    pub raw_triangles: usize,
}

#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Crumbs {
    pub removed: usize,
    pub volume_mm3: f64,
}

impl Solid {
    pub fn bytes(&self) -> usize {
        self.mesh.points.len() * 26 + self.mesh.triangles.len() * 12
    }
}

/// `None` when cancelled.
pub fn finish(
    raw: &TriMesh,
    grid: &Grid,
    signs: &Bits,
    shape: &Composed,
    crumb_mm3: f64,
    error: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<Solid> {
    let (whole, crumbs) = if crumb_mm3 > 0.0 { without_crumbs(raw, crumb_mm3) } else { (None, Crumbs::default()) };
    let mesh = whole.as_ref().unwrap_or(raw);
    let roles: Vec<Role> = mesh.points.par_iter().map(|&p| shape.role(p)).collect();
    if cancelled() {
        return None;
    }
    let (mesh, roles) = if error > 0.0 {
        reduced(mesh, &roles, error, cancelled)?
    } else {
        (mesh.clone(), roles)
    };
    let openness = occlusion::openness(&mesh, grid, signs);
    Some(Solid { openness, roles, crumbs, raw_triangles: raw.triangles.len(), mesh })
}

/// The mesh without loose pieces smaller than `least` mm³; `None` for "nothing to remove".
/// The largest piece always stays. Voids (pieces that face inward) go with nothing: they are kept.
fn without_crumbs(mesh: &TriMesh, least: f64) -> (Option<TriMesh>, Crumbs) {
    let topology = Topology::of(mesh);
    let volumes = piece_volumes(mesh, &topology);
    let largest = (0..volumes.len()).max_by(|&a, &b| volumes[a].total_cmp(&volumes[b]));
    let is_crumb = |p: usize| volumes[p] >= 0.0 && volumes[p] < least && Some(p) != largest;
    let gone: Vec<f64> = (0..volumes.len()).filter(|&p| is_crumb(p)).map(|p| volumes[p]).collect();
    if gone.is_empty() {
        return (None, Crumbs::default());
    }
    let kept = mesh.filtered(|t| !is_crumb(topology.piece_of[t] as usize));
    (Some(kept), Crumbs { removed: gone.len(), volume_mm3: gone.iter().sum() })
}

/// Reduces, and takes back what would cross: points around crossing triangles are locked and the
/// reduction is made again.
fn reduced(
    mesh: &TriMesh,
    roles: &[Role],
    error: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Option<(TriMesh, Vec<Role>)> {
    const TRIES: usize = 4;
    let labels: Vec<u8> = roles.iter().map(|r| *r as u8).collect();
    let mut locked: Vec<bool> = Vec::new();
    for attempt in 0..=TRIES {
        // The last resort is the mesh as it came.
        let error = if attempt == TRIES { 0.0 } else { error };
        let mut r = reduce(mesh, &ReduceOptions { error, labels: Some(&labels), locked: &locked, cancelled });
        if cancelled() {
            return None;
        }
        round_to_f32(&mut r.mesh);
        let bvh = Bvh::new(&r.mesh);
        let pairs = crossing_pairs(&r.mesh, &bvh);
        if pairs.is_empty() || attempt == TRIES {
            let roles = r.source.iter().map(|&v| roles[v as usize]).collect();
            return Some((r.mesh, roles));
        }
        locked.resize(mesh.points.len(), false);
        let reach = 4.0 * error;
        let boxes: Vec<_> = pairs
            .iter()
            .flatten()
            .map(|&t| ulmix_mesh::Bounds::of(r.mesh.corners(t as usize)).grown(reach))
            .collect();
        // Few pairs, many points: a set of coarse cells around the pairs narrows the search.
        let cell = boxes.iter().map(|b| b.size().max_element()).fold(1e-6, f64::max);
        let key = |p: DVec3| (p / cell).floor().as_i64vec3().to_array();
        let near: HashSet<[i64; 3]> = boxes
            .iter()
            .flat_map(|b| {
                let (l, h) = (key(b.min), key(b.max));
                (l[0]..=h[0]).flat_map(move |x| (l[1]..=h[1]).flat_map(move |y| (l[2]..=h[2]).map(move |z| [x, y, z])))
            })
            .collect();
        locked.par_iter_mut().zip(&mesh.points).for_each(|(l, &p)| {
            *l |= near.contains(&key(p)) && boxes.iter().any(|b| b.distance_squared(p) == 0.0);
        });
    }
    unreachable!("the last attempt returns")
}

/// Files hold 32-bit coordinates: checks must see the same. Points that would fall together are
/// moved apart by the least step, so that welding by place gives the mesh back.
fn round_to_f32(mesh: &mut TriMesh) {
    let mut seen: HashSet<[u32; 3]> = HashSet::with_capacity(mesh.points.len());
    for p in &mut mesh.points {
        // Adding zero makes −0 and 0 one.
        let mut q = p.as_vec3() + glam::Vec3::ZERO;
        let mut axis = 0;
        while !seen.insert(q.to_array().map(f32::to_bits)) {
            q[axis] = if q[axis] == 0.0 { f32::MIN_POSITIVE } else { f32::from_bits(q[axis].to_bits() + 1) };
            axis = (axis + 1) % 3;
        }
        *p = q.as_dvec3();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn crumbs_go_and_the_largest_piece_stays_however_small() {
        let mut m = TriMesh::sphere(5.0, 3);
        m.append(&TriMesh::cuboid(DVec3::splat(8.0), DVec3::splat(9.0)));
        let (kept, crumbs) = without_crumbs(&m, 2.0);
        assert_eq!(crumbs.removed, 1);
        assert!((crumbs.volume_mm3 - 1.0).abs() < 1e-12);
        assert_eq!(Topology::of(&kept.unwrap()).pieces, 1);
        assert!(without_crumbs(&m, 0.5).0.is_none());
        assert_eq!(without_crumbs(&m, 1e9).1.removed, 1);
    }

    #[test]
    fn rounding_keeps_points_apart_and_the_mesh_whole() {
        let mut m = TriMesh::sphere(1e-6, 3).mapped(|p| p + 100.0);
        let points = m.points.len();
        round_to_f32(&mut m);
        let welded = ulmix_mesh::weld::weld(&m, 0.0).mesh;
        assert_eq!(welded.points.len(), points);
        assert!(Topology::of(&welded).sound());
    }
}
