//! Exact shapes of zones: value and normal anywhere, and signs of samples in words.

use crate::bodies::Body;
use crate::part::Part;
use glam::{DMat3, DVec2, DVec3, EulerRot};
use std::f64::consts::PI;
use std::sync::Arc;
use ulmix_field::grid::Grid;
use ulmix_mesh::Bvh;
use ulmix_recipe::{FaceMark, Place};

/// Region of a zone or a skin.
#[derive(Clone)]
pub enum Solid {
    /// With flat ends.
    Cylinder {
        /// Middle of its lower end. mm.
        base: DVec3,
        /// Direction from the lower to the upper end, of length 1.
        axis: DVec3,
        /// Length of the cylinder. mm.
        length: f64,
        /// Radius of the cylinder. mm.
        radius: f64,
    },
    /// A box that may be turned.
    Box {
        /// Middle of the box. mm.
        centre: DVec3,
        /// Half of its sides. mm.
        half: DVec3,
        /// From its own axes to those of the part.
        turn: DMat3,
    },
    /// A ball.
    Sphere {
        /// Middle of the ball. mm.
        centre: DVec3,
        /// Radius of the ball. mm.
        radius: f64,
    },
    /// All within a depth of a surface.
    Near {
        /// The faces.
        surface: Arc<Bvh>,
        /// How far from them. mm.
        depth: f64,
    },
    /// A body of the part's files.
    Body(Arc<Body>, Reach),
}

/// How far a body's region goes.
#[derive(Clone)]
pub enum Reach {
    /// As far as it is.
    Own,
    /// A distance further.
    Beyond(f64),
    /// Not within a distance of a surface.
    Short(Arc<Bvh>, f64),
}

impl Solid {
    /// All within a depth of faces of a part, and how many of them it does not have.
    pub fn near(part: &Part, faces: &[FaceMark], depth: f64) -> (Solid, usize) {
        let (surface, lost) = part.surface_of(faces);
        (Solid::Near { surface: Arc::new(Bvh::new(&surface)), depth }, lost)
    }

    /// The surface that the region follows, where it is one.
    pub fn surface(&self) -> Option<&Arc<Bvh>> {
        match self {
            Solid::Near { surface, .. } | Solid::Body(_, Reach::Short(surface, _)) => Some(surface),
            _ => None,
        }
    }

    /// The region of a place in a part, and how many of its faces the part does not have.
    pub fn of(place: &Place, part: &Part) -> (Solid, usize) {
        let solid = match place {
            Place::Cylinder { base_mm, axis_mm, radius_mm } => {
                let along = DVec3::from(*axis_mm);
                let axis = along.normalize_or(DVec3::Z);
                Solid::Cylinder {
                    base: (*base_mm).into(),
                    axis,
                    length: along.length(),
                    radius: *radius_mm,
                }
            }
            Place::Box { centre_mm, size_mm, rotation_deg } => {
                let [x, y, z] = rotation_deg.map(f64::to_radians);
                let turn = DMat3::from_euler(EulerRot::ZYX, z, y, x);
                Solid::Box { centre: (*centre_mm).into(), half: DVec3::from(*size_mm) * 0.5, turn }
            }
            Place::Sphere { centre_mm, radius_mm } => {
                Solid::Sphere { centre: (*centre_mm).into(), radius: *radius_mm }
            }
            Place::Faces { faces, depth_mm } => return Solid::near(part, faces, *depth_mm),
        };
        (solid, 0)
    }

    /// The region with its border moved outward by a distance.
    pub fn grown(&self, by: f64) -> Solid {
        let mut out = self.clone();
        match &mut out {
            Solid::Cylinder { base, axis, length, radius } => {
                *base -= *axis * by;
                *length += 2.0 * by;
                *radius += by;
            }
            Solid::Box { half, .. } => *half += by,
            Solid::Sphere { radius, .. } => *radius += by,
            Solid::Near { depth, .. } => *depth += by,
            Solid::Body(_, reach) => *reach = Reach::Beyond(by),
        }
        out
    }

