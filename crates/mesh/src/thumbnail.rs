//! A small picture of a mesh, seen along parallel lines from an angle above.
//!
//! Triangles are drawn into a buffer of depths (Catmull 1974), finer than the picture, with normals
//! that are smooth where the surface is.

use crate::shading::shade;
use crate::TriMesh;
use glam::{DVec2, DVec3};

/// The material's colour: red, green and blue up to 255.
pub const MATERIAL: DVec3 = DVec3::new(216.0, 194.0, 154.0);
/// Direction of the light, which comes from the upper left.
pub const LIGHT: DVec3 = DVec3::new(-0.25, -0.55, 0.8);
/// Direction of the eye.
pub const EYE: DVec3 = DVec3::new(0.62, -1.0, 0.72);

/// Samples per pixel, along each side.
const FINE: usize = 3;
/// Faces that turn by more than this have an edge between them. Degrees.
const CREASE: f64 = 28.0;
/// Share of the picture that the mesh fills.
const FILLED: f64 = 0.94;

/// How light a place is whose normal meets the light at an angle of this cosine; from 0 to 1.
fn shade_of(cosine: f64) -> f64 {
    0.42 + 0.62 * cosine.max(0.0)
}

/// `width` × `height` pixels, red, green, blue and opacity of each, top row first. A mesh without
/// extent gives an empty picture.
pub fn thumbnail(mesh: &TriMesh, width: usize, height: usize) -> Vec<u8> {
    let (eye, light) = (EYE.normalize(), LIGHT.normalize());
    let right = DVec3::Z.cross(eye).normalize();
    let up = eye.cross(right);
    let shaded = shade(mesh, CREASE);
    // Right, down and away from the eye.
    let seen: Vec<DVec3> = shaded
        .positions
        .iter()
        .map(|p| p.as_dvec3())
        .map(|p| DVec3::new(p.dot(right), -p.dot(up), -p.dot(eye)))
        .collect();
    let fine = DVec2::new((width * FINE) as f64, (height * FINE) as f64);
    let low = seen.iter().copied().fold(DVec3::INFINITY, DVec3::min).truncate();
    let high = seen.iter().copied().fold(DVec3::NEG_INFINITY, DVec3::max).truncate();
    let scale = FILLED * (fine / (high - low)).min_element();
    let mut samples = Samples::new(width * FINE, height * FINE);
    if scale.is_finite() && scale > 0.0 {
        let middle = 0.5 * (low + high);
        let onto = |p: DVec3| ((p.truncate() - middle) * scale + 0.5 * fine).extend(p.z * scale);
        for t in &shaded.triangles {
            let corners = t.map(|v| onto(seen[v as usize]));
            // Sheets are seen from both sides.
            let lit = t.map(|v| {
                let n = shaded.normals[v as usize].as_dvec3();
                shade_of(if n.dot(eye) < 0.0 { -n } else { n }.dot(light))
            });
            samples.draw(corners, lit);
        }
    }
    averaged(width, height, FINE, |x, y| samples.colour(x, y))
}

/// Depth and lightness of every sample.
struct Samples {
    across: usize,
    depth: Vec<f32>,
    lit: Vec<f32>,
}

impl Samples {
    fn new(across: usize, down: usize) -> Samples {
        let count = across * down;
        Samples { across, depth: vec![f32::INFINITY; count], lit: vec![0.0; count] }
    }

