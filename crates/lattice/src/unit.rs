//! Tables of strut cells and of patterns across extruded walls, in the unit cell.
//!
//! Each table holds every strut of the endless lattice once: struts on the cell's faces belong to
//! the lower one. Face-centred, body-centred and octet trusses as in Deshpande, Fleck & Ashby
//! (2001); Kelvin's cell is the truncated octahedron (Thomson 1887).

use glam::DVec3;
use std::collections::BTreeSet;
use ulmix_recipe::{CellKind, ExtrudedKind};

/// A strut from one place to another, in cells.
pub type UnitStrut = [DVec3; 2];

const fn v(x: f64, y: f64, z: f64) -> DVec3 {
    DVec3::new(x, y, z)
}

/// Struts of one cell.
pub fn cell(kind: CellKind) -> Vec<UnitStrut> {
    match kind {
        CellKind::Cubic => axes(&[0, 1, 2]),
        CellKind::BodyCentred => body_centred(),
        CellKind::BodyCentredVertical => [body_centred(), axes(&[2])].concat(),
        CellKind::FaceCentred => face_centred(),
        CellKind::FaceCentredVertical => [face_centred(), axes(&[2])].concat(),
        CellKind::BodyFaceCentred => [body_centred(), face_centred()].concat(),
        CellKind::Octet => within(&face_nodes(), 0.5f64.sqrt()),
        CellKind::Kelvin => within(&kelvin_nodes(), 0.125f64.sqrt()),
        CellKind::Diamond => diamond(),
        CellKind::RhombicDodecahedron => rhombic(),
        CellKind::ReEntrant => re_entrant(),
    }
}

/// Walls of one cell of a pattern, as lines across them, and the cell's height over its width.
pub fn pattern(kind: ExtrudedKind) -> (Vec<UnitStrut>, f64) {
    let third = 1.0 / 3.0;
    match kind {
        ExtrudedKind::Squares => (axes(&[0, 1]), 1.0),
        ExtrudedKind::Triangles => {
            let mid = v(0.5, 0.5, 0.0);
            let corners = [v(0.0, 0.0, 0.0), v(1.0, 0.0, 0.0), v(0.0, 1.0, 0.0), v(1.0, 1.0, 0.0)];
            let mut out: Vec<UnitStrut> = corners.iter().map(|c| [mid, *c]).collect();
            out.push([corners[0], corners[1]]);
            out.push([mid, mid + DVec3::X]);
            (out, 3f64.sqrt())
        }
        ExtrudedKind::Hexagons => {
            let half = |from: DVec3| {
                let (side, top) = (from + v(0.5, third * 0.5, 0.0), from + v(0.0, third, 0.0));
                [[side - DVec3::Y * third, side], [side, top], [side, top + DVec3::X]]
            };
            ([half(DVec3::ZERO), half(v(0.5, 0.5, 0.0))].concat(), 3f64.sqrt())
        }
        ExtrudedKind::BowTies => {
            // Uprights longer than half the cell, whose ends the slanting walls join backwards.
            let reach = 0.34;
            let half = |from: DVec3| {
                let top = from + DVec3::Y * reach;
                let foot = |side: f64| from + v(side, 0.5 - reach, 0.0);
                [[from - DVec3::Y * reach, top], [top, foot(0.5)], [top, foot(-0.5)]]
            };
            ([half(DVec3::ZERO), half(v(0.5, 0.5, 0.0))].concat(), 1.6)
        }
    }
}

fn axes(which: &[usize]) -> Vec<UnitStrut> {
    which.iter().map(|a| [DVec3::ZERO, [DVec3::X, DVec3::Y, DVec3::Z][*a]]).collect()
}

/// The eight corners of the unit cube.
fn corners() -> [DVec3; 8] {
    std::array::from_fn(|c| v((c & 1) as f64, (c >> 1 & 1) as f64, (c >> 2) as f64))
}

fn body_centred() -> Vec<UnitStrut> {
    corners().map(|c| [DVec3::splat(0.5), c]).to_vec()
}

fn face_centred() -> Vec<UnitStrut> {
    let faces = [v(0.0, 0.5, 0.5), v(0.5, 0.0, 0.5), v(0.5, 0.5, 0.0)];
    faces
        .iter()
        .flat_map(|f| corners().into_iter().filter(|c| c.distance(*f) < 0.71).map(|c| [*f, c]))
        .collect()
}

/// Nodes of the face-centred arrangement in one cell.
fn face_nodes() -> Vec<DVec3> {
    vec![v(0.0, 0.0, 0.0), v(0.0, 0.5, 0.5), v(0.5, 0.0, 0.5), v(0.5, 0.5, 0.0)]
}

/// The vertices of a truncated octahedron around the cell's middle, brought into one cell.
fn kelvin_nodes() -> Vec<DVec3> {
    let mut found = BTreeSet::new();
    for (zero, quarter, half) in [(0, 1, 2), (0, 2, 1), (1, 0, 2), (1, 2, 0), (2, 0, 1), (2, 1, 0)]
    {
        for sign in 0..4 {
            let mut p = DVec3::splat(0.5);
            p[zero] += 0.0;
            p[quarter] += if sign & 1 == 0 { 0.25 } else { -0.25 };
            p[half] += if sign & 2 == 0 { 0.5 } else { -0.5 };
            // Whole quarters, so that equal places are equal numbers.
            found.insert(p.to_array().map(|c| ((c * 4.0) as i32).rem_euclid(4)));
        }
    }
    found.into_iter().map(|q| DVec3::from(q.map(|c| c as f64 / 4.0))).collect()
}

