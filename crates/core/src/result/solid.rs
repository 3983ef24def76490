//! The mesh that a run leaves, with what is known of it.

use crate::compose::Owner;
use crate::stand::Placing;
use serde::{Deserialize, Serialize};
use ulmix_mesh::TriMesh;
use utoipa::ToSchema;

/// A mesh ready to be looked at or exported.
pub struct FinishedMesh {
    /// The mesh, in the part's axes. mm.
    pub mesh: TriMesh,
    /// What the material at every point belongs to.
    pub owners: Vec<Owner>,
    /// How open the surroundings of every point are: 0 hidden, 255 free.
    pub openness: Vec<u8>,
    /// What was removed and filled.
    pub crumbs: Crumbs,
    /// Triangles before reduction.
    pub raw_triangles: usize,
    /// Pairs of triangles that cross; not looked for in a draft, nor between bodies apart.
    pub crossings: Option<Vec<[u32; 2]>>,
    /// Lattice and solids are bodies of their own.
    pub apart: Option<Apart>,
    /// How it stands on the bed, where it does: there it was rounded, repaired and looked at.
    pub placing: Option<Placing>,
}

/// Lattice and solids as bodies of their own in one mesh.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Apart {
    /// The lattice's triangles come first, and are so many.
    pub lattice_triangles: usize,
    /// What lattice and solids share. mm³.
    pub shared_mm3: f64,
}

/// Loose pieces removed and closed voids filled.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Crumbs {
    /// Loose pieces removed.
    pub removed: usize,
    /// Material of all of them. mm³.
    pub volume_mm3: f64,
    /// Closed voids of that size, filled.
    pub voids_filled: usize,
    /// Space of all of them. mm³.
    pub voids_mm3: f64,
    /// The largest loose pieces removed, largest first.
    pub largest: Vec<Removed>,
}

/// A loose piece that was removed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Removed {
    /// Volume of the piece.
    pub volume_mm3: f64,
    /// A place of its surface. mm.
    pub place_mm: [f64; 3],
}

/// Removed pieces that are listed.
pub const LISTED: usize = 12;

impl Crumbs {
    /// The crumbs of two meshes taken together.
    pub fn and(&self, other: &Crumbs) -> Crumbs {
        let mut largest = [&self.largest[..], &other.largest].concat();
        largest.sort_by(|a, b| b.volume_mm3.total_cmp(&a.volume_mm3));
        largest.truncate(LISTED);
        Crumbs {
            removed: self.removed + other.removed,
            volume_mm3: self.volume_mm3 + other.volume_mm3,
            voids_filled: self.voids_filled + other.voids_filled,
            voids_mm3: self.voids_mm3 + other.voids_mm3,
            largest,
        }
    }
}

impl FinishedMesh {
    /// The mesh as files hold it: on the bed where it stands on one, and rounded to their 32 bits.
    pub fn as_it_leaves(&self) -> TriMesh {
        let posed =
            self.placing.map_or_else(|| self.mesh.clone(), |placing| placing.of_mesh(&self.mesh));
        // Going back to the part's axes and here again costs less than half of the last bit.
        posed.mapped(|p| (p.as_vec3() + glam::Vec3::ZERO).as_dvec3())
    }

    /// Memory that it takes, about.
    pub fn bytes(&self) -> usize {
        self.mesh.points.len() * 26 + self.mesh.triangles.len() * 12
    }
}
