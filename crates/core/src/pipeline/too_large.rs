//! What to do where a final mesh needs more memory than there is.

use crate::asked::Feature;
use crate::recipe::{round_two, RecipeError};

/// A final mesh that does not fit.
pub struct TooLarge<'a> {
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
    /// Tells what would fit instead: a coarser step and what that loses, larger cells, less of the part. `memory_at` is what
    /// a step, in mm, needs in MB.
    pub fn refusal(&self, memory_at: &dyn Fn(f64) -> f64) -> RecipeError {
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
    if seconds < 90.0 {
        format!("{seconds:.0} s")
    } else {
        format!("{:.0} min", seconds / 60.0)
    }
}
