//! One vertex from the planes at the hits of its loop.

use bytemuck::{Pod, Zeroable};
use glam::{DMat3, DVec3};

/// What repair needs to take a vertex back, in four bytes: there are millions. Zero for a vertex of
/// a smooth stretch, which stays.
#[derive(Clone, Copy, Default, Debug, Pod, Zeroable)]
#[repr(C, align(4))]
pub(super) struct Placed {
    /// From the vertex to the mean of its loop's hits, in shares of a step.
    to_mean: [i8; 3],
    flags: u8,
}

const SHARE: f64 = 50.0;
const CREASE: u8 = 1;
const LEFT_CELL: u8 = 2;

impl Placed {
    /// A vertex at `local` whose hits have their mean at `mean`, in steps from the cell's low
    /// corner.
    pub(super) fn at(local: DVec3, mean: DVec3, crease: bool) -> Placed {
        let flags =
            if crease { CREASE } else { 0 } | if leaves_cell(local) { LEFT_CELL } else { 0 };
        // The cast saturates: hits lie within two steps of their vertex.
        Placed { to_mean: ((mean - local) * SHARE).to_array().map(|v| v.round() as i8), flags }
    }

    /// In steps.
    pub(super) fn to_mean(self) -> DVec3 {
        DVec3::from(self.to_mean.map(|v| v as f64 / SHARE))
    }

    /// The normals of the loop differ: an edge or a corner passes here.
    pub(super) fn crease(self) -> bool {
        self.flags & CREASE != 0
    }

    /// Either of both: repair looks at it.
    pub(super) fn unsettled(self) -> bool {
        self.flags != 0
    }

    /// The vertex lies outside its own cell, so that triangles may cross.
    pub(super) fn left_cell(self) -> bool {
        self.flags & LEFT_CELL != 0
    }
}

/// Does a place lie outside the unit cell?
pub(super) fn leaves_cell(local: DVec3) -> bool {
    local.min_element() < 0.0 || local.max_element() > 1.0
}

/// Keeps a place within [`MARGIN`] of the unit cell.
fn clamped(local: DVec3) -> DVec3 {
    local.clamp(DVec3::splat(-MARGIN), DVec3::splat(1.0 + MARGIN))
}

/// A vertex and the mean of its hits, in steps from the cell's low corner.
pub(super) struct Spot {
    pub local: DVec3,
    pub mean: DVec3,
    pub crease: bool,
    /// In the middle of hits on one flat face of the part: on that face.
    pub on_face: bool,
}

/// Hits of a loop in units of the step, relative to the cell's low corner.
#[derive(Default)]
pub(super) struct Planes {
    points: [DVec3; 12],
    normals: [DVec3; 12],
    constrained: [bool; 12],
    count: usize,
}

/// Directions with less than this share of the largest eigenvalue are left at the mean.
const CUTOFF: f64 = 0.1;
/// How far a vertex may leave its cell, in steps.
pub(super) const MARGIN: f64 = 0.5;

impl Planes {
    /// `constrained`: on a face of the part itself, which the vertex must not leave.
    pub(super) fn add(&mut self, p: DVec3, n: [f32; 3], constrained: bool) {
        self.points[self.count] = p;
        self.normals[self.count] = DVec3::new(n[0] as f64, n[1] as f64, n[2] as f64);
        self.constrained[self.count] = constrained;
        self.count += 1;
    }

