//! Points in bins, for questions about nearness.

use crate::groups::Groups;
use glam::DVec3;

/// Points in bins of a few each, for questions about nearness.
pub struct PointGrid {
    /// The points in the order in which bins hold them.
    binned: Vec<DVec3>,
    low: DVec3,
    edge: f64,
    count: [i64; 3],
    held: Groups,
}

impl PointGrid {
    /// Sorts points into bins.
    pub fn new(points: &[DVec3]) -> PointGrid {
        let low = points.iter().copied().fold(DVec3::INFINITY, DVec3::min);
        let high = points.iter().copied().fold(DVec3::NEG_INFINITY, DVec3::max);
        let size = if points.is_empty() { DVec3::ZERO } else { high - low };
        let sides = size.to_array().iter().filter(|s| **s > 0.0).count().max(1) as f64;
        let volume: f64 = size.to_array().iter().filter(|s| **s > 0.0).product();
        // About two points a bin.
        let edge = (2.0 * volume / points.len().max(1) as f64)
            .powf(1.0 / sides)
            .max(1e-12 + size.max_element() / 500.0);
        let low = if points.is_empty() { DVec3::ZERO } else { low };
        let count = (size / edge).to_array().map(|c| c as i64 + 1);
        let mut out = PointGrid { binned: Vec::new(), low, edge, count, held: Groups::default() };
        let bins: Vec<u32> = points.iter().map(|p| out.bin(out.cell(*p)) as u32).collect();
        out.held =
            Groups::of((count[0] * count[1] * count[2]) as usize, || bins.iter().copied().zip(0..));
        out.binned = out.held.items.iter().map(|id| points[*id as usize]).collect();
        out
    }

    fn cell(&self, p: DVec3) -> [i64; 3] {
        let c = ((p - self.low) / self.edge).floor();
        [0, 1, 2].map(|a| (c[a] as i64).clamp(0, self.count[a] - 1))
    }

    fn bin(&self, c: [i64; 3]) -> usize {
        ((c[2] * self.count[1] + c[1]) * self.count[0] + c[0]) as usize
    }

    /// The points' numbers in the order of the bins that hold them.
    pub fn in_order(&self) -> &[u32] {
        &self.held.items
    }

    /// Length of a bin's edge; a bin holds about two points.
    pub fn edge(&self) -> f64 {
        self.edge
    }

    /// Calls `f` with all points within `reach` of `p`, and with others near them, and their
    /// places.
    pub fn around(&self, p: DVec3, reach: f64, mut f: impl FnMut(u32, DVec3)) {
        let (low, high) = (self.cell(p - reach), self.cell(p + reach));
        // How far the bins at a number along an axis are from `p` along it, by its square. Those at
        // the rim hold points of the rim itself, and rounding.
        let apart = |axis: usize, at: i64| {
            let from = self.low[axis] + at as f64 * self.edge;
            (from - p[axis]).max(p[axis] - from - self.edge).max(0.0).powi(2)
        };
        let most = reach * reach * (1.0 + 1e-9);
        for z in low[2]..=high[2] {
            for y in low[1]..=high[1] {
                let left = most - apart(2, z) - apart(1, y);
                if left < 0.0 {
                    continue;
                }
                let reach = left.sqrt();
                let bin =
                    |x: f64| (((x - self.low.x) / self.edge) as i64).clamp(0, self.count[0] - 1);
                // Bins of a row lie side by side.
                let first = self.bin([bin(p.x - reach), y, z]);
                let last = self.bin([bin(p.x + reach), y, z]);
                let row = self.held.starts[first] as usize..self.held.starts[last + 1] as usize;
                self.held.items[row.clone()]
                    .iter()
                    .zip(&self.binned[row])
                    .for_each(|(id, q)| f(*id, *q));
            }
        }
    }

