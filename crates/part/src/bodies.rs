//! Bodies of a part: what its files hold, each cleaned, named, and with a role of its own.

use crate::rewrap::{rewrap, Rewrapped};
use crate::triangles::{self, Remade};
use crate::welded::welded;
use crate::PartError;
use glam::DVec3;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::{Arc, OnceLock};
use ulmix_formats::{go_on, Loaded, Named, Stopped};
use ulmix_mesh::crossing::crossings;
use ulmix_mesh::half_edges::half_edges;
use ulmix_mesh::holes::{close, holes};
use ulmix_mesh::parallel::found_once;
use ulmix_mesh::shell::thicken;
use ulmix_mesh::thickness::thinnest_part;
use ulmix_mesh::topology::{component_volumes, small_components};
use ulmix_mesh::{orient::orient, Bvh, SignedDistance, Topology, TriMesh};
use ulmix_recipe::{Mend, Role, Shell};
use utoipa::ToSchema;

/// A body in mm.
#[derive(Clone)]
pub struct Body {
    /// What should be known about the body.
    pub facts: BodyFacts,
    /// Triangles of the body. mm.
    pub mesh: TriMesh,
    /// Distance from its surface.
    pub distance: Arc<SignedDistance>,
    thinnest: OnceLock<f64>,
}

/// What a person should know about a body. Lengths mm, volumes mm³.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BodyFacts {
    /// Name of the body.
    pub name: String,
    /// Absent for a body that is what the rest of the part is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// Low corner of its box.
    pub min_mm: [f64; 3],
    /// Size of its box.
    pub size_mm: [f64; 3],
    /// Volume that it encloses.
    pub volume_mm3: f64,
    /// Triangles of the body.
    pub triangles: usize,
    /// Does its surface enclose a volume without a gap?
    pub closed: bool,
}

/// Triangles that were put right as a part came in.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Corrected {
    /// Number of triangles that faced the wrong way.
    pub turned: usize,
    /// A place of the first triangle that was turned. mm.
    pub turned_at: Option<DVec3>,
    /// Number of triangles that had no area.
    pub dropped: usize,
    /// Number of triangles that were there twice.
    pub duplicates: usize,
    /// A place of the first triangle that was there twice. mm.
    pub twice_at: Option<DVec3>,
}

impl Corrected {
    /// The corrections of this body and of another one, added.
    pub fn with(self, other: Corrected) -> Corrected {
        Corrected {
            turned: self.turned + other.turned,
            turned_at: self.turned_at.or(other.turned_at),
            dropped: self.dropped + other.dropped,
            duplicates: self.duplicates + other.duplicates,
            twice_at: self.twice_at.or(other.twice_at),
        }
    }
}

/// A mesh with its points welded and its triangles turned alike.
pub struct Clean {
    /// The mesh. mm.
    pub mesh: TriMesh,
    /// How its triangles hang together.
    pub topology: Topology,
    /// What was put right.
    pub corrected: Corrected,
    /// Spans of the holes that were closed. mm.
    pub closed: Vec<f64>,
    /// Pieces that were removed.
    pub removed: usize,
    /// By piece that crossed itself.
    pub rewrapped: Vec<Rewrapped>,
    /// What evening did to the triangles.
    pub evened: Option<Remade>,
    /// What joining triangles did, by body.
    pub fewer: Vec<Remade>,
    /// Pieces that were open and were given thickness.
    pub shells: usize,
    /// The mesh before its triangles were made anew or joined, where they were: its faces are told
    /// from that.
    pub before: Option<TriMesh>,
}

/// Bodies that a file is taken apart into; one with more is taken as one body.
const MOST: usize = 48;

