//! Where seed points may lie: in a part and on its surface, or in the plane of a pattern.

use super::members::Frame;
use super::sizes::CellSizes;
use super::skeleton::Skeleton;
use glam::DVec3;
use ulmix_field::numeric::Random;
use ulmix_part::point_location::PointLocator;
use ulmix_part::Part;

/// Where points may lie.
pub trait SeedRegion: Sync {
    /// Bounds of the part.
    fn bounds(&self) -> (DVec3, DVec3);
    /// Distance from the part, negative inside; beyond `limit` any larger number.
    fn distance(&self, p: DVec3, limit: f64) -> f64;
    /// Does a place lie inside? None where only the distance tells.
    fn clearly_inside(&self, _: DVec3) -> Option<bool> {
        None
    }
    /// Share of its distance by which a point may move in any direction and stay on its side.
    fn slack(&self) -> f64;
    /// Volume of the region.
    fn volume(&self) -> f64;
    /// Of the part's surface; 0 where no point can lie on one. `from_above`: of its shadow along z,
    /// both sides together.
    fn area(&self, _from_above: bool) -> f64 {
        0.0
    }
    /// `count` places on that surface, as chance has it, each with where it counts as lying when
    /// places are to keep apart. `from_above`: evenly as they are seen along z, so that steep faces
    /// hold few; upper and lower sides are two sheets.
    fn on_surface(
        &self,
        _count: usize,
        _from_above: bool,
        _random: &mut Random,
    ) -> Vec<(DVec3, DVec3)> {
        Vec::new()
    }
    /// The nearest place on it.
    fn onto_surface(&self, p: DVec3) -> DVec3 {
        p
    }
    /// All points lie in the plane z = 0.
    fn flat(&self) -> bool;
    /// The wanted size of cells at a place over that of the largest.
    fn size(&self, _: DVec3) -> f64 {
        1.0
    }
    /// The least size of a cell anywhere, as a share of that where cells are largest.
    fn least_size(&self) -> f64 {
        1.0
    }
    /// By how much that size changes over a unit of length at most.
    fn steepest(&self) -> f64 {
        0.0
    }
}

/// A part in the structure's axes, measured in cells of size `scale`.
pub struct Scaled<'a> {
    /// The part that the region is in.
    pub part: &'a Part,
    /// Tells which places lie in the part.
    pub sides: &'a PointLocator<'a>,
    /// Axes of the structure.
    pub frame: Frame,
    /// Size of a cell along these axes. mm.
    pub scale: DVec3,
    /// Where cells are smaller.
    pub sizes: Option<&'a CellSizes>,
}

impl Scaled<'_> {
    /// A place of the part in cells.
    pub fn local(&self, p: DVec3) -> DVec3 {
        self.frame.local(p) / self.scale
    }

    /// Where a place in cells lies in the part. mm.
    pub fn placed(&self, p: DVec3) -> DVec3 {
        self.frame.back(p * self.scale)
    }

    /// May a strut between two places in cells come as near to the part as it is long?
    pub fn may_reach(&self, a: DVec3, b: DVec3) -> bool {
        !self.sides.clearly_outside(self.placed(a), self.placed(b))
    }

    /// The whole of a net in cells, in the part.
    pub fn placed_net(&self, net: Skeleton) -> Skeleton {
        Skeleton { nodes: net.nodes.iter().map(|p| self.placed(*p)).collect(), ..net }
    }

    fn corners(&self, triangle: usize) -> [DVec3; 3] {
        self.part.mesh.corners(triangle).map(|p| self.local(p))
    }

    /// Area of each triangle and all before it; or of their shadows along z.
    fn areas(&self, from_above: bool) -> Vec<f64> {
        let area = |t: usize| {
            let [a, b, c] = self.corners(t);
            let normal = (b - a).cross(c - a);
            0.5 * if from_above { normal.z.abs() } else { normal.length() }
        };
        let mut sum = 0.0;
        let add = |t: usize| {
            sum += area(t);
            sum
        };
        (0..self.part.mesh.triangles.len()).map(add).collect()
    }
}

