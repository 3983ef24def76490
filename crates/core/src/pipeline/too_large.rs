//! What to do where a final mesh needs more memory than there is.

use crate::asked::Feature;
use ulmix_recipe::{round_two, RecipeError, RecipeFault, Suffers, TooLarge};

/// A final mesh that does not fit.
pub(super) struct LargeRun<'a> {
    /// What it would need, and what it may use.
    pub memory_mb: f64,
    pub memory_cap_mb: f64,
    pub seconds: f64,
    /// Step of the grid.
    pub step_mm: f64,
    /// Size of the smallest cells.
    pub cell_mm: f64,
    /// What comes nearest to not being whole on a coarser grid.
    pub scarcest: Option<&'a Feature>,
}

impl LargeRun<'_> {
    /// Tells what would fit instead: a coarser step and what that loses, larger cells, less of the
    /// part. `memory_at` is what a step, in mm, needs in MB.
    pub(super) fn refusal(&self, memory_at: &dyn Fn(f64) -> f64) -> RecipeError {
        let mut step = self.step_mm;
        while memory_at(step) > self.memory_cap_mb && step < 1e3 * self.step_mm {
            step *= 1.02;
        }
        // Two digits, rounded up.
        let step = round_two(1.05 * step);
        let suffers = self.scarcest.map(|f| Suffers {
            name: f.name.clone(),
            steps: f.thickness_mm / step,
            whole: f.whole,
        });
        // Cells scaled with their thickness need memory by the cube of their size.
        let larger = (self.memory_mb / self.memory_cap_mb).cbrt();
        let fault = TooLarge {
            memory_mb: self.memory_mb,
            memory_cap_mb: self.memory_cap_mb,
            seconds: self.seconds,
            step_mm: step,
            suffers,
            cell_mm: round_two(1.05 * larger * self.cell_mm),
        };
        RecipeError::new("mesh.step_mm", RecipeFault::TooLarge(Box::new(fault)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refusal(memory_mb: f64, cap: f64, thickness_mm: f64) -> RecipeError {
        let feature = Feature {
            name: "walls".into(),
            thickness_mm,
            whole: 3.0,
            round: false,
            place_mm: None,
        };
        let job = LargeRun {
            memory_mb,
            memory_cap_mb: cap,
            seconds: 150.0,
            step_mm: 0.1,
            cell_mm: 5.0,
            scarcest: Some(&feature),
        };
        // Memory by the square of the step.
        job.refusal(&|step| memory_mb * (0.1 / step).powi(2))
    }

    #[test]
    fn what_would_fit_is_named_and_fits() {
        let e = refusal(4000.0, 1000.0, 0.3);
        assert_eq!(e.field, "mesh.step_mm");
        assert!(
            e.message().contains("3.9 GB")
                && e.message().contains("2 min")
                && e.message().contains("1.0 GB"),
            "{e:?}"
        );
        let after = |words: &str| -> f64 {
            e.hint().split(words).nth(1).unwrap().split([' ', ')']).next().unwrap().parse().unwrap()
        };
        // Twice the step needs a quarter, and cells of 1.6 times the size as well.
        let (step, cell) = (after("step of "), after("cells of about "));
        assert!((0.2..0.24).contains(&step) && (7.9..9.0).contains(&cell), "{e:?}");
        assert!(e.hint().contains("25 % of"), "{e:?}");
    }

    #[test]
    fn what_a_coarser_step_loses_is_told() {
        for (thickness, words) in
            [(0.9, "still shows everything"), (0.4, "may break them"), (0.2, "loses them")]
        {
            let e = refusal(4000.0, 1000.0, thickness);
            assert!(
                e.hint().contains("through walls") && e.hint().contains(words),
                "{thickness} mm: {e:?}"
            );
        }
    }
}