/// Welds, mends and orients a mesh in mm, and gives thickness to what is open.
///
/// # Errors
/// What mending refuses, or [`FormatError::Stopped`](ulmix_formats::FormatError::Stopped).
pub fn clean(
    raw: &TriMesh,
    mend: &Mend,
    shell: Option<&Shell>,
    stopped: Stopped,
) -> Result<Clean, PartError> {
    let (mut mesh, mut topology) = welded(raw)?;
    let dropped = raw.triangles.len() - mesh.triangles.len();
    // Where a triangle is there twice, its edges have too many sides, or two that run the same way.
    let crowded = topology.non_manifold_edges + topology.flipped_edges > 0;
    let (duplicates, twice_at) = if crowded { drop_duplicates(&mut mesh) } else { (0, None) };
    if duplicates > 0 {
        topology = Topology::of(&mesh);
    }
    go_on(stopped)?;
    let turned = orient(&mut mesh, &topology);
    let turned_at = turned.first().map(|&t| mesh.middle(t as usize));
    let corrected = Corrected { turned: turned.len(), turned_at, dropped, duplicates, twice_at };
    let closed = if topology.open_edges > 0 {
        close_holes(&mut mesh, mend.holes_mm, stopped)?
    } else {
        Vec::new()
    };
    if !turned.is_empty() || !closed.is_empty() {
        // A piece that was open may have been turned by guess.
        topology = Topology::of(&mesh);
        if !orient(&mut mesh, &topology).is_empty() {
            topology = Topology::of(&mesh);
        }
    }
    go_on(stopped)?;
    let removed = if mend.crumbs_mm3 > 0.0 {
        remove_crumbs(&mut mesh, &topology, mend.crumbs_mm3)
    } else {
        0
    };
    if removed > 0 {
        topology = Topology::of(&mesh);
    }
    let rewrapped = if mend.rewrap_mm > 0.0 {
        rewrap_crossed(&mut mesh, &topology, mend.rewrap_mm, stopped)?
    } else {
        Vec::new()
    };
    if !rewrapped.is_empty() {
        topology = Topology::of(&mesh);
    }
    let before = mend.remakes().then(|| mesh.clone());
    let evened = if mend.even_mm > 0.0 {
        Some(triangles::even(&mut mesh, mend.even_mm, stopped)?)
    } else {
        None
    };
    let mut joined = Vec::new();
    if mend.fewer_mm > 0.0 {
        joined.push(triangles::within(&mut mesh, mend.fewer_mm, stopped)?);
    }
    if mend.fewer_to > 0 {
        joined.push(triangles::down_to(&mut mesh, mend.fewer_to as usize, stopped)?);
    }
    if evened.is_some() || !joined.is_empty() {
        topology = Topology::of(&mesh);
    }
    go_on(stopped)?;
    // Of what becomes a shell nothing is told yet.
    let before = before.filter(|_| shell.is_none() || topology.open_edges == 0);
    let shells = shell
        .filter(|_| topology.open_edges > 0)
        .map_or(0, |s| thicken_open(&mut mesh, &topology, s));
    if shells > 0 {
        topology = Topology::of(&mesh);
    }
    Ok(Clean {
        mesh,
        topology,
        corrected,
        closed,
        removed,
        rewrapped,
        evened,
        fewer: joined,
        shells,
        before,
    })
}

/// Lets go of triangles that stand on the same points in the same order as an earlier one; how many
/// there were, and where the first lay.
fn drop_duplicates(mesh: &mut TriMesh) -> (usize, Option<DVec3>) {
    let before = mesh.triangles.len();
    let from_least = |t: &[u32; 3]| {
        let first = (0..3).min_by_key(|n| t[*n]).expect("three corners");
        [t[first], t[(first + 1) % 3], t[(first + 2) % 3]]
    };
    let mut seen = HashSet::with_capacity(before);
    let mut first = None;
    mesh.triangles.retain(|t| {
        let new = seen.insert(from_least(t));
        if !new {
            first.get_or_insert(*t);
        }
        new
    });
    let middle = |t: [u32; 3]| t.map(|v| mesh.points[v as usize]).iter().sum::<DVec3>() / 3.0;
    (before - mesh.triangles.len(), first.map(middle))
}

