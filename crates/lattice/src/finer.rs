//! Cells that are smaller near chosen places: the wanted size anywhere, as a share of the cell
//! size.

use super::relaxing::{NoCache, RelaxationCache};
use glam::DVec3;
use ulmix_part::solids::Solid;
use ulmix_part::Part;
use ulmix_recipe::{Finer, Place, Zones};

/// What a structure is made in.
#[derive(Clone, Copy)]
pub struct Site<'a> {
    /// The part that is filled.
    pub part: &'a Part,
    /// Places around which cells are smaller; see [`marked`].
    pub finer: &'a [&'a Place],
    /// Places toward which struts are thicker; see [`taper::marked`](super::taper::marked).
    pub thicker: &'a [&'a Place],
    /// For looking while values are chosen: a foam sheet that is not wholly relaxed will do.
    pub draft: bool,
    /// Where relaxing seed points leaves off.
    pub relaxed: &'a dyn RelaxationCache,
}

impl<'a> From<&'a Part> for Site<'a> {
    fn from(part: &'a Part) -> Site<'a> {
        Site { part, finer: &[], thicker: &[], draft: false, relaxed: &NoCache }
    }
}

/// Zones around which cells are smaller, where a structure makes use of that.
pub fn marked<'a>(zones: &'a Zones, finer: Option<&Finer>) -> Vec<&'a Place> {
    zones.list.iter().filter(|z| z.finer && finer.is_some()).map(|z| &z.place).collect()
}

/// The size of cells by place.
pub struct CellSizes<'a> {
    /// Where cells are smallest.
    near: Vec<Solid>,
    surface: Option<&'a Part>,
    finer: Finer,
}

impl<'a> CellSizes<'a> {
    /// `None` when cells are of one size everywhere.
    pub fn of(site: Site<'a>, finer: Option<&Finer>) -> Option<CellSizes<'a>> {
        let finer = finer?;
        let regions = site.finer.iter().map(|place| Solid::of(place, site.part).0);
        // Faces that the part does not have are nowhere.
        let near: Vec<Solid> =
            regions.filter(|r| r.value(site.part.mesh.points[0]).is_finite()).collect();
        let surface = finer.surface.then_some(site.part);
        (surface.is_some() || !near.is_empty()).then_some(CellSizes {
            near,
            surface,
            finer: *finer,
        })
    }

    /// The smallest share.
    pub fn least(&self) -> f64 {
        self.finer.share
    }

    /// By how much the share changes over a mm at most: half again the even slope, in the middle of
    /// the step.
    pub fn steepest(&self) -> f64 {
        1.5 * (1.0 - self.finer.share) / self.finer.reach_mm
    }

    /// Size at a place over the cell size: the least where cells are smallest, growing smoothly to
    /// 1.
    pub fn share(&self, p: DVec3) -> f64 {
        let reach = self.finer.reach_mm;
        let from_surface = self
            .surface
            .and_then(|part| part.distance.query(p, reach))
            .map_or(reach, |(d, _)| d.abs());
        let away =
            self.near.iter().map(|s| s.value(p).max(0.0)).fold(from_surface.min(reach), f64::min);
        let t = away / reach;
        self.finer.share + (1.0 - self.finer.share) * t * t * (3.0 - 2.0 * t)
    }
}
