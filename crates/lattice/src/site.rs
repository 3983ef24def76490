//! What a structure is made in.

use super::relaxing::{NoCache, RelaxationCache};
use super::sizes::GradedValues;
use ulmix_part::Part;

/// What a structure is made in.
#[derive(Clone, Copy)]
pub struct Site<'a> {
    /// The part that is filled.
    pub part: &'a Part,
    /// What the size of cells follows, where it changes from place to place.
    pub sizes: Option<GradedValues<'a>>,
    /// For looking while values are chosen: a foam sheet that is not wholly relaxed will do.
    pub draft: bool,
    /// Where relaxing seed points leaves off.
    pub relaxed: &'a dyn RelaxationCache,
}

impl<'a> From<&'a Part> for Site<'a> {
    fn from(part: &'a Part) -> Site<'a> {
        Site { part, sizes: None, draft: false, relaxed: &NoCache }
    }
}
