//! Drawn cells: each strut of the endless lattice once, and whether cells meet their neighbours.

use super::unit::{self, UnitStrut};
use crate::recipe::{own_cell::STEPS, CellKind, OwnCell};
use glam::{DVec3, IVec3};
use std::collections::BTreeMap;

fn wrapped(p: IVec3) -> IVec3 {
    p.rem_euclid(IVec3::splat(STEPS as i32))
}

/// The struts, those on opposite sides of the cell as one, in cells.
pub fn struts(cell: &OwnCell) -> Vec<UnitStrut> {
    raster(cell).into_iter().map(|e| e.map(|p| p.as_dvec3() / STEPS as f64)).collect()
}

/// As [`struts`], in steps of the raster: from a place in the first cell on.
fn raster(cell: &OwnCell) -> Vec<[IVec3; 2]> {
    let mut out: Vec<[IVec3; 2]> = cell
        .struts
        .iter()
        .map(|ends| {
            let [a, b] = ends.map(|e| IVec3::from(e.map(|v| v as i32)));
            // Of the two ways to write a strut, the one that starts at the lesser place.
            let from = |a: IVec3, b: IVec3| [wrapped(a), wrapped(a) + b - a];
            let key = |e: [IVec3; 2]| e.map(|p| p.to_array());
            let (one, other) = (from(a, b), from(b, a));
            if key(one) <= key(other) {
                one
            } else {
                other
            }
        })
        .collect();
    out.sort_unstable_by_key(|e| e.map(|p| p.to_array()));
    out.dedup();
    out
}

/// A kind as if it had been drawn, to begin with; `None` where its places are not on the raster.
pub fn drawn(kind: CellKind) -> Option<OwnCell> {
    let steps = STEPS as i32;
    let strut = |ends: &UnitStrut| {
        let placed = ends.map(|p| p * steps as f64);
        let [a, b] = placed.map(|p| p.round().as_ivec3());
        let on_raster = placed.iter().zip([a, b]).all(|(p, r)| p.distance(r.as_dvec3()) < 1e-6);
        // Into the cell, and out of the far sides of those before it.
        let back = wrapped(a.min(b)) - a.min(b);
        let inside = (a + back).max(b + back).max_element() <= steps;
        (on_raster && inside).then(|| [a, b].map(|p| (p + back).to_array().map(|v| v as i8)))
    };
    let struts: Vec<_> = unit::cell(kind).iter().map(strut).collect::<Option<_>>()?;
    (!struts.is_empty()).then_some(OwnCell { struts })
}

/// How a cell meets its copies on all sides.
#[derive(Clone, Debug, PartialEq)]
pub struct Meeting {
    /// Ends of single struts that no other meets, in cells.
    pub loose: Vec<DVec3>,
    /// Nothing leads from a cell to the next along these axes.
    pub apart: [bool; 3],
    /// Parts of the cell that never meet, not in any of its copies.
    pub pieces: usize,
}

/// Walks the cell's struts as those of a graph on a torus: a way that ends in another copy of where it began
/// joins the two.
pub fn meeting(cell: &OwnCell) -> Meeting {
    let struts = raster(cell);
    let mut beside: BTreeMap<[i32; 3], Vec<IVec3>> = BTreeMap::new();
    for &[a, b] in &struts {
        beside.entry(wrapped(a).to_array()).or_default().push(b - a);
        beside.entry(wrapped(b).to_array()).or_default().push(a - b);
    }
    let in_cells = |p: &[i32; 3]| IVec3::from(*p).as_dvec3() / STEPS as f64;
    let loose = beside.iter().filter(|(_, ways)| ways.len() == 1).map(|(p, _)| in_cells(p)).collect();
    let mut apart = [true; 3];
    let mut pieces = 0;
    // Where each place was first come to, in the endless lattice.
    let mut reached: BTreeMap<[i32; 3], IVec3> = BTreeMap::new();
    for start in beside.keys() {
        if reached.contains_key(start) {
            continue;
        }
        pieces += 1;
        reached.insert(*start, IVec3::from(*start));
        let mut open = vec![*start];
        while let Some(place) = open.pop() {
            let at = reached[&place];
            for way in &beside[&place] {
                let to = at + *way;
                let next = wrapped(to).to_array();
                match reached.get(&next) {
                    None => {
                        reached.insert(next, to);
                        open.push(next);
                    }
                    Some(before) => (0..3).for_each(|axis| apart[axis] &= to[axis] == before[axis]),
                }
            }
        }
    }
    Meeting { loose, apart, pieces }
}

