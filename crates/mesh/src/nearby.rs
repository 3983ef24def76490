//! Search for the triangles of a mesh whose boxes may overlap a given box. The search uses bins or
//! a tree, and stays complete when points have moved since those were made.

use crate::bins::TriangleBins;
use crate::{Bounds, Bvh, TriMesh};

/// Tells which triangles may overlap a box.
pub trait Nearby: Sync {
    /// Calls `f` for all triangles whose boxes overlap it, perhaps more than once or for others
    /// beside them.
    fn nearby(&self, bounds: &Bounds, f: impl FnMut(u32));
}

impl Nearby for Bvh {
    fn nearby(&self, bounds: &Bounds, f: impl FnMut(u32)) {
        self.overlapping(*bounds, f);
    }
}

impl Nearby for TriangleBins {
    fn nearby(&self, bounds: &Bounds, f: impl FnMut(u32)) {
        self.overlapping(bounds, f);
    }
}

/// What was made before all points moved a little.
pub struct AllMoved<'a, N> {
    /// What neighbours were before.
    pub before: &'a N,
    /// More than any point has moved.
    pub by: f64,
}

impl<N: Nearby> Nearby for AllMoved<'_, N> {
    fn nearby(&self, bounds: &Bounds, f: impl FnMut(u32)) {
        self.before.nearby(&bounds.grown(self.by), f);
    }
}

/// What was made before some points moved, however far: their triangles have a tree of their own.
pub struct SomeMoved<'a, N> {
    before: &'a N,
    moved: Vec<u32>,
    has_moved: Vec<bool>,
    now: Bvh,
}

impl<'a, N: Nearby> SomeMoved<'a, N> {
    /// `moved`: the triangles at every point that is elsewhere than when `before` was made.
    pub fn new(before: &'a N, mesh: &TriMesh, moved: Vec<u32>) -> SomeMoved<'a, N> {
        let mut has_moved = vec![false; mesh.triangles.len()];
        moved.iter().for_each(|&t| has_moved[t as usize] = true);
        let triangles = moved.iter().map(|&t| mesh.triangles[t as usize]).collect();
        let now = Bvh::new(&TriMesh { points: mesh.points.clone(), triangles });
        SomeMoved { before, moved, has_moved, now }
    }
}

impl<N: Nearby> Nearby for SomeMoved<'_, N> {
    fn nearby(&self, bounds: &Bounds, mut f: impl FnMut(u32)) {
        self.before.nearby(bounds, |t| {
            if !self.has_moved[t as usize] {
                f(t);
            }
        });
        self.now.nearby(bounds, |n| f(self.moved[n as usize]));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DVec3;
    use proptest::prelude::*;

    /// The triangles whose own boxes overlap another, of those that are told.
    fn told(by: &impl Nearby, mesh: &TriMesh, bounds: &Bounds) -> Vec<u32> {
        let mut out = Vec::new();
        by.nearby(bounds, |t| {
            if Bounds::of(mesh.corners(t as usize)).overlaps(bounds) {
                out.push(t);
            }
        });
        out.sort_unstable();
        out.dedup();
        out
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]
        #[test]
        fn what_has_moved_is_told_where_it_is_now(
            points in proptest::collection::vec((0usize..200, proptest::array::uniform3(-9.0..9.0f64)), 0..12),
            at in proptest::array::uniform3(-6.0..6.0f64), size in 0.1..4.0f64
        ) {
            let before = TriMesh::sphere(5.0, 3);
            let mut now = before.clone();
            points.iter().for_each(|(v, p)| now.points[*v] = DVec3::from(*p));
            let farthest = before.points.iter().zip(&now.points).map(|(p, q)| p.distance(*q)).fold(0.0, f64::max);
            let touches = |t: &u32| now.triangles[*t as usize].iter().any(|v| points.iter().any(|(p, _)| *p == *v as usize));
            let moved: Vec<u32> = (0..now.triangles.len() as u32).filter(touches).collect();
            let bounds = Bounds { min: DVec3::from(at), max: DVec3::from(at) + size };
            let wanted = told(&Bvh::new(&now), &now, &bounds);
            let (tree, bins) = (Bvh::new(&before), TriangleBins::new(&before, 0.7));
            prop_assert_eq!(&told(&SomeMoved::new(&tree, &now, moved.clone()), &now, &bounds), &wanted);
            prop_assert_eq!(&told(&SomeMoved::new(&bins, &now, moved), &now, &bounds), &wanted);
            let by = farthest + 1e-9;
            prop_assert_eq!(&told(&AllMoved { before: &tree, by }, &now, &bounds), &wanted);
            prop_assert_eq!(&told(&AllMoved { before: &bins, by }, &now, &bounds), &wanted);
        }
    }
}
