//! Checks: what was found, whether it may stay so, and what to do about it; and those of any mesh.

use glam::DVec3;
use serde::{Deserialize, Serialize};
use ulmix_mesh::crossing::{crossings, triangles_of, Crossings};
use ulmix_mesh::topology::component_volumes;
use ulmix_mesh::{Bvh, Topology, TriMesh};
use utoipa::ToSchema;

/// What a check comes to, from best to worst.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// The figure is within its limit.
    Pass,
    /// Worth a look: no failure, and no pass.
    Look,
    /// The figure is past its limit.
    Fail,
}

/// What a check is about.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CheckGroup {
    /// The surface itself, whatever it shows.
    #[default]
    Sound,
    /// The result against the recipe.
    AsAsked,
}

/// A figure of a mesh, its limit and what follows.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// Stable name, for programs.
    pub id: String,
    /// Name for a person.
    pub title: String,
    /// What the check looks at.
    pub group: CheckGroup,
    /// How it ended.
    pub verdict: Verdict,
    /// The figure behind the verdict, with its unit.
    pub figure: String,
    /// What the figure may be at most, at least or exactly, with its unit.
    pub limit: Option<String>,
    /// The figure as a number, in the unit that `figure` names.
    pub value: f64,
    /// A place to look at, when there is one. mm.
    pub place_mm: Option<[f64; 3]>,
    /// What it means and what to do, when it does not pass.
    pub hint: Option<String>,
}

impl Check {
    /// A check of the surface itself, without limit, place or hint.
    pub fn new(
        id: &str,
        title: impl Into<String>,
        verdict: Verdict,
        figure: impl Into<String>,
        value: f64,
    ) -> Check {
        Check {
            id: id.into(),
            title: title.into(),
            group: CheckGroup::Sound,
            verdict,
            figure: figure.into(),
            limit: None,
            value,
            place_mm: None,
            hint: None,
        }
    }

    /// The check as one of a group.
    pub fn of_group(self, group: CheckGroup) -> Check {
        Check { group, ..self }
    }

    /// The check with the limit that its figure is held against.
    pub fn with_limit(self, limit: impl Into<String>) -> Check {
        Check { limit: Some(limit.into()), ..self }
    }

    /// The check with a place to look at, in mm.
    pub fn at(self, place: Option<DVec3>) -> Check {
        Check { place_mm: place.map(|p| p.to_array()), ..self }
    }

    /// The hint is kept only where the check does not pass.
    pub fn with_hint(self, hint: impl Into<String>) -> Check {
        let hint = (self.verdict != Verdict::Pass).then(|| hint.into());
        Check { hint, ..self }
    }
}

/// The worst verdict of some checks; a pass of none.
pub fn worst<'a>(checks: impl IntoIterator<Item = &'a Check>) -> Verdict {
    checks.into_iter().map(|c| c.verdict).max().unwrap_or(Verdict::Pass)
}

/// What some checks come to together.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Summary {
    /// The worst of all checks.
    pub verdict: Verdict,
    /// For a person: "every check passes", "nothing fails, 2 to look at", "1 check fails, 2 to look
    /// at".
    pub words: String,
}

impl Summary {
    /// Sums up checks.
    pub fn of(checks: &[Check]) -> Summary {
        let count = |verdict: Verdict| checks.iter().filter(|c| c.verdict == verdict).count();
        let (failing, look) = (count(Verdict::Fail), count(Verdict::Look));
        let fail = counted(failing, ["check fails", "checks fail"]);
        let words = match (failing, look) {
            (0, 0) => "every check passes".into(),
            (0, n) => format!("nothing fails, {n} to look at"),
            (_, 0) => fail,
            (_, n) => format!("{fail}, {n} to look at"),
        };
        Summary { verdict: worst(checks), words }
    }
}

/// "1 body", "2 bodies".
pub fn counted(n: usize, [one, many]: [&str; 2]) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}