impl Meeting {
    /// What a designer should know of it.
    pub fn notes(&self) -> Vec<String> {
        let mut out = Vec::new();
        if let Some(first) = self.loose.first() {
            let at = first.to_array().map(|v| format!("{:.0}", 100.0 * v));
            let count = self.loose.len();
            let (ends, them) = if count == 1 { ("end of a strut meets", "it") } else { ("ends of struts meet", "them") };
            out.push(format!(
                "{count} {ends} nothing, neither in the cell nor in the cells beside it; the first is at {} % of its sides. Join {them}, or draw the same on the side across.",
                at.join(", ")
            ));
        }
        let apart: Vec<&str> = ["x", "y", "z"].into_iter().zip(self.apart).filter(|a| a.1).map(|a| a.0).collect();
        if !apart.is_empty() {
            out.push(format!("Cells do not meet their neighbours along {}: the lattice falls apart there.", apart.join(" and ")));
        }
        if self.pieces > 1 {
            out.push(format!("The cell is of {} parts that never meet.", self.pieces));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cell(struts: &[[[i8; 3]; 2]]) -> OwnCell {
        OwnCell { struts: struts.to_vec() }
    }

    #[test]
    fn copies_on_opposite_sides_are_one_strut_and_order_says_nothing() {
        let edges = cell(&[
            [[0, 0, 0], [12, 0, 0]],
            [[12, 12, 0], [0, 12, 0]],
            [[0, 0, 12], [12, 0, 12]],
            [[0, 12, 12], [12, 12, 12]],
            [[0, 0, 0], [0, 12, 0]],
            [[0, 0, 0], [0, 0, 12]],
        ]);
        assert_eq!(struts(&edges).len(), 3);
        assert_eq!(meeting(&edges), Meeting { loose: vec![], apart: [false; 3], pieces: 1 });
        let body = struts(&OwnCell::default());
        assert_eq!(body.len(), 8);
        let length: f64 = body.iter().map(|[a, b]| a.distance(*b)).sum();
        assert!((length - 4.0 * 3f64.sqrt()).abs() < 1e-12);
        assert_eq!(meeting(&OwnCell::default()), Meeting { loose: vec![], apart: [false; 3], pieces: 1 });
    }

    #[test]
    fn kinds_are_drawn_as_they_are_and_meet_on_all_sides() {
        use CellKind::*;
        for kind in [Cubic, BodyCentred, BodyCentredVertical, FaceCentred, Octet, Kelvin, Diamond, RhombicDodecahedron] {
            let own = drawn(kind).unwrap_or_else(|| panic!("{kind:?}"));
            let length = |list: &[UnitStrut]| list.iter().map(|[a, b]| a.distance(*b)).sum::<f64>();
            assert_eq!(struts(&own).len(), unit::cell(kind).len(), "{kind:?}");
            assert!((length(&struts(&own)) - length(&unit::cell(kind))).abs() < 1e-9, "{kind:?}");
            let m = meeting(&own);
            assert!(m.loose.is_empty() && m.apart == [false; 3], "{kind:?} {m:?}");
        }
        assert_eq!(drawn(ReEntrant), None);
    }

    #[test]
    fn loose_ends_and_sides_that_do_not_meet_are_told() {
        // An upright with an arm that ends in the air.
        let m = meeting(&cell(&[[[6, 6, 0], [6, 6, 12]], [[6, 6, 0], [12, 6, 0]]]));
        assert_eq!((m.apart, m.pieces, m.loose.len()), ([true, true, false], 1, 1));
        assert!(m.notes()[0].starts_with("1 end of a strut meets nothing") && m.notes()[1].contains("along x and y"));
        // Drawn on to the other side, arms meet arms.
        let m = meeting(&cell(&[[[6, 6, 0], [6, 6, 12]], [[6, 6, 0], [12, 6, 0]], [[6, 6, 12], [0, 6, 12]]]));
        assert_eq!((m.apart, m.pieces, m.loose.len()), ([false, true, false], 1, 0));
        let m = meeting(&cell(&[[[0, 0, 0], [12, 0, 0]], [[0, 6, 6], [12, 6, 6]]]));
        assert_eq!((m.apart, m.pieces), ([false, true, true], 2));
    }
}
