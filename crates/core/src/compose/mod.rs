//! The composed shape: the part with its zones solid, clear, or filled with lattice and skins; with
//! exact hits for the polygoniser. `places` tells what places of the result belong to.

pub mod patchwork;
mod places;

use crate::compose::patchwork::{Blending, Laid, Patchwork, Tie};
use glam::{DVec3, UVec3};
pub use places::Owner;
use serde::Serialize;
use std::borrow::Cow;
use std::cell::RefCell;
use ulmix_field::grid::{Bits, Grid};
use ulmix_field::numeric::root;
use ulmix_field::polygonise::{Edge, EdgeCrossing, RowPoints, Shape};
use ulmix_lattice::{GridField, Lattice, Met, Segment};
use ulmix_part::exit::exit;
use ulmix_part::zoned::{Regions, Zoned};
use ulmix_part::Part;
use ulmix_recipe::Role;

/// The material that a question is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub enum Selection {
    /// All material.
    All,
    /// The lattice in what is filled.
    Lattice,
    /// Kept solids and skins.
    Solids,
}

/// Part, zones, skins and lattices as one shape.
pub struct Composed<'a> {
    side: Selection,
    part: &'a Part,
    /// The grid, and what zones make of its samples.
    pub zoned: &'a Zoned,
    regions: &'a Regions,
    lattices: Vec<Reaching<'a>>,
    grid_field: Box<dyn GridField + 'a>,
}

/// A filling. On coarse grids a wall thinner than the step would tear: signs are taken as if the
/// lattice reached `reach` mm further, and places are still computed on its true border.
#[derive(Clone, Copy)]
pub struct Reaching<'a> {
    /// The structure with its thickness.
    pub lattice: &'a dyn Lattice,
    /// How far signs are taken beyond the border, in mm.
    pub reach: f64,
    /// The body that the filling belongs to.
    pub body: Blending,
}

/// Operands of the shape at a place: inside it or not.
struct Operands {
    part: bool,
    /// Where the filling stands past the part's surface: inside the part, or no farther from it
    /// than that.
    proud: bool,
    lattice: bool,
    /// Zones, then skins.
    regions: [bool; MOST_REGIONS],
}

/// Zones, bodies with roles, fills grown by an overlap and skins together: three times
/// [`ulmix_recipe::zones`]' bound, and twice so many bodies.
const MOST_REGIONS: usize = 3 * 64 + 2 * ulmix_recipe::MOST_WITH_ROLES;