impl SeedRegion for Scaled<'_> {
    fn bounds(&self) -> (DVec3, DVec3) {
        box_of(self.part, |p| self.local(p))
    }

    fn distance(&self, p: DVec3, limit: f64) -> f64 {
        // In the direction in which a cell is smallest a step is longest.
        let by = self.scale.min_element();
        let at = self.placed(p);
        match self.part.distance.query(at, limit * self.scale.max_element()) {
            Some((d, _)) => d / by,
            None if self.sides.inside(at) => -limit,
            None => 2.0 * limit,
        }
    }

    fn clearly_inside(&self, p: DVec3) -> Option<bool> {
        self.sides.clearly_inside(self.placed(p))
    }

    fn slack(&self) -> f64 {
        self.scale.min_element() / self.scale.max_element()
    }

    fn volume(&self) -> f64 {
        self.part.facts.volume_mm3 / self.scale.to_array().iter().product::<f64>()
    }

    fn area(&self, from_above: bool) -> f64 {
        self.areas(from_above).last().copied().unwrap_or(0.0)
    }

    fn on_surface(
        &self,
        count: usize,
        from_above: bool,
        random: &mut Random,
    ) -> Vec<(DVec3, DVec3)> {
        let sums = self.areas(from_above);
        let (low, high) = self.bounds();
        let apart = 2.0 * (high - low).length();
        let whole = sums.last().copied().unwrap_or(0.0);
        let place = |_| {
            let at = random.unit() * whole;
            let t = sums.partition_point(|s| *s <= at).min(sums.len() - 1);
            let [a, b, c] = self.corners(t);
            // Two halves of a parallelogram are one triangle.
            let (u, v) = (random.unit(), random.unit());
            let (u, v) = if u + v > 1.0 { (1.0 - u, 1.0 - v) } else { (u, v) };
            let p = a + (b - a) * u + (c - a) * v;
            let sheet = if (b - a).cross(c - a).z > 0.0 { apart } else { 0.0 };
            (p, if from_above { p.with_z(sheet) } else { p })
        };
        (0..if sums.is_empty() { 0 } else { count }).map(place).collect()
    }

    fn onto_surface(&self, p: DVec3) -> DVec3 {
        let near = self.part.bvh().nearest(self.placed(p), f64::INFINITY);
        near.map_or(p, |n| self.local(n.point))
    }

    fn flat(&self) -> bool {
        false
    }

    fn size(&self, p: DVec3) -> f64 {
        self.sizes.map_or(1.0, |s| s.share(self.placed(p)))
    }

    fn least_size(&self) -> f64 {
        self.sizes.map_or(1.0, CellSizes::least)
    }

    fn steepest(&self) -> f64 {
        self.sizes.map_or(0.0, |s| s.steepest() * self.scale.max_element())
    }
}

/// Bounds of the part's box in other axes.
pub(super) fn box_of(part: &Part, place: impl Fn(DVec3) -> DVec3) -> (DVec3, DVec3) {
    let b = part.mesh.bounds();
    let corner = |c: u32| {
        place(DVec3::select(glam::BVec3::new(c & 1 == 1, c & 2 == 2, c & 4 == 4), b.max, b.min))
    };
    (0..8)
        .map(corner)
        .fold((DVec3::INFINITY, DVec3::NEG_INFINITY), |(l, h), p| (l.min(p), h.max(p)))
}

/// A plane pattern: the shadow of the part's box.
pub struct Shadow {
    /// Low corner of the box. mm.
    pub low: DVec3,
    /// High corner of the box. mm.
    pub high: DVec3,
}

impl SeedRegion for Shadow {
    fn bounds(&self) -> (DVec3, DVec3) {
        (self.low, self.high)
    }

    fn distance(&self, p: DVec3, _: f64) -> f64 {
        let d = (self.low - p).max(p - self.high).with_z(f64::NEG_INFINITY);
        d.max_element()
    }

    fn slack(&self) -> f64 {
        1.0
    }

    fn volume(&self) -> f64 {
        let size = self.high - self.low;
        size.x * size.y
    }

