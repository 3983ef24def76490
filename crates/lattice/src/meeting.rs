//! How the struts of a cell that repeats meet, in the cell and across its sides.

use super::unit::UnitStrut;
use glam::{DVec3, IVec3};
use std::collections::BTreeMap;

/// Places closer than this share of a cell are one node.
const RASTER: f64 = 720.0;

/// How a cell meets its copies on all sides.
#[derive(Clone, Debug, PartialEq)]
pub struct Meeting {
    /// Nodes of one cell.
    pub nodes: usize,
    /// Ends of single struts that no other meets, in cells.
    pub loose: Vec<DVec3>,
    /// Nothing leads from a cell to the next along these axes.
    pub apart: [bool; 3],
    /// Parts of the cell that never meet, not in any of its copies.
    pub components: usize,
}

/// Walks a cell's struts as those of a graph on a torus: a way that ends in another copy of where
/// it began joins the two.
pub fn meeting(struts: &[UnitStrut]) -> Meeting {
    let wrapped = |p: IVec3| p.rem_euclid(IVec3::splat(RASTER as i32)).to_array();
    let mut beside: BTreeMap<[i32; 3], Vec<IVec3>> = BTreeMap::new();
    for ends in struts {
        let [a, b] = ends.map(|p| (p * RASTER).round().as_ivec3());
        beside.entry(wrapped(a)).or_default().push(b - a);
        beside.entry(wrapped(b)).or_default().push(a - b);
    }
    let in_cells = |p: &[i32; 3]| IVec3::from(*p).as_dvec3() / RASTER;
    let loose =
        beside.iter().filter(|(_, ways)| ways.len() == 1).map(|(p, _)| in_cells(p)).collect();
    let mut apart = [true; 3];
    let mut components = 0;
    // Where each place was first come to, in the endless lattice.
    let mut reached: BTreeMap<[i32; 3], IVec3> = BTreeMap::new();
    for start in beside.keys() {
        if reached.contains_key(start) {
            continue;
        }
        components += 1;
        reached.insert(*start, IVec3::from(*start));
        let mut open = vec![*start];
        while let Some(place) = open.pop() {
            let at = reached[&place];
            for way in &beside[&place] {
                let to = at + *way;
                let next = wrapped(to);
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
    Meeting { nodes: beside.len(), loose, apart, components }
}

impl Meeting {
    /// What a designer should know of it.
    pub fn notes(&self) -> Vec<String> {
        let mut out = Vec::new();
        if let Some(first) = self.loose.first() {
            let at = first.to_array().map(|v| format!("{:.0}", 100.0 * v));
            let count = self.loose.len();
            let (ends, them) = if count == 1 {
                ("end of a strut meets", "it")
            } else {
                ("ends of struts meet", "them")
            };
            out.push(format!(
                "{count} {ends} nothing, neither in the cell nor in the cells \
                     beside it; the first is at {} % of its sides. Join {them}, or \
                     draw the same on the side across.",
                at.join(", ")
            ));
        }
        let apart: Vec<&str> =
            ["x", "y", "z"].into_iter().zip(self.apart).filter(|a| a.1).map(|a| a.0).collect();
        if !apart.is_empty() {
            out.push(format!(
                "Cells do not meet their neighbours along {}: the lattice falls apart there.",
                apart.join(" and ")
            ));
        }
        if self.components > 1 {
            out.push(format!("The cell is of {} parts that never meet.", self.components));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::own_cell::struts;
    use ulmix_recipe::OwnCell;

    fn cell(struts_of: &[[[i8; 3]; 2]]) -> Vec<UnitStrut> {
        struts(&OwnCell { struts: struts_of.to_vec() })
    }

    #[test]
    fn loose_ends_and_sides_that_do_not_meet_are_told() {
        // An upright with an arm that ends in the air.
        let m = meeting(&cell(&[[[6, 6, 0], [6, 6, 12]], [[6, 6, 0], [12, 6, 0]]]));
        assert_eq!((m.apart, m.components, m.loose.len()), ([true, true, false], 1, 1));
        assert!(
            m.notes()[0].starts_with("1 end of a strut meets nothing")
                && m.notes()[1].contains("along x and y")
        );
        // Drawn on to the other side, arms meet arms.
        let m = meeting(&cell(&[
            [[6, 6, 0], [6, 6, 12]],
            [[6, 6, 0], [12, 6, 0]],
            [[6, 6, 12], [0, 6, 12]],
        ]));
        assert_eq!((m.apart, m.components, m.loose.len()), ([false, true, false], 1, 0));
        let m = meeting(&cell(&[[[0, 0, 0], [12, 0, 0]], [[0, 6, 6], [12, 6, 6]]]));
        assert_eq!((m.apart, m.components), ([false, true, true], 2));
    }
}
