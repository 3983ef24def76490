//! Meshes, struts, points and distances as plain little-endian numbers.

use glam::DVec3;
use ulmix_field::scalar::Sampled;
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
    Some(TriMesh {
        points: threes(p).map(|p| p.map(|b| f32::from_le_bytes(b) as f64).into()).collect(),
        triangles: threes(t).map(|t| t.map(u32::from_le_bytes)).collect(),
    })
}

/// Three 32-bit numbers after the other, as bytes; what is no whole three is left out.
fn threes(bytes: &[u8]) -> impl Iterator<Item = [[u8; 4]; 3]> + '_ {
    bytes.as_chunks::<4>().0.as_chunks::<3>().0.iter().copied()
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
    let places: Vec<DVec3> =
        threes(places).map(|p| p.map(|b| f32::from_le_bytes(b) as f64).into()).collect();
    let far = |_: usize, place: &DVec3| (solid.value(*place) as f32).to_le_bytes();
    parallel::map_list(&places, far).into_flattened()
}

/// Samples of a field as 32-bit numbers: place of the first sample and distance of neighbouring
/// ones in mm, how many along each axis, then the samples, x first. No bytes without a field.
pub fn field(found: Option<&Sampled>) -> Vec<u8> {
    let Some(found) = found else { return Vec::new() };
    let (origin, step) = found.origin();
    let head = origin.as_vec3().to_array().into_iter().chain([step as f32]);
    let size = found.size().map(|n| n as f32);
    let numbers = head.chain(size).chain(found.samples().iter().copied());
    numbers.flat_map(f32::to_le_bytes).collect()
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

    fn floats(bytes: &[u8]) -> Vec<f32> {
        bytes.as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)).collect()
    }

    #[test]
    fn struts_and_cells_are_told_by_their_numbers_in_order() {
        let net =
            Skeleton { nodes: vec![DVec3::ZERO, DVec3::new(1.0, 2.0, 3.0)], struts: vec![[1, 0]] };
        let state = StrutState::DeadEnd;
        let told = floats(&struts(&net, &[state]));
        assert_eq!(told, [1.0, 2.0, 3.0, 0.0, 0.0, 0.0, state as u8 as f32]);
        let found = SeedCells {
            points: vec![DVec3::splat(5.0), DVec3::X],
            whole: vec![true, false],
            edges: net,
        };
        let told = floats(&seed_cells(&found));
        assert_eq!(told[..8], [2.0, 1.0, 5.0, 5.0, 5.0, 1.0, 0.0, 0.0]);
        assert_eq!(told[8..], [1.0, 2.0, 3.0, 0.0, 0.0, 0.0]);
    }

    #[test]
    fn distances_are_those_of_whole_places_and_negative_inside() {
        let part =
            ulmix_part::Part::prepare(&TriMesh::cuboid(DVec3::ZERO, DVec3::splat(9.0))).unwrap();
        let place = ulmix_recipe::Place::Sphere { centre_mm: [4.0; 3], radius_mm: 2.0 };
        let ball = Solid::of(&place, &part).0;
        let places: Vec<u8> =
            [4.0f32, 4.0, 4.0, 4.0, 4.0, 9.0].iter().flat_map(|v| v.to_le_bytes()).collect();
        let far = floats(&distances(&ball, &places));
        assert!((far[0] + 2.0).abs() < 1e-6 && (far[1] - 3.0).abs() < 1e-6, "{far:?}");
        assert_eq!(distances(&ball, &places[..23]).len(), 4);
    }

    #[test]
    fn a_field_is_its_place_its_counts_and_its_samples() {
        let grid = ulmix_field::grid::Grid {
            origin: DVec3::new(-1.0, 2.0, 3.0),
            step: 0.5,
            size: glam::UVec3::new(3, 2, 2),
        };
        let samples: Vec<f32> = (0..12).map(|n| n as f32 * 0.25).collect();
        let bytes = field(Some(&Sampled::new(&grid, samples.clone())));
        let numbers: Vec<f32> =
            bytes.as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)).collect();
        assert_eq!(numbers[..7], [-1.0, 2.0, 3.0, 0.5, 3.0, 2.0, 2.0]);
        assert_eq!(numbers[7..], samples);
        assert!(field(None).is_empty());
    }
}
