//! The part: what came in, made ready to be filled, and the facts about it.

use crate::bodies::{
    clean, components, is_solid, joined, kept_together, make_unique, named, Body, BodyFacts,
    Corrected,
};
use crate::chords::Chords;
use crate::near::brought_near;
use crate::own_shapes;
use crate::pocket::enclosed;
use crate::sample::volume_of;
use crate::sheet::shell_of;
use crate::told::{changes, defects};
use crate::PartError;
use glam::DVec3;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::sync::{Arc, OnceLock};
use ulmix_formats::{go_on, Limits, Stopped};
use ulmix_mesh::faces::{faces, faces_until, transferred, Face, FaceForm, Faces};
use ulmix_mesh::half_edges::{half_edges, HalfEdge};
use ulmix_mesh::parallel::found_once;
use ulmix_mesh::thickness::thinnest_part;
use ulmix_mesh::{Bounds, Bvh, SignedDistance, Topology, TriMesh};
use ulmix_recipe::{FaceKind, FaceMark, PartStep, Role, Shell, Unit};
use utoipa::ToSchema;

/// A part in millimetres with its distance field.
pub struct Part {
    /// The bodies that are material, together.
    pub mesh: TriMesh,
    /// Every body of the files; none when there is only one, without a role.
    pub bodies: Vec<Arc<Body>>,
    /// What a person should know about the part.
    pub facts: PartFacts,
    /// Distance from its surface.
    pub distance: SignedDistance,
    /// Edges that turn by more than 30°, each with its ends in order.
    pub sharp_edges: Vec<[u32; 2]>,
    /// Points where sharp edges end, meet or turn: kept exactly in the final mesh.
    pub corners: Vec<DVec3>,
    /// SHA-256 of points, triangles and where faces end: the part's stage key.
    pub key: String,
    /// What was put right in the files without being asked.
    pub corrected: Corrected,
    /// The part without its pockets, when it has some: faces are found on it.
    faced: Option<TriMesh>,
    /// What came in before its triangles were made anew: faces are recognised on it.
    before: Option<TriMesh>,
    /// See [`PartStep::crease_deg`].
    crease_deg: f64,
    faces: OnceLock<Faces>,
    thinnest: OnceLock<f64>,
    chords: OnceLock<Chords>,
}

/// What a person should know about the part. Lengths mm, areas mm², volumes mm³.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PartFacts {
    /// Low corner of its box.
    pub min_mm: [f64; 3],
    /// Size of its box.
    pub size_mm: [f64; 3],
    /// Volume of the part.
    pub volume_mm3: f64,
    /// Area of its surface. mm².
    pub area_mm2: f64,
    /// Triangles of its surface.
    pub triangles: usize,
    /// Bodies of material, those that meet counted as one.
    pub bodies: usize,
    /// Every body of the files, in order.
    pub list: Vec<BodyFacts>,
    /// Is every body without a gap?
    pub closed: bool,
    /// What is not right, in plain words; empty when nothing is.
    pub defects: Vec<String>,
    /// What was mended or made of it, in plain words.
    #[serde(default)]
    #[schema(required = true)]
    pub changes: Vec<String>,
}

/// Longest sides that can be worked on. mm.
pub(crate) const SIZES: std::ops::RangeInclusive<f64> = 0.01..=100_000.0;

impl Part {
    /// What the bodies of a file are given when they are sheets and come in first. `unit` counts
    /// when the file states none.
    ///
    /// # Errors
    /// A file that cannot be read.
    pub fn first_shell(
        bytes: &[u8],
        unit: Unit,
        limits: &Limits,
    ) -> Result<Option<Shell>, PartError> {
        shell_of(&bodies_of(bytes, unit, "Part", limits)?)
    }

    /// Reads a file of any known format. `unit` counts when the file states none.
    ///
    /// # Errors
    /// A file that cannot be read, or a mesh without a volume.
    pub fn read(bytes: &[u8], unit: Unit) -> Result<Part, PartError> {
        Part::assemble(
            bodies_of(bytes, unit, "Part", &Limits::default())?,
            &PartStep::plain(unit),
            &|| false,
        )
    }

