//! The part on the cells of a grid: which share of every cell and of every face between cells lies
//! inside.

use glam::{DVec3, UVec3};
use ulmix_field::grid::{Bits, Grid};
use ulmix_mesh::parallel;
use ulmix_part::sample::sample_mapped;
use ulmix_part::Part;

/// Samples along a side of a cell from which its shares are counted.
const FINE: usize = 4;
/// Cells with less inside are left out.
const LEAST: f32 = 0.02;
/// Shares of volume count as at least this: smaller ones would make the time step tiny.
const FLOOR: f32 = 0.25;

/// A cell that the part's surface passes through, or that lies beside one left out.
pub(super) struct Cut {
    pub at: usize,
    /// Shares of its faces over its share of volume: low x, high x, low y and so on.
    pub open: [f32; 6],
}

/// Cells of a layer.
#[derive(Default)]
pub(super) struct Layer {
    /// First cell and number of cells in a row that lie wholly inside.
    pub runs: Vec<[usize; 2]>,
    pub cut: Vec<Cut>,
}

/// Cells inside the part, by layers.
pub(super) struct FoamCells {
    pub grid: Grid,
    pub layers: Vec<Layer>,
    /// Share of every cell, by its number.
    pub share: Vec<f32>,
}

impl FoamCells {
    /// The cells of a part whose places are divided by `scale`; centres of cells are samples of
    /// `grid`. `None` when cancelled.
    pub(super) fn of(
        part: &Part,
        scale: DVec3,
        grid: Grid,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Option<FoamCells> {
        let step = grid.step / FINE as f64;
        let origin = grid.origin - 0.5 * (grid.step - step);
        let fine = Grid { origin, step, size: grid.size * FINE as u32 };
        let inside = sample_mapped(part, |p| p / scale, &fine, cancelled)?;
        let [nx, ny, nz] = grid.size.to_array().map(|n| n as usize);
        let place = |n: usize| [n % nx, n / nx % ny, n / (nx * ny)];
        let whole = (FINE * FINE * FINE) as f32;
        let counted =
            |n: usize| count(&inside, place(n), [0..FINE, 0..FINE, 0..FINE]) as f32 / whole;
        let counts: Vec<f32> = parallel::map(nx * ny * nz, counted);
        // Where one flat piece of the surface passes it tells the shares exactly: counts are off by
        // up to half a sample, by which the sheet would lean.
        let planes: Vec<(usize, WallPlane)> = parallel::filter_map(counts.len(), |n| {
            if counts[n] <= 0.0 || counts[n] >= 1.0 {
                return None;
            }
            let [i, j, k] = place(n).map(|c| c as u32);
            let plane = WallPlane::beside(part, grid.at(i, j, k), scale, grid.step)?;
            ((plane.share() as f32 - counts[n]).abs() < 0.2).then_some((n, plane))
        });
        let mut share = counts;
        let mut plane_of = vec![u32::MAX; share.len()];
        for (p, (n, plane)) in planes.iter().enumerate() {
            share[*n] = plane.share() as f32;
            plane_of[*n] = p as u32;
        }
        let plane = |n: usize| planes.get(plane_of[n] as usize).map(|p| &p.1);
        let kept = |n: usize| share[n] >= LEAST;
        let strides = [1, nx, nx * ny];
        let mut layers: Vec<Layer> = (0..nz).map(|_| Layer::default()).collect();
        // The grid reaches beyond the part: the outermost cells are empty.
        parallel::map_mut(&mut layers, |k, layer| {
            if !(1..nz - 1).contains(&k) {
                return;
            }
            for at in nx * (1 + ny * k)..nx * (ny - 1 + ny * k) {
                if !kept(at) {
                    continue;
                }
                let own = place(at);
                let open: [f32; 6] = std::array::from_fn(|f| {
                    let (axis, high) = (f / 2, f & 1 == 1);
                    let other = if high { at + strides[axis] } else { at - strides[axis] };
                    if !kept(other) {
                        return 0.0;
                    }
                    if share[at] == 1.0 && share[other] == 1.0 {
                        return 1.0;
                    }
                    // Both cells must find the same.
                    match (plane(at), plane(other)) {
                        (Some(a), Some(b)) => {
                            (0.5 * (a.open(axis, high) + b.open(axis, !high))) as f32
                        }
                        (Some(a), None) if share[other] == 1.0 => a.open(axis, high) as f32,
                        (None, Some(b)) if share[at] == 1.0 => b.open(axis, !high) as f32,
                        _ => counted_face(&inside, own, place(other), axis, high),
                    }
                });
                if share[at] == 1.0 && open == [1.0; 6] {
                    match layer.runs.last_mut() {
                        Some([first, len]) if *first + *len == at => *len += 1,
                        _ => layer.runs.push([at, 1]),
                    }
                } else {
                    layer.cut.push(Cut { at, open: open.map(|a| a / share[at].max(FLOOR)) });
                }
            }
        });
        share.iter_mut().filter(|s| **s < LEAST).for_each(|s| *s = 0.0);
        (!cancelled()).then_some(FoamCells { grid, layers, share })
    }

    pub(super) fn kept(&self, at: usize) -> bool {
        self.share[at] > 0.0
    }

    /// Cells that lie within `reach` cells of one that is kept, along the axes one after the other.
    pub(super) fn beside(&self, reach: usize) -> Vec<bool> {
        let [nx, ny, nz] = self.grid.size.to_array().map(|n| n as usize);
        let mut near: Vec<bool> = self.share.iter().map(|s| *s > 0.0).collect();
        for (stride, n) in [(1, nx), (nx, ny), (nx * ny, nz)] {
            let along = |at: usize| at / stride % n;
            near = parallel::map(near.len(), |at| {
                let (low, high) = (along(at).min(reach), (n - 1 - along(at)).min(reach));
                (at - low * stride..=at + high * stride).step_by(stride).any(|o| near[o])
            });
        }
        near
    }

    /// Centre of a cell.
    pub(super) fn place(&self, at: usize) -> DVec3 {
        let [nx, ny, _] = self.grid.size.to_array();
        let at = at as u32;
        self.grid.at(at % nx, at / nx % ny, at / (nx * ny))
    }

    pub(super) fn index(&self, c: UVec3) -> usize {
        (c.x + self.grid.size.x * (c.y + self.grid.size.y * c.z)) as usize
    }

    /// Cells inside.
    pub(super) fn count(&self) -> usize {
        self.layers.iter().map(|l| l.cut.len() + l.runs.iter().map(|r| r[1]).sum::<usize>()).sum()
    }
}

/// A flat piece of the part's surface beside a cell, in units of the cell.
struct WallPlane {
    /// Outward, unit.
    normal: DVec3,
    /// Of the cell's centre, negative inside.
    distance: f64,
}

impl WallPlane {
    /// The nearest one to a cell of the size `step` at `centre`, both divided by `scale`.
    fn beside(part: &Part, centre: DVec3, scale: DVec3, step: f64) -> Option<WallPlane> {
        let reach = step * scale.max_element();
        let near = part.bvh().nearest(centre * scale, reach * reach)?;
        let normal = (part.distance.face_normal(near.triangle) * scale).normalize_or(DVec3::Z);
        Some(WallPlane { normal, distance: normal.dot(centre - near.point / scale) / step })
    }

