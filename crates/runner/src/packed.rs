//! Meshes, struts, points and distances as plain little-endian numbers.

use glam::DVec3;
use ulmix_lattice::clean::StrutState;
use ulmix_lattice::make::SeedCells;
use ulmix_lattice::skeleton::Skeleton;
use ulmix_mesh::{parallel, TriMesh};
use ulmix_part::solids::Solid;

/// A final mesh for the store: counts, 32-bit points, indices. Points are exact in 32 bits.
pub fn pack(mesh: &TriMesh) -> Vec<u8> {
    let mut out = Vec::with_capacity(8 + mesh.points.len() * 12 + mesh.triangles.len() * 12);
    out.extend((mesh.points.len() as u32).to_le_bytes());
    out.extend((mesh.triangles.len() as u32).to_le_bytes());
    for p in &mesh.points {
        p.as_vec3().to_array().iter().for_each(|v| out.extend(v.to_le_bytes()));
    }
    mesh.triangles.iter().flatten().for_each(|v| out.extend(v.to_le_bytes()));
    out
}

/// `None` when the bytes are not a packed mesh.
pub fn unpack(bytes: &[u8]) -> Option<TriMesh> {
    let word = |at: usize| <[u8; 4]>::try_from(bytes.get(at..at + 4)?).ok();
    let (points, triangles) =
        (u32::from_le_bytes(word(0)?) as usize, u32::from_le_bytes(word(4)?) as usize);
    if bytes.len() != 8 + 12 * (points + triangles) {
        return None;
    }
    let (p, t) = bytes[8..].split_at(12 * points);
    let four = |b: &[u8]| [b[0], b[1], b[2], b[3]];
    Some(TriMesh {
        points: p
            .chunks_exact(12)
            .map(|c| [0, 4, 8].map(|i| f32::from_le_bytes(four(&c[i..])) as f64).into())
            .collect(),
        triangles: t
            .chunks_exact(12)
            .map(|c| [0, 4, 8].map(|i| u32::from_le_bytes(four(&c[i..]))))
            .collect(),
    })
}

/// Struts as seven 32-bit numbers each: both ends in mm, and how the strut lies in the part
/// ([`StrutState`]).
pub fn struts(net: &Skeleton, states: &[StrutState]) -> Vec<u8> {
    let numbers = |(ends, state): (&[u32; 2], &StrutState)| {
        let [a, b] = net.ends(*ends).map(|p| p.as_vec3().to_array());
        [a[0], a[1], a[2], b[0], b[1], b[2], *state as u8 as f32]
    };
    net.struts.iter().zip(states).flat_map(numbers).flat_map(f32::to_le_bytes).collect()
}

/// Seed points and the edges of their cells as 32-bit numbers: how many points, how many of their
/// cells are whole, three for each point, and six for each edge. mm.
pub fn seed_cells(found: &SeedCells) -> Vec<u8> {
    let ends = found.edges.struts.iter().flat_map(|e| found.edges.ends(*e));
    let places = found.points.iter().copied().chain(ends).flat_map(|p| p.as_vec3().to_array());
    let whole = found.whole.iter().filter(|w| **w).count();
    let counts = [found.points.len() as f32, whole as f32];
    counts.into_iter().chain(places).flat_map(f32::to_le_bytes).collect()
}

/// How far places, three 32-bit floats each, are from a region's border, as 32-bit floats: negative
/// inside. mm. Bytes that are no whole place are left out.
pub fn distances(solid: &Solid, places: &[u8]) -> Vec<u8> {
    let (places, _) = places.as_chunks::<12>();
    let far = |_: usize, place: &[u8; 12]| {
        let [x, y, z] = [0, 4, 8].map(|at| float(&place[at..]));
        (solid.value(DVec3::new(x, y, z)) as f32).to_le_bytes()
    };
    parallel::map_list(places, far).into_flattened()
}

fn float(bytes: &[u8]) -> f64 {
    f32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]) as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packed_meshes_come_back() {
        let m = TriMesh::sphere(3.0, 3).mapped(|p| p.as_vec3().as_dvec3());
        assert_eq!(unpack(&pack(&m)), Some(m.clone()));
        assert_eq!(unpack(&pack(&m)[..40]), None);
        assert_eq!(unpack(&[1, 2, 3]), None);
    }
}
