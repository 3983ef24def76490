//! Signs of the part on a grid, with cost that follows its surface.
//!
//! The distance is 1-Lipschitz: a block whose centre is farther from the surface than the block's
//! half diagonal has one sign. Blocks of 8³ samples are split only where the surface (or the skin's
//! inner border) passes, down to single samples.

use crate::grid::{Bits, Grid};
use glam::{DVec3, UVec3};
use rayon::prelude::*;
use ulmix_mesh::SignedDistance;

const BLOCK: u32 = 8;

/// Where the samples lie.
pub struct PartBits {
    /// Inside the part.
    pub inside: Bits,
    /// Deeper than the skin: inside it, the structure fills. Equals `inside` without a skin.
    pub deep: Option<Bits>,
}

/// `None` when cancelled. `skin` is the skin's depth in mm, 0 for none.
pub fn sample_part(part: &SignedDistance, grid: &Grid, skin: f64, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<PartBits> {
    let mut inside = Bits::new(grid);
    let mut deep = (skin > 0.0).then(|| Bits::new(grid));
    let fill = |k0: usize, inside: &mut [u64], deep: Option<&mut [u64]>| {
        if cancelled() {
            return;
        }
        let mut slab = Slab { part, grid, skin, k0: k0 as u32, inside, deep };
        let (nx, ny) = (grid.size.x.div_ceil(BLOCK), grid.size.y.div_ceil(BLOCK));
        let mut known = f64::INFINITY;
        for by in 0..ny {
            for bx in 0..nx {
                let low = UVec3::new(bx * BLOCK, by * BLOCK, k0 as u32);
                known = slab.block(low, BLOCK, known + BLOCK as f64 * grid.step * 1.001);
            }
            known = f64::INFINITY;
        }
    };
    match deep.as_mut() {
        Some(d) => inside
            .par_layers_mut(BLOCK as usize)
            .zip(d.par_layers_mut(BLOCK as usize))
            .for_each(|((k, i), (_, d))| fill(k, i, Some(d))),
        None => inside.par_layers_mut(BLOCK as usize).for_each(|(k, i)| fill(k, i, None)),
    }
    (!cancelled()).then_some(PartBits { inside, deep })
}

struct Slab<'a> {
    part: &'a SignedDistance,
    grid: &'a Grid,
    skin: f64,
    k0: u32,
    inside: &'a mut [u64],
    deep: Option<&'a mut [u64]>,
}

impl Slab<'_> {
    /// Fills a block; `limit` bounds the distance of its centre. Returns that distance, unsigned.
    fn block(&mut self, low: UVec3, size: u32, limit: f64) -> f64 {
        if low.cmpge(self.grid.size).any() {
            return limit;
        }
        let half = (size - 1) as f64 * 0.5 * self.grid.step;
        let centre = self.grid.at(low.x, low.y, low.z) + half;
        let d = self.part.value_within(centre, limit);
        let radius = half * 3f64.sqrt() + 1e-9 * self.grid.step;
        let clear = size == 1 || d.abs() > radius;
        let clear_skin = size == 1 || self.deep.is_none() || (d + self.skin).abs() > radius;
        if clear && clear_skin {
            if d < 0.0 {
                self.fill(low, size, d < -self.skin);
            }
            return d.abs();
        }
        let child = size / 2;
        let reach = d.abs() + child as f64 * 0.5 * self.grid.step * 3f64.sqrt() + 1e-6 * self.grid.step;
        for c in 0..8 {
            let off = UVec3::new(c & 1, c >> 1 & 1, c >> 2 & 1) * child;
            self.block(low + off, child, reach);
        }
        d.abs()
    }

    fn fill(&mut self, low: UVec3, size: u32, deep: bool) {
        let (words, rows) = (self.grid.words(), self.grid.size.y);
        let high = (low + size).min(self.grid.size);
        // Blocks never straddle a word: their size divides 64.
        let mask = (!0u64 >> (64 - (high.x - low.x))) << (low.x % 64);
        for k in low.z..high.z {
            for j in low.y..high.y {
                let at = ((k - self.k0) as usize * rows as usize + j as usize) * words + low.x as usize / 64;
                self.inside[at] |= mask;
                if deep {
                    if let Some(d) = &mut self.deep {
                        d[at] |= mask;
                    }
                }
            }
        }
    }
}

/// Sum of a count over samples that lie where `pick` says, as a volume in mm³.
pub fn volume(bits: &Bits, grid: &Grid) -> f64 {
    bits.count() as f64 * grid.step.powi(3)
}

/// Points spread evenly over the set samples, jittered within their cells; about `wanted` of them,
/// repeatable.
pub fn scatter(bits: &Bits, grid: &Grid, wanted: usize) -> Vec<DVec3> {
    let every = (bits.count() as usize / wanted.max(1)).max(1);
    let layers: Vec<Vec<DVec3>> = (0..grid.size.z)
        .into_par_iter()
        .map(|k| {
            let mut out = Vec::new();
            // A different start per layer keeps the stride from lining up.
            let mut n = (k as usize * 7919) % every;
            for j in 0..grid.size.y {
                for (w, &word) in bits.row(j as usize, k as usize).iter().enumerate() {
                    let mut m = word;
                    while m != 0 {
                        if n % every == 0 {
                            let i = 64 * w as u32 + m.trailing_zeros();
                            let seed = (k as u64 * 65_537 + j as u64) * 257 + i as u64;
                            let jitter = crate::surface::low_discrepancy(seed + 1) - 0.5;
                            out.push(grid.at(i, j, k) + jitter * grid.step);
                        }
                        n += 1;
                        m &= m - 1;
                    }
                }
            }
            out
        })
        .collect();
    layers.concat()
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_mesh::{Topology, TriMesh};

    #[test]
    fn block_sampling_equals_asking_every_sample() {
        let ball = TriMesh::sphere(10.0, 4);
        for broken in [false, true] {
            let m = if broken { ball.filtered(|t| t % 700 != 5) } else { ball.clone() };
            let d = SignedDistance::new(&m, &Topology::of(&m));
            let grid = Grid::covering(&m.bounds(), 0.71);
            let bits = sample_part(&d, &grid, 2.3, &|| false).unwrap();
            let deep = bits.deep.unwrap();
            for k in 0..grid.size.z {
                for j in 0..grid.size.y {
                    for i in 0..grid.size.x {
                        let v = d.value(grid.at(i, j, k));
                        assert_eq!(bits.inside.get(i, j, k), v < 0.0);
                        assert_eq!(deep.get(i, j, k), v < -2.3);
                    }
                }
            }
            assert!((volume(&bits.inside, &grid) / ball.volume() - 1.0).abs() < 0.01);
            let spread = scatter(&bits.inside, &grid, 500);
            assert!((300..900).contains(&spread.len()), "{}", spread.len());
        }
    }

    #[test]
    fn cancelling_gives_nothing() {
        let m = TriMesh::sphere(10.0, 3);
        let d = SignedDistance::new(&m, &Topology::of(&m));
        assert!(sample_part(&d, &Grid::covering(&m.bounds(), 0.5), 0.0, &|| true).is_none());
    }
}