    /// The part of a recipe: made from its dimensions, or read from what `file` gives for a
    /// SHA-256, and for none: the file that the project began with. What files hold together stays
    /// within the limits.
    ///
    /// # Errors
    /// What `file` answers, and what the part step refuses.
    pub fn of<E: From<PartError>, B: AsRef<[u8]>>(
        step: &PartStep,
        file: impl Fn(Option<&str>) -> Result<B, E>,
        limits: &Limits,
    ) -> Result<Part, E> {
        let read = |sha256: Option<&str>, unit: Unit, stem: &str| -> Result<_, E> {
            Ok(bodies_of(file(sha256)?.as_ref(), unit, stem, limits)?)
        };
        let mut bodies = match (&step.shape, &step.file) {
            (Some(shape), _) => {
                shape.validate().map_err(PartError::from)?;
                vec![(shape.title().to_owned(), own_shapes::mesh(shape))]
            }
            (None, None) => read(None, step.unit, "Part")?,
            (None, Some(f)) => read(Some(&f.sha256), step.unit, stem(&f.name))?,
        };
        for more in &step.beside {
            bodies.extend(read(Some(&more.file.sha256), more.unit, stem(&more.file.name))?);
        }
        // What mending asks for could take for ever: its values are looked at before anything is
        // mended.
        let size = bodies
            .iter()
            .map(|b| b.1.bounds())
            .reduce(Bounds::union)
            .unwrap_or(Bounds::EMPTY)
            .size();
        step.validate(size.max_element()).map_err(PartError::from)?;
        let triangles = bodies.iter().map(|b| b.1.triangles.len()).sum();
        limits.hold_all(0, triangles).map_err(PartError::from)?;
        Ok(Part::assemble(bodies, step, limits.stopped)?)
    }

    /// A part of one mesh that is already in millimetres.
    ///
    /// # Errors
    /// A mesh without a volume.
    pub fn prepare(raw: &TriMesh) -> Result<Part, PartError> {
        Part::assemble(vec![("Part".into(), raw.clone())], &PartStep::plain(Unit::Mm), &|| false)
    }

    /// Welds, orients, mends and measures meshes in millimetres; those without a role are the part.
    pub(crate) fn assemble(
        mut raw: Vec<(String, TriMesh)>,
        step: &PartStep,
        stopped: Stopped,
    ) -> Result<Part, PartError> {
        workable(&raw, step)?;
        let moved = brought_near(&mut raw);
        let Cleaned { mut found, mut defects, mut changes, corrected, mut whole, before } =
            cleaned(raw, step, stopped)?;
        changes.extend(moved);
        let mut faced = None;
        if !step.pockets.is_empty() {
            let (bodies, untouched, missing) = pockets(&found, step);
            found.extend(bodies);
            make_unique(&mut found.iter_mut().map(|f| &mut f.0).collect::<Vec<_>>());
            defects.extend(missing);
            whole = None;
            faced = Some(untouched);
        }
        let roled: Vec<Option<Role>> =
            found.iter().map(|f| step.roles.get(&f.0).copied()).collect();
        let gone = step.roles.keys().filter(|name| !found.iter().any(|f| f.0 == **name));
        defects.extend(
            gone.map(|name| format!("The body “{name}” has a role and is not there any more")),
        );
        let (mesh, topology) = match whole.filter(|_| roled.iter().all(|r| is_solid(*r))) {
            // As it came: its triangles keep their order.
            Some((mesh, topology)) => (mesh, Some(topology)),
            None => {
                let solid = found.iter().zip(&roled).filter(|(_, r)| is_solid(**r));
                let all = solid.fold(TriMesh::default(), |mut all, (f, _)| {
                    all.append(&f.1);
                    all
                });
                (all, None)
            }
        };
        if mesh.triangles.is_empty() {
            return Err(PartError::NothingSolid);
        }
        let volume = mesh.volume();
        let longest = mesh.bounds().size().max_element();
        if volume <= 1e-9 * longest.powi(3) {
            return Err(if volume > 1e-9 * mesh.area().powf(1.5) {
                PartError::FarApart
            } else {
                PartError::NoVolume
            });
        }
        go_on(stopped)?;
        let topology = topology.unwrap_or_else(|| Topology::of(&mesh));
        // A single body without a role is the part, and needs no place of its own.
        let bodies: Vec<Arc<Body>> = if found.len() == 1 && roled[0].is_none() {
            Vec::new()
        } else {
            found
                .iter()
                .zip(&roled)
                .map(|((name, m), role)| Arc::new(Body::new(name.clone(), *role, m.clone())))
                .collect()
        };
        let list = match &bodies[..] {
            [] => vec![BodyFacts::of(found[0].0.clone(), None, &mesh, topology.closed())],
            all => all.iter().map(|b| b.facts.clone()).collect(),
        };
        let bounds = mesh.bounds();
        let facts = PartFacts {
            min_mm: bounds.min.to_array(),
            size_mm: bounds.size().to_array(),
            volume_mm3: volume,
            area_mm2: mesh.area(),
            triangles: mesh.triangles.len(),
            bodies: joined(&bodies.iter().filter(|b| b.solid()).collect::<Vec<_>>()).max(1),
            list,
            closed: topology.closed(),
            defects,
            changes,
        };
        go_on(stopped)?;
        let distance = SignedDistance::new(&mesh, &topology);
        go_on(stopped)?;
        let key = key(&mesh, &bodies, step.crease_deg);
        let sharp_edges = sharp_edges(&mesh);
        let mut part = Part {
            corners: corners(&mesh, &sharp_edges),
            sharp_edges,
            mesh,
            bodies,
            facts,
            distance,
            key,
            corrected,
            faced,
            before,
            crease_deg: step.crease_deg,
            faces: OnceLock::new(),
            thinnest: OnceLock::new(),
            chords: OnceLock::new(),
        };
        // Bodies side by side keep their exact volume.
        let apart = part.bodies.iter().filter(|b| b.solid()).count();
        if part.facts.bodies < apart && part.overlapping() {
            part.facts.volume_mm3 = volume_of(&part);
        }
        Ok(part)
    }

