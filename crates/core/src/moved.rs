//! How far a surface lies from another.

use glam::DVec3;
use rayon::prelude::*;
use ulmix_mesh::Bvh;

/// Over all places that were looked at. mm.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moved {
    pub greatest: f64,
    pub mean: f64,
}

impl Moved {
    /// Of places, each list from the surface beside it.
    pub fn of(lists: &[(&[DVec3], &Bvh)]) -> Moved {
        let away = |p: &DVec3, from: &Bvh| from.nearest(*p, f64::INFINITY).map_or(0.0, |n| n.distance_squared.sqrt());
        let far: Vec<f64> =
            lists.iter().flat_map(|(places, from)| places.par_iter().map(|p| away(p, from)).collect::<Vec<f64>>()).collect();
        Moved { greatest: far.iter().copied().fold(0.0, f64::max), mean: far.iter().sum::<f64>() / far.len().max(1) as f64 }
    }
}
