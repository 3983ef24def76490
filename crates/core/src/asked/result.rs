//! The mesh that leaves, to be asked about places.

use crate::result::FinishedMesh;
use glam::DVec3;
use ulmix_mesh::bvh::SegmentCrossing;
use ulmix_mesh::{SignedDistance, TriMesh};

/// The final mesh, or its lattice and its solids where they are bodies of their own, which may
/// overlap.
pub(super) struct Meshes {
    lattice: SignedDistance,
    /// Absent where both are one.
    solids: Option<SignedDistance>,
}

impl Meshes {
    pub(super) fn of(solid: &FinishedMesh) -> Meshes {
        let mesh = &solid.mesh;
        let Some(apart) = solid.apart else {
            return Meshes { lattice: SignedDistance::of_sound(mesh), solids: None };
        };
        let (lattice, solids) = mesh.triangles.split_at(apart.lattice_triangles);
        let of = |triangles: &[[u32; 3]]| {
            SignedDistance::of_sound(&TriMesh {
                points: mesh.points.clone(),
                triangles: triangles.to_vec(),
            })
        };
        let (lattice, solids) = rayon::join(|| of(lattice), || of(solids));
        Meshes { lattice, solids: Some(solids) }
    }

    /// Distance from the lattice's body, whose triangles have the numbers of the final mesh.
    pub(super) fn lattice(&self) -> &SignedDistance {
        &self.lattice
    }

    /// Distances of places from all material, negative in it. mm.
    pub(super) fn values(&self, places: &[DVec3]) -> Vec<f64> {
        let mut values = self.lattice.values(places);
        if let Some(solids) = &self.solids {
            values
                .iter_mut()
                .zip(solids.values(places))
                .for_each(|(value, of_solids)| *value = value.min(of_solids));
        }
        values
    }

    /// The nearest place on the surface of the material, if that is at most `limit` mm away.
    pub(super) fn nearest_within(&self, p: DVec3, limit: f64) -> Option<DVec3> {
        let of = |d: &SignedDistance| d.bvh().nearest(p, limit * limit);
        let both = [of(&self.lattice), self.solids.as_ref().and_then(of)];
        let nearest = both
            .into_iter()
            .flatten()
            .min_by(|a, b| a.distance_squared.total_cmp(&b.distance_squared));
        nearest.map(|n| n.point)
    }

    /// Where a ray of a length first leaves the lattice: the distance, and the triangle. Triangles
    /// for which `skip` answers true are passed.
    pub(super) fn leaves(
        &self,
        from: DVec3,
        ray: DVec3,
        length: f64,
        skip: impl Fn(u32) -> bool,
    ) -> Option<(f64, u32)> {
        let mut crossings: Vec<SegmentCrossing> = Vec::new();
        self.lattice.segment_crossings(from, from + ray * length, &mut crossings);
        let first =
            crossings.iter().filter(|h| !skip(h.triangle)).min_by(|a, b| a.t.total_cmp(&b.t))?;
        Some((first.t * length, first.triangle))
    }
}