/// Every pair of the endless lattice's nodes at a distance, once.
fn within(nodes: &[DVec3], distance: f64) -> Vec<UnitStrut> {
    let mut out = Vec::new();
    for (i, a) in nodes.iter().enumerate() {
        for (j, b) in nodes.iter().enumerate() {
            for n in 0..27 {
                let q = *b + v((n % 3) as f64, (n / 3 % 3) as f64, (n / 9) as f64) - 1.0;
                // Of the two directions the one to the later node, or to the later copy of the
                // same.
                let later = (j, q.z, q.y, q.x) > (i, a.z, a.y, a.x);
                if (q.distance(*a) - distance).abs() < 1e-9 && later && (j > i || n > 13) {
                    out.push([*a, q]);
                }
            }
        }
    }
    out
}

fn diamond() -> Vec<UnitStrut> {
    let bond = [v(1.0, 1.0, 1.0), v(1.0, -1.0, -1.0), v(-1.0, 1.0, -1.0), v(-1.0, -1.0, 1.0)];
    face_nodes().iter().flat_map(|n| bond.map(|b| [*n, *n + b * 0.25])).collect()
}

/// Edges of rhombic dodecahedra: from each hole among four neighbours to the four holes among six.
fn rhombic() -> Vec<UnitStrut> {
    let mut out = Vec::new();
    for c in corners() {
        let small = DVec3::splat(0.25) + c * 0.5;
        for axis in 0..8 {
            let large = small + (corners()[axis] - 0.5) * 0.5;
            // Holes among six lie where the halves' sum is odd.
            let halves: i32 = (large * 2.0).to_array().iter().map(|h| h.round() as i32).sum();
            if halves.rem_euclid(2) == 1 {
                out.push([small, large]);
            }
        }
    }
    out
}

/// Uprights in the cell's corners and middle, half a cell apart in height, joined backwards.
fn re_entrant() -> Vec<UnitStrut> {
    let reach = 0.34;
    let upright = |from: DVec3| {
        let top = from + DVec3::Z * reach;
        let mut out = vec![[from - DVec3::Z * reach, top]];
        for side in [v(0.5, 0.5, 0.0), v(-0.5, 0.5, 0.0), v(0.5, -0.5, 0.0), v(-0.5, -0.5, 0.0)] {
            out.push([top, from + side + DVec3::Z * (0.5 - reach)]);
        }
        out
    };
    [upright(DVec3::ZERO), upright(DVec3::splat(0.5))].concat()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;

    const KINDS: [(CellKind, usize, f64); 11] = [
        // Struts per cell, and their length in cells.
        (CellKind::Cubic, 3, 3.0),
        (CellKind::BodyCentred, 8, 6.928_203),
        (CellKind::BodyCentredVertical, 9, 7.928_203),
        (CellKind::FaceCentred, 12, 8.485_281),
        (CellKind::FaceCentredVertical, 13, 9.485_281),
        (CellKind::BodyFaceCentred, 20, 15.413_484),
        (CellKind::Octet, 24, 16.970_563),
        (CellKind::Kelvin, 24, 8.485_281),
        (CellKind::Diamond, 16, 6.928_203),
        (CellKind::RhombicDodecahedron, 32, 13.856_406),
        (CellKind::ReEntrant, 10, 2.0 * (0.68 + 4.0 * 0.729_658)),
    ];

    fn reduced(p: DVec3) -> [i64; 3] {
        p.to_array().map(|c| ((c * 1e6).round() as i64).rem_euclid(1_000_000))
    }

    #[test]
    fn every_cell_has_its_struts_once_and_no_loose_ends() {
        for (kind, count, length) in KINDS {
            let struts = cell(kind);
            assert_eq!(struts.len(), count, "{kind:?}");
            let sum: f64 = struts.iter().map(|s| s[0].distance(s[1])).sum();
            assert!((sum - length).abs() < 1e-5, "{kind:?} {sum}");
            let mut ends: BTreeMap<[i64; 3], usize> = BTreeMap::new();
            let mut seen = BTreeSet::new();
            for [a, b] in struts {
                *ends.entry(reduced(a)).or_default() += 1;
                *ends.entry(reduced(b)).or_default() += 1;
                let along = |d: DVec3| (d * 1e6).round().to_array().map(|c| c as i64);
                assert!(
                    seen.insert((reduced(a), along(b - a)))
                        && seen.insert((reduced(b), along(a - b))),
                    "{kind:?} twice"
                );
            }
            assert!(ends.values().all(|n| *n >= 2), "{kind:?} has a loose end");
        }
    }

    #[test]
    fn patterns_are_closed_and_regular() {
        let lengths = |kind| {
            let (lines, ratio) = pattern(kind);
            let real = |p: DVec3| v(p.x, p.y * ratio, 0.0);
            lines.iter().map(|[a, b]| real(*a).distance(real(*b))).collect::<Vec<f64>>()
        };
        for (kind, count, side) in [
            (ExtrudedKind::Hexagons, 6, 1.0 / 3f64.sqrt()),
            (ExtrudedKind::Triangles, 6, 1.0),
            (ExtrudedKind::Squares, 2, 1.0),
        ] {
            let l = lengths(kind);
            assert!(
                l.len() == count && l.iter().all(|l| (l - side).abs() < 1e-12),
                "{kind:?} {l:?}"
            );
        }
        let mut ends: BTreeMap<[i64; 3], usize> = BTreeMap::new();
        pattern(ExtrudedKind::BowTies)
            .0
            .iter()
            .flatten()
            .for_each(|p| *ends.entry(reduced(*p)).or_default() += 1);
        assert!(ends.len() == 4 && ends.values().all(|n| *n == 3));
    }
}
