//! Cells from files: a closed solid whose box is the cell, which must meet its own copies on all
//! sides.

use super::mesh_cell::as_drawn;
use glam::{DVec2, DVec3};
use serde::Serialize;
use ulmix_formats::Limits;
use ulmix_mesh::crossing::crossing_pairs;
use ulmix_mesh::{Bvh, Topology, TriMesh};
use ulmix_recipe::own_mesh::{OwnMesh, FIELD, MOST};
use ulmix_recipe::{RecipeError, RecipeFault};
use utoipa::ToSchema;

/// A file's solid as a cell.
#[derive(Clone, Debug, PartialEq, Serialize, ToSchema)]
pub struct FoundMesh {
    /// The mesh as a recipe holds it.
    pub own: OwnMesh,
    /// Size of the cell in the file, in mm where the file states no unit.
    pub cell_mm: [f64; 3],
    /// Thickness of its members at that size, in the median. mm.
    pub thickness_mm: f64,
}

/// Points nearer to a side of the box lie on it, in cells.
const ON_SIDE: f64 = 1e-4;
/// The share of what one side holds that the opposite side may lack, for sides are compared on a
/// raster.
const UNLIKE: f64 = 0.02;

fn refuse(fault: RecipeFault) -> RecipeError {
    RecipeError::new(FIELD, fault)
}

/// The solid in any mesh file. Refuses open ones, and those whose opposite sides differ.
///
/// # Errors
/// A file that cannot be read, and a mesh that does not meet its own copies.
pub fn read(name: &str, bytes: &[u8], limits: &Limits) -> Result<FoundMesh, RecipeError> {
    let named = || name.to_owned();
    let file = ulmix_formats::read(bytes, limits)
        .map_err(|error| refuse(RecipeFault::File { name: named(), error }))?;
    let mut mesh = file.mesh;
    if mesh.triangles.len() > MOST {
        let found = mesh.triangles.len();
        return Err(refuse(RecipeFault::LargeCell { name: named(), found, most: MOST }));
    }
    let bounds = mesh.bounds();
    let size = bounds.size();
    if mesh.triangles.is_empty() || size.min_element() <= 1e-6 * size.max_element() {
        return Err(refuse(RecipeFault::FlatCell(named())));
    }
    let open = Topology::of(&mesh).open_edges;
    if open > 0 {
        return Err(refuse(RecipeFault::OpenCell { name: named(), edges: open }));
    }
    let crossing = crossing_pairs(&mesh, &Bvh::new(&mesh)).len();
    if crossing > 0 {
        return Err(refuse(RecipeFault::CrossingCell { name: named(), places: crossing }));
    }
    if mesh.volume() < 0.0 {
        mesh.triangles.iter_mut().for_each(|t| t.swap(1, 2));
    }
    let on_side = |v: f64| {
        if v < ON_SIDE {
            0.0
        } else if v > 1.0 - ON_SIDE {
            1.0
        } else {
            v as f32
        }
    };
    let points =
        mesh.points.iter().map(|p| ((*p - bounds.min) / size).to_array().map(on_side)).collect();
    let mut own =
        OwnMesh { name: name.into(), points, triangles: mesh.triangles, apart: [false; 3] };
    for axis in 0..3 {
        let (either, one) = sides(&own, axis);
        if one as f64 > UNLIKE * either as f64 {
            let percent = 100.0 * one as f64 / either as f64;
            return Err(refuse(RecipeFault::UnlikeSides {
                name: named(),
                axis: ["x", "y", "z"][axis],
                percent,
            }));
        }
        own.apart[axis] = either == 0;
    }
    let cell = size * file.millimetres_per_unit.unwrap_or(1.0);
    Ok(FoundMesh { thickness_mm: as_drawn(&own, cell), cell_mm: cell.to_array(), own })
}

/// The mesh of a cell of this size.
pub(super) fn solid(own: &OwnMesh, cell: DVec3) -> TriMesh {
    let points = own.points.iter().map(|p| DVec3::from(p.map(|v| v as f64)) * cell).collect();
    TriMesh { points, triangles: own.triangles.clone() }
}

/// The side of the cell that a triangle lies in, if it does: axis, and 0 or 1.
pub(super) fn side_of(own: &OwnMesh, triangle: [u32; 3]) -> Option<(usize, f32)> {
    let of = |axis: usize| triangle.map(|p| own.points[p as usize][axis]);
    let all = |axis: usize| {
        [0.0, 1.0].into_iter().find(|side| of(axis) == [*side; 3]).map(|side| (axis, side))
    };
    (0..3).find_map(all)
}