impl<'a> Composed<'a> {
    /// Of a part that one structure fills.
    pub fn new(
        part: &'a Part,
        zoned: &'a Zoned,
        regions: &'a Regions,
        lattice: &'a dyn Lattice,
        reach: f64,
    ) -> Composed<'a> {
        Composed::of(
            part,
            zoned,
            regions,
            vec![Reaching { lattice, reach, body: Blending::default() }],
            &[],
        )
    }

    /// `lattices` by filling, as many as the regions name, and what ties them.
    pub fn of(
        part: &'a Part,
        zoned: &'a Zoned,
        regions: &'a Regions,
        lattices: Vec<Reaching<'a>>,
        ties: &[Tie<'a>],
    ) -> Composed<'a> {
        let on_grid = |l: &Reaching<'a>| l.lattice.on_grid(&zoned.grid, l.reach);
        let grid_field: Box<dyn GridField + 'a> = if let [only] = &lattices[..] {
            on_grid(only)
        } else {
            let filled = regions.zones.iter().filter(|z| z.role == Role::Fill).collect();
            let laid =
                |l: &Reaching<'a>| Laid { grid_field: on_grid(l), reach: l.reach, body: l.body };
            Box::new(Patchwork::new(zoned, filled, lattices.iter().map(laid).collect(), ties))
        };
        Composed { side: Selection::All, part, zoned, regions, lattices, grid_field }
    }

    /// Only the material of one side.
    pub fn only(self, side: Selection) -> Self {
        Composed { side, ..self }
    }

    /// The material that is meant.
    pub fn side(&self) -> Selection {
        self.side
    }

    fn grid(&self) -> &Grid {
        &self.zoned.grid
    }

    /// Signs of the whole shape; computes the lattice only where it decides.
    pub fn signs(&self) -> Bits {
        if self.side == Selection::Solids {
            return self.zoned.solid.clone();
        }
        let mut out = self.grid_field.signs(&self.zoned.fill);
        if self.side == Selection::All {
            out.par_words_mut(|w, j, k, word| *word |= self.zoned.solid.row(j, k)[w]);
        }
        out
    }

    /// Samples around which a smooth field alone decides.
    pub fn smooth(&self) -> Cow<'_, Bits> {
        let of = self.zoned.smooth();
        self.grid_field.smooth(of).map_or(Cow::Borrowed(of), Cow::Owned)
    }

    /// The low corner of the cell that a point lies in.
    fn cell_at(&self, p: DVec3) -> UVec3 {
        let grid = self.grid();
        ((p - grid.origin) / grid.step).as_uvec3()
    }

    /// Is a sample around the point outside the part? Answers without asking the part itself.
    fn beside_part(&self, p: DVec3) -> bool {
        !self.zoned.inside.all_around(self.cell_at(p))
    }

    /// Operands at a sample, for a way that begins in a filling.
    fn sides(&self, at: UVec3, lattice: f64, filling: usize) -> Operands {
        let mut regions = [false; MOST_REGIONS];
        for (n, r) in self.regions.all().enumerate() {
            regions[n] = self.zoned.holds(n, r, at);
        }
        let part = self.zoned.inside.get(at.x, at.y, at.z);
        let proud = self.regions.proud_of(filling) > 0.0 && self.zoned.within_proud(filling, at);
        Operands { part, proud, lattice: self.in_lattice(at, lattice), regions }
    }

    /// Is there material?
    fn material(&self, s: &Operands) -> bool {
        let zones = self.regions.zones.len();
        let role = (0..zones)
            .find(|&n| s.regions[n])
            .map_or(self.regions.rest, |n| self.regions.zones[n].role);
        let skin = || s.regions[zones..zones + self.regions.skins.len()].contains(&true);
        if !s.part {
            let filled = !matches!(role, Role::KeepSolid | Role::KeepClear);
            return s.proud && filled && self.side != Selection::Solids && s.lattice && !skin();
        }
        s.part
            && match role {
                Role::KeepSolid => self.side != Selection::Lattice,
                Role::KeepClear => false,
                _ => match self.side {
                    Selection::All => s.lattice || skin(),
                    Selection::Lattice => s.lattice && !skin(),
                    Selection::Solids => skin(),
                },
            }
    }
}

/// An operand that changes along an edge, with the normal of its border where that is known.
#[derive(Clone, Copy)]
enum Operand {
    Part(DVec3),
    /// How far the lattice stands past the part's surface.
    Proud,
    Lattice(DVec3),
    Region(usize),
}

/// What the hits of a row of edges are found from, kept from row to row.
#[derive(Default)]
struct Work {
    ends: Vec<DVec3>,
    values: Vec<f64>,
    /// Edges on which the lattice changes.
    segments: Vec<Segment>,
    met: Vec<Met>,
    changes: Vec<(f64, Operand)>,
}

