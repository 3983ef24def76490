//! Triply periodic surfaces placed in the part: distance, and thickness made true.
//!
//! A level value is no distance, and f/|∇f| makes walls 5–20 % thin. Here the distance along the
//! gradient comes from f's quadratic expansion (Halley's step), and the offset that gives a wall of
//! the asked thickness in the median is found on the surface itself, for the very cell in use.

use super::bulk::Kernel;
use super::index::PointGrid;
use super::level::{expansion, Expansion};
use super::passage::narrowest;
use super::{root, Bare, Bulk, Gauge, Lattice, Station};
use crate::grid::Grid;
use crate::median::median;
use crate::recipe::{Form, Structure, SurfaceKind};
use crate::trig::sin_cos;
use glam::{DMat3, DVec3, EulerRot};
use std::f64::consts::TAU;
use std::sync::{Arc, OnceLock};

/// A surface placed in the part: cells of a size, shifted and turned.
#[derive(Clone, Debug)]
pub struct Surface {
    pub kind: SurfaceKind,
    /// −1 where the other side counts as positive, else 1.
    pub sense: f64,
    /// 2π over the cell size, 1/mm.
    pub wave: DVec3,
    /// Part to cell axes.
    pub turn: DMat3,
    pub shift: DVec3,
    /// Of both sides.
    feet: Arc<OnceLock<Vec<DVec3>>>,
}

impl Surface {
    /// `anchor` is the point of the part where a cell's corner lies before the shift.
    pub fn new(kind: SurfaceKind, structure: &Structure, anchor: DVec3) -> Surface {
        let turn = turn(structure);
        let cell = DVec3::from(structure.cell_mm);
        let sense = if structure.form == Form::OtherNetwork { -1.0 } else { 1.0 };
        let shift = anchor + DVec3::from(structure.shift_mm);
        Surface { kind, sense, wave: TAU / cell, turn, shift, feet: Arc::default() }
    }

    pub fn phases(&self, p: DVec3) -> DVec3 {
        self.turn * (p - self.shift) * self.wave
    }

    /// A point of the part with these phases.
    fn at_phases(&self, phases: DVec3) -> DVec3 {
        self.shift + self.turn.transpose() * (phases / self.wave)
    }

    fn expand(&self, phases: DVec3) -> Expansion<f64> {
        let (sx, cx) = sin_cos(phases.x);
        let (sy, cy) = sin_cos(phases.y);
        let (sz, cz) = sin_cos(phases.z);
        let (s, c) = ([sx, sy, sz], [cx, cy, cz]);
        let (f, g, h) = expansion(self.kind, s, c);
        (self.sense * f, g.map(|v| self.sense * v), h.map(|v| self.sense * v))
    }

    /// Signed distance to the surface in mm, third-order accurate near it, and the gradient of the
    /// level value in cell axes.
    fn distance_and_gradient(&self, p: DVec3) -> (f64, DVec3) {
        let (f, g, h) = self.expand(self.phases(p));
        let g = DVec3::from(g) * self.wave;
        (halley(f, g, h, self.wave), g)
    }

    pub fn distance(&self, p: DVec3) -> f64 {
        self.distance_and_gradient(p).0
    }

    /// Direction in which the level value grows, unit, in the part's axes.
    pub fn normal(&self, p: DVec3) -> DVec3 {
        self.turn.transpose() * self.distance_and_gradient(p).1.normalize_or(DVec3::Z)
    }

    /// Direction in which [`distance`](Self::distance) grows at `p`: the surface's normal at the
    /// nearest point of the surface, as for any distance.
    pub fn distance_gradient(&self, p: DVec3) -> DVec3 {
        let (d, g) = self.distance_and_gradient(p);
        let n = self.turn.transpose() * g.normalize_or_zero();
        self.normal(p - n * d)
    }