    /// The region with its border moved inward where it passes through the part, so that `inside`
    /// holds just beyond it; `None` when nothing is left. Where the border lies on the part's own
    /// surface it stays.
    pub fn shrunk(&self, by: f64, inside: &dyn Fn(DVec3) -> bool) -> Option<Solid> {
        const SAMPLES: i32 = 8;
        let beyond = 0.1 * by;
        let steps = || (-SAMPLES..=SAMPLES).map(|n| 0.999 * n as f64 / SAMPLES as f64);
        let square = || steps().flat_map(move |u| steps().map(move |v| (u, v)));
        let mut out = self.clone();
        let least = match &mut out {
            Solid::Cylinder { base, axis, length, radius } => {
                let (u, v) = axis.any_orthonormal_pair();
                let at =
                    |along: f64, x: f64, y: f64| *base + *axis * along + (u * x + v * y) * *radius;
                let end =
                    |along: f64| square().any(|(x, y)| x.hypot(y) < 1.0 && inside(at(along, x, y)));
                let around = |turn: f64| DVec2::from_angle(turn * PI) * (1.0 + beyond / *radius);
                let mantle = square().any(|(a, turn)| {
                    let round = around(turn);
                    inside(at(0.5 * (1.0 + a) * *length, round.x, round.y))
                });
                let [low, high] =
                    [end(-beyond), end(*length + beyond)].map(|moves| if moves { by } else { 0.0 });
                *base += *axis * low;
                *length -= low + high;
                *radius -= if mantle { by } else { 0.0 };
                radius.min(*length)
            }
            Solid::Box { centre, half, turn } => {
                let (mut low, mut high) = (-*half, *half);
                for d in 0..3 {
                    for side in [-1.0, 1.0] {
                        let moves = square().any(|(u, v)| {
                            let mut local = DVec3::ZERO;
                            local[d] = side * (half[d] + beyond);
                            local[(d + 1) % 3] = u * half[(d + 1) % 3];
                            local[(d + 2) % 3] = v * half[(d + 2) % 3];
                            inside(*centre + *turn * local)
                        });
                        *(if side > 0.0 { &mut high[d] } else { &mut low[d] }) -=
                            if moves { side * by } else { 0.0 };
                    }
                }
                *centre += *turn * (0.5 * (low + high));
                *half = 0.5 * (high - low);
                half.min_element()
            }
            Solid::Sphere { radius, .. } => {
                *radius -= by;
                *radius
            }
            Solid::Near { depth, .. } => {
                *depth -= by;
                *depth
            }
            Solid::Body(body, reach) => {
                let outward = |t: usize| body.mesh.area_vector(t).normalize_or_zero() * beyond;
                let within = |t: usize| inside(body.mesh.middle(t) + outward(t));
                let rim = body.mesh.filtered(within);
                if !rim.triangles.is_empty() {
                    *reach = Reach::Short(Arc::new(Bvh::new(&rim)), by);
                }
                f64::INFINITY
            }
        };
        (least > 0.0).then_some(out)
    }

    /// Negative inside; exact inside and beside, a lower bound past edges.
    pub fn value(&self, p: DVec3) -> f64 {
        match self {
            Solid::Cylinder { base, axis, length, radius } => {
                let q = p - *base;
                let along = q.dot(*axis);
                let out = (q - *axis * along).length() - radius;
                out.max(-along).max(along - length)
            }
            Solid::Box { centre, half, turn } => {
                ((turn.transpose() * (p - *centre)).abs() - *half).max_element()
            }
            Solid::Sphere { centre, radius } => p.distance(*centre) - radius,
            Solid::Near { surface, depth } => distance(surface, p) - depth,
            Solid::Body(body, reach) => {
                let own = body.distance.value(p);
                match reach {
                    Reach::Own => own,
                    Reach::Beyond(by) => own - by,
                    Reach::Short(rim, by) => own.max(by - distance(rim, p)),
                }
            }
        }
    }

    /// Distance of a place from the region, 0 inside. mm.
    pub fn distance(&self, p: DVec3) -> f64 {
        match self {
            Solid::Cylinder { base, axis, length, radius } => {
                let q = p - *base;
                let along = q.dot(*axis);
                let out = ((q - *axis * along).length() - radius).max(0.0);
                let past = (-along).max(along - length).max(0.0);
                (out * out + past * past).sqrt()
            }
            Solid::Box { centre, half, turn } => {
                let past = (turn.transpose() * (p - *centre)).abs() - *half;
                past.max(DVec3::ZERO).length()
            }
            Solid::Sphere { .. } | Solid::Near { .. } | Solid::Body(..) => self.value(p).max(0.0),
        }
    }