impl Composed<'_> {
    /// Walks along the edge from change to change until material ends. `values` are the lattice's
    /// at its ends, `met` is where it changes between them.
    fn crossing(
        &self,
        edge: &Edge,
        values: [f64; 2],
        met: Option<Met>,
        changes: &mut Vec<(f64, Operand)>,
    ) -> EdgeCrossing {
        let (a, b) = (edge.inside, edge.outside);
        let [la, lb] = values;
        let filling = self.zoned.filling_at(edge.inside_at);
        let (mut sides, end) =
            (self.sides(edge.inside_at, la, filling), self.sides(edge.outside_at, lb, filling));
        changes.clear();
        if sides.part && !end.part {
            let (t, n) = exit(self.part, [a, b], self.grid().step);
            changes.push((t, Operand::Part(n)));
        } else if end.part && !sides.part {
            let (t, n) = exit(self.part, [b, a], self.grid().step);
            changes.push((1.0 - t, Operand::Part(-n)));
        }
        if sides.proud != end.proud {
            let proud = self.regions.proud_of(filling);
            let value = |p: DVec3| self.part.distance.value(p) - proud;
            let t = root(|t| value(a.lerp(b, t)), value(a), value(b));
            changes.push((t, Operand::Proud));
        }
        for (n, region) in self.regions.all().enumerate() {
            if sides.regions[n] != end.regions[n] {
                let t = root(|t| region.value(a.lerp(b, t)), region.value(a), region.value(b));
                changes.push((t, Operand::Region(n)));
            }
        }
        changes.extend(met.map(|m| (m.t, Operand::Lattice(m.normal))));
        changes.sort_by(|x, y| x.0.total_cmp(&y.0));
        for &(t, operand) in changes.iter() {
            match operand {
                Operand::Part(_) => sides.part = !sides.part,
                Operand::Proud => sides.proud = !sides.proud,
                Operand::Lattice(_) => sides.lattice = !sides.lattice,
                Operand::Region(n) => sides.regions[n] = !sides.regions[n],
            }
            if self.material(&sides) {
                continue;
            }
            let (n, constrained) = match operand {
                Operand::Part(n) => (n, true),
                Operand::Proud => (self.away(a.lerp(b, t)), false),
                Operand::Lattice(n) => (n, false),
                Operand::Region(n) => {
                    let out =
                        self.regions.all().nth(n).map_or(DVec3::Z, |r| r.normal(a.lerp(b, t)));
                    // Leaving a solid region or entering a cleared one: outward is along the edge.
                    (if sides.regions[n] { -out } else { out }, true)
                }
            };
            return EdgeCrossing { t: t as f32, normal: n.as_vec3().to_array(), constrained };
        }
        // Signs in bulk are 32-bit: a sample within rounding of the border.
        let nearer_b = la.abs() > lb.abs();
        let n = self.grid_field.normal(if nearer_b { b } else { a });
        EdgeCrossing {
            t: if nearer_b { 1.0 } else { 0.0 },
            normal: n.as_vec3().to_array(),
            constrained: false,
        }
    }

    /// Away from the part's surface.
    fn away(&self, p: DVec3) -> DVec3 {
        let near = self.part.distance.query(p, f64::INFINITY);
        near.map_or(DVec3::Z, |(d, near)| ((p - near.point) * d.signum()).normalize_or(DVec3::Z))
    }

    /// How far the lattice stands past the part's surface at a place. mm.
    fn proud_at(&self, p: DVec3) -> f64 {
        let solid = |role: Role| matches!(role, Role::KeepSolid | Role::KeepClear);
        if self.regions.proud.is_empty() || self.side == Selection::Solids {
            return 0.0;
        }
        let zone = self.regions.zone_at(p);
        let covered = solid(self.regions.role_in(zone))
            || self.regions.skins.iter().any(|s| s.value(p) < 0.0);
        if covered {
            0.0
        } else {
            self.regions.proud_of(self.regions.filling_in(zone))
        }
    }

    /// Does the lattice, as its signs are taken, hold a sample at which its field has this value?
    fn in_lattice(&self, at: UVec3, value: f64) -> bool {
        value < self.lattices[self.zoned.filling_at(at)].reach
    }
}

