//! Thickness told from a structure's measure, and back.

use super::BareStructure;

/// How a structure's level follows from its thickness, as straight pieces.
#[derive(Clone, Debug)]
pub(crate) struct Levels {
    /// Distance of neighbouring thicknesses. mm.
    step: f64,
    /// Levels of the border at thicknesses from 0 on. mm.
    levels: Vec<f64>,
}

/// Pieces.
const PIECES: usize = 96;

impl Levels {
    /// Levels of thicknesses from 0 to `most` mm, which is above 0.
    pub(crate) fn of(bare: &dyn BareStructure, most: f64) -> Levels {
        let step = most / PIECES as f64;
        let mut levels: Vec<f64> = (0..=PIECES).map(|n| bare.level(step * n as f64)).collect();
        // Where sheets lie so near to each other that walls between them would fill what is free,
        // the level does not grow by itself.
        (1..=PIECES).for_each(|n| levels[n] = levels[n].max(levels[n - 1]));
        Levels { step, levels }
    }

    /// The thickness at which a place becomes material. mm.
    #[inline]
    pub(crate) fn thickness(&self, measure: f64) -> f64 {
        let n = self.levels.partition_point(|level| *level <= measure).clamp(1, PIECES);
        let (from, to) = (self.levels[n - 1], self.levels[n]);
        if to <= from {
            return self.step * n as f64;
        }
        self.step * ((n - 1) as f64 + (measure - from) / (to - from))
    }

    /// Level of the border at a thickness, which may be below 0. mm.
    #[inline]
    pub(crate) fn level(&self, thickness: f64) -> f64 {
        if thickness <= 0.0 {
            return self.levels[0] + 0.5 * thickness;
        }
        let at = thickness / self.step;
        let n = (at as usize).min(PIECES - 1);
        let (from, to) = (self.levels[n], self.levels[n + 1]);
        from + (to - from) * (at - n as f64)
    }

    /// Memory that is held.
    pub(crate) fn bytes(&self) -> usize {
        std::mem::size_of_val(&self.levels[..])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::surface::Periodic;
    use glam::DVec3;
    use ulmix_recipe::{Form, Structure, SurfaceKind, SurfacePattern};

    #[test]
    fn thickness_and_level_undo_each_other() {
        for form in [Form::Walls, Form::Network] {
            let pattern = SurfacePattern { surface: SurfaceKind::Gyroid, form };
            let bare = Periodic::new(&pattern, &Structure::default(), DVec3::ZERO);
            let levels = Levels::of(&bare, 1.5 * bare.cell());
            for n in 3..40 {
                let t = 0.08 * n as f64;
                assert!((levels.level(t) - bare.level(t)).abs() < 5e-3, "{form:?} {t}");
                assert!((levels.thickness(levels.level(t)) - t).abs() < 1e-9, "{form:?} {t}");
            }
            // Less than nothing lies as far within the border as a wall that thin would.
            assert!((levels.level(0.0) - levels.level(-0.2) - 0.1).abs() < 1e-12);
        }
    }
}