    /// Foot on the surface by Newton steps from `p`.
    fn foot(&self, mut p: DVec3) -> Option<DVec3> {
        for _ in 0..20 {
            let (f, g, _) = self.expand(self.phases(p));
            let g = self.turn.transpose() * (DVec3::from(g) * self.wave);
            if g.length_squared() < 1e-6 * self.wave.length_squared() {
                return None;
            }
            let step = g * (f / g.length_squared());
            p -= step;
            if step.length() * self.wave.max_element() < 1e-12 {
                return Some(p);
            }
        }
        None
    }

    /// Points spread over the surface of one cell, repeatable.
    fn samples(&self) -> &[DVec3] {
        let found = || (1..=800).filter_map(|i| self.foot(self.at_phases(low_discrepancy(i) * TAU))).collect();
        self.feet.get_or_init(found)
    }

    /// Value of [`distance`](Self::distance) that lies, in the median, `depth` mm from the surface on
    /// its positive side. Beyond a fifth of the cell, where walls from all sides meet, it goes on
    /// evenly, so that more depth is always more material.
    pub fn level_at(&self, depth: f64) -> f64 {
        let measured = depth.min(0.2 * self.cell());
        let values = self.samples().iter().map(|p| self.distance(*p + self.normal(*p) * measured));
        median(values.collect()).unwrap_or(measured) + (depth - measured)
    }

    /// Does the border where [`distance`](Self::distance) is `at` run along the surface? Deep in its channels it has edges, for
    /// there ways from several places of the surface meet.
    fn is_even_at(&self, at: f64) -> bool {
        const OFF: f64 = 0.15;
        const TURNED: f64 = 0.9;
        let runs_along = |&foot: &DVec3| {
            let n = self.normal(foot);
            let place = foot + n * at;
            (self.distance(place) - at).abs() <= OFF * at.abs() && self.normal(place).dot(n) > TURNED
        };
        self.samples().iter().all(runs_along)
    }

    /// The narrowest place on the way through the positive side: its middle, and the nearest point
    /// of the surface. A network that fills that side to the surface is thinnest there.
    pub fn neck(&self) -> Neck {
        self.neck_at(self.neck_middle())
    }

    /// What is found once for each kind and side. In phases every cell is the same.
    fn known(&self, list: &'static OfSides, find: impl FnOnce() -> DVec3) -> DVec3 {
        *list[2 * self.kind as usize + (self.sense < 0.0) as usize].get_or_init(find)
    }

    fn neck_middle(&self) -> DVec3 {
        static KNOWN: OfSides = of_sides();
        self.at_phases(self.known(&KNOWN, || self.neck_phases()))
    }

    /// The middle of [`neck`](Self::neck): where the side still connects through the cell at the highest value.
    fn neck_phases(&self) -> DVec3 {
        narrowest(|p| self.expand(p * TAU).0).map_or(DVec3::ZERO, |n| n.1 * TAU)
    }

    fn neck_at(&self, middle: DVec3) -> Neck {
        Neck { middle, border: self.nearest(middle, 0.0).unwrap_or(middle) }
    }

    /// The nearest place to a middle at which [`distance`](Self::distance) is so much, if it is so anywhere.
    fn nearest(&self, middle: DVec3, at: f64) -> Option<DVec3> {
        /// Places from which it is looked for.
        const TRIED: usize = 4;
        let cell = TAU / self.wave;
        let copy = |p: DVec3| {
            let local = self.turn * (p - middle) / cell;
            middle + self.turn.transpose() * ((local - local.round()) * cell)
        };
        let far = |p: &DVec3| p.distance_squared(middle);
        let placed = |foot: DVec3| Some((foot, self.off(foot, at)?));
        let mut feet: Vec<(DVec3, DVec3)> = self.samples().iter().copied().map(copy).filter_map(placed).collect();
        feet.sort_by(|a, b| far(&a.1).total_cmp(&far(&b.1)));
        // Slide along the surface toward the middle.
        let slid = |&(foot, place): &(DVec3, DVec3)| {
            let (mut foot, mut last, mut best) = (foot, place, place);
            for _ in 0..30 {
                let n = self.normal(foot);
                let slide = (middle - last) - n * n.dot(middle - last);
                foot = self.foot(foot + slide * 0.5).unwrap_or(foot);
                let Some(next) = self.off(foot, at) else { break };
                last = next;
                if far(&next) < far(&best) {
                    best = next;
                }
            }
            best
        };
        feet.iter().take(TRIED).map(slid).min_by(|a, b| far(a).total_cmp(&far(b)))
    }

