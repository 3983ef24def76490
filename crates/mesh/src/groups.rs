//! Numbered items put into numbered groups, by counting.

/// Items by group, in their own order within each.
#[derive(Clone, Debug, Default)]
pub struct Groups {
    /// Where each group starts in `items`, and the end.
    pub starts: Vec<u32>,
    pub items: Vec<u32>,
}

impl Groups {
    /// `pairs` gives group and item, as often as it is asked and each time the same.
    pub fn of<I: Iterator<Item = (u32, u32)>>(groups: usize, pairs: impl Fn() -> I) -> Groups {
        let mut starts = vec![0u32; groups + 1];
        pairs().for_each(|(group, _)| starts[group as usize + 1] += 1);
        (0..groups).for_each(|g| starts[g + 1] += starts[g]);
        let (mut next, mut items) = (starts.clone(), vec![0u32; starts[groups] as usize]);
        for (group, item) in pairs() {
            let slot = &mut next[group as usize];
            items[*slot as usize] = item;
            *slot += 1;
        }
        Groups { starts, items }
    }

    #[inline(always)]
    pub fn get(&self, group: usize) -> &[u32] {
        &self.items[self.starts[group] as usize..self.starts[group + 1] as usize]
    }

    pub fn len(&self) -> usize {
        self.starts.len() - 1
    }

    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// The corners (`3 · triangle + corner`) at every point of a mesh.
pub fn corners_at_points(mesh: &crate::TriMesh) -> Groups {
    Groups::of(mesh.points.len(), || mesh.triangles.iter().flatten().zip(0..).map(|(&v, corner)| (v, corner)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_come_by_group_and_stay_in_order() {
        let groups = Groups::of(4, || [(2, 7), (0, 5), (2, 1), (3, 9), (2, 4)].into_iter());
        let all: Vec<&[u32]> = (0..groups.len()).map(|g| groups.get(g)).collect();
        assert_eq!(all, [&[5][..], &[], &[7, 1, 4], &[9]]);
        let cube = crate::TriMesh::cuboid(glam::DVec3::ZERO, glam::DVec3::ONE);
        let corners = corners_at_points(&cube);
        let names = |v: usize| corners.get(v).iter().all(|c| cube.triangles[*c as usize / 3][*c as usize % 3] == v as u32);
        assert!((0..8).all(names) && corners.items.len() == 36);
    }
}