    fn share(&self) -> f64 {
        let n = self.normal.abs().to_array();
        below(&n, 0.5 * n.iter().sum::<f64>() - self.distance)
    }

    /// Share of a face of the cell.
    fn open(&self, axis: usize, high: bool) -> f64 {
        let n = self.normal.abs();
        let rest = [n[(axis + 1) % 3], n[(axis + 2) % 3]];
        let at_face = self.distance + if high { 0.5 } else { -0.5 } * self.normal[axis];
        below(&rest, 0.5 * (rest[0] + rest[1]) - at_face)
    }
}

/// Share of the unit cube (or square) in which n·x < a, for n without a negative part.
fn below(n: &[f64], a: f64) -> f64 {
    // Nearly parallel to an axis: exact enough, and nothing is divided by zero.
    let n: Vec<f64> = n.iter().map(|v| v.max(1e-4)).collect();
    let corners = (0..1u32 << n.len()).map(|c| {
        let passed: f64 = (0..n.len()).filter(|i| c >> i & 1 == 1).map(|i| n[i]).sum();
        let sign = if c.count_ones() & 1 == 1 { -1.0 } else { 1.0 };
        sign * (a - passed).max(0.0).powi(n.len() as i32)
    });
    let all: f64 = n.iter().product::<f64>() * (1..=n.len()).product::<usize>() as f64;
    (corners.sum::<f64>() / all).clamp(0.0, 1.0)
}

/// Share of a face by the samples on both of its sides.
fn counted_face(inside: &Bits, own: [usize; 3], other: [usize; 3], axis: usize, high: bool) -> f32 {
    let side = |high: bool| {
        let mut range = [0..FINE, 0..FINE, 0..FINE];
        range[axis] = if high { FINE - 1..FINE } else { 0..1 };
        range
    };
    let open = count(inside, own, side(high)) + count(inside, other, side(!high));
    open as f32 / (2 * FINE * FINE) as f32
}

/// Samples of a cell inside, of ranges along its axes.
fn count(inside: &Bits, c: [usize; 3], [x, y, z]: [std::ops::Range<usize>; 3]) -> u32 {
    let mut n = 0;
    for k in z {
        for j in y.clone() {
            let row = inside.row(FINE * c[1] + j, FINE * c[2] + k);
            let i = FINE * c[0];
            // Four samples never straddle a word.
            let four = row[i / 64] >> (i % 64) & ((1 << FINE) - 1);
            n += (four >> x.start & ((1 << x.len()) - 1)).count_ones();
        }
    }
    n
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_of_cubes_and_squares_below_a_plane() {
        assert!((below(&[1.0, 0.0, 0.0], 0.3) - 0.3).abs() < 1e-3);
        assert!((below(&[1.0, 1.0, 1.0], 1.5) - 0.5).abs() < 1e-9);
        assert!((below(&[1.0, 1.0, 1.0], 1.0) - 1.0 / 6.0).abs() < 1e-9);
        assert!((below(&[1.0, 1.0], 0.5) - 0.125).abs() < 1e-9);
        assert_eq!((below(&[0.6, 0.8], -0.1), below(&[0.6, 0.8], 1.5)), (0.0, 1.0));
    }
}