    /// A triangle by its corners in samples and the lightness there.
    fn draw(&mut self, corners: [DVec3; 3], lit: [f64; 3]) {
        let [a, b, c] = corners.map(DVec3::truncate);
        let area = (b - a).perp_dot(c - a);
        if area == 0.0 {
            return;
        }
        let down = self.depth.len() / self.across;
        let last = DVec2::new((self.across - 1) as f64, (down - 1) as f64);
        let (low, high) = (a.min(b).min(c).floor(), a.max(b).max(c).ceil());
        let (low, high) = (low.max(DVec2::ZERO), high.min(last));
        for y in low.y as usize..=high.y as usize {
            for x in low.x as usize..=high.x as usize {
                let p = DVec2::new(x as f64 + 0.5, y as f64 + 0.5);
                let u = (c - b).perp_dot(p - b) / area;
                let v = (a - c).perp_dot(p - c) / area;
                let shares = [u, v, 1.0 - u - v];
                if shares.iter().any(|s| *s < 0.0) {
                    continue;
                }
                let mean = |values: [f64; 3]| (0..3).map(|n| shares[n] * values[n]).sum::<f64>();
                let depth = mean(corners.map(|c| c.z)) as f32;
                let at = y * self.across + x;
                if depth < self.depth[at] {
                    self.depth[at] = depth;
                    self.lit[at] = mean(lit) as f32;
                }
            }
        }
    }

    /// Colour times opacity, and opacity, of a sample.
    fn colour(&self, x: usize, y: usize) -> [f64; 4] {
        let at = y * self.across + x;
        if !self.depth[at].is_finite() {
            return [0.0; 4];
        }
        let colour = MATERIAL * self.lit[at] as f64;
        [colour.x, colour.y, colour.z, 1.0]
    }
}

/// `width` × `height` pixels of `fine` × `fine` samples each: red, green, blue and opacity, top row
/// first. `sample` gives the colour times the opacity, and the opacity, at a column and a row.
pub fn averaged(
    width: usize,
    height: usize,
    fine: usize,
    sample: impl Fn(usize, usize) -> [f64; 4],
) -> Vec<u8> {
    let mut out = Vec::with_capacity(4 * width * height);
    for (y, x) in (0..height).flat_map(|y| (0..width).map(move |x| (y, x))) {
        let mut sum = [0.0; 4];
        for n in 0..fine * fine {
            let seen = sample(x * fine + n % fine, y * fine + n / fine);
            (0..4).for_each(|c| sum[c] += seen[c]);
        }
        let seen = sum[3].max(1e-9);
        out.extend([0, 1, 2].map(|c| (sum[c] / seen).round().clamp(0.0, 255.0) as u8));
        out.push((255.0 * sum[3] / (fine * fine) as f64).round() as u8);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(pixels: &[u8], width: usize, x: usize, y: usize) -> [u8; 4] {
        let n = 4 * (y * width + x);
        [pixels[n], pixels[n + 1], pixels[n + 2], pixels[n + 3]]
    }

    #[test]
    fn a_ball_is_round_lies_in_the_middle_and_is_lit_from_the_upper_left() {
        let (w, h) = (60, 40);
        let p = thumbnail(&TriMesh::sphere(7.0, 4), w, h);
        let covered = p.chunks(4).map(|p| p[3] as f64 / 255.0).sum::<f64>();
        let radius = 0.5 * FILLED * h as f64;
        assert!(
            (covered / (std::f64::consts::PI * radius * radius) - 1.0).abs() < 0.02,
            "{covered}"
        );
        assert_eq!(at(&p, w, 1, 1)[3], 0);
        assert_eq!(at(&p, w, w / 2, h / 2)[3], 255);
        assert!(at(&p, w, 22, 10)[0] > at(&p, w, 38, 30)[0] + 40, "lighter at the upper left");
    }

    #[test]
    fn what_is_nearer_hides_what_is_behind() {
        let box_at = |low: DVec3| TriMesh::cuboid(low, low + DVec3::splat(10.0));
        let mut both = box_at(DVec3::ZERO);
        let toward = EYE.normalize() * 40.0;
        both.append(&box_at(toward));
        let (alone, two) = (thumbnail(&box_at(toward), 30, 30), thumbnail(&both, 30, 30));
        // Along the line of sight one lies behind the other.
        assert_eq!(alone, two);
    }

    #[test]
    fn nothing_gives_an_empty_picture_of_the_right_size() {
        let p = thumbnail(&TriMesh::default(), 8, 6);
        assert_eq!(p.len(), 4 * 8 * 6);
        assert!(p.iter().all(|v| *v == 0));
    }
}
