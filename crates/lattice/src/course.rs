//! Strut cells whose rows bend: around an axis, or from some faces of the part to those opposite.
//!
//! Every node has a place in cells; a course says where that is in the part. Cells that share a
//! node share its place, so the net hangs together however its rows run, and whole cells end where
//! the course does.

use super::axes::{across, axis_of};
use super::skeleton::{CellNodes, Skeleton};
use super::unit::UnitStrut;
use glam::{DVec2, DVec3, Vec3Swizzles};
use std::f64::consts::TAU;
use ulmix_mesh::bvh::SegmentCrossing;
use ulmix_mesh::faces::FaceForm;
use ulmix_mesh::{Bvh, TriMesh};
use ulmix_part::Part;
use ulmix_recipe::course::Course;
use ulmix_recipe::{BentRows, CleanUp, FaceMark, RecipeError, RecipeFault, Structure};

/// Rows of whole cells in the part.
pub struct Rows {
    /// Cells along each direction.
    pub counts: [usize; 3],
    /// The middle of the place, and its own axes; the third is the axis, or leads from face to
    /// face.
    origin: DVec3,
    axes: [DVec3; 3],
    bend: Bend,
}

enum Bend {
    Round { inner: f64, outer: f64, low: f64, high: f64 },
    Between { low: DVec2, high: DVec2, rims: Box<[Rim; 2]> },
}

/// Most cells that are laid one by one.
const MOST_CELLS: usize = 60_000;

impl Rows {
    /// The rows, and what becomes of what their struts have too much of. `None` for straight rows,
    /// which have no end.
    pub fn of<'a>(part: &Part, s: &'a Structure) -> Option<(Rows, &'a CleanUp)> {
        let BentRows { course, clean } = s.bent()?;
        let rows = match course {
            Course::Polar { about, counts } => {
                Rows::polar(part, about.as_ref(), *counts, s.cell_mm)
            }
            Course::Between { from, to, layers } => {
                Rows::between(part, from, to, *layers, s.cell_mm)
            }
        };
        Some((rows, clean))
    }

    /// Refuses rows of too many cells.
    ///
    /// # Errors
    /// More cells than can be laid one by one, with how many can.
    pub fn few_enough(part: &Part, s: &Structure) -> Result<(), RecipeError> {
        let cells = Rows::of(part, s).map_or(0, |(r, _)| r.counts.iter().product());
        if cells <= MOST_CELLS {
            return Ok(());
        }
        let most = MOST_CELLS;
        let fault = RecipeFault::TooManyInRows { cells, most };
        Err(RecipeError::new("structure.pattern.rows", fault))
    }

    fn polar(part: &Part, about: Option<&FaceMark>, counts: [u32; 3], cell: [f64; 3]) -> Rows {
        let faces = || part.faces().list.iter();
        let marked = about
            .and_then(|m| part.face(m))
            .or_else(|| faces().find(|f| matches!(f.kind, FaceForm::Cylinder { .. })));
        let (origin, axis) =
            marked.map_or((part.mesh.bounds().centre(), DVec3::Z), |f| axis_of(part, f));
        let axes = across(axis);
        let local = |p: DVec3| axes.map(|a| (p - origin).dot(a));
        let (mut outer, mut low, mut high) = (0.0f64, f64::INFINITY, f64::NEG_INFINITY);
        for [x, y, z] in part.mesh.points.iter().map(|&p| local(p)) {
            (outer, low, high) = (outer.max(x.hypot(y)), low.min(z), high.max(z));
        }
        // How near the part comes to the axis: asked along it, at most a step apart.
        const ASKED: usize = 256;
        let along =
            (0..=ASKED).map(|n| origin + axis * (low + (high - low) * n as f64 / ASKED as f64));
        let away = |p: DVec3| part.distance.query(p, outer).map_or(outer, |(d, _)| d.max(0.0));
        let inner = along.map(away).fold(outer, f64::min);
        let fit = |length: f64, n: usize| whole(length, cell[n], counts[n]);
        let round = fit(TAU * 0.5 * (inner + outer), 1).max(3);
        let counts = [fit(outer - inner, 0), round, fit(high - low, 2)];
        Rows { counts, origin, axes, bend: Bend::Round { inner, outer, low, high } }
    }

    fn between(
        part: &Part,
        from: &[FaceMark],
        to: &[FaceMark],
        layers: u32,
        cell: [f64; 3],
    ) -> Rows {
        let surfaces = [from, to].map(|marks| part.surface_of(marks).0);
        let outward = |m: &TriMesh| {
            (0..m.triangles.len()).map(|t| m.area_vector(t)).sum::<DVec3>().try_normalize()
        };
        // Rows stand upright on the faces where they begin.
        let axis =
            outward(&surfaces[0]).map(|n| -n).or_else(|| outward(&surfaces[1])).unwrap_or(DVec3::Z);
        let axes = across(axis);
        let origin = part.mesh.bounds().centre();
        let local = |p: DVec3| DVec3::from(axes.map(|a| (p - origin).dot(a)));
        let (mut low, mut high) = (DVec3::INFINITY, DVec3::NEG_INFINITY);
        for p in part.mesh.points.iter().map(|&p| local(p)) {
            (low, high) = (low.min(p), high.max(p));
        }
        let [from, to] = surfaces.map(|s| s.mapped(local));
        let (from, to) = (Rim::new(from, low.z, f64::max), Rim::new(to, high.z, f64::min));
        let (width, middle) = ((high - low).xy(), (low.xy() + high.xy()) * 0.5);
        // The mean way from one to the other decides how many fit.
        const ASKED: u32 = 16;
        let asked = (0..ASKED * ASKED).map(|n| {
            let share =
                DVec2::new((n % ASKED) as f64 + 0.5, (n / ASKED) as f64 + 0.5) / ASKED as f64;
            let at = middle + width * (share - 0.5);
            (to.height(at) - from.height(at)).max(0.0)
        });
        let mean = asked.sum::<f64>() / (ASKED * ASKED) as f64;
        let counts =
            [whole(width.x, cell[0], 0), whole(width.y, cell[1], 0), whole(mean, cell[2], layers)];
        Rows {
            counts,
            origin,
            axes,
            bend: Bend::Between { low: low.xy(), high: high.xy(), rims: Box::new([from, to]) },
        }
    }

    /// Where a place in cells lies in the part. mm.
    pub fn place(&self, at: DVec3) -> DVec3 {
        let share = at / DVec3::from(self.counts.map(|n| n as f64));
        let [x, y, z] = match &self.bend {
            Bend::Round { inner, outer, low, high } => {
                let (r, (sin, cos)) =
                    (inner + (outer - inner) * share.x, (TAU * share.y).sin_cos());
                [r * cos, r * sin, low + (high - low) * share.z]
            }
            Bend::Between { low, high, rims } => {
                let q = *low + (*high - *low) * share.xy();
                let [a, b] = [&rims[0], &rims[1]].map(|rim| rim.height(q));
                [q.x, q.y, a + (b - a).max(0.0) * share.z]
            }
        };
        self.origin + self.axes[0] * x + self.axes[1] * y + self.axes[2] * z
    }

    /// The struts of all cells, each once, with the sides of those at the rim closed.
    pub fn struts(&self, unit: &[UnitStrut]) -> Skeleton {
        let round = matches!(self.bend, Bend::Round { .. });
        let last = self.counts.map(|n| n as i64);
        // The sides of a cell belong to it or to the one before: those past the rim are asked too.
        let range = |axis: usize| if round && axis == 1 { 0..last[1] } else { -1..last[axis] + 1 };
        let (mut nodes, mut struts) = (CellNodes::default(), Vec::new());
        let top = DVec3::from(self.counts.map(|n| n as f64));
        let within = |p: DVec3| {
            let free = DVec3::new(0.0, if round { f64::INFINITY } else { 0.0 }, 0.0) + 1e-6;
            p.cmpge(-free).all() && p.cmple(top + free).all()
        };
        let mut node = |p: DVec3| {
            let mut key = CellNodes::key(p);
            if round {
                key[1] = key[1].rem_euclid(last[1] * CellNodes::FINE);
            }
            nodes.number(key, || self.place(p))
        };
        for (k, j, i) in
            range(2).flat_map(|k| range(1).flat_map(move |j| range(0).map(move |i| (k, j, i))))
        {
            let at = DVec3::new(i as f64, j as f64, k as f64);
            for ends in
                unit.iter().map(|e| e.map(|p| p + at)).filter(|e| e.iter().all(|p| within(*p)))
            {
                struts.push(ends.map(&mut node));
            }
        }
        // At an axis that the part holds the ends of some fall together.
        let tiny = 1e-9 * (self.place(top) - self.place(DVec3::ZERO)).length();
        Skeleton { nodes: nodes.places, struts }.merged(tiny).filtered(|_| true)
    }
}