/// The checks of any mesh. `bodies` is the number of bodies expected, when there is one.
pub fn checks(mesh: &TriMesh, bodies: Option<usize>) -> Vec<Check> {
    checks_given(mesh, bodies, &crossings(mesh, &Bvh::new(mesh)))
}

/// Pairs of crossing triangles of one body each, for bodies that may overlap. `bodies` are their
/// numbers of triangles, which follow each other.
pub fn crossing_within(mesh: &TriMesh, bodies: &[usize]) -> Crossings {
    let ends: Vec<usize> = bodies
        .iter()
        .scan(0, |end, triangles| {
            *end += triangles;
            Some(*end)
        })
        .collect();
    let body_of = |t: u32| ends.partition_point(|end| *end <= t as usize);
    let mut crossing = crossings(mesh, &Bvh::new(mesh));
    crossing.pairs.retain(|[s, t]| body_of(*s) == body_of(*t));
    crossing
}

/// A check that passes where there is nothing of a kind.
fn none(id: &str, title: &str, what: [&str; 2], n: usize, hint: &str) -> Check {
    let verdict = if n == 0 { Verdict::Pass } else { Verdict::Fail };
    Check::new(id, title, verdict, counted(n, what), n as f64).with_limit("none").with_hint(hint)
}

/// No triangle crosses another; where not all could be looked at, that cannot be told.
fn crossing_check(crossing: &Crossings) -> Check {
    let triangles = triangles_of(&crossing.pairs).len();
    let hint = "Triangles pass through each other; print preparation may fill or drop the places.";
    let check =
        none("self_crossing", "No self-crossing", ["triangle", "triangles"], triangles, hint);
    if !crossing.cut_short {
        return check;
    }
    let more_than =
        if triangles == 0 { String::new() } else { format!("more than {}, ", check.figure) };
    Check { verdict: Verdict::Fail, figure: format!("{more_than}not all looked at"), ..check }
        .with_hint(
            "Too many triangles lie within each other to look at all pairs: it cannot \
             be told to be sound.",
        )
}

/// Volume over the cube of the longest side, below which nothing is enclosed.
const NO_VOLUME: f64 = 1e-12;

/// As [`checks`], with the pairs of crossing triangles known.
pub fn checks_given(mesh: &TriMesh, bodies: Option<usize>, crossing: &Crossings) -> Vec<Check> {
    let t = Topology::of(mesh);
    let volumes = component_volumes(mesh, &t.component_of, t.components);
    let found = volumes.iter().filter(|v| **v > 0.0).count();
    let voids = volumes.iter().filter(|v| **v < 0.0).count();
    let middle = |t: u32| mesh.middle(t as usize);
    let first_crossing = crossing.pairs.first().map(|p| middle(p[0]));
    let place_of_piece = |wanted: &dyn Fn(f64) -> bool| {
        let component = volumes.iter().position(|v| wanted(*v))? as u32;
        t.component_of.iter().position(|p| *p == component).map(|t| middle(t as u32))
    };
    let largest = volumes.iter().copied().fold(0.0, f64::max);
    // What is flat to the last digits, or of no size at all, holds nothing.
    let flat = mesh.volume().abs() <= NO_VOLUME * mesh.bounds().size().max_element().powi(3);
    let outward = mesh.volume() > 0.0 && t.flipped_edges == 0;
    let of_bodies = match bodies {
        _ if found == 0 || flat => Verdict::Fail,
        Some(wanted) if found != wanted => Verdict::Look,
        _ => Verdict::Pass,
    };
    let turned = if outward {
        "all".into()
    } else {
        counted(t.flipped_edges, ["turned edge", "turned edges"])
    };
    let mut out = vec![
        none(
            "open_edges",
            "Closed surface",
            ["open edge", "open edges"],
            t.open_edges,
            "The surface has holes: a printer cannot tell inside from outside.",
        ),
        none(
            "non_manifold",
            "Manifold edges",
            ["bad place", "bad places"],
            t.non_manifold_edges + t.non_manifold_vertices,
            "Surfaces touch along edges or points; print preparation may split them wrongly.",
        ),
        Check::new(
            "outward",
            "Faces outward",
            pass_or(outward, Verdict::Fail),
            turned,
            t.flipped_edges as f64,
        )
        .with_limit("all")
        .with_hint(
            "Some triangles face inward. Bring the file in as a part to have them \
                 turned.",
        ),
        Check::new(
            "bodies",
            if bodies == Some(1) { "One body" } else { "Bodies" },
            of_bodies,
            counted(found, ["body", "bodies"]),
            found as f64,
        )
        .at((found > 1).then(|| place_of_piece(&|v| v > 0.0 && v < largest)).flatten())
        .with_hint(
            "Loose pieces print apart: a larger crumb size removes small ones, \
                 thicker walls or another cell size join them.",
        ),
        crossing_check(crossing).at(first_crossing),
        Check::new(
            "sealed_voids",
            "No sealed voids",
            pass_or(voids == 0, Verdict::Look),
            counted(voids, ["void", "voids"]),
            voids as f64,
        )
        .with_limit("none")
        .at((voids > 0).then(|| place_of_piece(&|v| v < 0.0)).flatten())
        .with_hint(
            "Powder or resin in closed voids cannot get out. Without a skin, or with \
             openings, it can.",
        ),
    ];
    if let Some(wanted) = bodies {
        out[3].limit = Some(wanted.to_string());
    }
    out
}