    /// Is the value below `limit`? Cheaper than the value.
    pub fn within(&self, p: DVec3, limit: f64) -> bool {
        match self {
            Solid::Near { surface, depth } => {
                let reach = depth + limit;
                reach > 0.0 && surface.nearest(p, reach * reach).is_some()
            }
            Solid::Cylinder { base, axis, length, radius } => {
                let q = p - *base;
                let along = q.dot(*axis);
                let reach = radius + limit;
                (-along).max(along - length) < limit
                    && reach > 0.0
                    && (q - *axis * along).length_squared() < reach * reach
            }
            other => other.value(p) < limit,
        }
    }

    /// Direction in which the value grows, unit.
    pub fn normal(&self, p: DVec3) -> DVec3 {
        match self {
            Solid::Cylinder { base, axis, length, radius } => {
                let q = p - *base;
                let along = q.dot(*axis);
                let radial = q - *axis * along;
                let out = radial.length() - radius;
                if out >= -along && out >= along - length {
                    radial.normalize_or(*axis)
                } else if -along > along - length {
                    -*axis
                } else {
                    *axis
                }
            }
            Solid::Box { centre, half, turn } => {
                let q = turn.transpose() * (p - *centre);
                let over = q.abs() - *half;
                let side = if over.x >= over.y && over.x >= over.z {
                    0
                } else {
                    1 + (over.z > over.y) as usize
                };
                turn.col(side) * q[side].signum()
            }
            Solid::Sphere { centre, .. } => (p - *centre).normalize_or(DVec3::Z),
            Solid::Near { surface, .. } => surface
                .nearest(p, f64::INFINITY)
                .map_or(DVec3::Z, |n| (p - n.point).normalize_or(DVec3::Z)),
            Solid::Body(body, Reach::Short(rim, by))
                if by - distance(rim, p) > body.distance.value(p) =>
            {
                rim.nearest(p, f64::INFINITY)
                    .map_or(DVec3::Z, |n| (n.point - p).normalize_or(DVec3::Z))
            }
            Solid::Body(body, _) => {
                body.distance.normal_near(p, body.mesh.bounds().size().max_element())
            }
        }
    }

    /// Bit i set when sample `64 w + i` of the row lies inside. Not for [`Solid::Near`] and
    /// [`Solid::Body`], whose samples are found all at once.
    pub fn word(&self, grid: &Grid, w: usize, j: usize, k: usize) -> u64 {
        let at = |i: u32| grid.at(64 * w as u32 + i, j as u32, k as u32);
        // Every value is 1-Lipschitz.
        if self.value(at(0) + DVec3::X * (31.5 * grid.step)) >= 32.0 * grid.step {
            return 0;
        }
        (0..64).fold(0, |out, i| out | ((self.value(at(i)) < 0.0) as u64) << i)
    }
}

fn distance(surface: &Bvh, p: DVec3) -> f64 {
    surface.nearest(p, f64::INFINITY).map_or(f64::INFINITY, |n| n.distance_squared.sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_normal_is_the_values_gradient(p in proptest::array::uniform3(-9.0..9.0f64)) {
            let shapes = [
                Place::Cylinder { base_mm: [1.0, 2.0, -3.0], axis_mm: [2.0, 1.0, 4.0], radius_mm: 2.0 },
                Place::Box { centre_mm: [1.0, 0.0, 2.0], size_mm: [4.0, 6.0, 3.0], rotation_deg: [20.0, -35.0, 70.0] },
                Place::Sphere { centre_mm: [0.5, 1.0, 1.5], radius_mm: 4.0 },
            ];
            let p = DVec3::from(p);
            let part = Part::prepare(&ulmix_mesh::TriMesh::cuboid(DVec3::ZERO, DVec3::ONE)).unwrap();
            for s in shapes.iter().map(|place| Solid::of(place, &part).0) {
                let n = s.normal(p);
                let h = 1e-6;
                let slope = (s.value(p + n * h) - s.value(p - n * h)) / (2.0 * h);
                // At an edge of the shape two faces share the slope.
                prop_assert!((slope - 1.0).abs() < 1e-4 || slope > 0.3, "{slope}");
                prop_assert_eq!(s.within(p, 0.5), s.value(p) < 0.5);
            }
        }
    }
}
