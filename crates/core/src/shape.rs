//! The composed shape: part ∩ (lattice ∪ skin ∪ kept solids), with exact hits for the polygoniser.

use crate::bulk::Kernel;
use crate::grid::{Bits, Grid};
use crate::part::Part;
use crate::polygonise::{Edge, Hit, RowPoints, Shape};
use crate::recipe::KeepSolid;
use crate::sample::PartBits;
use crate::surface::Lattice;
use glam::{DVec3, UVec3};
use rayon::prelude::*;
use std::cell::RefCell;
use ulmix_mesh::bvh::SegmentHit;

/// A kept solid: a cylinder with flat ends.
#[derive(Clone, Debug)]
pub struct Cylinder {
    base: DVec3,
    axis: DVec3,
    length: f64,
    radius: f64,
}

impl Cylinder {
    pub fn new(k: &KeepSolid) -> Cylinder {
        let along = DVec3::from(k.axis_mm);
        Cylinder { base: k.base_mm.into(), axis: along.normalize_or(DVec3::Z), length: along.length(), radius: k.radius_mm }
    }

    /// Negative inside; exact inside and beside, a lower bound past the rims.
    pub fn value(&self, p: DVec3) -> f64 {
        let q = p - self.base;
        let along = q.dot(self.axis);
        let out = (q - self.axis * along).length() - self.radius;
        out.max(-along).max(along - self.length)
    }

    fn normal(&self, p: DVec3) -> DVec3 {
        let q = p - self.base;
        let along = q.dot(self.axis);
        let radial = q - self.axis * along;
        let out = radial.length() - self.radius;
        if out >= -along && out >= along - self.length {
            radial.normalize_or(self.axis)
        } else if -along > along - self.length {
            -self.axis
        } else {
            self.axis
        }
    }
}

/// What a place of the result belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Role {
    Fill = 0,
    Skin = 1,
    Solid = 2,
}

pub struct Composed<'a> {
    part: &'a Part,
    pub grid: &'a Grid,
    bits: &'a PartBits,
    lattice: Lattice,
    kernel: Kernel,
    skin: f64,
    solids: Vec<Cylinder>,
    reach: f64,
}

impl<'a> Composed<'a> {
    /// `bits` are the signs of the part on `grid`, `skin` the skin's depth in mm, 0 for none. On coarse
    /// grids a wall thinner than the step would tear: signs are taken as if the lattice reached
    /// `reach` mm further, and places are still computed on its true border.
    pub fn new(
        part: &'a Part,
        grid: &'a Grid,
        bits: &'a PartBits,
        lattice: Lattice,
        skin: f64,
        solids: Vec<Cylinder>,
        reach: f64,
    ) -> Composed<'a> {
        let kernel = Kernel::new(&lattice, reach, grid);
        Composed { part, grid, bits, lattice, kernel, skin, solids, reach }
    }

    /// Signs of the whole shape, from the part's; computes the lattice only where it decides.
    pub fn signs(&self) -> Bits {
        let (grid, part) = (self.grid, self.bits);
        let mut out = Bits::new(grid);
        let rows = grid.size.y as usize;
        let words = grid.words();
        let deep = part.deep.as_ref().unwrap_or(&part.inside);
        out.par_layers_mut(1).for_each(|(k, layer)| {
            for j in 0..rows {
                let (inside, deep) = (part.inside.row(j, k), deep.row(j, k));
                for w in 0..words {
                    if inside[w] == 0 {
                        continue;
                    }
                    let mut solid = !deep[w];
                    let open = inside[w] & !solid;
                    if open != 0 {
                        solid |= solid_word(&self.solids, grid, w, j, k);
                        if inside[w] & !solid != 0 {
                            solid |= self.kernel.word(w, j, k);
                        }
                    }
                    layer[j * words + w] = inside[w] & solid;
                }
            }
        });
        out
    }

    /// What the material at `p`, a place on the border, belongs to.
    pub fn role(&self, p: DVec3) -> Role {
        // Borders between roles are theirs who reach them: a quarter step of goodwill.
        let near = 0.25 * self.grid.step;
        let skin = self.skin + near;
        if self.solids.iter().any(|c| c.value(p) < near) {
            Role::Solid
        } else if self.skin > 0.0 && !self.deep(p) && self.part.bvh().nearest(p, skin * skin).is_some() {
            Role::Skin
        } else {
            Role::Fill
        }
    }

    /// Does the point lie on the part's own surface?
    pub fn on_part(&self, p: DVec3) -> bool {
        let near = 1e-3 * self.grid.step;
        self.beside_part(p) && self.part.bvh().nearest(p, near * near).is_some()
    }

    /// Do all samples around the point lie deeper than the skin? Answers without asking the part.
    fn deep(&self, p: DVec3) -> bool {
        self.bits.deep.as_ref().is_some_and(|deep| self.around(p).all(|at| deep.get(at.x, at.y, at.z)))
    }

    /// The eight samples around a point.
    fn around(&self, p: DVec3) -> impl Iterator<Item = UVec3> + '_ {
        let s = ((p - self.grid.origin) / self.grid.step).as_uvec3();
        (0..8).map(move |c| (s + UVec3::new(c & 1, c >> 1 & 1, c >> 2)).min(self.grid.size - 1))
    }

    /// Is a sample around the point outside the part? Answers without asking the part itself.
    fn beside_part(&self, p: DVec3) -> bool {
        self.around(p).any(|at| !self.bits.inside.get(at.x, at.y, at.z))
    }

    fn skin_value(&self, p: DVec3) -> f64 {
        -self.skin - self.part.distance.value(p)
    }

    /// Leaving the part: the first triangle met, or across a hole where the winding turns.
    fn part_exit(&self, a: DVec3, b: DVec3) -> (f64, DVec3) {
        thread_local!(static HITS: RefCell<Vec<SegmentHit>> = const { RefCell::new(Vec::new()) });
        let first = HITS.with_borrow_mut(|hits| {
            self.part.distance.segment_hits(a, b, hits);
            let leaving = |h: &&SegmentHit| self.part.distance.face_normal(h.triangle).dot(b - a) > 0.0;
            let by_t = |x: &&SegmentHit, y: &&SegmentHit| x.t.total_cmp(&y.t).then(x.triangle.cmp(&y.triangle));
            hits.iter().filter(leaving).min_by(by_t).or_else(|| hits.iter().min_by(by_t)).copied()
        });
        if let Some(h) = first {
            return (h.t, self.part.distance.face_normal(h.triangle));
        }
        let t = bisect(|t| if self.part.distance.inside(a.lerp(b, t)) { -1.0 } else { 1.0 });
        (t, self.part.distance.normal_near(a.lerp(b, t), self.grid.step))
    }
}

