//! The relaxed field as a smooth function of place: extended past the part's surface by reflection,
//! and interpolated by cubics (Catmull & Rom 1974).

use super::cells::FoamCells;
use glam::{DVec3, UVec3};
use ulmix_field::numeric::cubic;
use ulmix_mesh::parallel;
use ulmix_part::Part;

/// Values at the centres of cells; places are divided by `scale`, so that a wave has the length 1.
pub(super) struct FoamField {
    pub scale: DVec3,
    pub origin: DVec3,
    /// Cells to one unit.
    pub per_unit: f64,
    size: [usize; 3],
    values: Vec<f32>,
}

/// Cells around the part that get a value: as many as interpolation and thick walls ask for.
const BAND: f64 = 3.5;

impl FoamField {
    pub(super) fn new(
        part: &Part,
        cells: &FoamCells,
        scale: DVec3,
        relaxed: Vec<f32>,
    ) -> FoamField {
        let grid = &cells.grid;
        let size = grid.size.to_array().map(|n| n as usize);
        let mut field = FoamField {
            scale,
            origin: grid.origin,
            per_unit: 1.0 / grid.step,
            size,
            values: relaxed,
        };
        let reach = BAND * grid.step * scale.max_element();
        let near = cells.beside(BAND.ceil() as usize);
        let mirrored: Vec<(usize, f32)> = parallel::filter_map(cells.share.len(), |n| {
            if !near[n] || cells.kept(n) {
                return None;
            }
            let p = cells.place(n) * scale;
            let near = part.bvh().nearest(p, reach * reach)?.point;
            Some((n, field.beside((2.0 * near - p) / scale, cells)?))
        });
        for (n, v) in mirrored {
            field.values[n] = v;
        }
        field
    }

    /// The field's values in the cells of another grid.
    pub(super) fn on(&self, cells: &FoamCells) -> Vec<f32> {
        let value = |n: usize| {
            if cells.kept(n) {
                self.at(cells.place(n) * self.scale).0 as f32
            } else {
                0.0
            }
        };
        parallel::map(cells.share.len(), value)
    }

    /// Value at a place given in waves, by the kept cells around it alone.
    fn beside(&self, q: DVec3, cells: &FoamCells) -> Option<f32> {
        let local = (q - self.origin) * self.per_unit;
        let low = local.floor();
        let t = local - low;
        let (mut sum, mut weight) = (0.0, 0.0);
        for n in 0..8u32 {
            let corner = UVec3::new(n & 1, n >> 1 & 1, n >> 2);
            let c = low.as_ivec3() + corner.as_ivec3();
            if c.min_element() < 0 || (0..3).any(|a| c[a] as usize >= self.size[a]) {
                continue;
            }
            let at = cells.index(c.as_uvec3());
            let share = |a: usize| if corner[a] == 1 { t[a] } else { 1.0 - t[a] };
            let w = share(0) * share(1) * share(2);
            if cells.kept(at) {
                sum += w * self.values[at] as f64;
                weight += w;
            }
        }
        (weight > 1e-6).then(|| (sum / weight) as f32)
    }

    /// Value and gradient, per mm, at a place of the part.
    pub(super) fn at(&self, p: DVec3) -> (f64, DVec3) {
        let local = (p / self.scale - self.origin) * self.per_unit;
        let axes: [(usize, [f64; 4], [f64; 4]); 3] =
            std::array::from_fn(|a| cubic(local[a], self.size[a]));
        let (mut f, mut g) = (0.0, DVec3::ZERO);
        for k in 0..4 {
            for j in 0..4 {
                let row =
                    axes[0].0 + self.size[0] * (axes[1].0 + j + self.size[1] * (axes[2].0 + k));
                let four = &self.values[row..row + 4];
                let (mut v, mut d) = (0.0, 0.0);
                for i in 0..4 {
                    v += axes[0].1[i] * four[i] as f64;
                    d += axes[0].2[i] * four[i] as f64;
                }
                f += axes[1].1[j] * axes[2].1[k] * v;
                g += DVec3::new(
                    axes[1].1[j] * axes[2].1[k] * d,
                    axes[1].2[j] * axes[2].1[k] * v,
                    axes[1].1[j] * axes[2].2[k] * v,
                );
            }
        }
        (f, g * self.per_unit / self.scale)
    }

    /// Values and slopes along a row of places `from + n·step·x`: handed out one by one, at a few
    /// multiplications each.
    pub(super) fn along_x(
        &self,
        from: DVec3,
        step: f64,
        n: usize,
        mut each: impl FnMut(usize, f64, DVec3),
    ) {
        let local = (from / self.scale - self.origin) * self.per_unit;
        let (j0, wy, dy) = cubic(local.y, self.size[1]);
        let (k0, wz, dz) = cubic(local.z, self.size[2]);
        let nx = self.size[0];
        // Value and slopes along y and z of a row of cells.
        let mut rows = vec![[0f64; 3]; nx];
        for k in 0..4 {
            for j in 0..4 {
                let start = nx * (j0 + j + self.size[1] * (k0 + k));
                let (w, wj, wk) = (wy[j] * wz[k], dy[j] * wz[k], wy[j] * dz[k]);
                for (row, &v) in rows.iter_mut().zip(&self.values[start..start + nx]) {
                    let v = v as f64;
                    *row = [row[0] + w * v, row[1] + wj * v, row[2] + wk * v];
                }
            }
        }
        let by = step / self.scale.x * self.per_unit;
        let slope = DVec3::splat(self.per_unit) / self.scale;
        for i in 0..n {
            let (i0, wx, dx) = cubic(local.x + by * i as f64, nx);
            let four = &rows[i0..i0 + 4];
            let sum = |w: &[f64; 4], c: usize| {
                w[0] * four[0][c] + w[1] * four[1][c] + w[2] * four[2][c] + w[3] * four[3][c]
            };
            each(i, sum(&wx, 0), DVec3::new(sum(&dx, 0), sum(&wx, 1), sum(&wx, 2)) * slope);
        }
    }

