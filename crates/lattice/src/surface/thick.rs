//! Walls around a surface, and the networks on its sides.

use super::ways::Neck;
use super::Surface;
use crate::grid_field::Kernel;
use crate::{BareStructure, Gauge, GridField, Lattice, Station};
use glam::DVec3;
use std::f64::consts::TAU;
use ulmix_field::grid::Grid;
use ulmix_field::numeric::low_discrepancy;
use ulmix_recipe::{Form, Structure, SurfacePattern};

/// A surface in one of its forms, before it is given thickness.
#[derive(Clone)]
pub struct Periodic {
    surface: Surface,
    form: Form,
    neck: Neck,
}

impl Periodic {
    /// The surface of a structure, in axes that begin at `anchor`.
    pub fn new(pattern: &SurfacePattern, structure: &Structure, anchor: DVec3) -> Periodic {
        let surface = Surface::new(pattern, structure, anchor);
        Periodic { neck: surface.neck(), surface, form: pattern.form }
    }

    pub(super) fn surface(&self) -> &Surface {
        &self.surface
    }

    pub(super) fn form(&self) -> Form {
        self.form
    }

    /// Distance from the middle of the channels' narrowest place to the surface. mm.
    pub fn channel_depth(&self) -> f64 {
        self.neck.depth()
    }
}

impl BareStructure for Periodic {
    fn measure(&self, p: DVec3) -> f64 {
        match self.form {
            Form::Walls => self.surface.distance(p).abs(),
            Form::Network | Form::OtherNetwork => -self.surface.distance(p),
        }
    }

    fn level(&self, thickness: f64) -> f64 {
        match self.form {
            Form::Walls => self.surface.level_at(thickness * 0.5),
            Form::Network | Form::OtherNetwork => -self.neck.level(&self.surface, thickness),
        }
    }

    fn cell_points(&self) -> Vec<DVec3> {
        (1..=20_000).map(|i| self.surface.at_phases(low_discrepancy(i) * TAU)).collect()
    }

    fn cell(&self) -> f64 {
        self.surface.cell()
    }

    fn opening(&self, thickness: f64) -> f64 {
        let border = self.level(thickness);
        let other = self.surface.other_side().free(border);
        let radius = match self.form {
            Form::Walls => other.max(self.surface.free(border)),
            // A network fills its own side.
            Form::Network | Form::OtherNetwork => other,
        };
        2.0 * radius
    }

    fn thicken(&self, thickness: f64) -> Box<dyn Lattice> {
        Box::new(ThickSurface::of(self, thickness))
    }

    fn gauge(&self) -> Gauge {
        match self.form {
            Form::Walls => Gauge::Across,
            Form::Network | Form::OtherNetwork => Gauge::Stations,
        }
    }

    /// The copy of the network's narrowest place that lies nearest to `p`.
    fn station(&self, p: DVec3, thickness: f64) -> Option<Station> {
        let Surface { turn, wave, .. } = self.surface;
        let cell = TAU / wave;
        let away = (turn * (p - self.neck.middle) / cell).round() * cell;
        let out = (self.neck.border - self.neck.middle).normalize_or(DVec3::X);
        let foot = self.neck.middle + turn.transpose() * away;
        (self.form != Form::Walls).then(|| Station { foot, rays: vec![(out, 0.5 * thickness)] })
    }

    fn bytes(&self) -> usize {
        std::mem::size_of::<Periodic>() + std::mem::size_of_val(self.surface.samples())
    }
}

/// A surface with thickness: walls around it, or the network on one side of it.
#[derive(Clone, Debug)]
pub struct ThickSurface {
    /// The surface in the middle of the walls.
    pub surface: Surface,
    /// Walls, or a network of what lies on one side.
    pub form: Form,
    /// Walls reach to this distance value on both sides; a network starts at it.
    pub level: f64,
    /// As asked. mm.
    pub thickness: f64,
    /// Free width between it and itself, about. mm.
    pub opening: f64,
    /// True when the border of the material has no edges.
    pub even: bool,
}