/// A pass where it `holds`, else another verdict.
pub fn pass_or(holds: bool, else_: Verdict) -> Verdict {
    if holds {
        Verdict::Pass
    } else {
        else_
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_check_fails_on_its_own_defect() {
        let failing = |m: &TriMesh| -> Vec<String> {
            checks(m, Some(1))
                .into_iter()
                .filter(|c| c.verdict != Verdict::Pass)
                .map(|c| c.id)
                .collect()
        };
        let ball = TriMesh::sphere(5.0, 3);
        assert!(failing(&ball).is_empty());
        assert_eq!(failing(&ball.filtered(|t| t != 9)), ["open_edges"]);
        let mut inward = ball.clone();
        inward.triangles.iter_mut().for_each(|t| t.swap(0, 1));
        assert_eq!(failing(&inward), ["outward", "bodies", "sealed_voids"]);
        let mut two = ball.clone();
        two.append(&ball.clone().mapped(|p| p + DVec3::X * 20.0));
        assert_eq!(failing(&two), ["bodies"]);
        let mut crossing = ball.clone();
        crossing.append(&ball.clone().mapped(|p| p + DVec3::new(3.0, 0.1, 0.2)));
        assert_eq!(failing(&crossing), ["bodies", "self_crossing"]);
        let n = ball.triangles.len();
        assert!(crossing_within(&crossing, &[n, n]).pairs.is_empty());
        let of_one = crossing_within(&crossing, &[2 * n]).pairs;
        assert!(
            !of_one.is_empty() && of_one.iter().all(|[s, t]| (*s as usize) < n && *t as usize >= n)
        );
        let mut hollow = ball.clone();
        let inner = TriMesh::sphere(2.0, 3).triangles.iter().map(|t| [t[0], t[2], t[1]]).collect();
        hollow.append(&TriMesh { points: TriMesh::sphere(2.0, 3).points, triangles: inner });
        assert_eq!(failing(&hollow), ["sealed_voids"]);
        let of_no_size = failing(&ball.clone().mapped(|_| DVec3::ONE));
        assert!(of_no_size.contains(&"bodies".into()), "{of_no_size:?}");
        let flat = failing(&ball.clone().mapped(|p| DVec3::new(p.x, p.y, 1e-14 * p.z)));
        assert!(flat.contains(&"bodies".into()), "{flat:?}");
        assert!(checks(&TriMesh::default(), None).iter().any(|c| c.verdict == Verdict::Fail));
    }
}