    /// Memory that it takes, about: points, triangles, box tree, what faces and chords are found
    /// with.
    pub fn bytes(&self) -> usize {
        const OF_TRIANGLE: usize = 250;
        let bodies: usize = self.bodies.iter().map(|b| b.mesh.triangles.len()).sum();
        OF_TRIANGLE * (self.mesh.triangles.len() + bodies)
    }

    /// Bodies that leave beside the result as they came.
    pub fn alongside(&self) -> Vec<(String, TriMesh)> {
        let own = self.bodies.iter().filter(|b| b.facts.role == Some(Role::Alongside));
        own.map(|b| (b.facts.name.clone(), b.mesh.clone())).collect()
    }

    /// Do bodies of the part lie in each other, by their boxes?
    fn overlapping(&self) -> bool {
        let solid: Vec<Bounds> =
            self.bodies.iter().filter(|b| b.solid()).map(|b| b.mesh.bounds()).collect();
        let near = -1e-6 * self.mesh.bounds().size().max_element();
        (0..solid.len()).any(|a| (0..a).any(|b| solid[a].grown(near).overlaps(&solid[b])))
    }

    /// Thickness below which one percent of its surface lies. mm.
    pub fn thinnest(&self) -> f64 {
        *found_once(&self.thinnest, || thinnest_part(&self.mesh, self.bvh()))
    }

    /// How far triangles of a size lie from its curved surface.
    pub fn chords(&self) -> &Chords {
        found_once(&self.chords, || Chords::of(self, &|| false).expect("nobody cancels it"))
    }

    /// Makes [`chords`](Self::chords) answer at once from now on; false when cancelled before.
    pub fn measure_chords(&self, cancelled: &(dyn Fn() -> bool + Sync)) -> bool {
        if self.chords.get().is_none() {
            if let Some(chords) = Chords::of(self, cancelled) {
                // Another thread may have been quicker, with the same.
                let _ = self.chords.set(chords);
            }
        }
        self.chords.get().is_some()
    }

    /// Tree of boxes over its triangles.
    pub fn bvh(&self) -> &Bvh {
        self.distance.bvh()
    }

    /// The surface that faces are found on: that of what came in.
    pub fn faced(&self) -> &TriMesh {
        self.faced.as_ref().unwrap_or(&self.mesh)
    }

    /// Faces of the part, found when first asked for.
    pub fn faces(&self) -> &Faces {
        self.faces_until(&|| false).expect("nobody cancels")
    }

    /// As [`faces`](Self::faces); `None` when cancelled before they are found.
    pub fn faces_until(&self, cancelled: &(dyn Fn() -> bool + Sync)) -> Option<&Faces> {
        if self.faces.get().is_none() {
            let found = match &self.before {
                Some(before) => {
                    let known = faces_until(before, self.crease_deg, cancelled)?;
                    transferred(&known, before, self.faced())
                }
                None => faces_until(self.faced(), self.crease_deg, cancelled)?,
            };
            // Another thread may have been quicker, with the same.
            let _ = self.faces.set(found);
        }
        self.faces.get()
    }

    /// The face that a description fits best.
    pub fn face(&self, mark: &FaceMark) -> Option<&Face> {
        find(self.faces(), mark, self.faced().bounds().size().length())
            .map(|n| &self.faces().list[n])
    }

    /// The triangles of the faces that the marks describe, and how many marks describe none.
    pub fn surface_of(&self, marks: &[FaceMark]) -> (TriMesh, usize) {
        surface_of(self.faced(), self.faces(), marks)
    }
}

