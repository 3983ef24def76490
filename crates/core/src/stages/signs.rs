//! Samples of a grid that lie inside the composed shape.

use super::shape::LazyShape;
use super::{Keyed, Made, StageInput};
use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::Serialize;
use std::rc::Rc;
use ulmix_field::grid::Bits;

/// What signs follow from.
#[derive(Serialize)]
pub(crate) struct SignsInput<'a> {
    pub shape: Keyed<Rc<LazyShape<'a>>>,
}

impl StageInput for SignsInput<'_> {
    type Output = Bits;
    const NAME: &'static str = "signs";
    const STAGE: Stage = Stage::Lattice;

    fn compute(self, _: &dyn Watch) -> Result<Made<Bits>, RunError> {
        Ok(Made::weighed(self.shape.composed().signs(), Bits::bytes))
    }
}
