//! A part that is kept whole, as a shape to be meshed.

use crate::exit::exit;
use crate::part::Part;
use crate::zoned::Zoned;
use glam::DVec3;
use ulmix_field::polygonise::{Edge, EdgeCrossing, RowPoints, Shape};

/// A part that is kept whole.
pub struct Whole<'a> {
    /// The part.
    pub part: &'a Part,
    /// What lies in it, on a grid.
    pub zoned: &'a Zoned,
}

impl Shape for Whole<'_> {
    fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]) {
        for (edge, crossing) in edges.iter().zip(out) {
            let (t, normal) = exit(self.part, [edge.inside, edge.outside], self.zoned.grid.step);
            *crossing = EdgeCrossing {
                t: t as f32,
                normal: normal.as_vec3().to_array(),
                constrained: true,
            };
        }
    }

    fn value(&self, p: DVec3) -> f64 {
        self.part.distance.value(p)
    }

    fn confine(&self, p: DVec3) -> DVec3 {
        let grid = &self.zoned.grid;
        if self.zoned.inside.all_around(((p - grid.origin) / grid.step).as_uvec3()) {
            return p;
        }
        match self.part.distance.query(p, 4.0 * grid.step) {
            Some((d, near)) if d > 1e-6 * grid.step => near.point,
            _ => p,
        }
    }

    fn fixed_points(&self) -> Vec<DVec3> {
        self.part.corners.clone()
    }

    /// No smooth field takes part in its border.
    fn project(&self, _: &mut RowPoints) {}
}
