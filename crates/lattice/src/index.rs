//! Bins of space, each with the things that matter inside it.

use glam::DVec3;
use ulmix_mesh::groups::Groups;
use ulmix_mesh::parallel;

/// A box cut into equal bins. One that repeats stands for the whole of space.
#[derive(Clone)]
pub struct SpaceBins {
    low: DVec3,
    /// Size of the whole box. mm.
    size: DVec3,
    /// The size along each axis, and 1 where an axis has none.
    period: DVec3,
    count: [usize; 3],
    /// Bins per mm, by axis.
    per_mm: DVec3,
    repeats: bool,
    held: Groups,
}

/// Most bins of a box.
const MOST_BINS: f64 = 4e6;

impl SpaceBins {
    /// Empty bins of about `edge` mm. A side without size has one bin.
    pub fn new(low: DVec3, size: DVec3, edge: f64, repeats: bool) -> SpaceBins {
        let wanted = |edge: f64| (size / edge).round().max(DVec3::ONE);
        let mut edge = edge;
        while wanted(edge).to_array().iter().product::<f64>() > MOST_BINS {
            edge *= 1.2;
        }
        let n = wanted(edge);
        let per_mm = DVec3::select(size.cmpgt(DVec3::ZERO), n / size, DVec3::ZERO);
        let count = n.to_array().map(|c| c as usize);
        let period = DVec3::select(size.cmpgt(DVec3::ZERO), size, DVec3::ONE);
        SpaceBins {
            low,
            size,
            period,
            count,
            per_mm,
            repeats,
            held: Groups::of(count.iter().product(), std::iter::empty),
        }
    }

    fn len(&self) -> usize {
        self.held.len()
    }

    /// A place of the box that stands for `p`.
    #[inline(always)]
    pub fn reduced(&self, p: DVec3) -> DVec3 {
        if !self.repeats {
            return p - self.low;
        }
        let q = p - self.low;
        q - self.period * (q / self.period).floor()
    }

    /// Bin of a reduced place; of one outside the box the nearest.
    #[inline(always)]
    pub fn of(&self, reduced: DVec3) -> usize {
        let c = (reduced * self.per_mm).max(DVec3::ZERO);
        let at = |axis: usize| (c[axis] as usize).min(self.count[axis] - 1);
        (at(2) * self.count[1] + at(1)) * self.count[0] + at(0)
    }

    /// What matters in a bin.
    #[inline(always)]
    pub fn list(&self, bin: usize) -> &[u32] {
        self.held.get(bin)
    }

    /// Middle of a bin, reduced.
    fn middle(&self, c: [usize; 3]) -> DVec3 {
        let c = DVec3::from(c.map(|v| v as f64 + 0.5));
        DVec3::select(
            self.size.cmpgt(DVec3::ZERO),
            c * self.size / DVec3::from(self.count.map(|v| v as f64)),
            DVec3::ZERO,
        )
    }

    /// Half the diagonal of a bin. mm.
    pub fn half_diagonal(&self) -> f64 {
        0.5 * (self.size / DVec3::from(self.count.map(|v| v as f64))).length()
    }

    /// Puts things into the bins that they matter in: `span` gives a reduced box outside of which a
    /// thing does not, `matters` is then asked with every bin's middle.
    pub fn fill(
        mut self,
        things: usize,
        span: impl Fn(usize) -> (DVec3, DVec3) + Sync,
        matters: impl Fn(usize, DVec3) -> bool + Sync,
    ) -> SpaceBins {
        let range = |axis: usize, low: f64, high: f64| {
            let most = self.count[axis] as f64 - 1.0;
            let at = |v: f64| (v * self.per_mm[axis]).floor();
            if self.per_mm[axis] > 0.0 && (at(high) < 0.0 || at(low) > most) {
                return 0..0;
            }
            at(low).clamp(0.0, most) as usize..at(high).clamp(0.0, most) as usize + 1
        };
        let pairs: Vec<(u32, u32)> = parallel::flat_map(things, |id| {
            let (low, high) = span(id);
            let mut found = Vec::new();
            for z in range(2, low.z, high.z) {
                for y in range(1, low.y, high.y) {
                    for x in range(0, low.x, high.x) {
                        if matters(id, self.middle([x, y, z])) {
                            let bin = (z * self.count[1] + y) * self.count[0] + x;
                            found.push((bin as u32, id as u32));
                        }
                    }
                }
            }
            found
        });
        // Pairs come in the order of things, and stay so within their bin.
        self.held = Groups::of(self.len(), || pairs.iter().copied());
        self
    }

    /// Puts into every bin what `find` gives for its middle.
    pub fn gather(mut self, find: impl Fn(DVec3) -> Vec<u32> + Sync) -> SpaceBins {
        let [x, y, _] = self.count;
        let lists: Vec<Vec<u32>> = parallel::map(self.len(), |bin| {
            find(self.middle([bin % x, bin / x % y, bin / (x * y)]))
        });
        self.held = Groups::of(lists.len(), || {
            lists.iter().zip(0..).flat_map(|(list, bin)| list.iter().map(move |id| (bin, *id)))
        });
        self
    }

    /// Memory that the bins take.
    pub fn bytes(&self) -> usize {
        (self.held.starts.len() + self.held.items.len()) * 4
    }
}