    /// Least squares distance to the planes around the mean of the hits, by eigenvectors truncated
    /// at [`CUTOFF`]. Hits with one normal count as one plane: how many grid edges a face happens
    /// to cut says nothing about how firmly it holds the vertex.
    pub(super) fn place(&self) -> Spot {
        let (points, normals) = (&self.points[..self.count], &self.normals[..self.count]);
        let mean = points.iter().sum::<DVec3>() / self.count as f64;
        let direction = normals.iter().sum::<DVec3>().normalize_or_zero();
        let smooth = normals.iter().all(|n| n.dot(direction) > 0.97);
        let local = if smooth {
            let (mut up, mut down) = (0.0, 0.0);
            for (p, n) in points.iter().zip(normals) {
                let along = n.dot(direction);
                up += along * n.dot(*p - mean);
                down += along * along;
            }
            mean + direction * (up / down)
        } else {
            let mut a = DMat3::ZERO;
            let mut b = DVec3::ZERO;
            for (p, n) in points.iter().zip(normals) {
                let alike = normals.iter().filter(|m| m.dot(*n) > 0.985).count() as f64;
                let w = *n / alike;
                a += DMat3::from_cols(w * n.x, w * n.y, w * n.z);
                b += w * n.dot(*p - mean);
            }
            let (values, vectors) = eigen(a);
            let largest = values.iter().copied().fold(0.0, f64::max);
            let held = |i: &usize| values[*i] > CUTOFF * largest;
            let x = (0..3)
                .filter(held)
                .fold(mean, |x, i| x + vectors[i] * (vectors[i].dot(b) / values[i]));
            // On an edge the vertex is free along it: it stays in its cell if the edge passes
            // there.
            let mut free = (0..3).filter(|i| !held(i));
            match (free.next(), free.next()) {
                (Some(along), None) => slide(x, vectors[along]),
                _ => x,
            }
        };
        if smooth || !self.constrained[..self.count].contains(&true) {
            let on_plane = |(p, n): (&DVec3, &DVec3)| {
                n.dot(direction) > 1.0 - 1e-9 && direction.dot(*p - mean).abs() < 1e-6
            };
            let on_face = smooth
                && !self.constrained[..self.count].contains(&false)
                && points.iter().zip(normals).all(on_plane);
            return Spot { local: clamped(local), mean, crease: !smooth, on_face };
        }
        // Curved lattice faces beside the part's own pull the compromise off the part: back onto
        // its faces, one after the other until all hold.
        let mut x = clamped(local);
        for _ in 0..6 {
            for i in (0..self.count).filter(|&i| self.constrained[i]) {
                x -= normals[i] * normals[i].dot(x - points[i]);
            }
        }
        // Planes that meet far away hold no vertex of this cell.
        if (x - 0.5).abs().max_element() > 1.5 {
            return Spot { local: clamped(local), mean, crease: true, on_face: false };
        }
        Spot { local: x, mean, crease: true, on_face: false }
    }
}

/// The nearest point of the line through `x` that lies in the unit cell; `x` when none does.
fn slide(x: DVec3, along: DVec3) -> DVec3 {
    let (mut low, mut high) = (f64::NEG_INFINITY, f64::INFINITY);
    for d in 0..3 {
        if along[d].abs() < 1e-9 {
            if !(0.0..=1.0).contains(&x[d]) {
                return x;
            }
            continue;
        }
        let (a, b) = (-x[d] / along[d], (1.0 - x[d]) / along[d]);
        low = low.max(a.min(b));
        high = high.min(a.max(b));
    }
    if low > high {
        x
    } else {
        x + along * 0f64.clamp(low, high)
    }
}

/// Eigenvalues and eigenvectors of a symmetric matrix by cyclic Jacobi rotations.
pub(super) fn eigen(m: DMat3) -> ([f64; 3], [DVec3; 3]) {
    let mut a = m.to_cols_array_2d();
    let mut v = DMat3::IDENTITY.to_cols_array_2d();
    for _ in 0..12 {
        let off = a[0][1] * a[0][1] + a[0][2] * a[0][2] + a[1][2] * a[1][2];
        if off < 1e-24 {
            break;
        }
        for (p, q) in [(0, 1), (0, 2), (1, 2)] {
            if a[p][q].abs() < 1e-300 {
                continue;
            }
            let theta = (a[q][q] - a[p][p]) / (2.0 * a[p][q]);
            let t = theta.signum() / (theta.abs() + (theta * theta + 1.0).sqrt());
            let c = 1.0 / (t * t + 1.0).sqrt();
            let s = t * c;
            for k in 0..3 {
                let (x, y) = (a[k][p], a[k][q]);
                (a[k][p], a[k][q]) = (c * x - s * y, s * x + c * y);
            }
            for k in 0..3 {
                let (x, y) = (a[p][k], a[q][k]);
                (a[p][k], a[q][k]) = (c * x - s * y, s * x + c * y);
                let (x, y) = (v[p][k], v[q][k]);
                (v[p][k], v[q][k]) = (c * x - s * y, s * x + c * y);
            }
        }
    }
    ([a[0][0], a[1][1], a[2][2]], v.map(DVec3::from))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn eigenvectors_satisfy_their_equation(v in proptest::array::uniform6(-3.0..3.0f64)) {
            let m = DMat3::from_cols_array(&[v[0], v[1], v[2], v[1], v[3], v[4], v[2], v[4], v[5]]);
            let (values, vectors) = eigen(m);
            for i in 0..3 {
                prop_assert!((m * vectors[i] - vectors[i] * values[i]).length() < 1e-8);
                prop_assert!((vectors[i].length() - 1.0).abs() < 1e-9);
            }
        }
    }

    #[test]
    fn three_planes_meet_in_their_corner() {
        let corner = DVec3::new(0.3, 0.6, 0.8);
        let mut p = Planes::default();
        for axis in 0..3 {
            let n = [DVec3::X, DVec3::Y, DVec3::Z][axis];
            for shift in [0.1, 0.25] {
                let mut q = corner - DVec3::splat(shift);
                q[axis] = corner[axis];
                p.add(q, n.as_vec3().to_array(), axis == 0);
            }
        }
        let spot = p.place();
        assert!(spot.crease && spot.local.distance(corner) < 1e-6);
    }
}
