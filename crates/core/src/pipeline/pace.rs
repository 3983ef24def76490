//! How fast this machine is at every stage, learned from its own runs.

use super::Stage;
use crate::result::StageCost;
use serde::{Deserialize, Serialize};

/// How fast a machine is at a stage.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Pace {
    /// The stage that was timed.
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
    /// Measured over predicted seconds of a stage; 1 where nothing was measured.
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
        let costs = [
            StageCost { stage: Stage::Surface, seconds: 2.0 },
            StageCost { stage: Stage::Zones, seconds: 1e-3 },
        ];
        let mut paces = Paces::default();
        let surface = |paces: &Paces| paces.corrected(&costs)[0].seconds;
        assert_eq!(surface(&paces), 2.0);
        for _ in 0..12 {
            paces.learn(
                &costs,
                [(Stage::Surface, 6.0), (Stage::Zones, 2e-3), (Stage::Report, 1.0)].into_iter(),
            );
        }
        assert!((surface(&paces) - 6.0).abs() < 1e-9);
        // Too short to tell, and none estimated.
        assert_eq!((paces.of(Stage::Zones), paces.of(Stage::Report)), (1.0, 1.0));
        paces.learn(&costs, [(Stage::Surface, 6000.0)].into_iter());
        assert!(surface(&paces) < 7.5, "{}", surface(&paces));
    }
}