    /// The first place off the surface's `foot` along its normal at which [`distance`](Self::distance) is so much; `None` where
    /// it is so nowhere on that side
    /// within half a cell.
    fn off(&self, foot: DVec3, at: f64) -> Option<DVec3> {
        const STEPS: usize = 24;
        if at == 0.0 {
            return Some(foot);
        }
        let along = self.normal(foot) * at.signum();
        let past = |way: f64| self.distance(foot + along * way) * at.signum() - at.abs();
        let most = 0.5 * self.cell();
        let mut from = (0.0, -at.abs());
        for n in 1..=STEPS {
            let next = most * n as f64 / STEPS as f64;
            let value = past(next);
            if value >= 0.0 {
                let (low, high) = (from.0, next);
                let t = root(|t| past(low + t * (high - low)), from.1, value);
                return Some(foot + along * (low + t * (high - low)));
            }
            from = (next, value);
        }
        None
    }

    /// The place where the widest way through the positive side of cubic cells is narrowest. The level value tells only which
    /// side a place is on: far from the surface it orders places otherwise than their distance does.
    fn way_phases(&self) -> DVec3 {
        static KNOWN: OfSides = of_sides();
        self.known(&KNOWN, || {
            const FEET: u64 = 6000;
            let cubic =
                Surface { wave: DVec3::ONE, turn: DMat3::IDENTITY, shift: DVec3::ZERO, feet: Arc::default(), ..self.clone() };
            let within = |p: DVec3| p - (p / TAU).floor() * TAU;
            let feet = (1..=FEET).filter_map(|i| cubic.foot(low_discrepancy(i) * TAU)).map(within);
            // Copies beside the cell are as near as those in it.
            let near = 0.25 * TAU;
            let beside =
                |p: DVec3| (0..27).map(move |n| p + DVec3::from([n % 3, n / 3 % 3, n / 9].map(|c| (c as f64 - 1.0) * TAU)));
            let reached = |p: &DVec3| (*p - 0.5 * TAU).abs().max_element() < 0.5 * TAU + near;
            let all: Vec<DVec3> = feet.flat_map(beside).filter(reached).collect();
            let grid = PointGrid::new(&all);
            let from_surface = |p: DVec3| grid.nearest(p, 1, |_| false).first().map_or(0.0, |n| n.0);
            let value = |p: DVec3| if cubic.expand(p * TAU).0 > 0.0 { from_surface(p * TAU) } else { f64::NEG_INFINITY };
            narrowest(value).map_or(DVec3::ZERO, |n| n.1 * TAU)
        })
    }

    /// The same surface with its other side positive.
    fn other_side(&self) -> Surface {
        Surface { sense: -self.sense, ..self.clone() }
    }

    /// Radius of the largest ball on the way through the positive side, from the places where
    /// [`distance`](Self::distance) is `border`; 0 where nothing passes.
    fn free(&self, border: f64) -> f64 {
        let middle = self.at_phases(self.way_phases());
        let ball = |at: f64| self.nearest(middle, at).map(|p| middle.distance(p));
        // On the way's axis the distance is told too large: what reaches as far as there closes it.
        if ball(0.0).is_none_or(|surface| border >= surface) {
            return 0.0;
        }
        // A network so thin that it has no border is as good as the thinnest that has one.
        let thicker = |at: &f64| (*at < -1e-3 * self.cell()).then_some(0.95 * at);
        std::iter::successors(Some(border), thicker).find_map(ball).unwrap_or(0.0)
    }