/// Cells of about this size in a length, or a number that is given.
fn whole(length: f64, cell: f64, given: u32) -> usize {
    if given > 0 {
        given as usize
    } else {
        (length / cell).round().clamp(1.0, 1e6) as usize
    }
}

/// Faces where rows begin or end, in the course's own axes.
struct Rim {
    /// `None` without faces: a plane at the height of the middle.
    tree: Option<Bvh>,
    low: f64,
    high: f64,
    middle: DVec3,
    /// Of several heights the one that counts.
    of_two: fn(f64, f64) -> f64,
}

impl Rim {
    fn new(surface: TriMesh, level: f64, of_two: fn(f64, f64) -> f64) -> Rim {
        if surface.triangles.is_empty() {
            return Rim { tree: None, low: level, high: level, middle: DVec3::Z * level, of_two };
        }
        let b = surface.bounds();
        let reach = b.size().length();
        Rim {
            tree: Some(Bvh::new(&surface)),
            low: b.min.z - reach,
            high: b.max.z + reach,
            middle: b.centre(),
            of_two,
        }
    }

    /// Height of the faces over a place across; beside them that of their nearest place.
    fn height(&self, at: DVec2) -> f64 {
        let Some(tree) = &self.tree else { return self.middle.z };
        let over = |at: DVec2| {
            let mut crossings: Vec<SegmentCrossing> = Vec::new();
            tree.segment_crossings(at.extend(self.low), at.extend(self.high), &mut crossings);
            crossings.iter().map(|h| self.low + (self.high - self.low) * h.t).reduce(self.of_two)
        };
        // On the very rim a line may pass by.
        let pulled = at.lerp(self.middle.xy(), 1e-7);
        over(at).or_else(|| over(pulled)).unwrap_or_else(|| {
            // The nearest place sees the line at its own height.
            let nearer =
                |z: f64| tree.nearest(at.extend(z), f64::INFINITY).map_or(z, |n| n.point.z);
            (0..8).fold(self.middle.z, |z, _| nearer(z))
        })
    }
}
