//! Cells whose size changes from place to place.

use super::relaxing::{NoCache, RelaxationCache};
use glam::DVec3;
use ulmix_field::scalar::{Sampled, ScalarField};
use ulmix_mesh::Bounds;
use ulmix_part::grading::GradedField;
use ulmix_part::Part;
use ulmix_recipe::grading::{Given, PlacedGrading};
use ulmix_recipe::Structure;

/// What a structure is made in.
#[derive(Clone, Copy)]
pub struct Site<'a> {
    /// The part that is filled.
    pub part: &'a Part,
    /// The grading that the size of cells follows.
    pub sizes: Option<&'a PlacedGrading<'a>>,
    /// For looking while values are chosen: a foam sheet that is not wholly relaxed will do.
    pub draft: bool,
    /// Where relaxing seed points leaves off.
    pub relaxed: &'a dyn RelaxationCache,
}

impl<'a> From<&'a Part> for Site<'a> {
    fn from(part: &'a Part) -> Site<'a> {
        Site { part, sizes: None, draft: false, relaxed: &NoCache }
    }
}

/// Samples of a graded value along the size of a cell.
const ALONG_CELL: f64 = 3.0;
/// Samples along the shortest length over which the value changes from one to another.
const ALONG_CHANGE: f64 = 12.0;
/// Samples of a graded value in the part's box, at most.
const MOST_SAMPLES: f64 = 600_000.0;
/// The least size of a cell as a share of the largest.
const LEAST_SHARE: f64 = 0.02;

/// What a grading gives in a part's box, in its own unit. `cell`: size of cells that the values lead,
/// or that they are led in. mm. `None` where no source of it has what it names.
///
/// # Errors
/// `Err` when cancelled.
pub fn sampled(
    part: &Part,
    grading: &PlacedGrading,
    cell: f64,
    cancelled: &(dyn Fn() -> bool + Sync),
) -> Result<Option<Sampled>, Cancelled> {
    let Some(field) = GradedField::of(part, grading) else { return Ok(None) };
    let Bounds { min, max } = part.mesh.bounds();
    let bounds = Bounds { min: min - 0.5 * cell, max: max + 0.5 * cell };
    let volume = bounds.size().element_product();
    let wanted = (cell / ALONG_CELL).min(grading.finest_mm() / ALONG_CHANGE);
    let step = wanted.max((volume / MOST_SAMPLES).cbrt());
    Sampled::of(&field, &bounds, step, cancelled).map(Some).ok_or(Cancelled)
}

/// Work was ended before it was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cancelled;

/// The size of cells by place, as a share of where they are largest.
pub struct CellSizes {
    shares: Sampled,
}

impl CellSizes {
    /// Sizes of a structure's cells, and the structure with the cell size of where cells are
    /// largest. No sizes where cells are of one size everywhere.
    ///
    /// # Errors
    /// `Err` when cancelled.
    pub fn of(
        site: Site,
        s: &Structure,
        cancelled: &(dyn Fn() -> bool + Sync),
    ) -> Result<(Option<CellSizes>, Structure), Cancelled> {
        let graded = site.sizes.filter(|_| s.sizes_by_place());
        let Some(grading) = graded else { return Ok((None, s.clone())) };
        let cell = s.smallest();
        let Some(values) = sampled(site.part, grading, cell, cancelled)? else {
            return Ok((None, s.clone()));
        };
        let share = |v: f64| match grading.given {
            Given::Millimetres => v / cell,
            Given::Percent => v / 100.0,
            Given::Added => 1.0 + v / cell,
        };
        let largest = share(values.range()[1]).max(LEAST_SHARE);
        let of_largest = |v: f32| (share(v as f64) / largest).max(LEAST_SHARE) as f32;
        let shares = values.mapped(of_largest);
        let scaled = Structure { cell_mm: s.cell_mm.map(|v| v * largest), ..s.clone() };
        Ok((Some(CellSizes { shares }), scaled))
    }

    /// The smallest share.
    pub fn least(&self) -> f64 {
        self.shares.range()[0]
    }

    /// By how much the share changes over a mm at most.
    pub fn steepest(&self) -> f64 {
        self.shares.steepest()
    }

    /// Size at a place over that of the largest cells.
    #[inline]
    pub fn share(&self, p: DVec3) -> f64 {
        self.shares.value(p)
    }

    /// Memory that is held.
    pub fn bytes(&self) -> usize {
        self.shares.bytes()
    }
}
