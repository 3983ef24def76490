//! A sheet given thickness: its two sides, joined along its rims.

use crate::half_edges::half_edges;
use crate::topology::UnionFind;
use crate::TriMesh;
use glam::DVec3;

/// At sharp edges sides move out further to stay parallel, up to so many times the thickness.
const MITRE: f64 = 3.0;

/// A point of the sheet, seen from the triangles that hang together there.
#[derive(Clone, Copy, Default)]
struct Fan {
    place: DVec3,
    /// Of their directions, each by its angle.
    sum: DVec3,
    /// Of how far each looks along the mean, by its angle; and of the angles.
    along: f64,
    angles: f64,
}

impl Fan {
    /// The way that the point goes for a thickness of one.
    fn out(&self) -> DVec3 {
        let share =
            if self.angles > 0.0 { (self.along / self.angles).max(1.0 / MITRE) } else { 1.0 };
        self.sum.normalize_or_zero() / share
    }
}

/// A closed mesh around an open one: `front` of the thickness on the side that triangles face, the
/// rest behind. Points move along the mean of the directions around them, weighted by angle
/// (Thürmer & Wüthrich 1998). Edges that do not join two triangles that face alike are rims. Where
/// the sheet bends more sharply than its thickness the sides cross.
pub fn thicken(sheet: &TriMesh, thickness: f64, front: f64) -> TriMesh {
    let next = |corner: u32| corner / 3 * 3 + (corner + 1) % 3;
    let at = |corner: u32| sheet.triangles[corner as usize / 3][corner as usize % 3];
    // Corners of one fan have one point on either side of the sheet.
    let mut fans = UnionFind::new(3 * sheet.triangles.len());
    let mut rims = Vec::new();
    for run in half_edges(sheet).chunk_by(|a, b| a.edge == b.edge) {
        match run {
            [s, t] if s.upward != t.upward => {
                fans.join(s.corner, next(t.corner));
                fans.join(next(s.corner), t.corner);
            }
            _ => rims.extend(run.iter().map(|s| s.corner)),
        }
    }
    // A corner's direction, and the angle that it has a say by.
    let facing: Vec<(DVec3, f64)> = (0..3 * sheet.triangles.len() as u32)
        .map(|c| {
            let [p, q, r] = [c, next(c), next(next(c))].map(|c| sheet.points[at(c) as usize]);
            let (u, v) = (q - p, r - p);
            let normal = u.cross(v).normalize_or_zero();
            (normal, if normal == DVec3::ZERO { 0.0 } else { u.angle_between(v) })
        })
        .collect();
    let mut point = vec![u32::MAX; facing.len()];
    let mut around: Vec<Fan> = Vec::new();
    for (c, (normal, angle)) in facing.iter().enumerate() {
        let root = fans.root(c as u32) as usize;
        if point[root] == u32::MAX {
            point[root] = around.len() as u32;
            around.push(Fan { place: sheet.points[at(c as u32) as usize], ..Fan::default() });
        }
        point[c] = point[root];
        around[point[c] as usize].sum += *normal * *angle;
    }
    for (c, (normal, angle)) in facing.iter().enumerate() {
        let fan = &mut around[point[c] as usize];
        fan.along += normal.dot(fan.sum.normalize_or_zero()) * angle;
        fan.angles += angle;
    }
    let behind = around.len() as u32;
    let mut made = TriMesh::default();
    made.points.extend(around.iter().map(|a| a.place + a.out() * (thickness * front)));
    made.points.extend(around.iter().map(|a| a.place - a.out() * (thickness * (1.0 - front))));
    for t in 0..sheet.triangles.len() {
        let [a, b, c] = [0, 1, 2].map(|n| point[3 * t + n]);
        made.triangles.extend([[a, b, c], [c + behind, b + behind, a + behind]]);
    }
    for c in rims {
        let (a, b) = (point[c as usize], point[next(c) as usize]);
        made.triangles.extend([[b, a, a + behind], [b, a + behind, b + behind]]);
    }
    made
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Topology;

    #[test]
    fn a_bent_sheet_becomes_a_shell_of_even_thickness() {
        // Three sides of a box: 10 × 10 flats that meet at right angles.
        let cube = TriMesh::cuboid(DVec3::ZERO, DVec3::splat(10.0));
        let towards = |t: usize| cube.area_vector(t).normalize();
        let open = cube.filtered(|t| towards(t).max_element() > 0.5);
        for (front, volume) in [(0.0, 1000.0 - 729.0), (1.0, 1331.0 - 1000.0)] {
            let shell = thicken(&open, 1.0, front);
            let t = Topology::of(&shell);
            assert!(t.sound() && t.components == 1, "{t:?}");
            // At the rims the outer edge is cut across, not mitred: of the full corner volume three
            // strips are missing.
            assert!(
                shell.volume() > 0.0 && (shell.volume() - volume).abs() < 32.0,
                "{} {volume}",
                shell.volume()
            );
        }
        // A cap of a ball: its area times the thickness, but for the curvature.
        let ball = TriMesh::sphere(20.0, 6);
        let cap = crate::weld::weld(&ball.filtered(|t| ball.middle(t).z > 5.0), 0.0).mesh;
        let shell = thicken(&cap, 2.0, 0.5);
        assert!(Topology::of(&shell).sound());
        assert!((shell.volume() / (2.0 * cap.area()) - 1.0).abs() < 0.003, "{}", shell.volume());
    }

    #[test]
    fn three_sheets_on_one_edge_and_a_twisted_band_close() {
        let p = |x: f64, y: f64, z: f64| DVec3::new(x, y, z);
        let points =
            vec![p(0., 0., 0.), p(0., 10., 0.), p(10., 0., 0.), p(-10., 0., 0.), p(0., 0., 10.)];
        let three = TriMesh { points, triangles: vec![[0, 2, 1], [0, 1, 3], [0, 1, 4]] };
        let shell = thicken(&three, 1.0, 0.5);
        let t = Topology::of(&shell);
        assert!(t.sound() && t.components == 3 && shell.volume() > 140.0, "{t:?}");
        // A band that meets itself turned over has a seam there.
        let mut band = TriMesh::default();
        const N: u32 = 60;
        for n in 0..N {
            let a = n as f64 / N as f64 * std::f64::consts::TAU;
            let middle = p(a.cos(), a.sin(), 0.0) * 20.0;
            let across = p(a.cos(), a.sin(), 0.0) * (0.5 * a).cos() + DVec3::Z * (0.5 * a).sin();
            band.points.extend([middle - across * 3.0, middle + across * 3.0]);
        }
        for n in 0..N {
            let (a, b) = (2 * n, 2 * n + 1);
            let (c, d) = if n + 1 == N { (1, 0) } else { (a + 2, b + 2) };
            band.triangles.extend([[a, b, c], [b, d, c]]);
        }
        assert!(Topology::of(&thicken(&band, 1.0, 0.5)).sound());
    }
}