    fn flat(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::DMat3;
    use proptest::prelude::*;
    use ulmix_mesh::TriMesh;

    fn block() -> Part {
        Part::prepare(&TriMesh::cuboid(DVec3::new(1.0, 2.0, 3.0), DVec3::new(21.0, 12.0, 9.0)))
            .unwrap()
    }

    /// Turned about all axes, away from the part's middle, with cells of three sizes.
    fn askew<'a>(part: &'a Part, sides: &'a PointLocator) -> Scaled<'a> {
        let turn = DMat3::from_euler(glam::EulerRot::ZYX, 0.4, -0.7, 1.1);
        let frame = Frame { turn, shift: DVec3::new(3.0, -1.0, 2.0), flat: false };
        Scaled { part, sides, frame, scale: DVec3::new(2.0, 3.0, 4.0), sizes: None }
    }

    proptest! {
        #[test]
        fn places_come_back_and_lie_as_far_from_the_part_as_cells_are_small(p in proptest::array::uniform3(-5.0..25.0f64)) {
            let part = block();
            let sides = PointLocator::new(&part, 100);
            let region = askew(&part, &sides);
            let p = DVec3::from(p);
            let local = region.local(p);
            prop_assert!(region.placed(local).distance(p) < 1e-9);
            let true_distance = part.distance.value(p);
            // In cells of the smallest size along any axis; beyond the limit only that it is
            // beyond.
            let told = region.distance(local, 1.0);
            let within = true_distance.abs() / 2.0;
            if within < 1.0 {
                prop_assert!((told - true_distance / 2.0).abs() < 1e-9, "{} for {}", told, true_distance);
            } else {
                prop_assert!(told.abs() >= 1.0 && (told < 0.0) == (true_distance < 0.0));
            }
            prop_assert!(region.clearly_inside(local).is_none_or(|inside| inside == (true_distance < 0.0)));
            // What lies on the surface nearest is on it.
            prop_assert!(part.distance.value(region.placed(region.onto_surface(local))).abs() < 1e-9);
            // By its slack a place may move in any direction without a change of sides.
            let reach = region.slack() * told.abs().min(1.0);
            for axis in DVec3::AXES {
                let value = part.distance.value(region.placed(local + axis * reach));
                prop_assert!(value.abs() < 1e-9 || (value < 0.0) == (true_distance < 0.0));
            }
        }
    }

    #[test]
    fn sizes_are_in_cells() {
        let part = block();
        let sides = PointLocator::new(&part, 100);
        let region = askew(&part, &sides);
        assert!((region.volume() - 20.0 * 10.0 * 6.0 / 24.0).abs() < 1e-9);
        let even =
            Scaled { frame: Frame::OF_PART, scale: DVec3::splat(2.0), ..askew(&part, &sides) };
        assert!((even.area(false) - 2.0 * (200.0 + 120.0 + 60.0) / 4.0).abs() < 1e-9);
        // From above both large faces are seen, and no other.
        assert!((even.area(true) - 2.0 * 200.0 / 4.0).abs() < 1e-9);
        let (low, high) = even.bounds();
        assert_eq!((low, high), (DVec3::new(0.5, 1.0, 1.5), DVec3::new(10.5, 6.0, 4.5)));
        // The turned box holds all corners.
        let (low, high) = region.bounds();
        assert!(part
            .mesh
            .points
            .iter()
            .map(|p| region.local(*p))
            .all(|p| p.cmpge(low - 1e-9).all() && p.cmple(high + 1e-9).all()));
    }

    #[test]
    fn places_on_the_surface_follow_the_area_or_its_shadow() {
        const COUNT: usize = 20_000;
        let part = block();
        let sides = PointLocator::new(&part, 100);
        let region = Scaled { frame: Frame::OF_PART, scale: DVec3::ONE, ..askew(&part, &sides) };
        let drawn = |from_above: bool| region.on_surface(COUNT, from_above, &mut Random::new(3, 0));
        let all = drawn(false);
        assert!(all
            .iter()
            .all(|(p, counts_at)| part.distance.value(*p).abs() < 1e-9 && counts_at == p));
        let share = |of: &dyn Fn(DVec3) -> bool| {
            all.iter().filter(|(p, _)| of(*p)).count() as f64 / COUNT as f64
        };
        for (of, area) in [
            (&(|p: DVec3| p.z > 9.0 - 1e-9) as &dyn Fn(DVec3) -> bool, 200.0),
            (&|p: DVec3| p.y < 2.0 + 1e-9, 120.0),
            (&|p: DVec3| p.x > 21.0 - 1e-9, 60.0),
            // Half of a face holds half of its points.
            (&|p: DVec3| p.z > 9.0 - 1e-9 && p.x < 11.0, 100.0),
        ] {
            // Four standard deviations of a count.
            let wanted = area / 760.0;
            assert!(
                (share(of) - wanted).abs() < 4.0 * (wanted / COUNT as f64).sqrt(),
                "{} {wanted}",
                share(of)
            );
        }
        // Seen from above there are no places on walls, and the two sheets never come near each
        // other.
        let (up, down): (Vec<_>, Vec<_>) = drawn(true).into_iter().partition(|(p, _)| p.z > 6.0);
        assert_eq!(up.len() + down.len(), COUNT);
        assert!((up.len() as f64 / COUNT as f64 - 0.5).abs() < 0.02);
        assert!(up
            .iter()
            .all(|(p, at)| p.z > 9.0 - 1e-9 && at.truncate() == p.truncate() && at.z > 20.0));
        assert!(down.iter().all(|(p, at)| p.z < 3.0 + 1e-9 && at.z == 0.0));
    }

    #[test]
    fn a_shadow_is_flat_and_its_border_is_that_of_the_box() {
        let shadow = Shadow { low: DVec3::new(-1.0, -2.0, 0.0), high: DVec3::new(3.0, 4.0, 0.0) };
        assert!(shadow.flat() && shadow.volume() == 24.0 && shadow.area(false) == 0.0);
        for (p, distance) in
            [((1.0, 1.0), -2.0), ((2.5, 0.0), -0.5), ((3.5, 0.0), 0.5), ((0.0, -4.0), 2.0)]
        {
            assert_eq!(shadow.distance(DVec3::new(p.0, p.1, 0.0), 9.0), distance);
        }
        assert!(shadow.on_surface(5, false, &mut Random::new(1, 0)).is_empty());
    }
}
