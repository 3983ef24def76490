//! Part, zones and lattices as one shape. The shape is made when the first stage asks for it: held
//! results need none.

use super::zones::ZonesOnGrid;
use super::{Keyed, CODE};
use crate::compose::patchwork::{Blending, Tie};
use crate::compose::{Composed, Reaching, Selection};
use serde::Serialize;
use std::borrow::Cow;
use std::cell::OnceCell;
use std::rc::Rc;
use std::sync::Arc;
use ulmix_field::grid::Bits;
use ulmix_field::polygonise::Shape;
use ulmix_lattice::Lattice;
use ulmix_mesh::parallel;
use ulmix_part::sample::{spread, volume};
use ulmix_part::Part;
use ulmix_recipe::key_of;

/// A filling with its thickness.
#[derive(Clone, Serialize)]
pub(crate) struct ShapedFilling<'a> {
    pub lattice: Keyed<&'a dyn Lattice>,
    /// How far signs are taken beyond its border. mm.
    pub reach: f64,
    pub blending: Blending,
}

/// Struts that tie fillings, with their thickness.
#[derive(Clone, Serialize)]
pub(crate) struct ShapedTie<'a> {
    pub lattice: Keyed<&'a dyn Lattice>,
    /// Radius of their joins. mm.
    pub blend: f64,
}

/// What a shape follows from.
#[derive(Serialize)]
pub(crate) struct ShapeInput<'a> {
    pub part: Keyed<&'a Part>,
    pub zones: &'a Keyed<Arc<ZonesOnGrid>>,
    pub fillings: &'a [ShapedFilling<'a>],
    pub ties: &'a [ShapedTie<'a>],
    pub selection: Selection,
}

/// The shape of fillings and ties in zones that lie on a grid.
pub(crate) fn composed<'a>(
    part: &'a Part,
    zones: &'a ZonesOnGrid,
    fillings: &[ShapedFilling<'a>],
    ties: &[ShapedTie<'a>],
) -> Composed<'a> {
    let reaching = |f: &ShapedFilling<'a>| Reaching {
        lattice: f.lattice.value,
        reach: f.reach,
        body: f.blending,
    };
    let tie = |t: &ShapedTie<'a>| Tie { lattice: t.lattice.value, blend: t.blend };
    let ties: Vec<Tie> = ties.iter().map(tie).collect();
    let fillings = fillings.iter().map(reaching).collect();
    Composed::of(part, &zones.zoned, &zones.regions, fillings, &ties)
}

/// A shape that is made when the first stage asks for it.
pub(crate) struct LazyShape<'a> {
    input: ShapeInput<'a>,
    composed: OnceCell<Composed<'a>>,
    /// Samples around which one smooth field alone decides, where those of the zones are too many.
    smooth: OnceCell<Option<Bits>>,
}

impl<'a> LazyShape<'a> {
    /// The shape of an input, under the key of that.
    pub(crate) fn keyed(input: ShapeInput<'a>) -> Keyed<Rc<LazyShape<'a>>> {
        let key = key_of(&[&CODE, &"shape", &input]);
        let shape = LazyShape { input, composed: OnceCell::new(), smooth: OnceCell::new() };
        Keyed::new(key, Rc::new(shape))
    }

    pub(crate) fn composed(&self) -> &Composed<'a> {
        self.composed.get_or_init(|| {
            let ShapeInput { part, zones, fillings, ties, selection } = &self.input;
            composed(part.value, &zones.value, fillings, ties).only(*selection)
        })
    }

    /// Samples around which one smooth field alone decides.
    pub(crate) fn smooth(&self) -> &Bits {
        let own = self.smooth.get_or_init(|| match self.composed().smooth() {
            Cow::Borrowed(_) => None,
            Cow::Owned(bits) => Some(bits),
        });
        own.as_ref().unwrap_or_else(|| self.input.zones.zoned.smooth())
    }

    /// Volume of the lattice past the part's surface, from points spread evenly. mm³.
    pub(crate) fn past_surface(&self) -> f64 {
        let zoned = &self.input.zones.zoned;
        let Some(beyond) = zoned.beyond() else { return 0.0 };
        let shape = self.composed();
        let points = spread(&beyond, &zoned.grid, 60_000);
        let held = parallel::count(points.len(), |n| shape.value(points[n]) < 0.0);
        volume(&beyond, &zoned.grid) * held as f64 / points.len().max(1) as f64
    }

    /// Volume that this shape and another one of the same part both hold, from points spread
    /// evenly: samples of the grid would be off by a layer where borders run along it. mm³.
    pub(crate) fn shared_with(&self, other: &LazyShape) -> f64 {
        let zoned = &self.input.zones.zoned;
        let (own, other) = (self.composed(), other.composed());
        let points = spread(&zoned.inside, &zoned.grid, 300_000);
        let both = parallel::count(points.len(), |n| {
            own.value(points[n]) < 0.0 && other.value(points[n]) < 0.0
        });
        volume(&zoned.inside, &zoned.grid) * both as f64 / points.len().max(1) as f64
    }
}