    /// Shortest side of a cell. mm.
    fn cell(&self) -> f64 {
        (TAU / self.wave).min_element()
    }
}

/// Phases of a place for each kind of surface and either of its sides.
type OfSides = [OnceLock<DVec3>; 2 * SurfaceKind::COUNT];

const fn of_sides() -> OfSides {
    [const { OnceLock::new() }; 2 * SurfaceKind::COUNT]
}

/// See [`Surface::neck`].
#[derive(Clone, Copy, Debug)]
pub struct Neck {
    pub middle: DVec3,
    pub border: DVec3,
}

impl Neck {
    pub fn depth(&self) -> f64 {
        self.middle.distance(self.border)
    }

    /// Value of [`Surface::distance`] at which a network is `thickness` thick here.
    fn level(&self, surface: &Surface, thickness: f64) -> f64 {
        let out = (self.border - self.middle).normalize_or(DVec3::X);
        // Past the surface and well into the other side it goes on evenly.
        let measured = (0.5 * thickness).min(1.5 * self.depth());
        surface.distance(self.middle + out * measured) - (0.5 * thickness - measured)
    }
}

/// Distance along the gradient to the zero of the quadratic expansion.
fn halley(f: f64, g: DVec3, h: [f64; 6], k: DVec3) -> f64 {
    let gg = g.length_squared().max(1e-300);
    let bend = (g.x * g.x * k.x * k.x * h[0]
        + g.y * g.y * k.y * k.y * h[1]
        + g.z * g.z * k.z * k.z * h[2]
        + 2.0 * (g.x * g.y * k.x * k.y * h[3] + g.y * g.z * k.y * k.z * h[4] + g.z * g.x * k.z * k.x * h[5]))
        / gg;
    2.0 * f / (gg.sqrt() + (gg - 2.0 * f * bend).max(0.0).sqrt()).max(1e-12)
}

/// Additive recurrence on the plastic number's 3-D kin (Roberts 2018): even, repeatable points in
/// the unit cube.
pub fn low_discrepancy(i: u64) -> DVec3 {
    const G: f64 = 1.220_744_084_605_759_5;
    let n = i as f64;
    DVec3::new(n / G, n / (G * G), n / (G * G * G)).fract()
}

/// The same in the unit square: two coordinates of points in space are not even.
pub fn low_discrepancy_flat(i: u64) -> DVec3 {
    const G: f64 = 1.324_717_957_244_746;
    let n = i as f64;
    DVec3::new(n / G, n / (G * G), 0.0).fract()
}

/// A surface in one of its forms, before it is given thickness.
#[derive(Clone)]
pub struct Periodic {
    surface: Surface,
    form: Form,
    neck: Neck,
}

impl Periodic {
    pub fn new(kind: SurfaceKind, structure: &Structure, anchor: DVec3) -> Periodic {
        let surface = Surface::new(kind, structure, anchor);
        Periodic { neck: surface.neck(), surface, form: structure.form }
    }

    /// Distance from the middle of the channels' narrowest place to the surface. mm.
    pub fn channel_depth(&self) -> f64 {
        self.neck.depth()
    }
}

impl Bare for Periodic {
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
        Box::new(Thick::of(self, thickness))
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
pub struct Thick {
    pub surface: Surface,
    pub form: Form,
    /// Walls reach to this distance value on both sides; a network starts at it.
    pub level: f64,
    /// As asked. mm.
    pub thickness: f64,
    /// Free width between it and itself, about. mm.
    pub opening: f64,
    /// Its border has no edges.
    pub even: bool,
}

impl Thick {
    fn of(bare: &Periodic, thickness: f64) -> Thick {
        let (surface, form) = (bare.surface.clone(), bare.form);
        let level = match form {
            Form::Walls => bare.level(thickness),
            Form::Network | Form::OtherNetwork => -bare.level(thickness),
        };
        let even = surface.is_even_at(level) && (form != Form::Walls || surface.is_even_at(-level));
        Thick { surface, form, level, thickness, opening: bare.opening(thickness), even }
    }
}

impl Lattice for Thick {
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