/// Places of a raster across an axis that either side holds, and those that one of them alone does.
fn sides(own: &OwnMesh, axis: usize) -> (usize, usize) {
    const N: usize = 128;
    let mut held = vec![[false; 2]; N * N];
    // Odd places: corners are where people put them.
    let place = |n: usize| (n as f64 + 0.479) / N as f64;
    for &t in &own.triangles {
        let Some((_, side)) = side_of(own, t).filter(|s| s.0 == axis) else { continue };
        let flat = t.map(|p| {
            let p = own.points[p as usize];
            DVec2::new(p[(axis + 1) % 3] as f64, p[(axis + 2) % 3] as f64)
        });
        let low = flat.iter().copied().fold(DVec2::INFINITY, DVec2::min) * N as f64;
        let high = flat.iter().copied().fold(DVec2::NEG_INFINITY, DVec2::max) * N as f64;
        let range = |low: f64, high: f64| (low.floor() as usize)..(high.ceil() as usize).min(N);
        for j in range(low.y, high.y) {
            for i in range(low.x, high.x) {
                let p = DVec2::new(place(i), place(j));
                let turn = |a: DVec2, b: DVec2| (b - a).perp_dot(p - a);
                let turns =
                    [turn(flat[0], flat[1]), turn(flat[1], flat[2]), turn(flat[2], flat[0])];
                if turns.iter().all(|t| *t >= 0.0) || turns.iter().all(|t| *t <= 0.0) {
                    held[j * N + i][side as usize] = true;
                }
            }
        }
    }
    let number = |f: fn(&&[bool; 2]) -> bool| held.iter().filter(f).count();
    (number(|h| h[0] || h[1]), number(|h| h[0] != h[1]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_formats::stl;

    fn bar(low: [f64; 3], high: [f64; 3]) -> TriMesh {
        TriMesh::cuboid(low.into(), high.into())
    }

    #[test]
    fn a_solid_that_meets_itself_is_taken_and_others_are_refused_by_what_is_wrong() {
        let refused = |mesh: &TriMesh| {
            read("x.stl", &stl::write(mesh), &Limits::default()).unwrap_err().message()
        };
        let block = bar([1.0, 2.0, 3.0], [11.0, 6.0, 5.0]);
        let found = read("block.stl", &stl::write(&block), &Limits::default()).unwrap();
        assert_eq!((found.cell_mm, found.own.apart), ([10.0, 4.0, 2.0], [false; 3]));
        assert!(found.own.points.iter().flatten().all(|v| *v == 0.0 || *v == 1.0));
        // A foot that meets itself along x and y, and a head that makes the cell higher.
        let mut table = bar([0.0; 3], [10.0, 4.0, 2.0]);
        table.append(&bar([4.0, 1.0, 3.0], [6.0, 3.0, 8.0]));
        assert!(refused(&table).contains("along z"), "{}", refused(&table));
        // Inside out is turned.
        let mut inside_out = block.clone();
        inside_out.triangles.iter_mut().for_each(|t| t.swap(0, 1));
        let turned = read("block.stl", &stl::write(&inside_out), &Limits::default()).unwrap();
        assert!(solid(&turned.own, DVec3::ONE).volume() > 0.0);

        let ball =
            read("ball.stl", &stl::write(&TriMesh::sphere(3.0, 3)), &Limits::default()).unwrap();
        assert_eq!(ball.own.apart, [true; 3]);
        let mut askew = bar([0.0, 0.0, 0.0], [5.0, 2.0, 2.0]);
        askew.append(&bar([5.5, 1.0, 0.0], [10.0, 3.0, 2.0]));
        assert!(refused(&askew).contains("along x"), "{}", refused(&askew));
        let open = bar([0.0; 3], [4.0; 3]).filtered(|t| t > 0);
        assert!(refused(&open).contains("open at 3 edges"), "{}", refused(&open));
        assert!(refused(&TriMesh::sphere(3.0, 6)).contains("may have 20000"));
        let mut crossed = bar([0.0, 4.0, 4.0], [10.0, 6.0, 6.0]);
        crossed.append(&bar([4.0, 0.0, 4.5], [6.0, 10.0, 5.5]));
        assert!(refused(&crossed).contains("crosses itself"), "{}", refused(&crossed));
        assert!(read("x.stl", b"solid nothing", &Limits::default()).is_err());
    }
}