    /// Centres of cells nearer than `radius` cells: place in the part, place in units of the
    /// radius, value.
    pub(super) fn cells_near(
        &self,
        p: DVec3,
        radius: f64,
    ) -> impl Iterator<Item = (DVec3, DVec3, f64)> + '_ {
        let local = (p / self.scale - self.origin) * self.per_unit;
        let (low, high) = ((local - radius).ceil().as_ivec3(), (local + radius).floor().as_ivec3());
        let range = move |a: usize| low[a].max(0)..=high[a].min(self.size[a] as i32 - 1);
        let all = range(2)
            .flat_map(move |k| range(1).flat_map(move |j| range(0).map(move |i| [i, j, k])));
        all.filter_map(move |c| {
            let own = DVec3::from(c.map(f64::from));
            let off = (own - local) / radius;
            let at = c[0] as usize + self.size[0] * (c[1] as usize + self.size[1] * c[2] as usize);
            let place = (self.origin + own / self.per_unit) * self.scale;
            (off.length_squared() < 1.0).then(|| (place, off, self.values[at] as f64))
        })
    }

    pub(super) fn bytes(&self) -> usize {
        4 * self.values.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SIZE: [usize; 3] = [9, 8, 10];

    /// A field whose cells hold a function of their place in waves.
    fn field(of: impl Fn(DVec3) -> f64) -> FoamField {
        let (origin, per_unit) = (DVec3::new(-0.3, 0.2, 0.1), 10.0);
        let mut values = Vec::new();
        for k in 0..SIZE[2] {
            for j in 0..SIZE[1] {
                values.extend((0..SIZE[0]).map(|i| {
                    of(origin + DVec3::new(i as f64, j as f64, k as f64) / per_unit) as f32
                }));
            }
        }
        FoamField { scale: DVec3::new(5.0, 7.0, 6.0), origin, per_unit, size: SIZE, values }
    }

    /// A place of the part in the cells that interpolation reaches whole.
    fn place(field: &FoamField, share: [f64; 3]) -> DVec3 {
        let cells = DVec3::from(SIZE.map(|n| n as f64 - 3.0)) * DVec3::from(share) + 1.0;
        (field.origin + cells / field.per_unit) * field.scale
    }

    proptest! {
        #[test]
        fn what_is_straight_or_a_parabola_is_met_with_its_gradient(
            share in proptest::array::uniform3(0.0..1.0f64), slope in proptest::array::uniform3(-2.0..2.0f64), bend in -3.0..3.0f64
        ) {
            let slope = DVec3::from(slope);
            let of = |q: DVec3| slope.dot(q) + bend * q.x * q.y;
            let field = field(of);
            let p = place(&field, share);
            let q = p / field.scale;
            let (value, gradient) = field.at(p);
            prop_assert!((value - of(q)).abs() < 1e-5, "{} {}", value, of(q));
            let wanted = (slope + bend * DVec3::new(q.y, q.x, 0.0)) / field.scale;
            prop_assert!(gradient.distance(wanted) < 1e-4, "{} {}", gradient, wanted);
        }

        #[test]
        fn a_row_of_places_gives_what_each_gives(from in proptest::array::uniform3(0.0..0.4f64), step in 0.05..0.4f64) {
            let field = field(|q| (7.0 * q.x).sin() * (5.0 * q.y).cos() + q.z * q.z);
            let start = place(&field, from);
            let mut seen = 0;
            let mut off = 0.0f64;
            field.along_x(start, step, 7, |n, value, gradient| {
                let (one, slope) = field.at(start + DVec3::X * (step * n as f64));
                off = off.max((one - value).abs()).max(slope.distance(gradient));
                seen += 1;
            });
            prop_assert!(seen == 7 && off < 1e-9, "{} of {}", off, seen);
        }

        #[test]
        fn cells_near_are_those_within_the_radius(share in proptest::array::uniform3(0.0..1.0f64), radius in 0.5..3.0f64) {
            let field = field(|q| q.x);
            let p = place(&field, share);
            let local = (p / field.scale - field.origin) * field.per_unit;
            let near: Vec<_> = field.cells_near(p, radius).collect();
            let all = (0..SIZE.iter().product()).map(|n: usize| {
                DVec3::new((n % SIZE[0]) as f64, (n / SIZE[0] % SIZE[1]) as f64, (n / SIZE[0] / SIZE[1]) as f64)
            });
            prop_assert_eq!(near.len(), all.filter(|c| c.distance(local) < radius).count());
            for (place, off, value) in near {
                prop_assert!((place / field.scale - p / field.scale - off * radius / field.per_unit).length() < 1e-9);
                prop_assert!((value - place.x / field.scale.x).abs() < 1e-6);
            }
        }
    }
}