fn surface_of(mesh: &TriMesh, faces: &Faces, marks: &[FaceMark]) -> (TriMesh, usize) {
    let size = mesh.bounds().size().length();
    let found: Vec<Option<usize>> = marks.iter().map(|m| find(faces, m, size)).collect();
    let held: HashSet<usize> = found.iter().flatten().copied().collect();
    let lost = found.iter().filter(|f| f.is_none()).count();
    (mesh.filtered(|t| held.contains(&(faces.of[t] as usize))), lost)
}

/// Bodies in hollows of what came in, the surface of that, and what is wrong with pockets.
fn pockets(
    found: &[(String, TriMesh)],
    step: &PartStep,
) -> (Vec<(String, TriMesh)>, TriMesh, Vec<String>) {
    let solid = found.iter().filter(|f| is_solid(step.roles.get(&f.0).copied()));
    let mesh = solid.fold(TriMesh::default(), |mut all, f| {
        all.append(&f.1);
        all
    });
    let faces = faces(&mesh, step.crease_deg);
    let (mut bodies, mut wrong) = (Vec::new(), Vec::new());
    for pocket in step.pockets.iter().filter(|p| !p.faces.is_empty()) {
        let (around, lost) = surface_of(&mesh, &faces, &pocket.faces);
        if lost > 0 {
            wrong.push(format!(
                "{lost} of the faces of “{}” are no longer found on the part",
                pocket.name
            ));
        }
        match enclosed(&around) {
            Some(body) => bodies.push((pocket.name.clone(), body)),
            None => {
                wrong.push(format!("The faces of “{}” do not enclose anything yet", pocket.name))
            }
        }
    }
    (bodies, mesh, wrong)
}

/// Refuses what no step could work on.
fn workable(raw: &[(String, TriMesh)], step: &PartStep) -> Result<(), PartError> {
    let size =
        raw.iter().map(|m| m.1.bounds()).reduce(Bounds::union).unwrap_or(Bounds::EMPTY).size();
    let longest = size.max_element();
    if !longest.is_finite()
        || longest <= 0.0
        || (step.shell.is_none() && size.min_element() <= 1e-6 * longest)
    {
        return Err(PartError::Flat);
    }
    if !SIZES.contains(&longest) {
        return Err(PartError::Size(length(longest)));
    }
    Ok(())
}

/// A length outside the sizes that can be worked on, in words.
fn length(mm: f64) -> String {
    if mm < *SIZES.start() {
        "less than a hundredth of a millimetre".into()
    } else {
        format!("{:.0} m", mm / 1000.0)
    }
}

/// Every body on its own, named; what is wrong and what was done about it; and the whole when there
/// is one mesh.
#[derive(Default)]
struct Cleaned {
    found: Vec<(String, TriMesh)>,
    defects: Vec<String>,
    changes: Vec<String>,
    corrected: Corrected,
    whole: Option<(TriMesh, Topology)>,
    /// All bodies as they were before their triangles were made anew.
    before: Option<TriMesh>,
}

fn cleaned(
    raw: Vec<(String, TriMesh)>,
    step: &PartStep,
    stopped: Stopped,
) -> Result<Cleaned, PartError> {
    let alone = raw.len() == 1;
    let mut out = Cleaned::default();
    for (name, mesh) in raw {
        let clean = clean(&mesh, &step.mend, step.shell.as_ref(), stopped)?;
        let of = |words: Vec<String>| -> Vec<String> {
            words.into_iter().map(|w| if alone { w } else { format!("{name}: {w}") }).collect()
        };
        out.defects.extend(of(defects(&clean)));
        out.changes.extend(of(changes(&clean)));
        out.changes.extend(of(kept_together(&clean).into_iter().collect()));
        out.corrected = out.corrected.with(clean.corrected);
        out.found.extend(components(&name, &clean));
        if step.mend.remakes() {
            out.before.get_or_insert_default().append(clean.before.as_ref().unwrap_or(&clean.mesh));
        }
        out.whole = alone.then_some((clean.mesh, clean.topology));
    }
    make_unique(&mut out.found.iter_mut().map(|f| &mut f.0).collect::<Vec<_>>());
    Ok(out)
}

/// The bodies of a file, in mm; what it does not name is called `stem`.
fn bodies_of(
    bytes: &[u8],
    unit: Unit,
    stem: &str,
    limits: &Limits,
) -> Result<Vec<(String, TriMesh)>, PartError> {
    let loaded = ulmix_formats::read(bytes, limits)?;
    // A format with a unit of its own comes in millimetres.
    let scale = if loaded.millimetres_per_unit.is_some() { 1.0 } else { unit.millimetres() };
    Ok(named(&loaded, scale, stem))
}

