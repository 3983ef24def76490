//! The mesh while it changes.

use super::{edge, lines, Edge};
use crate::groups::corners_at_points;
use crate::topology::where_fans_meet;
use crate::TriMesh;
use glam::DVec3;
use std::collections::{HashMap, HashSet};

/// A line that turns by more than this ends there. Cosine of 40°.
const BENT: f64 = 0.766;

pub(super) struct RemeshState {
    pub points: Vec<DVec3>,
    /// Corners by triangle; a triangle that went has none: all three are 0.
    pub triangles: Vec<[u32; 3]>,
    /// Triangles around every point.
    pub around: Vec<Vec<u32>>,
    /// Edges that are kept as lines.
    pub lines: HashSet<Edge>,
    /// Points that stay where they are.
    pub pinned: Vec<bool>,
    /// How many lines end at a point.
    pub on_lines: Vec<u8>,
}

const GONE: [u32; 3] = [0; 3];

impl RemeshState {
    pub(super) fn new(mesh: &TriMesh, crease_degrees: f64) -> RemeshState {
        let lines = lines(mesh, crease_degrees);
        let mut ends: HashMap<u32, Vec<u32>> = HashMap::new();
        for &(a, b) in &lines {
            ends.entry(a).or_default().push(b);
            ends.entry(b).or_default().push(a);
        }
        let mut pinned = vec![false; mesh.points.len()];
        for (v, other) in &ends {
            let away =
                |o: u32| (mesh.points[o as usize] - mesh.points[*v as usize]).normalize_or_zero();
            pinned[*v as usize] = other.len() != 2 || away(other[0]).dot(away(other[1])) > -BENT;
        }
        // Where two fans meet in a point, neither may take it away.
        pinned.iter_mut().zip(where_fans_meet(mesh)).for_each(|(p, meet)| *p |= meet);
        let corners = corners_at_points(mesh);
        let around: Vec<Vec<u32>> = (0..mesh.points.len())
            .map(|v| corners.get(v).iter().map(|c| c / 3).collect())
            .collect();
        let mut work = RemeshState {
            points: mesh.points.clone(),
            triangles: mesh.triangles.clone(),
            around,
            lines,
            pinned,
            on_lines: Vec::new(),
        };
        work.count_lines();
        work
    }

    pub(super) fn count_lines(&mut self) {
        self.on_lines = vec![0; self.points.len()];
        for &(a, b) in &self.lines {
            for v in [a, b] {
                self.on_lines[v as usize] = self.on_lines[v as usize].saturating_add(1);
            }
        }
    }

    /// The lines as triangles without width.
    pub(super) fn lines_as_triangles(&self) -> TriMesh {
        let mut all: Vec<Edge> = self.lines.iter().copied().collect();
        all.sort_unstable();
        TriMesh {
            points: self.points.clone(),
            triangles: all.into_iter().map(|(a, b)| [a, b, b]).collect(),
        }
    }

    pub(super) fn alive(&self, t: usize) -> bool {
        self.triangles[t] != GONE
    }

    pub(super) fn place(&self, v: u32) -> DVec3 {
        self.points[v as usize]
    }

    pub(super) fn area_vector(&self, [a, b, c]: [u32; 3]) -> DVec3 {
        let [a, b, c] = [a, b, c].map(|v| self.place(v));
        (b - a).cross(c - a)
    }

    /// Would a triangle of these corners look another way than `before` by more than the angle of a
    /// cosine?
    pub(super) fn leans(before: DVec3, [p, q, r]: [DVec3; 3], least: f64) -> bool {
        let after = (q - p).cross(r - p);
        after.dot(before) <= least * after.length() * before.length()
    }

    pub(super) fn is_line(&self, a: u32, b: u32) -> bool {
        self.on_lines[a as usize] > 0
            && self.on_lines[b as usize] > 0
            && self.lines.contains(&edge(a, b))
    }

    /// Every edge once, in order.
    pub(super) fn edges(&self) -> Vec<Edge> {
        let sides = |t: &[u32; 3]| [edge(t[0], t[1]), edge(t[1], t[2]), edge(t[2], t[0])];
        let mut all: Vec<Edge> =
            self.triangles.iter().filter(|t| **t != GONE).flat_map(sides).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Triangles that hold both points.
    pub(super) fn beside(&self, a: u32, b: u32) -> impl Iterator<Item = u32> + '_ {
        self.around[a as usize]
            .iter()
            .copied()
            .filter(move |t| self.triangles[*t as usize].contains(&b))
    }

    /// Points that share an edge with `v`, in order.
    pub(super) fn neighbours(&self, v: u32) -> Vec<u32> {
        let mut all: Vec<u32> = self.around[v as usize]
            .iter()
            .flat_map(|t| self.triangles[*t as usize])
            .filter(|o| *o != v)
            .collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    pub(super) fn remove(&mut self, t: u32) {
        for v in std::mem::replace(&mut self.triangles[t as usize], GONE) {
            self.around[v as usize].retain(|u| *u != t);
        }
    }

    /// Gives a triangle other corners.
    pub(super) fn change(&mut self, t: u32, corners: [u32; 3]) {
        let old = std::mem::replace(&mut self.triangles[t as usize], corners);
        old.iter()
            .filter(|v| !corners.contains(v))
            .for_each(|v| self.around[*v as usize].retain(|u| *u != t));
        corners.iter().filter(|v| !old.contains(v)).for_each(|v| self.around[*v as usize].push(t));
    }

    /// Lets go of triangles that went.
    pub(super) fn compact(&mut self) {
        self.triangles.retain(|t| *t != GONE);
        self.around.iter_mut().for_each(Vec::clear);
        for (t, corners) in self.triangles.iter().enumerate() {
            corners.iter().for_each(|v| self.around[*v as usize].push(t as u32));
        }
    }

    pub(super) fn add(&mut self, corners: [u32; 3]) {
        let t = self.triangles.len() as u32;
        self.triangles.push(corners);
        corners.iter().for_each(|v| self.around[*v as usize].push(t));
    }

    pub(super) fn finish(self) -> TriMesh {
        let all = TriMesh { points: self.points, triangles: self.triangles };
        all.filtered(|t| all.triangles[t] != GONE)
    }
}