impl Shape for Composed<'_> {
    fn edge_crossings(&self, edges: &[Edge], out: &mut [EdgeCrossing]) {
        thread_local!(static WORK: RefCell<Work> = RefCell::default());
        // Taken, not borrowed: a thread that waits within may come by here again.
        let mut work = WORK.take();
        work.ends.clear();
        work.ends.extend(edges.iter().flat_map(|e| [e.inside, e.outside]));
        self.grid_field.values(&work.ends, &mut work.values);
        let values = work.values.as_chunks::<2>().0;
        let changes = |(e, v): (&Edge, &[f64; 2])| {
            self.in_lattice(e.inside_at, v[0]) != self.in_lattice(e.outside_at, v[1])
        };
        let changing = edges.iter().zip(values).filter(|&pair| changes(pair));
        work.segments.clear();
        work.segments.extend(changing.map(|(e, &ends)| Segment {
            a: e.inside,
            b: e.outside,
            ends,
        }));
        self.grid_field.met(&work.segments, &mut work.met);
        let mut met = work.met.iter();
        for ((edge, values), slot) in edges.iter().zip(values).zip(out) {
            let met = changes((edge, values)).then(|| *met.next().expect("one a segment"));
            *slot = self.crossing(edge, *values, met, &mut work.changes);
        }
        WORK.set(work);
    }

    fn value(&self, p: DVec3) -> f64 {
        let skin = self.regions.skins.iter().map(|s| s.value(p)).fold(f64::INFINITY, f64::min);
        let filled = match self.side {
            Selection::All => self.grid_field.value(p).min(skin),
            Selection::Lattice => self.grid_field.value(p).max(-skin),
            Selection::Solids => skin,
        };
        let of = |role: Role| match role {
            Role::KeepSolid if self.side == Selection::Lattice => f64::INFINITY,
            Role::KeepSolid => f64::NEG_INFINITY,
            Role::KeepClear => f64::INFINITY,
            Role::Fill | Role::Reference | Role::Alongside => filled,
        };
        let inner = self.regions.zones.iter().rev().fold(of(self.regions.rest), |inner, region| {
            let own = of(region.role);
            // Fillings pass into each other by the lattice's own field.
            if region.role == Role::Fill && inner == own {
                return inner;
            }
            let z = region.solid.value(p);
            // Solid, or nothing, through and through: within it is no border with what else is so.
            match own {
                f64::NEG_INFINITY => inner.min(z),
                f64::INFINITY => inner.max(-z),
                _ => inner.max(-z).min(own.max(z)),
            }
        });
        let part = self.part.distance.value(p);
        let proud = if part > 0.0 { self.proud_at(p) } else { 0.0 };
        if proud > 0.0 {
            return (part - proud).max(self.grid_field.value(p));
        }
        part.max(inner)
    }

    fn confine(&self, p: DVec3) -> DVec3 {
        if !self.beside_part(p) {
            return p;
        }
        match self.part.distance.query(p, 4.0 * self.grid().step) {
            Some((d, near)) if d > 1e-6 * self.grid().step => {
                // Past the surface no farther than the lattice stands there.
                let proud = self.proud_at(p);
                near.point + (p - near.point) * (proud / d).min(1.0)
            }
            _ => p,
        }
    }

    fn fixed_points(&self) -> Vec<DVec3> {
        // Corners of the part with material on them, and none past them.
        let tiny = 1e-6 * self.grid().step;
        self.part.corners.iter().copied().filter(|&p| self.value(p).abs() < tiny).collect()
    }

    fn allows_overshoot(&self) -> bool {
        let sharp = self.regions.zones.iter().all(|z| z.blend == 0.0);
        sharp && self.lattices.iter().all(|l| l.lattice.allows_overshoot(self.grid().step))
    }

    fn project(&self, row: &mut RowPoints) {
        self.grid_field.project(row);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_lattice::surface::Periodic;
    use ulmix_lattice::BareStructure;
    use ulmix_mesh::TriMesh;
    use ulmix_recipe::{Form, Place, Skin, Structure, SurfaceKind, SurfacePattern, Zone, Zones};

    #[test]
    fn bulk_signs_equal_the_exact_value_away_from_rounding() {
        let part = Part::prepare(&TriMesh::sphere(11.0, 4)).unwrap();
        let zone = |role, place| Zone::new(1, "x", role, place);
        let rod = |radius_mm| Place::Cylinder {
            base_mm: [3.0, 0.0, -9.0],
            axis_mm: [0.0, 1.0, 20.0],
            radius_mm,
        };
        let zones = Zones {
            rest: Role::Fill,
            list: vec![
                zone(Role::KeepClear, rod(1.1)),
                zone(Role::Fill, Place::Sphere { centre_mm: [3.0, 0.0, 0.0], radius_mm: 2.5 }),
                zone(Role::KeepSolid, rod(3.0)),
                zone(
                    Role::KeepClear,
                    Place::Box {
                        centre_mm: [-6.0, 0.0, 0.0],
                        size_mm: [4.0, 5.0, 6.0],
                        rotation_deg: [10.0, 20.0, 30.0],
                    },
                ),
            ],
            skins: vec![Skin { id: 1, name: "x".into(), faces: None, depth_mm: 1.3 }],
        };
        let regions = Regions::of(&part, &zones);
        let zoned =
            Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.45), &|| false)
                .unwrap();
        for (kind, rotation_deg) in [
            (SurfaceKind::Gyroid, [0.0; 3]),
            (SurfaceKind::SchwarzP, [20.0, 0.0, 5.0]),
            (SurfaceKind::SchwarzD, [0.0, 90.0, 33.0]),
        ] {
            for form in [Form::Walls, Form::Network] {
                let structure =
                    Structure { cell_mm: [7.0, 8.0, 9.0], rotation_deg, ..Default::default() };
                let lattice =
                    Periodic::new(&SurfacePattern { surface: kind, form }, &structure, DVec3::ZERO)
                        .thicken(1.1);
                let shape = Composed::new(&part, &zoned, &regions, &*lattice, 0.0);
                let signs = shape.signs();
                let grid = &zoned.grid;
                for k in 0..grid.size.z {
                    for j in 0..grid.size.y {
                        for i in 0..grid.size.x {
                            let v = shape.value(grid.at(i, j, k));
                            if v.abs() > 1e-4 {
                                assert_eq!(
                                    signs.get(i, j, k),
                                    v < 0.0,
                                    "{kind:?} {form:?} at {i} {j} {k}: {v}"
                                );
                            }
                        }
                    }
                }
            }
        }
    }

    /// A ball that is cleared along a rod, kept solid in a box and covered by a skin.
    pub(in crate::compose) struct Ball {
        pub part: Part,
        regions: Regions,
        zoned: Zoned,
        lattice: Box<dyn Lattice>,
    }

    impl Ball {
        pub(super) fn new() -> Ball {
            let part = Part::prepare(&TriMesh::sphere(10.0, 3)).unwrap();
            let rod = Place::Cylinder {
                base_mm: [0.0, 0.0, -12.0],
                axis_mm: [0.0, 0.0, 24.0],
                radius_mm: 2.0,
            };
            let block = Place::Box {
                centre_mm: [6.0, 0.0, 0.0],
                size_mm: [3.0; 3],
                rotation_deg: [0.0; 3],
            };
            let zones = Zones {
                list: vec![
                    Zone::new(2, "Rod", Role::KeepClear, rod),
                    Zone::new(3, "Block", Role::KeepSolid, block),
                ],
                skins: vec![Skin { id: 2, name: "Skin".into(), faces: None, depth_mm: 1.0 }],
                ..Zones::default()
            };
            let regions = Regions::of(&part, &zones);
            let zoned =
                Zoned::sample(&part, &regions, Grid::covering(&part.mesh.bounds(), 0.4), &|| false)
                    .unwrap();
            let structure = Structure { cell_mm: [6.0; 3], ..Default::default() };
            let lattice =
                Periodic::new(&SurfacePattern::default(), &structure, DVec3::ZERO).thicken(1.0);
            Ball { part, regions, zoned, lattice }
        }

        pub(super) fn shape(&self, side: Selection) -> Composed<'_> {
            Composed::new(&self.part, &self.zoned, &self.regions, &*self.lattice, 0.0).only(side)
        }

        pub(super) fn places(&self) -> Vec<DVec3> {
            (1..6000).map(|n| 22.0 * (ulmix_field::numeric::low_discrepancy(n) - 0.5)).collect()
        }
    }

    #[test]
    fn the_sides_of_a_shape_are_its_lattice_and_its_solids_and_nothing_else() {
        let ball = Ball::new();
        let [all, lattice, solids] =
            [Selection::All, Selection::Lattice, Selection::Solids].map(|side| ball.shape(side));
        let mut counts = [0; 3];
        for p in ball.places() {
            let [a, l, s] = [&all, &lattice, &solids].map(|shape| shape.value(p));
            if [a, l, s].iter().any(|v| v.abs() < 1e-6) {
                continue;
            }
            assert_eq!(a < 0.0, l < 0.0 || s < 0.0, "at {p}: {a} {l} {s}");
            assert!(!(l < 0.0 && s < 0.0), "both at {p}");
            let open = p.truncate().length() < 2.0 || p.length() > 10.0;
            assert!(a > 0.0 || !open, "at {p}");
            counts[usize::from(l < 0.0) + 2 * usize::from(s < 0.0)] += 1;
        }
        assert!(counts.iter().all(|n| *n > 100), "{counts:?}");
    }
}