/// Gives thickness to the pieces that are open; how many there were.
fn thicken_open(mesh: &mut TriMesh, t: &Topology, shell: &Shell) -> usize {
    let mut open = vec![false; t.components];
    for run in half_edges(mesh).chunk_by(|a, b| a.edge == b.edge).filter(|run| run.len() == 1) {
        open[t.component_of[run[0].triangle() as usize] as usize] = true;
    }
    let (sheets, rest) = (
        mesh.filtered(|f| open[t.component_of[f] as usize]),
        mesh.filtered(|f| !open[t.component_of[f] as usize]),
    );
    *mesh = thicken(&sheets, shell.thickness_mm, shell.front_percent / 100.0);
    mesh.append(&rest);
    open.iter().filter(|o| **o).count()
}

/// Winds pieces anew that cross themselves. A piece that only crosses others stays: overlapping
/// bodies are no fault.
fn rewrap_crossed(
    mesh: &mut TriMesh,
    t: &Topology,
    step: f64,
    stopped: Stopped,
) -> Result<Vec<Rewrapped>, PartError> {
    let volumes = component_volumes(mesh, &t.component_of, t.components);
    let mut crossed = vec![false; t.components];
    for [a, b] in crossings(mesh, &Bvh::new(mesh)).pairs {
        let component = t.component_of[a as usize];
        crossed[component as usize] |=
            component == t.component_of[b as usize] && volumes[component as usize] > 0.0;
    }
    let mut rewrapped = Vec::new();
    let mut out = mesh.filtered(|f| !crossed[t.component_of[f] as usize]);
    for component in (0..t.components).filter(|p| crossed[*p]) {
        let (new, told) =
            rewrap(&mesh.filtered(|f| t.component_of[f] as usize == component), step, stopped)?;
        out.append(&new);
        rewrapped.push(told);
    }
    if !rewrapped.is_empty() {
        *mesh = out;
    }
    Ok(rewrapped)
}

/// Closes holes up to a span; the spans of those that were.
fn close_holes(mesh: &mut TriMesh, most: f64, stopped: Stopped) -> Result<Vec<f64>, PartError> {
    let small: Vec<_> = holes(mesh).into_iter().filter(|h| h.span <= most).collect();
    for h in &small {
        go_on(stopped)?;
        close(mesh, h);
    }
    Ok(small.iter().map(|h| h.span).collect())
}

/// Removes pieces of less than a volume, but for the largest; how many there were.
fn remove_crumbs(mesh: &mut TriMesh, t: &Topology, least: f64) -> usize {
    let goes = small_components(&component_volumes(mesh, &t.component_of, t.components), least);
    let removed = goes.iter().filter(|g| **g).count();
    if removed > 0 {
        *mesh = mesh.filtered(|f| !goes[t.component_of[f] as usize]);
    }
    removed
}

/// The meshes of a file, scaled, with the names that the file gives them, or `stem`. Beams beside a
/// solid are its filling and no body.
pub fn named(loaded: &Loaded, scale: f64, stem: &str) -> Vec<(String, TriMesh)> {
    let whole = || loaded.mesh.clone().mapped(|p| p * scale);
    if loaded.bodies.len() < 2 || loaded.bodies.len() > MOST {
        return vec![(stem.to_owned(), whole())];
    }
    let fill = loaded.beams_fill();
    let mut from = 0;
    let placed = loaded.bodies.iter().enumerate().map(|(n, body)| {
        let range = from..from + body.triangles;
        from = range.end;
        (n, body, range)
    });
    let cut = |(n, body, range): (usize, &Named, Range<usize>)| {
        let name =
            if body.name.is_empty() { format!("{stem} {}", n + 1) } else { body.name.clone() };
        (name, loaded.mesh.filtered(|t| range.contains(&t)).mapped(|p| p * scale))
    };
    placed.filter(|(_, body, _)| !(fill && body.beams)).map(cut).collect()
}

