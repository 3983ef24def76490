//! The angle at which the sheet meets the part's surface.
//!
//! Past the surface the field is a mirror image, which would flatter: so the slope is that of a
//! polynomial fitted to places inside alone.

use super::Sheet;
use crate::Contact;
use glam::DVec3;
use ulmix_field::numeric::Random;
use ulmix_mesh::parallel;
use ulmix_part::Part;

/// Places of the surface that are tried.
const TRIED: usize = 6000;
/// Cells to each side that a slope is fitted to.
const RADIUS: f64 = 3.2;
/// Terms of a polynomial of third degree in three variables.
const TERMS: usize = 20;

/// `None` where the sheet meets the surface nowhere.
pub(super) fn angles(part: &Part, sheet: &Sheet, near: f64) -> Option<Contact> {
    let areas: Vec<f64> =
        (0..part.mesh.triangles.len()).map(|t| 0.5 * part.mesh.area_vector(t).length()).collect();
    let total: f64 = areas.iter().sum();
    let mut draw = Random::new(1, 42);
    // One place in each of many equal shares of the area.
    let mut tried = Vec::with_capacity(TRIED);
    let (mut t, mut before) = (0, 0.0);
    for n in 0..TRIED {
        let wanted = (n as f64 + draw.unit()) / TRIED as f64 * total;
        while t + 1 < areas.len() && before + areas[t] < wanted {
            before += areas[t];
            t += 1;
        }
        let (r, s) = (draw.unit().sqrt(), draw.unit());
        let [a, b, c] = part.mesh.corners(t);
        tried.push(a * (1.0 - r) + b * (r * (1.0 - s)) + c * (r * s));
    }
    let mut off: Vec<f64> = parallel::filter_map(tried.len(), |n| {
        let mut p = tried[n];
        // Along the surface to where the sheet meets it.
        let start = p;
        let mut normal = DVec3::ZERO;
        for _ in 0..12 {
            let at = part.bvh().nearest(p, f64::INFINITY)?;
            (p, normal) = (at.point, part.distance.face_normal(at.triangle));
            let (d, g) = sheet.at(p);
            let along = (g - normal * g.dot(normal)).normalize_or_zero();
            p -= along * d;
            if d.abs() < 1e-3 * near {
                break;
            }
        }
        if p.distance(start) > 0.5 * near || sheet.at(p).0.abs() > 0.02 * near {
            return None;
        }
        let slope = one_sided(part, sheet, p, normal)?;
        Some((slope.dot(normal).abs() / slope.length()).clamp(0.0, 1.0).asin().to_degrees())
    });
    if off.is_empty() {
        return None;
    }
    off.sort_by(f64::total_cmp);
    let within = off.partition_point(|d| *d < 10.0) as f64 / off.len() as f64;
    Some(Contact { median_deg: off[off.len() / 2], within_ten_percent: 100.0 * within })
}

/// Slope of the field at a place of the surface, by least squares over the centres of cells inside.
/// Along a flat face only three layers of cells are in reach: they leave the cube of the height
/// open, and it is taken as none.
fn one_sided(part: &Part, sheet: &Sheet, p: DVec3, normal: DVec3) -> Option<DVec3> {
    let up = (normal * sheet.field.scale).normalize_or(DVec3::Z);
    let (side, across) = up.any_orthonormal_pair();
    let mut m = [[0.0; TERMS + 1]; TERMS];
    for (place, c, u) in sheet.field.cells_near(p, RADIUS) {
        if !part.distance.inside(place) {
            continue;
        }
        let t = terms(DVec3::new(c.dot(side), c.dot(across), c.dot(up)));
        for (row, a) in m.iter_mut().zip(t) {
            for (cell, b) in row.iter_mut().zip(t.into_iter().chain([u])) {
                *cell += a * b;
            }
        }
    }
    let x = solved(m)?;
    Some((side * x[1] + across * x[2] + up * x[3]) / sheet.field.scale)
}

fn terms(c: DVec3) -> [f64; TERMS] {
    let DVec3 { x, y, z } = c;
    [
        1.0,
        x,
        y,
        z,
        x * x,
        y * y,
        z * z,
        x * y,
        y * z,
        z * x,
        x * x * x,
        y * y * y,
        x * x * y,
        x * x * z,
        y * y * x,
        y * y * z,
        z * z * x,
        z * z * y,
        x * y * z,
        z * z * z,
    ]
}

/// The solution of a symmetric system of positive sums (Cholesky without roots); the last unknown
/// is 0 when the others leave nothing to tell it by. `None` when others are open too.
fn solved(mut m: [[f64; TERMS + 1]; TERMS]) -> Option<[f64; TERMS]> {
    const OPEN: f64 = 3e-4;
    let mut terms = TERMS;
    for c in 0..TERMS {
        let before = m[c][c];
        let whole: f64 = (0..c).map(|r| m[r][c] * m[r][c] / m[r][r]).sum();
        m[c][c] = before - whole;
        if c == TERMS - 1 && m[c][c] < OPEN * before {
            terms -= 1;
        } else if m[c][c] <= OPEN * OPEN * before {
            return None;
        }
        for k in c + 1..=TERMS {
            let taken: f64 = (0..c).map(|r| m[r][c] * m[r][k] / m[r][r]).sum();
            m[c][k] -= taken;
        }
    }
    let mut x = [0.0; TERMS];
    for r in (0..terms).rev() {
        let rest: f64 = (r + 1..terms).map(|c| m[r][c] * x[c]).sum();
        x[r] = (m[r][TERMS] - rest) / m[r][r];
    }
    Some(x)
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_field::numeric::Random;

    /// Sums of products of terms at places, and with the values there, as least squares have them.
    fn sums(places: &[DVec3], value: impl Fn(DVec3) -> f64) -> [[f64; TERMS + 1]; TERMS] {
        let mut m = [[0.0; TERMS + 1]; TERMS];
        for p in places {
            let t = terms(*p);
            for r in 0..TERMS {
                (0..TERMS).for_each(|c| m[r][c] += t[r] * t[c]);
                m[r][TERMS] += t[r] * value(*p);
            }
        }
        m
    }

    fn places(flat: bool) -> Vec<DVec3> {
        let mut random = Random::new(5, 0);
        let mut coordinate = || 2.0 * random.unit() - 1.0;
        (0..200)
            .map(|_| DVec3::new(coordinate(), coordinate(), if flat { 0.0 } else { coordinate() }))
            .collect()
    }

    #[test]
    fn a_cubic_is_found_from_its_values() {
        let wanted: Vec<f64> = (0..TERMS).map(|n| (n as f64 * 0.7).sin()).collect();
        let value = |p: DVec3| terms(p).iter().zip(&wanted).map(|(t, w)| t * w).sum();
        let found = solved(sums(&places(false), value)).unwrap();
        assert!(found.iter().zip(&wanted).all(|(f, w)| (f - w).abs() < 1e-6), "{found:?}");
    }

    #[test]
    fn places_that_leave_terms_open_give_nothing() {
        // In a plane nothing tells how it goes on across that.
        assert!(solved(sums(&places(true), |p| p.x)).is_none());
        assert!(solved(sums(&[], |p| p.x)).is_none());
    }
}