    fn on_grid<'a>(&'a self, grid: &'a Grid, reach: f64) -> Box<dyn Bulk + 'a> {
        Box::new(Kernel::new(self, reach, grid))
    }

    fn roomy(&self, step: f64) -> bool {
        let cell = (TAU / self.surface.wave).min_element();
        self.even && self.thickness.min(self.opening) > 2.0 * step && cell > 12.0 * step
    }
}

/// Part to cell axes.
pub fn turn(structure: &Structure) -> DMat3 {
    let angles = DVec3::from(structure.rotation_deg).map(f64::to_radians);
    DMat3::from_euler(EulerRot::ZYX, angles.z, angles.y, angles.x).transpose()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lattice::density::DensityCurve;

    fn thick(surface: Surface, thickness: f64) -> Thick {
        Thick { level: surface.level_at(0.5 * thickness), surface, form: Form::Walls, thickness, opening: thickness, even: true }
    }

    fn placed(cell: [f64; 3], form: Form) -> Structure {
        Structure { form, cell_mm: cell, rotation_deg: [10.0, 20.0, 30.0], ..Default::default() }
    }

    fn surface(kind: SurfaceKind, cell: [f64; 3]) -> Surface {
        with_form(kind, cell, Form::Walls)
    }

    fn curve(kind: SurfaceKind, form: Form, points: &[DVec3]) -> DensityCurve {
        DensityCurve::new(Arc::new(Periodic::new(kind, &placed([10.0; 3], form), DVec3::ONE)), points)
    }

    fn with_form(kind: SurfaceKind, cell: [f64; 3], form: Form) -> Surface {
        Surface::new(kind, &placed(cell, form), DVec3::ONE)
    }

    use SurfaceKind::*;
    /// Their two sides are alike.
    const BALANCED: [SurfaceKind; 3] = [Gyroid, SchwarzP, SchwarzD];
    const KINDS: [SurfaceKind; 8] = [Gyroid, SchwarzP, SchwarzD, Iwp, Neovius, Frd, SplitP, Lidinoid];

    #[test]
    fn derivatives_match_differences() {
        for kind in KINDS {
            let s = surface(kind, [10.0; 3]);
            for i in 1..200 {
                let x = low_discrepancy(i) * TAU;
                let (_, g, h) = s.expand(x);
                let e = 1e-5;
                for a in 0..3 {
                    let mut step = DVec3::ZERO;
                    step[a] = e;
                    let (up, gu, _) = s.expand(x + step);
                    let (down, gd, _) = s.expand(x - step);
                    assert!(((up - down) / (2.0 * e) - g[a]).abs() < 1e-8, "{kind:?} gradient");
                    assert!(((gu[a] - gd[a]) / (2.0 * e) - h[a]).abs() < 1e-8, "{kind:?} bend {a}");
                    let b = (a + 1) % 3;
                    assert!(((gu[b] - gd[b]) / (2.0 * e) - h[3 + a]).abs() < 1e-8, "{kind:?} mixed {a}");
                }
            }
        }
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
                                *(if lattice.value(p + n * mid) < 0.0 { &mut lo } else { &mut hi }) = mid;
                            }
                            2.0 * lo
                        })
                        .collect();
                    found.sort_by(f64::total_cmp);
                    let (p5, mid, p95) = (found[found.len() / 20], found[found.len() / 2], found[found.len() * 19 / 20]);
                    assert!((mid / t - 1.0).abs() < 0.01, "{kind:?} {cell:?} {t}: median {mid}");
                    // The unbalanced ones bend more, and thick walls of theirs meet their neighbours.
                    if BALANCED.contains(&kind) {
                        assert!(p5 / t > 0.85 && p95 / t < 1.2, "{kind:?} {cell:?} {t}: {p5} to {p95}");
                    } else if share < 0.1 {
                        assert!(p5 / t > 0.75 && p95 / t < 1.35, "{kind:?} {cell:?} {t}: {p5} to {p95}");
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
                    assert!((curve.density(t) - density).abs() < 2e-3, "{kind:?} {form:?} {density}");
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
        for (kind, area) in [(SurfaceKind::Gyroid, 3.0915), (SurfaceKind::SchwarzP, 2.3451), (SurfaceKind::SchwarzD, 3.8378)] {
            let points: Vec<DVec3> = (1..400_000).map(|i| low_discrepancy(i) * 70.0).collect();
            let got = curve(kind, Form::Walls, &points).density(0.2);
            assert!((got / (area * 0.02) - 1.0).abs() < 0.03, "{kind:?}: {got} for {}", area * 0.02);
        }
    }

    #[test]
    fn openings_are_the_balls_that_pass_on_the_wider_side() {
        for kind in KINDS {
            for form in [Form::Walls, Form::Network, Form::OtherNetwork] {
                let bare = Periodic::new(kind, &placed([10.0; 3], form), DVec3::ONE);
                // More thickness leaves less, down to nothing.
                let openings: Vec<f64> = [0.2, 0.6, 1.2, 2.4, 9.0].into_iter().map(|t| bare.opening(t)).collect();
                assert!(openings.windows(2).all(|w| w[1] <= w[0]) && openings[0] > 0.3, "{kind:?} {form:?}: {openings:?}");
                assert!(form != Form::Walls || openings[4] == 0.0, "{kind:?}: {openings:?}");
                if form == Form::Walls {
                    // A ball in the narrowest place of the wider way touches no wall, and one a little larger does.
                    let (s, lattice) = (surface(kind, [10.0; 3]), bare.thicken(0.6));
                    let sides = [s.clone(), s.other_side()];
                    let wider = sides.iter().max_by(|a, b| a.free(bare.level(0.6)).total_cmp(&b.free(bare.level(0.6)))).unwrap();
                    let middle = wider.at_phases(wider.way_phases());
                    let on_sphere = |n: u64| (low_discrepancy(n) * 2.0 - 1.0).normalize() * 0.5 * openings[1];
                    let touches = |share: f64| (1..20_000).any(|n| lattice.value(middle + share * on_sphere(n)) < 0.0);
                    assert!(!touches(0.97) && touches(1.06), "{kind:?}: {openings:?}");
                }
            }
        }
        // Alike sides are as wide as each other.
        for kind in BALANCED {
            let s = surface(kind, [10.0; 3]);
            let [one, other] = [s.free(0.1), s.other_side().free(0.1)];
            assert!((one / other - 1.0).abs() < 0.02, "{kind:?}: {one} {other}");
        }
    }

    #[test]
    fn borders_have_edges_deep_in_channels_only() {
        let even = |kind: SurfaceKind, form: Form, density: f64| {
            let bare = Periodic::new(kind, &placed([10.0; 3], form), DVec3::ONE);
            let curve = curve(kind, form, &bare.cell_points());
            let lattice = Thick::of(&bare, curve.thickness(density, 10.0));
            lattice.even
        };
        for kind in KINDS {
            assert!(even(kind, Form::Walls, 0.15), "{kind:?}");
            assert!(even(kind, Form::Network, 0.49) || !BALANCED.contains(&kind), "{kind:?}");
        }
        for density in [0.1, 0.24, 0.4] {
            assert!(even(SurfaceKind::Gyroid, Form::Walls, density) && even(SurfaceKind::Gyroid, Form::Network, density));
            assert!(!even(SurfaceKind::Lidinoid, Form::Network, density));
        }
        assert!(!even(SurfaceKind::Neovius, Form::Walls, 0.4) && !even(SurfaceKind::SchwarzP, Form::Network, 0.12));
    }

    #[test]
    fn schwarz_p_neck_is_where_geometry_puts_it() {
        let neck = surface(SurfaceKind::SchwarzP, [10.0; 3]).neck().depth();
        assert!((neck - 2.357).abs() < 0.02, "{neck}");
    }
}
