//! Drawn cells: each strut of the endless lattice once.

use super::unit::{self, UnitStrut};
use glam::IVec3;
use ulmix_recipe::{own_cell::STEPS, CellKind, OwnCell};

fn wrapped(p: IVec3) -> IVec3 {
    p.rem_euclid(IVec3::splat(STEPS as i32))
}

/// The struts, those on opposite sides of the cell as one, in cells: from a place in the first cell
/// on.
pub fn struts(cell: &OwnCell) -> Vec<UnitStrut> {
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
    out.into_iter().map(|e| e.map(|p| p.as_dvec3() / STEPS as f64)).collect()
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
    Some(OwnCell { struts: unit::cell(kind).iter().map(strut).collect::<Option<_>>()? })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::meeting::{meeting, Meeting};

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
        assert_eq!(
            meeting(&struts(&edges)),
            Meeting { nodes: 1, loose: vec![], apart: [false; 3], components: 1 }
        );
        let body = struts(&OwnCell::default());
        assert_eq!(body.len(), 8);
        let length: f64 = body.iter().map(|[a, b]| a.distance(*b)).sum();
        assert!((length - 4.0 * 3f64.sqrt()).abs() < 1e-12);
        assert_eq!(
            meeting(&body),
            Meeting { nodes: 2, loose: vec![], apart: [false; 3], components: 1 }
        );
    }

    #[test]
    fn kinds_are_drawn_as_they_are_and_meet_on_all_sides() {
        use CellKind::*;
        for kind in [
            Cubic,
            BodyCentred,
            BodyCentredVertical,
            FaceCentred,
            Octet,
            Kelvin,
            Diamond,
            RhombicDodecahedron,
        ] {
            let own = drawn(kind).unwrap_or_else(|| panic!("{kind:?}"));
            let table = unit::cell(kind);
            let length = |list: &[UnitStrut]| list.iter().map(|[a, b]| a.distance(*b)).sum::<f64>();
            assert_eq!(struts(&own).len(), table.len(), "{kind:?}");
            assert!((length(&struts(&own)) - length(&table)).abs() < 1e-9, "{kind:?}");
            let m = meeting(&struts(&own));
            assert!(m.loose.is_empty() && m.apart == [false; 3], "{kind:?} {m:?}");
        }
        assert_eq!(drawn(ReEntrant), None);
    }
}