/// Samples of the part that are not skin and not kept solid.
pub fn fill_zone(grid: &Grid, part: &PartBits, solids: &[Cylinder]) -> Bits {
    let mut out = Bits::new(grid);
    let deep = part.deep.as_ref().unwrap_or(&part.inside);
    let words = grid.words();
    out.par_layers_mut(1).for_each(|(k, layer)| {
        for j in 0..grid.size.y as usize {
            for (w, &d) in deep.row(j, k).iter().enumerate().filter(|(_, d)| **d != 0) {
                layer[j * words + w] = d & !solid_word(solids, grid, w, j, k);
            }
        }
    });
    out
}

/// Which of 64 samples lie in a kept solid.
fn solid_word(solids: &[Cylinder], grid: &Grid, w: usize, j: usize, k: usize) -> u64 {
    let middle = grid.at(64 * w as u32, j as u32, k as u32) + DVec3::X * (31.5 * grid.step);
    let reach = 32.0 * grid.step;
    let mut out = 0;
    for c in solids {
        if c.value(middle) < reach {
            for i in 0..64 {
                out |= ((c.value(grid.at(64 * w as u32 + i, j as u32, k as u32)) < 0.0) as u64) << i;
            }
        }
    }
    out
}

impl Shape for Composed<'_> {
    fn hit(&self, edge: &Edge) -> Hit {
        let (a, b) = (edge.inside, edge.outside);
        let set = |bits: &Bits, at: UVec3| bits.get(at.x, at.y, at.z);
        let leaves_part = !set(&self.bits.inside, edge.outside_at);
        // Leaving the union of the inner operands: the last exit, unless another takes over first.
        let mut exit: Option<(f64, DVec3)> = None;
        let mut takeover = f64::INFINITY;
        let mut stays = false;
        let mut consider = |inside_a: bool, inside_b: bool, root: &dyn Fn() -> f64, normal: &dyn Fn(DVec3) -> DVec3| match (
            inside_a, inside_b,
        ) {
            (true, true) => stays = true,
            (true, false) => {
                let t = root();
                if exit.is_none_or(|e| t > e.0) {
                    exit = Some((t, normal(a.lerp(b, t))));
                }
            }
            (false, true) => takeover = takeover.min(root()),
            (false, false) => {}
        };
        let l = |p: DVec3| self.lattice.value(p);
        let (la, lb) = (l(a), l(b));
        let border = || {
            if (la < 0.0) == (lb < 0.0) {
                // Only the widened lattice changes sign here: its true border lies beyond an end.
                (-la / (lb - la)).clamp(-0.9, 1.9)
            } else {
                root(|t| l(a.lerp(b, t)), la, lb)
            }
        };
        consider(la < self.reach, lb < self.reach, &border, &|p| self.lattice.normal(p));
        for c in &self.solids {
            let (va, vb) = (c.value(a), c.value(b));
            consider(va < 0.0, vb < 0.0, &|| root(|t| c.value(a.lerp(b, t)), va, vb), &|p| c.normal(p));
        }
        if let Some(deep) = &self.bits.deep {
            let root = || root(|t| self.skin_value(a.lerp(b, t)), self.skin_value(a), self.skin_value(b));
            consider(!set(deep, edge.inside_at), !set(deep, edge.outside_at), &root, &|p| {
                let near = self.part.bvh().nearest(p, f64::INFINITY);
                near.map_or(DVec3::Z, |n| (p - n.point).normalize_or(DVec3::Z))
            });
        }
        let inner = exit.filter(|e| !stays && takeover > e.0);
        let outer = leaves_part.then(|| self.part_exit(a, b));
        let (t, n, firm) = match (inner, outer) {
            (Some(i), Some(o)) if i.0 < o.0 => (i.0, i.1, false),
            (_, Some(o)) => (o.0, o.1, true),
            (Some(i), None) => (i.0, i.1, false),
            // Signs in bulk are 32-bit: a sample within rounding of the border.
            (None, None) => {
                let nearer_b = la.abs() > lb.abs();
                (if nearer_b { 1.0 } else { 0.0 }, self.lattice.normal(if nearer_b { b } else { a }), false)
            }
        };
        Hit { t: t as f32, normal: n.as_vec3().to_array(), firm }
    }

    fn value(&self, p: DVec3) -> f64 {
        let part = self.part.distance.value(p);
        let skin = if self.skin > 0.0 { -self.skin - part } else { f64::INFINITY };
        let solid = self.solids.iter().map(|c| c.value(p)).fold(f64::INFINITY, f64::min);
        part.max(self.lattice.value(p).min(skin).min(solid))
    }

    fn confine(&self, p: DVec3) -> DVec3 {
        if !self.beside_part(p) {
            return p;
        }
        match self.part.distance.query(p, 4.0 * self.grid.step) {
            Some((d, near)) if d > 1e-6 * self.grid.step => near.point,
            _ => p,
        }
    }

    fn pins(&self) -> Vec<DVec3> {
        // Corners of the part with material on them.
        let tiny = 1e-6 * self.grid.step;
        self.part.corners.iter().copied().filter(|&p| self.value(p).abs() < tiny).collect()
    }

    fn roomy(&self) -> bool {
        let cell = std::f64::consts::TAU / self.lattice.surface.wave.max_element();
        self.lattice.thickness > 2.0 * self.grid.step && cell > 12.0 * self.grid.step
    }

    fn project(&self, row: &mut RowPoints) {
        self.kernel.project(row);
    }
}

