//! What to do where a final mesh needs more memory than there is.

use crate::asked::Feature;
use ulmix_recipe::{round_two, RecipeError};

/// A final mesh that does not fit.
pub(super) struct TooLarge<'a> {
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

impl TooLarge<'_> {
    /// Tells what would fit instead: a coarser step and what that loses, larger cells, less of the
    /// part. `memory_at` is what a step, in mm, needs in MB.
    pub(super) fn refusal(&self, memory_at: &dyn Fn(f64) -> f64) -> RecipeError {
        let message = format!(
            "The final mesh would need about {} of memory and {}; {} may be used here.",
            in_bytes(self.memory_mb),
            in_time(self.seconds),
            in_bytes(self.memory_cap_mb)
        );
        let mut step = self.step_mm;
        while memory_at(step) > self.memory_cap_mb && step < 1e3 * self.step_mm {
            step *= 1.02;
        }
        // Two digits, rounded up.
        let step = round_two(1.05 * step);
        let loses = self.scarcest.map_or_else(String::new, |f| {
            let steps = f.thickness_mm / step;
            let then = match steps / f.whole {
                s if s >= 1.0 => "which still shows everything",
                s if s >= 0.5 => "which may break them",
                _ => "which loses them",
            };
            format!(" ({steps:.1} steps through {}, {then})", f.name)
        });
        // Cells scaled with their thickness need memory by the cube of their size.
        let larger = (self.memory_mb / self.memory_cap_mb).cbrt();
        let hint = format!(
            "It fits with a grid step of {step} mm{loses}, with cells of about {} mm that are as much thicker, or with {:.0} % of \
             the part filled and the rest kept solid or clear.",
            round_two(1.05 * larger * self.cell_mm),
            (100.0 * self.memory_cap_mb / self.memory_mb).floor().max(1.0)
        );
        RecipeError::new("mesh.step_mm", message, hint)
    }
}

fn in_bytes(mb: f64) -> String {
    if mb < 950.0 {
        format!("{mb:.0} MB")
    } else {
        format!("{:.1} GB", mb / 1024.0)
    }
}

fn in_time(seconds: f64) -> String {
    match seconds {
        s if s < 90.0 => format!("{s:.0} s"),
        s if s < 5400.0 => format!("{:.0} min", s / 60.0),
        s => format!("{:.0} h", s / 3600.0),
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
        let job = TooLarge {
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
            e.message.contains("3.9 GB")
                && e.message.contains("2 min")
                && e.message.contains("1.0 GB"),
            "{e:?}"
        );
        let after = |words: &str| -> f64 {
            e.hint.split(words).nth(1).unwrap().split([' ', ')']).next().unwrap().parse().unwrap()
        };
        // Twice the step needs a quarter, and cells of 1.6 times the size as well.
        let (step, cell) = (after("step of "), after("cells of about "));
        assert!((0.2..0.24).contains(&step) && (7.9..9.0).contains(&cell), "{e:?}");
        assert!(e.hint.contains("25 % of"), "{e:?}");
    }

    #[test]
    fn what_a_coarser_step_loses_is_told() {
        for (thickness, words) in
            [(0.9, "still shows everything"), (0.4, "may break them"), (0.2, "loses them")]
        {
            let e = refusal(4000.0, 1000.0, thickness);
            assert!(
                e.hint.contains("through walls") && e.hint.contains(words),
                "{thickness} mm: {e:?}"
            );
        }
    }

    #[test]
    fn small_and_large_figures_have_their_units() {
        assert_eq!([in_bytes(349.6), in_bytes(6_070_272.0)], ["350 MB", "5928.0 GB"]);
        assert_eq!([61.0, 750.0, 75_600.0].map(in_time), ["61 s", "12 min", "21 h"]);
    }
}
