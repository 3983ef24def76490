//! What a final run will take, stage by stage, before it is started; and how this machine's own runs correct that.

use super::{Linked, Stage};
use crate::part::Part;
use crate::recipe::{Kind, Place, Recipe, StrutSection};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a stage will take.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StageCost {
    pub stage: Stage,
    pub seconds: f64,
}

/// Counts that the cost of stages follows.
pub struct Load {
    /// Samples of the grid.
    pub samples: f64,
    /// Triangles before reduction.
    pub raw: f64,
    /// Those of them where more than one smooth field decides: at the part's own faces, solids and skins.
    pub exact: f64,
    /// Triangles after reduction.
    pub kept: f64,
    /// Squares of the grid's step on the part's surface.
    pub on_part: f64,
    /// Skins, and zones that are told by the distance from faces.
    pub near: f64,
    /// Some struts have sharp edges: every place is looked at by itself.
    pub sharp: bool,
    /// Some filling is of struts, or of cells of seed points.
    pub members: bool,
    /// Cells of foam that come to rest.
    pub foam_cells: f64,
    pub bodies: f64,
}

impl Load {
    pub fn of(part: &Part, recipe: &Recipe, linked: &Linked, step: f64, [raw, kept]: [f64; 2]) -> Load {
        let size = part.mesh.bounds().size() / step + 4.0;
        let fillings = recipe.fillings();
        let sharp = fillings.iter().any(|f| matches!(f.joins.section, StrutSection::Rectangular { .. }));
        let borders = linked.solid_open_area_mm2 + linked.fills().map(|f| f.open_area_mm2 + f.solid_area_mm2).sum::<f64>();
        let share = (borders / linked.area_mm2().max(1e-9)).min(1.0);
        let by_faces = recipe.zones.list.iter().filter(|z| matches!(z.place, Place::Faces { .. })).count();
        let is_foam = |kind: &Kind| matches!(kind, Kind::Foam(_));
        let each = || fillings.iter().zip(linked.fills());
        let foam = each().filter(|(f, _)| is_foam(&f.structure.kind));
        Load {
            samples: size.x * size.y * size.z,
            raw,
            exact: raw * share,
            kept,
            on_part: part.facts.area_mm2 / (step * step),
            near: (recipe.zones.skins.len() + by_faces) as f64,
            sharp,
            members: each().any(|(f, _)| !matches!(f.structure.kind, Kind::Surface(_) | Kind::Foam(_))),
            foam_cells: foam.map(|(_, of)| part.facts.volume_mm3 / of.cell_mm.powi(3)).sum(),
            bodies: if recipe.mesh.apart_mm.is_some() { 2.0 } else { 1.0 },
        }
    }

    /// By stage. The factors are of two cores of the kind that the product is measured on: see benches/figures.rs.
    pub fn seconds(&self) -> Vec<StageCost> {
        let if_sharp = |more: f64| if self.sharp { more } else { 0.0 };
        let of = |stage: Stage| match stage {
            Stage::Zones => 0.01 + self.bodies * (1.5e-8 * self.samples + 4.5e-6 * self.near * self.on_part),
            Stage::Skeleton => 0.05 + 2e-3 * self.foam_cells,
            Stage::Thickness => 0.05,
            Stage::Lattice => self.samples * (2e-8 + if self.members { 1e-7 } else { 0.0 } + if_sharp(5e-7)),
            Stage::Surface => 0.02 + 1e-6 * self.raw + (2.7e-6 + 4.3e-6 * self.near) * self.exact + if_sharp(5e-6 * self.raw),
            Stage::Finish => 0.03 + 2.5e-6 * self.kept,
            Stage::Report => 1.2 + 1.8e-6 * self.kept + 1.5 * self.near.min(1.0),
        };
        Stage::ALL.map(|stage| StageCost { stage, seconds: of(stage) }).to_vec()
    }
}

/// How fast a machine is at a stage.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Pace {
    pub stage: Stage,
    /// Actual over estimated seconds.
    pub ratio: f64,
    /// Runs that it is known from.
    pub runs: u32,
}

/// What a machine's own runs have taught of it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Paces(pub Vec<Pace>);

/// One run counts for so much of what is known at least.
const NEWEST: f64 = 0.15;
/// Stages shorter than this teach nothing. Seconds.
const SHORT: f64 = 0.05;
/// Ratios beyond this in either direction are those of something else that went on.
const MOST: f64 = 8.0;

impl Paces {
    pub fn of(&self, stage: Stage) -> f64 {
        self.0.iter().find(|p| p.stage == stage).map_or(1.0, |p| p.ratio)
    }

    /// Estimates as this machine's runs correct them.
    pub fn corrected(&self, costs: &[StageCost]) -> Vec<StageCost> {
        costs.iter().map(|c| StageCost { seconds: c.seconds * self.of(c.stage), ..*c }).collect()
    }

    /// Learns from what stages took whose uncorrected estimates were `costs`.
    pub fn learn(&mut self, costs: &[StageCost], took: impl Iterator<Item = (Stage, f64)>) {
        for (stage, seconds) in took {
            let Some(cost) = costs.iter().find(|c| c.stage == stage) else { continue };
            if seconds.max(cost.seconds) < SHORT {
                continue;
            }
            let found = (seconds / cost.seconds).clamp(1.0 / MOST, MOST);
            match self.0.iter_mut().find(|p| p.stage == stage) {
                // Means of ratios are geometric ones.
                Some(p) => {
                    p.runs += 1;
                    let weight = (1.0 / p.runs as f64).max(NEWEST);
                    p.ratio = (p.ratio.ln() * (1.0 - weight) + found.ln() * weight).exp();
                }
                None => self.0.push(Pace { stage, ratio: found, runs: 1 }),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slow_machine_is_known_after_some_runs_and_one_odd_run_does_not_undo_that() {
        let costs = [StageCost { stage: Stage::Surface, seconds: 2.0 }, StageCost { stage: Stage::Zones, seconds: 1e-3 }];
        let mut paces = Paces::default();
        let surface = |paces: &Paces| paces.corrected(&costs)[0].seconds;
        assert_eq!(surface(&paces), 2.0);
        for _ in 0..12 {
            paces.learn(&costs, [(Stage::Surface, 6.0), (Stage::Zones, 2e-3), (Stage::Report, 1.0)].into_iter());
        }
        assert!((surface(&paces) - 6.0).abs() < 1e-9);
        // Too short to tell, and none estimated.
        assert_eq!((paces.of(Stage::Zones), paces.of(Stage::Report)), (1.0, 1.0));
        paces.learn(&costs, [(Stage::Surface, 6000.0)].into_iter());
        assert!(surface(&paces) < 7.5, "{}", surface(&paces));
    }
}