/// Root in [0, 1] of a function with values of different sign at the ends (Illinois method).
fn root(f: impl Fn(f64) -> f64, fa: f64, fb: f64) -> f64 {
    let (mut a, mut b, mut fa, mut fb) = (0.0, 1.0, fa, fb);
    for _ in 0..16 {
        let t = (a * fb - b * fa) / (fb - fa);
        let v = f(t);
        if v.abs() < 1e-7 || b - a < 1e-7 {
            return t;
        }
        if (v < 0.0) == (fb < 0.0) {
            (b, fb) = (t, v);
            fa *= 0.5;
        } else {
            (a, fa) = (t, v);
            fb *= 0.5;
        }
    }
    0.5 * (a + b)
}

fn bisect(f: impl Fn(f64) -> f64) -> f64 {
    let (mut low, mut high) = (0.0, 1.0);
    for _ in 0..30 {
        let mid = 0.5 * (low + high);
        *(if f(mid) < 0.0 { &mut low } else { &mut high }) = mid;
    }
    0.5 * (low + high)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::recipe::{Form, Structure, SurfaceKind};
    use crate::sample::sample_part;
    use crate::surface::Surface;
    use ulmix_mesh::TriMesh;

    #[test]
    fn bulk_signs_equal_the_exact_value_away_from_rounding() {
        let part = Part::prepare(&TriMesh::sphere(11.0, 4)).unwrap();
        let grid = Grid::covering(&part.mesh.bounds(), 0.45);
        for (kind, rotation_deg) in [
            (SurfaceKind::Gyroid, [0.0; 3]),
            (SurfaceKind::SchwarzP, [20.0, 0.0, 5.0]),
            (SurfaceKind::SchwarzD, [0.0, 90.0, 33.0]),
        ] {
            for form in [Form::Walls, Form::Network] {
                let structure = Structure { kind, form, cell_mm: [7.0, 8.0, 9.0], rotation_deg, ..Default::default() };
                let lattice = Lattice::new(Surface::new(&structure, DVec3::ZERO), form, 1.1);
                let solid = KeepSolid { name: "x".into(), base_mm: [3.0, 0.0, -9.0], axis_mm: [0.0, 1.0, 20.0], radius_mm: 3.0 };
                let bits = sample_part(&part, &grid, 1.3, &|| false).unwrap();
                let solids = vec![Cylinder::new(&solid)];
                let shape = Composed::new(&part, &grid, &bits, lattice, 1.3, solids, 0.0);
                let signs = shape.signs();
                for k in 0..grid.size.z {
                    for j in 0..grid.size.y {
                        for i in 0..grid.size.x {
                            let v = shape.value(grid.at(i, j, k));
                            if v.abs() > 1e-4 {
                                assert_eq!(signs.get(i, j, k), v < 0.0, "{kind:?} {form:?} at {i} {j} {k}: {v}");
                            }
                        }
                    }
                }
            }
        }
    }
}