impl ThickSurface {
    fn of(bare: &Periodic, thickness: f64) -> ThickSurface {
        let (surface, form) = (bare.surface.clone(), bare.form);
        let level = match form {
            Form::Walls => bare.level(thickness),
            Form::Network | Form::OtherNetwork => -bare.level(thickness),
        };
        let even = surface.is_even_at(level) && (form != Form::Walls || surface.is_even_at(-level));
        ThickSurface { surface, form, level, thickness, opening: bare.opening(thickness), even }
    }
}

impl Lattice for ThickSurface {
    fn value(&self, p: DVec3) -> f64 {
        let d = self.surface.distance(p);
        match self.form {
            Form::Walls => d.abs() - self.level,
            Form::Network | Form::OtherNetwork => self.level - d,
        }
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        let g = self.surface.distance_gradient(p);
        let outward_is_up = self.form == Form::Walls && self.surface.distance(p) > 0.0;
        if outward_is_up {
            g
        } else {
            -g
        }
    }

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn GridField + 'a> {
        Box::new(Kernel::new(self, reach, grid))
    }

    fn allows_overshoot(&self, step: f64) -> bool {
        self.even
            && self.thickness.min(self.opening) > 2.0 * step
            && self.surface.cell() > 12.0 * step
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{placed, surface, BALANCED, KINDS};
    use super::*;
    use crate::density::DensityCurve;
    use std::sync::Arc;
    use ulmix_recipe::SurfaceKind;

    fn of_form(kind: SurfaceKind, form: Form) -> Periodic {
        let pattern = SurfacePattern { surface: kind, form };
        Periodic::new(&pattern, &placed([10.0; 3]), DVec3::ONE)
    }

    fn thick(surface: Surface, thickness: f64) -> ThickSurface {
        ThickSurface {
            level: surface.level_at(0.5 * thickness),
            surface,
            form: Form::Walls,
            thickness,
            opening: thickness,
            even: true,
        }
    }

    fn curve(kind: SurfaceKind, form: Form, points: &[DVec3]) -> DensityCurve {
        DensityCurve::new(Arc::new(of_form(kind, form)), points)
    }

    #[test]
    fn walls_have_their_thickness_for_every_kind_and_uneven_cells() {
        for kind in KINDS {
            for cell in [[12.0; 3], [8.0, 12.0, 10.0]] {
                for share in [0.05, 0.12, 0.2] {
                    let t = share * cell.iter().copied().fold(f64::INFINITY, f64::min);
                    let lattice = thick(surface(kind, cell), t);
                    // From the middle surface outward to where the value turns positive.
                    let mut found: Vec<f64> = lattice
                        .surface
                        .samples()
                        .iter()
                        .map(|&p| {
                            let n = lattice.surface.normal(p);
                            let (mut lo, mut hi) = (0.0, t);
                            for _ in 0..40 {
                                let mid = 0.5 * (lo + hi);
                                *(if lattice.value(p + n * mid) < 0.0 {
                                    &mut lo
                                } else {
                                    &mut hi
                                }) = mid;
                            }
                            2.0 * lo
                        })
                        .collect();
                    found.sort_by(f64::total_cmp);
                    let (p5, mid, p95) = (
                        found[found.len() / 20],
                        found[found.len() / 2],
                        found[found.len() * 19 / 20],
                    );
                    assert!((mid / t - 1.0).abs() < 0.01, "{kind:?} {cell:?} {t}: median {mid}");
                    // The unbalanced ones bend more, and thick walls of theirs meet their
                    // neighbours.
                    if BALANCED.contains(&kind) {
                        assert!(
                            p5 / t > 0.85 && p95 / t < 1.2,
                            "{kind:?} {cell:?} {t}: {p5} to {p95}"
                        );
                    } else if share < 0.1 {
                        assert!(
                            p5 / t > 0.75 && p95 / t < 1.35,
                            "{kind:?} {cell:?} {t}: {p5} to {p95}"
                        );
                    }
                }
            }
        }
    }

    #[test]
    fn density_and_thickness_are_inverse_and_balanced_sides_are_equal() {
        let points: Vec<DVec3> = (1..60_000).map(|i| low_discrepancy(i) * 60.0).collect();
        for kind in KINDS {
            for form in [Form::Walls, Form::Network, Form::OtherNetwork] {
                let curve = curve(kind, form, &points);
                for density in [0.1, 0.22, 0.4] {
                    // A network of less than its necks' own share would fall apart.
                    if curve.density(1e-6) > density {
                        assert!(form != Form::Walls && !BALANCED.contains(&kind));
                        continue;
                    }
                    let t = curve.thickness(density, 10.0);
                    assert!(
                        (curve.density(t) - density).abs() < 2e-3,
                        "{kind:?} {form:?} {density}"
                    );
                }
            }
        }
        for kind in BALANCED {
            // A network that reaches the surface itself fills half.
            let s = surface(kind, [10.0; 3]);
            let full = curve(kind, Form::Network, &points).density(2.0 * s.neck().depth());
            assert!((full - 0.5).abs() < 0.02, "{kind:?} {full}");
        }
    }

    #[test]
    fn thin_walls_fill_area_times_thickness() {
        // Area of one cell over L², from the minimal surfaces' literature.
        for (kind, area) in [
            (SurfaceKind::Gyroid, 3.0915),
            (SurfaceKind::SchwarzP, 2.3451),
            (SurfaceKind::SchwarzD, 3.8378),
        ] {
            let points: Vec<DVec3> = (1..400_000).map(|i| low_discrepancy(i) * 70.0).collect();
            let got = curve(kind, Form::Walls, &points).density(0.2);
            assert!(
                (got / (area * 0.02) - 1.0).abs() < 0.03,
                "{kind:?}: {got} for {}",
                area * 0.02
            );
        }
    }

    #[test]
    fn openings_are_the_balls_that_pass_on_the_wider_side() {
        for kind in KINDS {
            for form in [Form::Walls, Form::Network, Form::OtherNetwork] {
                let bare = of_form(kind, form);
                // More thickness leaves less, down to nothing.
                let openings: Vec<f64> =
                    [0.2, 0.6, 1.2, 2.4, 9.0].into_iter().map(|t| bare.opening(t)).collect();
                assert!(
                    openings.windows(2).all(|w| w[1] <= w[0]) && openings[0] > 0.3,
                    "{kind:?} {form:?}: {openings:?}"
                );
                assert!(form != Form::Walls || openings[4] == 0.0, "{kind:?}: {openings:?}");
                if form == Form::Walls {
                    // A ball in the narrowest place of the wider way touches no wall, and one a
                    // little larger does.
                    let (s, lattice) = (surface(kind, [10.0; 3]), bare.thicken(0.6));
                    let sides = [s.clone(), s.other_side()];
                    let wider = sides
                        .iter()
                        .max_by(|a, b| a.free(bare.level(0.6)).total_cmp(&b.free(bare.level(0.6))))
                        .unwrap();
                    let middle = wider.at_phases(wider.way_phases());
                    let on_sphere =
                        |n: u64| (low_discrepancy(n) * 2.0 - 1.0).normalize() * 0.5 * openings[1];
                    let touches = |share: f64| {
                        (1..20_000).any(|n| lattice.value(middle + share * on_sphere(n)) < 0.0)
                    };
                    assert!(!touches(0.97) && touches(1.06), "{kind:?}: {openings:?}");
                }
            }
        }
    }

    #[test]
    fn borders_have_edges_deep_in_channels_only() {
        let even = |kind: SurfaceKind, form: Form, density: f64| {
            let bare = of_form(kind, form);
            let curve = curve(kind, form, &bare.cell_points());
            let lattice = ThickSurface::of(&bare, curve.thickness(density, 10.0));
            lattice.even
        };
        for kind in KINDS {
            assert!(even(kind, Form::Walls, 0.15), "{kind:?}");
            assert!(even(kind, Form::Network, 0.49) || !BALANCED.contains(&kind), "{kind:?}");
        }
        for density in [0.1, 0.24, 0.4] {
            assert!(
                even(SurfaceKind::Gyroid, Form::Walls, density)
                    && even(SurfaceKind::Gyroid, Form::Network, density)
            );
            assert!(!even(SurfaceKind::Lidinoid, Form::Network, density));
        }
        assert!(
            !even(SurfaceKind::Neovius, Form::Walls, 0.4)
                && !even(SurfaceKind::SchwarzP, Form::Network, 0.12)
        );
    }
}