    /// Calls `f` with the points of the bins in ring `r` around `p` and their places: ring 0 is its
    /// own bin. Gives the distance that any point of later rings has at least; none when there are
    /// no later rings.
    fn ring(&self, p: DVec3, r: i64, mut f: impl FnMut(u32, DVec3)) -> Option<f64> {
        let c = self.cell(p);
        let range = |axis: usize| (c[axis] - r).max(0)..=(c[axis] + r).min(self.count[axis] - 1);
        for z in range(2) {
            for y in range(1) {
                let shell = (z - c[2]).abs() == r || (y - c[1]).abs() == r;
                let mut row = |x: i64| {
                    let b = self.bin([x, y, z]);
                    let from = self.held.starts[b] as usize;
                    self.held
                        .get(b)
                        .iter()
                        .zip(&self.binned[from..])
                        .for_each(|(id, q)| f(*id, *q));
                };
                if shell {
                    range(0).for_each(row);
                } else {
                    [c[0] - r, c[0] + r]
                        .into_iter()
                        .filter(|x| (0..self.count[0]).contains(x))
                        .for_each(&mut row);
                }
            }
        }
        let more = (0..3).any(|a| c[a] - r > 0 || c[a] + r < self.count[a] - 1);
        more.then(|| {
            // To the walls of the block of bins looked at, on the sides where it goes on.
            let sides = (0..3).flat_map(|a| {
                let below = p[a] - (self.low[a] + (c[a] - r) as f64 * self.edge);
                let above = self.low[a] + (c[a] + r + 1) as f64 * self.edge - p[a];
                [(c[a] - r > 0, below), (c[a] + r < self.count[a] - 1, above)]
            });
            sides.filter(|s| s.0).map(|s| s.1).fold(f64::INFINITY, f64::min).max(0.0)
        })
    }

    /// The `k` nearest points to `p`, nearest first, without those that `skip` names.
    pub fn nearest(&self, p: DVec3, k: usize, skip: impl Fn(u32) -> bool) -> Vec<(f64, u32)> {
        // By squares, of which only the best are kept as they come.
        let mut found: Vec<(f64, u32)> = Vec::with_capacity(k + 1);
        for r in 0.. {
            let next = self.ring(p, r, |id, q| {
                let d = q.distance_squared(p);
                let nearer =
                    |other: &(f64, u32)| other.0.total_cmp(&d).then(other.1.cmp(&id)).is_lt();
                if (found.len() < k || !nearer(&found[k - 1])) && !skip(id) {
                    found.insert(found.partition_point(nearer), (d, id));
                    found.truncate(k);
                }
            });
            match next {
                Some(next) if found.len() < k || found[k - 1].0 > next * next => {}
                _ => break,
            }
        }
        found.iter_mut().for_each(|f| f.0 = f.0.sqrt());
        found
    }

    /// The points within a distance of `p`, in the order of their numbers.
    pub fn within(&self, p: DVec3, distance: f64) -> Vec<u32> {
        let mut found = Vec::new();
        self.around(p, distance, |id, q| {
            if q.distance_squared(p) <= distance * distance {
                found.push(id);
            }
        });
        found.sort_unstable();
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Places in the unit cube, repeatable.
    fn spread(i: u64) -> DVec3 {
        DVec3::new(0.819_172_5, 0.671_043_6, 0.549_700_5).map(|step| (step * i as f64).fract())
    }

    #[test]
    fn nearest_and_within_agree_with_asking_every_point() {
        for flat in [false, true] {
            let place = |i: u64, size: f64| {
                let p = (spread(i) - 0.3) * size;
                if flat {
                    p.with_z(0.0)
                } else {
                    p
                }
            };
            let points: Vec<DVec3> = (1..500).map(|i| place(i, 40.0)).collect();
            let grid = PointGrid::new(&points);
            for i in 1..200 {
                // Some lie outside the points' box.
                let p = place(i * 7, 60.0);
                let mut all: Vec<(f64, u32)> =
                    points.iter().enumerate().map(|(n, q)| (q.distance(p), n as u32)).collect();
                all.sort_by(|a, b| a.0.total_cmp(&b.0));
                assert_eq!(grid.nearest(p, 6, |_| false), all[..6]);
                let mut near: Vec<u32> = all.iter().filter(|a| a.0 <= 9.0).map(|a| a.1).collect();
                near.sort_unstable();
                assert_eq!(grid.within(p, 9.0), near);
            }
        }
        assert!(PointGrid::new(&[]).nearest(DVec3::ZERO, 3, |_| false).is_empty());
    }
}
