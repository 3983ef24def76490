//! How far a place lies along a direction, about an axis, or from a line. mm.

use super::ScalarField;
use glam::DVec3;

/// Distance from a plane, along its normal.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AlongDirection {
    origin: DVec3,
    direction: DVec3,
}

impl AlongDirection {
    /// 0 at `origin`, growing along a direction of any length; along z where it has none.
    pub fn new(origin: DVec3, direction: DVec3) -> AlongDirection {
        AlongDirection { origin, direction: direction.normalize_or(DVec3::Z) }
    }
}

impl ScalarField for AlongDirection {
    fn value(&self, p: DVec3) -> f64 {
        (p - self.origin).dot(self.direction)
    }
}

/// Distance from an axis.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AboutAxis(AlongDirection);

impl AboutAxis {
    /// The axis through `origin` along a direction of any length; along z where it has none.
    pub fn new(origin: DVec3, direction: DVec3) -> AboutAxis {
        AboutAxis(AlongDirection::new(origin, direction))
    }
}

impl ScalarField for AboutAxis {
    fn value(&self, p: DVec3) -> f64 {
        let AlongDirection { origin, direction } = self.0;
        let away = p - origin;
        (away - direction * away.dot(direction)).length()
    }
}

/// Distance from a line of straight pieces.
#[derive(Clone, Debug, PartialEq)]
pub struct FromLine {
    points: Vec<DVec3>,
}

impl FromLine {
    /// The line through points in mm, in order. One point is a line without length.
    pub fn new(points: Vec<DVec3>) -> FromLine {
        FromLine { points }
    }
}

impl ScalarField for FromLine {
    /// Infinite for a line without points.
    fn value(&self, p: DVec3) -> f64 {
        let of_point = self.points.first().map_or(f64::INFINITY, |q| q.distance_squared(p));
        let pieces = self.points.windows(2).map(|w| {
            let way = w[1] - w[0];
            let t =
                ((p - w[0]).dot(way) / way.length_squared().max(f64::MIN_POSITIVE)).clamp(0.0, 1.0);
            (w[0] + way * t).distance_squared(p)
        });
        pieces.fold(of_point, f64::min).sqrt()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_lie_where_geometry_says() {
        let p = DVec3::new(3.0, 4.0, 7.0);
        assert_eq!(AlongDirection::new(DVec3::Z, DVec3::Z * 9.0).value(p), 6.0);
        assert_eq!(AlongDirection::new(DVec3::Z, DVec3::ZERO).value(p), 6.0);
        let slanted = AlongDirection::new(DVec3::ZERO, DVec3::new(3.0, 4.0, 0.0));
        assert!((slanted.value(p) - 5.0).abs() < 1e-12);
        assert!((AboutAxis::new(DVec3::Z, -DVec3::Z).value(p) - 5.0).abs() < 1e-12);
        let corner = FromLine::new(vec![DVec3::ZERO, DVec3::X * 10.0, DVec3::new(10.0, 10.0, 0.0)]);
        for (at, away) in [
            (DVec3::new(5.0, 3.0, 4.0), 5.0),
            (DVec3::new(-3.0, 0.0, 4.0), 5.0),
            (DVec3::new(12.0, 5.0, 0.0), 2.0),
            (DVec3::new(10.0, 13.0, 4.0), 5.0),
            (DVec3::new(10.0, 0.0, 1.0), 1.0),
        ] {
            assert!((corner.value(at) - away).abs() < 1e-12, "{at}");
        }
        assert_eq!(FromLine::new(vec![DVec3::ZERO, DVec3::ZERO]).value(DVec3::Y * 2.0), 2.0);
        assert_eq!(FromLine::new(Vec::new()).value(p), f64::INFINITY);
    }
}
