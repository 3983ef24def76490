//! A small picture of a structure: a block of a few cells with its true cell size and thickness.
//!
//! The field is walked along each line of sight by its own value, which is close to a distance
//! (sphere tracing, Hart 1996).

use crate::{make, Lattice};
use glam::DVec3;
use ulmix_mesh::thumbnail::{averaged, EYE, LIGHT, MATERIAL};
use ulmix_mesh::{parallel, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::{CellPattern, Joins, OwnCellPattern, Pattern, Structure};

/// Half the block's side in cells: more where cells are cut open on all sides.
const HALF: f64 = 1.12;
const HALF_OPEN: f64 = 1.5;
/// Lines of sight per pixel, along each side.
const FINE: u32 = 2;

/// `size` × `size` pixels, red, green, blue and opacity of each, top row first. `None` when the
/// structure cannot be made.
pub fn thumbnail(
    structure: &Structure,
    joins: Joins,
    thickness: f64,
    size: u32,
) -> Option<Vec<u8>> {
    let cell = DVec3::from(structure.cell_mm);
    let half = cell
        * if matches!(
            structure.pattern,
            Pattern::Surface(_) | Pattern::Cell(_) | Pattern::OwnCell(_)
        ) {
            HALF
        } else {
            HALF_OPEN
        };
    let part = Part::prepare(&TriMesh::cuboid(-half, half)).ok()?;
    let mut plain = Structure { shift_mm: [0.0; 3], rotation_deg: [0.0; 3], ..structure.clone() };
    if let Some(seeds) = plain.seeds_mut() {
        seeds.count = None;
    }
    if let Pattern::Cell(CellPattern { rows, .. }) | Pattern::OwnCell(OwnCellPattern { rows, .. }) =
        &mut plain.pattern
    {
        *rows = None;
    }
    let lattice = make::structure(&part, &plain, joins, &|| false)?.thicken(thickness);
    // Straight walls are seen from their open end.
    let eye = if structure.flat() { DVec3::new(0.35, -0.6, 1.3) } else { EYE }.normalize();
    let right = DVec3::Z.cross(eye).normalize();
    let up = eye.cross(right);
    // The block's corners fill the picture.
    let reach = |axis: DVec3| (axis.abs() * half).element_sum();
    let scale = 2.04 * reach(right).max(reach(up)) / (size * FINE) as f64;
    let fine = size * FINE;
    let view = View { lattice: &*lattice, half, small: 0.004 * cell.min_element() };
    let rows: Vec<Vec<[f64; 4]>> = parallel::map(fine as usize, |y| {
        (0..fine)
            .map(|x| {
                let (u, v) = (
                    (x as f64 + 0.5 - fine as f64 / 2.0) * scale,
                    (fine as f64 / 2.0 - y as f64 - 0.5) * scale,
                );
                view.colour(right * u + up * v, eye)
            })
            .collect()
    });
    let (size, fine) = (size as usize, FINE as usize);
    Some(averaged(size, size, fine, |x, y| rows[y][x]))
}

struct View<'a> {
    lattice: &'a dyn Lattice,
    half: DVec3,
    small: f64,
}

impl View<'_> {
    /// Colour times opacity, and opacity, of the line of sight through `at` toward the eye.
    fn colour(&self, at: DVec3, eye: DVec3) -> [f64; 4] {
        let (toward, half) = (-eye, self.half);
        let (a, b) = ((-half - at) / toward, (half - at) / toward);
        let (near, far) = (a.min(b), a.max(b));
        let (mut t, end) = (near.max_element(), far.min_element());
        if t >= end {
            return [0.0; 4];
        }
        // The side of the block that is met first, should there be material at once.
        let axis = (0..3).max_by(|&i, &j| near[i].total_cmp(&near[j])).unwrap_or(0);
        let mut normal = DVec3::ZERO;
        normal[axis] = -toward[axis].signum();
        let mut on_side = true;
        for _ in 0..160 {
            let p = at + toward * t;
            let v = self.lattice.value(p);
            if v < self.small {
                if !on_side {
                    normal = self.lattice.normal(p);
                }
                let light = normal.dot(LIGHT.normalize()).max(0.0);
                // How open the place is: what the field says a little way off the surface.
                let off = 12.0 * self.small;
                let open = [1.0, 3.0, 6.0].map(|n| {
                    let q = p + normal * (n * off);
                    let beyond = (q.abs() - half).max_element();
                    (self.lattice.value(q).max(beyond) / (n * off)).clamp(0.0, 1.0)
                });
                let open = 0.35 + 0.65 * open.iter().sum::<f64>() / 3.0;
                let shade = (0.38 + 0.72 * light) * open;
                let c = MATERIAL * if on_side { 0.55 + 0.45 * shade } else { shade };
                return [c.x, c.y, c.z, 1.0];
            }
            on_side = false;
            t += v.max(self.small) * 0.85;
            if t >= end {
                break;
            }
        }
        [0.0; 4]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_recipe::{CellKind, ExtrudedKind, Kind, SeededKind, SurfaceKind};

    #[test]
    fn every_family_is_seen_and_thicker_shows_more() {
        for kind in [
            Kind::Surface(SurfaceKind::Gyroid),
            Kind::Cell(CellKind::Octet),
            Kind::Extruded(ExtrudedKind::Hexagons),
            Kind::Seeded(SeededKind::Voronoi),
        ] {
            let seen = |thickness: f64| {
                let s = Structure { cell_mm: [10.0; 3], ..Structure::of_kind(kind) };
                let picture = thumbnail(&s, Joins::default(), thickness, 24).unwrap();
                assert_eq!(picture.len(), 24 * 24 * 4);
                picture.chunks(4).map(|p| p[3] as f64 / 255.0).sum::<f64>() / (24.0 * 24.0)
            };
            assert!(
                seen(0.8) > 0.1 && seen(3.0) > seen(0.8),
                "{kind:?}: {} {}",
                seen(0.8),
                seen(3.0)
            );
        }
    }
}