/// A file's name without its ending.
pub fn stem(file_name: &str) -> &str {
    let stem = file_name.rsplit_once('.').map_or(file_name, |n| n.0);
    if stem.is_empty() {
        "Part"
    } else {
        stem
    }
}

/// A face's description, to find it again by.
pub fn mark(face: &Face) -> FaceMark {
    let kind = match face.kind {
        FaceForm::Plane => FaceKind::Plane,
        FaceForm::Cylinder { .. } => FaceKind::Cylinder,
        FaceForm::Cone { .. } => FaceKind::Cone,
        FaceForm::Sphere { .. } => FaceKind::Sphere,
        FaceForm::Free => FaceKind::Free,
    };
    // Short numbers: what is found again need not agree to the last digit.
    let short = |v: f64| (v * 1e4).round() / 1e4;
    FaceMark {
        kind,
        place_mm: face.place.to_array().map(short),
        direction: face.direction.to_array().map(short),
        area_mm2: short(face.area),
    }
}

/// The face of a part of diagonal `size` that fits a description best, if one fits well: of its
/// kind, nearby, looking the same way, about as large.
fn find(faces: &Faces, m: &FaceMark, size: f64) -> Option<usize> {
    let direction = DVec3::from(m.direction);
    let make_unique = |f: &Face| {
        let turn = match f.kind {
            // An axis has no sense.
            FaceForm::Cylinder { .. } | FaceForm::Cone { .. } => {
                1.0 - f.direction.dot(direction).abs()
            }
            FaceForm::Sphere { .. } => 0.0,
            _ => 1.0 - f.direction.dot(direction),
        };
        let grown = (f.area / m.area_mm2.max(1e-300)).ln().abs();
        f.place.distance(m.place_mm.into()) / size + turn + 0.1 * grown
    };
    let same = faces.list.iter().enumerate().filter(|(_, f)| mark(f).kind == m.kind);
    let best = same
        .map(|(n, f)| (make_unique(f), n))
        .min_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)))?;
    (best.0 < 0.12).then_some(best.1)
}

fn sharp_edges(mesh: &TriMesh) -> Vec<[u32; 2]> {
    const SHARP: f64 = 0.866;
    let all = half_edges(mesh);
    let unit = |s: &HalfEdge| mesh.area_vector(s.triangle() as usize).normalize_or_zero();
    let same = all.windows(2).filter(|w| w[0].edge == w[1].edge);
    let mut out: Vec<[u32; 2]> =
        same.filter(|w| unit(&w[0]).dot(unit(&w[1])) < SHARP).map(|w| w[0].edge).collect();
    out.dedup();
    out
}

/// Points of sharp edges, except those that a single straight edge runs through.
fn corners(mesh: &TriMesh, sharp_edges: &[[u32; 2]]) -> Vec<DVec3> {
    let mut ends: Vec<(u32, DVec3)> = Vec::new();
    for &[a, b] in sharp_edges {
        let along = (mesh.points[b as usize] - mesh.points[a as usize]).normalize_or_zero();
        ends.extend([(a, along), (b, -along)]);
    }
    ends.sort_by_key(|e| e.0);
    let straight = |e: &[(u32, DVec3)]| e.len() == 2 && e[0].1.dot(e[1].1) < -0.999_999;
    ends.chunk_by(|a, b| a.0 == b.0)
        .filter(|e| !straight(e))
        .map(|e| mesh.points[e[0].0 as usize])
        .collect()
}

fn key(mesh: &TriMesh, bodies: &[Arc<Body>], crease_deg: f64) -> String {
    use sha2::{Digest, Sha256};
    let mut h = Sha256::new();
    let mut add = |mesh: &TriMesh| {
        let mut bytes = Vec::with_capacity(mesh.points.len() * 24);
        mesh.points.iter().flat_map(DVec3::to_array).for_each(|v| bytes.extend(v.to_le_bytes()));
        mesh.triangles.iter().flatten().for_each(|v| bytes.extend(v.to_le_bytes()));
        h.update(&bytes);
    };
    add(mesh);
    let with_role = bodies.iter().filter(|b| b.facts.role.is_some());
    with_role.clone().for_each(|b| add(&b.mesh));
    for b in with_role {
        h.update(format!("{:?}", b.facts.role));
    }
    // Zones of faces follow it.
    h.update(crease_deg.to_le_bytes());
    h.finalize().iter().map(|b| format!("{b:02x}")).collect()
}

#[cfg(test)]
mod tests;