/// A mesh's separate closed bodies, each with the cavities inside it; the mesh itself when it is
/// one.
pub fn components(name: &str, clean: &Clean) -> Vec<(String, TriMesh)> {
    let (mesh, t) = (&clean.mesh, &clean.topology);
    let volumes = component_volumes(mesh, &t.component_of, t.components);
    let outer: Vec<usize> = (0..t.components).filter(|&p| volumes[p] > 0.0).collect();
    if outer.len() < 2 || outer.len() > MOST || !t.closed() {
        return vec![(name.to_owned(), mesh.clone())];
    }
    let shell = |p: usize| mesh.filtered(|f| t.component_of[f] as usize == p);
    let bounds: Vec<_> = outer.iter().map(|&p| shell(p).bounds()).collect();
    // A cavity belongs to the smallest body around it.
    let mut owner: Vec<usize> = vec![0; t.components];
    for (n, &p) in outer.iter().enumerate() {
        owner[p] = n;
    }
    for p in (0..t.components).filter(|&p| volumes[p] <= 0.0) {
        let own = shell(p).bounds();
        let around = (0..outer.len()).filter(|&n| bounds[n].contains(&own));
        owner[p] =
            around.min_by(|&a, &b| volumes[outer[a]].total_cmp(&volumes[outer[b]])).unwrap_or(0);
    }
    let body = |n: usize| {
        (format!("{name} {}", n + 1), mesh.filtered(|f| owner[t.component_of[f] as usize] == n))
    };
    (0..outer.len()).map(body).collect()
}

/// Why a mesh of several pieces is one body all the same.
pub fn kept_together(clean: &Clean) -> Option<String> {
    let t = &clean.topology;
    let outer = component_volumes(&clean.mesh, &t.component_of, t.components)
        .iter()
        .filter(|v| **v > 0.0)
        .count();
    match outer {
        0 | 1 => None,
        n if n > MOST => Some(format!("{n} pieces stay one body: up to {MOST} are told apart")),
        n if !t.closed() => {
            Some(format!("{n} pieces stay one body: they are told apart only where all are closed"))
        }
        _ => None,
    }
}

/// Gives names that are taken a number.
pub fn make_unique(names: &mut [&mut String]) {
    for n in 1..names.len() {
        let (before, rest) = names.split_at_mut(n);
        let taken = |name: &str| before.iter().any(|b| b.as_str() == name);
        let first = rest[0].clone();
        let mut number = 2;
        while taken(rest[0]) {
            *rest[0] = format!("{first} {number}");
            number += 1;
        }
    }
}

impl BodyFacts {
    /// Measures a body.
    pub fn of(name: String, role: Option<Role>, mesh: &TriMesh, closed: bool) -> BodyFacts {
        let bounds = mesh.bounds();
        BodyFacts {
            name,
            role,
            min_mm: bounds.min.to_array(),
            size_mm: bounds.size().to_array(),
            volume_mm3: mesh.volume(),
            triangles: mesh.triangles.len(),
            closed,
        }
    }
}

impl Body {
    /// A body with what is known of it.
    pub fn new(name: String, role: Option<Role>, mesh: TriMesh) -> Body {
        let topology = Topology::of(&mesh);
        let facts = BodyFacts::of(name, role, &mesh, topology.closed());
        let distance = Arc::new(SignedDistance::new(&mesh, &topology));
        Body { facts, mesh, distance, thinnest: OnceLock::new() }
    }

    /// Thickness below which one percent of its surface lies. mm.
    pub fn thinnest(&self) -> f64 {
        *found_once(&self.thinnest, || thinnest_part(&self.mesh, self.distance.bvh()))
    }

    /// Is it material of the part?
    pub fn solid(&self) -> bool {
        is_solid(self.facts.role)
    }

