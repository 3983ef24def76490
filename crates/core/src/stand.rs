//! A mesh as it stands on the printer's bed.

use glam::{DMat3, DQuat, DVec3};
use serde::{Deserialize, Serialize};
use ulmix_mesh::{Bounds, TriMesh};
use ulmix_recipe::Stand;
use utoipa::ToSchema;

/// What a person should know about how a part stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Standing {
    /// Size as it stands.
    pub size_mm: [f64; 3],
    /// The mesh lies within the printer's space.
    pub fits: bool,
    /// Of the part's surface that touches the bed. mm².
    pub contact_mm2: f64,
    /// Columns of the turn from the part's axes to the bed's.
    pub turn: [[f64; 3]; 3],
}

/// From the part's axes to the bed's.
pub fn turn(stand: &Stand) -> DMat3 {
    let down = DVec3::from(stand.down).normalize_or(-DVec3::Z);
    let stood = DQuat::from_rotation_arc(down, -DVec3::Z);
    let m = DMat3::from_rotation_z(stand.turn_deg.to_radians()) * DMat3::from_quat(stood);
    // Quarter turns are exact.
    DMat3::from_cols_array(&m.to_cols_array().map(|v| {
        if (v - v.round()).abs() < 1e-12 {
            v.round()
        } else {
            v
        }
    }))
}

/// Where a mesh goes so that it stands in the middle of the bed: turned, then shifted, in mm.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Placing {
    /// Columns of the turn from the part's axes to the bed's.
    turn: [[f64; 3]; 3],
    shift: [f64; 3],
}

impl Placing {
    /// The place of a mesh that stands as the recipe says.
    pub fn of(mesh: &TriMesh, stand: &Stand) -> Placing {
        Placing::of_points(mesh.points.iter(), stand)
    }

    /// How several meshes stand together, by their points.
    pub fn of_points<'a>(points: impl Iterator<Item = &'a DVec3>, stand: &Stand) -> Placing {
        let turn = turn(stand);
        let turned = Bounds::of(points.map(|p| turn * *p));
        let middle = turned.centre();
        let shift = DVec3::new(
            0.5 * stand.bed_mm[0] - middle.x,
            0.5 * stand.bed_mm[1] - middle.y,
            -turned.min.z,
        );
        Placing { turn: turn.to_cols_array_2d(), shift: shift.to_array() }
    }

    /// A mesh of the part's axes on the bed.
    pub fn of_mesh(&self, mesh: &TriMesh) -> TriMesh {
        mesh.clone().mapped(|p| self.of_place(p))
    }

    /// A place of the part as it lies on the bed.
    pub fn of_place(&self, p: DVec3) -> DVec3 {
        DMat3::from_cols_array_2d(&self.turn) * p + DVec3::from(self.shift)
    }

    /// Back from where it stands.
    pub fn place_back(&self, p: DVec3) -> DVec3 {
        DMat3::from_cols_array_2d(&self.turn).transpose() * (p - DVec3::from(self.shift))
    }

    /// A mesh of the bed in the part's axes.
    pub fn back(&self, mesh: TriMesh) -> TriMesh {
        mesh.mapped(|p| self.place_back(p))
    }
}

/// How a part stands.
pub fn standing(part: &TriMesh, stand: &Stand) -> Standing {
    let on_bed = Placing::of(part, stand).of_mesh(part);
    let size = on_bed.bounds().size();
    // Flat on the bed but for rounding.
    let slack = 1e-5 * size.max_element();
    let touches = |t: &usize| on_bed.corners(*t).iter().all(|p| p.z < slack);
    let contact = (0..on_bed.triangles.len())
        .filter(touches)
        .map(|t| on_bed.area_vector(t).length() * 0.5)
        .sum();
    Standing {
        size_mm: size.to_array(),
        fits: size.cmple(DVec3::from(stand.bed_mm)).all(),
        contact_mm2: contact,
        turn: turn(stand).to_cols_array_2d(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn placed(mesh: &TriMesh, stand: &Stand) -> TriMesh {
        Placing::of(mesh, stand).of_mesh(mesh)
    }
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn places_come_back_from_the_bed_as_they_were(
            down in proptest::array::uniform3(-1.0..1.0f64), turn_deg in -180.0..180.0f64,
            p in proptest::array::uniform3(-90.0..90.0f64),
        ) {
            let mesh = TriMesh::sphere(20.0, 2).mapped(|p| p + DVec3::new(7.0, -4.0, 30.0));
            let placing = Placing::of(&mesh, &Stand { down, turn_deg, ..Stand::default() });
            let p = DVec3::from(p);
            prop_assert!(placing.place_back(placing.of_place(p)).distance(p) < 1e-9);
            prop_assert!(placing.back(placing.of_mesh(&mesh)).points.iter().zip(&mesh.points).all(|(a, b)| a.distance(*b) < 1e-9));
        }
    }

    #[test]
    fn a_block_stands_on_the_face_that_is_chosen() {
        let block = TriMesh::cuboid(DVec3::new(5.0, -3.0, 2.0), DVec3::new(35.0, 17.0, 12.0));
        let bed_mm = [100.0, 80.0, 25.0];
        for (down, size, contact) in [
            ([0.0, 0.0, -1.0], [30.0, 20.0, 10.0], 600.0),
            ([0.0, 0.0, 1.0], [30.0, 20.0, 10.0], 600.0),
            ([2.0, 0.0, 0.0], [10.0, 20.0, 30.0], 200.0),
            ([0.0, -1.0, 0.0], [30.0, 10.0, 20.0], 300.0),
        ] {
            let stand = Stand { down, turn_deg: 0.0, bed_mm };
            let s = standing(&block, &stand);
            assert_eq!(
                (s.size_mm, s.contact_mm2, s.fits),
                (size, contact, size[2] <= 25.0),
                "{down:?}"
            );
            let b = placed(&block, &stand).bounds();
            assert_eq!((b.min.z, b.centre().x, b.centre().y), (0.0, 50.0, 40.0));
        }
        let turned = standing(&block, &Stand { turn_deg: 90.0, bed_mm, ..Stand::default() });
        assert_eq!(turned.size_mm, [20.0, 30.0, 10.0]);
    }

    proptest! {
        #[test]
        fn standing_keeps_the_shape(x in -1.0..1.0f64, y in -1.0..1.0f64, z in -1.0..1.0f64, turn_deg in -360.0..360.0f64) {
            prop_assume!(DVec3::new(x, y, z).length() > 1e-3);
            let block = TriMesh::cuboid(DVec3::ZERO, DVec3::new(30.0, 20.0, 10.0));
            let stand = Stand { down: [x, y, z], turn_deg, ..Stand::default() };
            let m = placed(&block, &stand);
            prop_assert!((m.volume() - 6000.0).abs() < 1e-6 && (m.area() - 2200.0).abs() < 1e-6);
            prop_assert!(m.bounds().min.z.abs() < 1e-9);
            // What pointed down points down.
            let down = turn(&stand) * DVec3::new(x, y, z).normalize();
            prop_assert!((down + DVec3::Z).length() < 1e-9, "{down}");
        }
    }
}
