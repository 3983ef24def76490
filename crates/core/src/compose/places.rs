//! What places of the result belong to, and which of them lie on exact faces.

use super::{Composed, Selection};
use glam::DVec3;
use std::ops::Range;
use ulmix_mesh::bvh::nearest_on_triangle;
use ulmix_mesh::parallel;
use ulmix_part::solids::Solid;
use ulmix_recipe::Role;

/// What a place of the result belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Owner {
    /// The lattice in what is filled.
    Fill = 0,
    /// A skin.
    Skin = 1,
    /// A zone that is kept solid.
    Solid = 2,
}

impl Owner {
    /// The one of this number; none has another than its own.
    pub fn numbered(number: u8) -> Owner {
        [Owner::Fill, Owner::Skin, Owner::Solid][number as usize]
    }
}

impl Composed<'_> {
    /// What the material at `p`, a place on the border, belongs to.
    pub fn owner(&self, p: DVec3) -> Owner {
        if self.zoned.fill.all_around(self.cell_at(p)) {
            return Owner::Fill;
        }
        // Borders between roles are theirs who reach them: a quarter step of goodwill.
        let near = 0.25 * self.grid().step;
        // Beside a cleared place the material is that of the zones around it.
        let held = self
            .regions
            .zones
            .iter()
            .find(|z| z.role != Role::KeepClear && z.solid.within(p, near));
        match held.map_or(self.regions.rest, |z| z.role) {
            Role::KeepSolid => Owner::Solid,
            _ if self.regions.skins.iter().any(|s| s.within(p, near)) => Owner::Skin,
            _ => Owner::Fill,
        }
    }

    /// Tells of places whether they lie on an exact face: the part's own, a cleared place's, a
    /// sharp border between fillings, or where lattice and solids are parted.
    pub fn all_on_exact(&self, places: &[DVec3]) -> Vec<bool> {
        const RUN: usize = 512;
        let of_run = |run: Range<usize>| -> Vec<bool> {
            let mut last = None;
            let on_exact = |&p: &DVec3| self.on_part(p, &mut last) || self.on_border(p);
            places[run].iter().map(on_exact).collect()
        };
        parallel::runs(places.len(), RUN, of_run).concat()
    }

    /// How far a place may lie off an exact face. mm.
    fn on_face(&self) -> f64 {
        1e-3 * self.grid().step
    }

    /// Does the place lie on a face of the part? Most often it lies on the triangle of the one
    /// before.
    fn on_part(&self, p: DVec3, last: &mut Option<u32>) -> bool {
        let limit = self.on_face() * self.on_face();
        let on = |t: &u32| {
            nearest_on_triangle(p, &self.part.mesh.corners(*t as usize)).0.distance_squared(p)
                < limit
        };
        if !self.beside_part(p) {
            return false;
        }
        if !last.as_ref().is_some_and(on) {
            *last = self.part.bvh().nearest(p, limit).map(|near| near.triangle);
        }
        last.is_some()
    }

    /// Does the place lie on an exact border within the part?
    fn on_border(&self, p: DVec3) -> bool {
        let near = self.on_face();
        let borders = |r: &Solid| r.within(p, near) && !r.within(p, -near);
        let parted = self.side != Selection::All;
        self.regions.zones.iter().any(|z| {
            let cut_sharp = z.filling != 0 && z.blend == 0.0;
            (parted || cut_sharp || z.role == Role::KeepClear) && borders(&z.solid)
        }) || parted && self.regions.skins.iter().any(borders)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::compose::tests::Ball;
    use ulmix_field::polygonise::Shape;

    #[test]
    fn exact_faces_are_the_parts_own_and_those_of_cleared_places() {
        let ball = Ball::new();
        let (shape, near) = (ball.shape(Selection::All), 1e-3 * 0.4);
        // On triangles, a little beside them, on the rod's side, on the block's, and anywhere.
        let triangles = (0..ball.part.mesh.triangles.len()).step_by(3);
        let on = triangles.clone().map(|t| ball.part.mesh.middle(t));
        let beside = triangles.map(|t| ball.part.mesh.middle(t) * 1.01);
        let round = |radius: f64| {
            (0..60)
                .map(move |n| DVec3::new(radius * (n as f64).cos(), radius * (n as f64).sin(), 3.0))
        };
        let of_block = (0..20).map(|n| DVec3::new(4.5, 0.06 * n as f64 - 0.6, 0.3));
        let all: Vec<(DVec3, bool)> = on
            .map(|p| (p, true))
            .chain(beside.map(|p| (p, false)))
            .chain(round(2.0).map(|p| (p, true)))
            .chain(round(2.0 + 3.0 * near).map(|p| (p, false)))
            .chain(of_block.map(|p| (p, false)))
            .collect();
        let places: Vec<DVec3> = all.iter().map(|a| a.0).collect();
        let found = shape.all_on_exact(&places);
        for ((p, expected), found) in all.iter().zip(&found) {
            assert_eq!(found, expected, "at {p}");
        }
        // The answer does not depend on what was asked before.
        let backwards: Vec<DVec3> = places.iter().rev().copied().collect();
        let again: Vec<bool> = shape.all_on_exact(&backwards).into_iter().rev().collect();
        assert_eq!(found, again);
        // Where lattice and solids are parted, so are the block's faces and the skin's inner one.
        let parted = ball.shape(Selection::Lattice).all_on_exact(&places);
        assert!(all.iter().zip(&parted).filter(|((p, _), _)| p.x == 4.5).all(|(_, found)| *found));
    }

    #[test]
    fn owners_follow_the_zones_and_points_past_the_part_come_back_onto_it() {
        let ball = Ball::new();
        let shape = ball.shape(Selection::All);
        assert_eq!(shape.owner(DVec3::new(-5.0, 0.0, 1.0)), Owner::Fill);
        assert_eq!(shape.owner(DVec3::new(6.0, 0.0, 0.0)), Owner::Solid);
        assert_eq!(shape.owner(DVec3::new(-9.6, 0.5, 0.5)), Owner::Skin);
        for n in [Owner::Fill, Owner::Skin, Owner::Solid] {
            assert_eq!(Owner::numbered(n as u8), n);
        }
        for p in ball.places().into_iter().filter(|p| (8.0..11.2).contains(&p.length())) {
            let q = shape.confine(p);
            assert!(ball.part.distance.value(q) < 1e-9, "{p} to {q}");
            // Inside nothing moves, and outside to the nearest place.
            let away = ball.part.distance.value(p);
            assert!((q.distance(p) - away.max(0.0)).abs() < 1e-9, "{p}: {away}");
        }
    }
}