    /// Do the two overlap, or touch within `near`?
    fn meets(&self, other: &Body, near: f64) -> bool {
        let (a, b) = (self.mesh.bounds().grown(near), other.mesh.bounds());
        let reaches = |from: &Body, to: &Body| {
            let bounds = to.mesh.bounds().grown(near);
            let beside = |p: &&DVec3| bounds.distance_squared(**p) == 0.0;
            from.mesh.points.iter().filter(beside).any(|p| to.distance.value(*p) < near)
        };
        a.overlaps(&b) && (reaches(self, other) || reaches(other, self))
    }
}

/// Is a body of this role material of the part?
pub fn is_solid(role: Option<Role>) -> bool {
    !matches!(role, Some(Role::KeepClear | Role::Reference | Role::Alongside))
}

/// How many bodies are left when those that meet are one.
pub fn joined(bodies: &[&Arc<Body>]) -> usize {
    let longest = bodies
        .iter()
        .map(|b| b.facts.size_mm.iter().fold(0.0, |m: f64, v| m.max(*v)))
        .fold(0.0, f64::max);
    let mut group: Vec<usize> = (0..bodies.len()).collect();
    for a in 0..bodies.len() {
        for b in 0..a {
            if group[a] != group[b] && bodies[a].meets(bodies[b], 1e-6 * longest) {
                let (from, to) = (group[a], group[b]);
                group.iter_mut().filter(|g| **g == from).for_each(|g| *g = to);
            }
        }
    }
    group.sort_unstable();
    group.dedup();
    group.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_come_apart_with_their_cavities() {
        let at = |x: f64, r: f64| TriMesh::sphere(r, 3).mapped(|p| p + DVec3::X * x);
        let mut hollow = at(0.0, 5.0);
        let mut cavity = at(0.0, 3.0);
        cavity.triangles.iter_mut().for_each(|t| t.swap(0, 1));
        hollow.append(&cavity);
        let mut both = hollow.clone();
        both.append(&at(20.0, 2.0));
        let found = components("Ball", &clean(&both, &Mend::default(), None, &|| false).unwrap());
        let names: Vec<_> = found.iter().map(|f| f.0.as_str()).collect();
        assert_eq!(names, ["Ball 1", "Ball 2"]);
        assert!((found[0].1.volume() - hollow.volume()).abs() < 1e-9);
    }

    #[test]
    fn touching_bodies_are_joined_and_names_told_apart() {
        let cube = |x: f64| {
            Arc::new(Body::new(
                "Cube".into(),
                None,
                TriMesh::cuboid(DVec3::X * x, DVec3::new(x + 10.0, 10.0, 10.0)),
            ))
        };
        let (a, b, c) = (cube(0.0), cube(10.0), cube(25.0));
        assert_eq!(joined(&[&a, &b, &c]), 2);
        let mut names = ["Pin".to_owned(), "Pin".into(), "Pin 2".into(), "Pin".into()];
        make_unique(&mut names.iter_mut().collect::<Vec<_>>());
        assert_eq!(names, ["Pin", "Pin 2", "Pin 2 2", "Pin 3"]);
    }

    #[test]
    fn a_file_of_many_pieces_says_why_it_is_one_body() {
        let cubes = |count: usize| {
            let mut all = TriMesh::default();
            for n in 0..count {
                let low = DVec3::X * 3.0 * n as f64;
                all.append(&TriMesh::cuboid(low, low + 2.0));
            }
            clean(&all, &Mend::default(), None, &|| false).unwrap()
        };
        assert_eq!(
            (components("Part", &cubes(MOST)).len(), kept_together(&cubes(MOST))),
            (MOST, None)
        );
        let many = cubes(MOST + 3);
        assert_eq!(components("Part", &many).len(), 1);
        assert!(kept_together(&many).unwrap().starts_with("51 pieces stay one body"));
        assert_eq!(kept_together(&cubes(1)), None);
    }
}
