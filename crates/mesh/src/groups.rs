//! Numbered items put into numbered groups, by counting.

use rayon::prelude::*;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

/// Items by group, in their own order within each.
#[derive(Clone, Debug, Default)]
pub struct Groups {
    /// Where each group starts in `items`, and the end.
    pub starts: Vec<u32>,
    /// Numbers of items, group after group.
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

    /// The numbers of a long list by the few groups that it names.
    pub fn numbered(groups: usize, group_of: &[u32]) -> Groups {
        const LENGTH: usize = 1 << 18;
        // Where each stretch of the list puts its first item of each group.
        let count = |stretch: &[u32]| {
            let mut count = vec![0u32; groups];
            stretch.iter().for_each(|&group| count[group as usize] += 1);
            count
        };
        let mut next: Vec<Vec<u32>> = group_of.par_chunks(LENGTH).map(count).collect();
        let (mut starts, mut sum) = (Vec::with_capacity(groups + 1), 0);
        for group in 0..groups {
            starts.push(sum);
            for count in &mut next {
                sum += std::mem::replace(&mut count[group], sum);
            }
        }
        starts.push(sum);
        let items: Vec<AtomicU32> = (0..sum).into_par_iter().map(|_| AtomicU32::new(0)).collect();
        group_of.par_chunks(LENGTH).zip(next).enumerate().for_each(|(n, (stretch, mut next))| {
            for (&group, item) in stretch.iter().zip((n * LENGTH) as u32..) {
                let slot = &mut next[group as usize];
                items[*slot as usize].store(item, Relaxed);
                *slot += 1;
            }
        });
        Groups { starts, items: items.into_iter().map(AtomicU32::into_inner).collect() }
    }

    /// Items of a group, in rising order.
    #[inline(always)]
    pub fn get(&self, group: usize) -> &[u32] {
        &self.items[self.starts[group] as usize..self.starts[group + 1] as usize]
    }

    /// Number of groups.
    pub fn len(&self) -> usize {
        self.starts.len() - 1
    }

    /// Are there no groups?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// The corners (`3 · triangle + corner`) at every point of a mesh.
pub fn corners_at_points(mesh: &crate::TriMesh) -> Groups {
    Groups::of(mesh.points.len(), || {
        mesh.triangles.iter().flatten().zip(0..).map(|(&v, corner)| (v, corner))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_come_by_group_and_stay_in_order() {
        let groups = Groups::of(4, || [(2, 7), (0, 5), (2, 1), (3, 9), (2, 4)].into_iter());
        let all: Vec<&[u32]> = (0..groups.len()).map(|g| groups.get(g)).collect();
        assert_eq!(all, [&[5][..], &[], &[7, 1, 4], &[9]]);
        // Several stretches.
        let many: Vec<u32> = (0..600_000u32).map(|n| n.wrapping_mul(2_654_435_761) >> 25).collect();
        let [counted, numbered] =
            [Groups::of(128, || many.iter().copied().zip(0..)), Groups::numbered(128, &many)];
        assert_eq!((counted.starts, counted.items), (numbered.starts, numbered.items));
        let cube = crate::TriMesh::cuboid(glam::DVec3::ZERO, glam::DVec3::ONE);
        let corners = corners_at_points(&cube);
        let names = |v: usize| {
            corners
                .get(v)
                .iter()
                .all(|c| cube.triangles[*c as usize / 3][*c as usize % 3] == v as u32)
        };
        assert!((0..8).all(names) && corners.items.len() == 36);
    }
}
