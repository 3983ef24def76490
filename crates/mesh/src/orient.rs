//! Consistent, outward winding for parts whose file has some faces the wrong way round.

use crate::nested::Boxes;
use crate::topology::{component_volumes, Topology};
use crate::weld::FastMap;
use crate::{Bounds, TriMesh};

/// Turns triangles so that neighbours agree and every outermost piece faces outward.
///
/// Within a piece the winding of the larger area wins. A closed piece whose box lies inside another
/// piece's box keeps its direction: it may be a cavity. `topology` is the mesh's. Returns those
/// turned.
pub fn orient(mesh: &mut TriMesh, topology: &Topology) -> Vec<u32> {
    let before = mesh.triangles.clone();
    if topology.flipped_edges == 0 {
        face_outward(mesh, topology);
    } else {
        agree(mesh);
        face_outward(mesh, &Topology::of(mesh));
    }
    (0..before.len() as u32).filter(|&t| before[t as usize] != mesh.triangles[t as usize]).collect()
}

/// Turns the triangles of a piece that disagree with the larger part of it.
fn agree(mesh: &mut TriMesh) {
    let mut at_edge: FastMap<u64, [u32; 2]> = FastMap::default();
    let mut crowded: FastMap<u64, ()> = FastMap::default();
    let key = |a: u32, b: u32| (a.min(b) as u64) << 32 | a.max(b) as u64;
    for (t, tri) in mesh.triangles.iter().enumerate() {
        for c in 0..3 {
            let k = key(tri[c], tri[(c + 1) % 3]);
            match at_edge.get_mut(&k) {
                None => drop(at_edge.insert(k, [t as u32, u32::MAX])),
                Some(two) if two[1] == u32::MAX => two[1] = t as u32,
                Some(_) => drop(crowded.insert(k, ())),
            }
        }
    }
    let directed =
        |tri: &[u32; 3], a: u32, b: u32| (0..3).any(|c| tri[c] == a && tri[(c + 1) % 3] == b);

    let mut turn = vec![None::<bool>; mesh.triangles.len()];
    let mut stack = Vec::new();
    for start in 0..mesh.triangles.len() {
        if turn[start].is_some() {
            continue;
        }
        turn[start] = Some(false);
        stack.push(start as u32);
        let mut component = Vec::new();
        while let Some(t) = stack.pop() {
            component.push(t);
            let tri = mesh.triangles[t as usize];
            for c in 0..3 {
                let (a, b) = (tri[c], tri[(c + 1) % 3]);
                let k = key(a, b);
                if crowded.contains_key(&k) {
                    continue;
                }
                let two = at_edge[&k];
                let other = if two[0] == t { two[1] } else { two[0] };
                if other == u32::MAX || turn[other as usize].is_some() {
                    continue;
                }
                let same_way = directed(&mesh.triangles[other as usize], a, b);
                turn[other as usize] = Some(turn[t as usize].unwrap_or(false) ^ same_way);
                stack.push(other);
            }
        }
        let (mut kept, mut turned) = (0.0, 0.0);
        for &t in &component {
            let area = mesh.area_vector(t as usize).length();
            *(if turn[t as usize] == Some(true) { &mut turned } else { &mut kept }) += area;
        }
        if turned > kept {
            component.iter().for_each(|&t| turn[t as usize] = turn[t as usize].map(|x| !x));
        }
    }
    apply(mesh, |t| turn[t] == Some(true));
}

/// Turns pieces whose triangles all face inward.
fn face_outward(mesh: &mut TriMesh, topology: &Topology) {
    let volumes = component_volumes(mesh, &topology.component_of, topology.components);
    if volumes.iter().all(|v| *v >= 0.0) {
        return;
    }
    let mut boxes = vec![Bounds::EMPTY; topology.components];
    for (t, &p) in topology.component_of.iter().enumerate() {
        boxes[p as usize] = boxes[p as usize].union(Bounds::of(mesh.corners(t)));
    }
    let tree = Boxes::new(&boxes);
    let inward: Vec<bool> = (0..topology.components)
        .map(|p| volumes[p] < 0.0 && !tree.lies_in_another(&boxes[p]))
        .collect();
    apply(mesh, |t| inward[topology.component_of[t] as usize]);
}

fn apply(mesh: &mut TriMesh, turn: impl Fn(usize) -> bool) {
    for (t, tri) in mesh.triangles.iter_mut().enumerate() {
        if turn(t) {
            tri.swap(1, 2);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;

    fn oriented(mesh: &mut TriMesh) -> usize {
        let topology = Topology::of(mesh);
        orient(mesh, &topology).len()
    }

    #[test]
    fn flipped_faces_and_inside_out_parts_come_out_outward() {
        let good = TriMesh::sphere(10.0, 3);
        let mut some = good.clone();
        for t in [3, 40, 41, 200] {
            some.triangles[t].swap(0, 1);
        }
        assert_eq!(oriented(&mut some), 4);
        assert!(Topology::of(&some).sound() && some.volume() > 0.0);

        let mut inside_out = good.clone();
        apply(&mut inside_out, |_| true);
        assert_eq!(oriented(&mut inside_out), good.triangles.len());
        assert!((inside_out.volume() - good.volume()).abs() < 1e-9);
    }

    #[test]
    fn a_cavity_stays_a_cavity() {
        let mut m = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(4.0));
        let mut hole = TriMesh::cuboid(DVec3::ONE, DVec3::splat(2.0));
        apply(&mut hole, |_| true);
        m.append(&hole);
        assert_eq!(oriented(&mut m), 0);
        assert!((m.volume() - 63.0).abs() < 1e-12);
    }
}
