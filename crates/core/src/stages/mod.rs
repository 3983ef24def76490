//! The stages of a run, one a file. Each file holds the input of its stage, which is all that the
//! stage may see, and the work on it.
//!
//! The key of a result is the SHA-256 of the version of the code, of the stage's name and of the
//! input as JSON. Results of earlier stages stand in an input as [`Keyed`] values, of which the key
//! alone is hashed: what a stage reads is what it depends on.
//!
//! | module | result |
//! |---|---|
//! | [`regions`] | zones and skins as exact solids |
//! | [`zones`] | what they make of the samples of a grid |
//! | [`structure`] | a filling's structure before it has thickness |
//! | [`field`] | what a grading gives |
//! | [`graded`] | the same with a thickness at every place |
//! | [`ties`] | struts that join fillings over sharp borders |
//! | [`curve`] | relative density of a structure by its thickness |
//! | [`shares`] | shares of the part that fillings, solids and zones have |
//! | [`linked`] | thickness and density of every filling, and what they lead to |
//! | [`blocks`] | how far the laws of cost are off, from blocks of a final mesh |
//! | [`shape`] | part, zones and lattices as one shape, made when the first stage asks for it |
//! | [`signs`] | samples inside that shape |
//! | [`surface`] | the mesh of a draft as the grid gives it; the reduced mesh of a final |
//! | [`finish`] | crumbs removed, rounded to what files hold |
//! | [`report`] | numbers, checks and notes |
//! | [`seed_cells`] | seed points and their cells, to be looked at |

pub(crate) mod blocks;
pub(crate) mod curve;
pub(crate) mod field;
pub(crate) mod finish;
pub(crate) mod graded;
pub(crate) mod linked;
pub(crate) mod regions;
pub(crate) mod report;
pub(crate) mod seed_cells;
pub(crate) mod shape;
pub(crate) mod shares;
pub(crate) mod signs;
pub(crate) mod structure;
pub(crate) mod surface;
pub(crate) mod ties;
pub(crate) mod zones;

use crate::error::RunError;
use crate::watch::{Stage, Watch};
use serde::{Serialize, Serializer};
use std::ops::Deref;
use ulmix_part::Part;
use ulmix_recipe::key_of;

/// Version of the stages' code: part of every key, so that results of older code are not reused.
pub const CODE: u32 = 17;

/// All that one stage may see.
pub(crate) trait StageInput: Serialize + Sized {
    /// What the stage makes.
    type Output: Send + Sync + 'static;
    /// Tells the stage's keys from those of others.
    const NAME: &'static str;
    /// The stage that whoever watches is told of.
    const STAGE: Stage;

    /// Does the work.
    ///
    /// # Errors
    /// [`RunError::Cancelled`] when the watcher asks the run to end, and what the input makes
    /// impossible.
    fn compute(self, watch: &dyn Watch) -> Result<Made<Self::Output>, RunError>;

    /// Key of the result.
    fn key(&self) -> String {
        key_of(&[&CODE, &Self::NAME, self])
    }
}

/// A result and the memory that it takes.
pub(crate) struct Made<T> {
    pub value: T,
    pub bytes: usize,
}

impl<T> Made<T> {
    /// A result that takes so many bytes.
    pub(crate) fn new(value: T, bytes: usize) -> Made<T> {
        Made { value, bytes }
    }

    /// A result and the bytes that `weigh` tells of it.
    pub(crate) fn weighed(value: T, weigh: impl FnOnce(&T) -> usize) -> Made<T> {
        let bytes = weigh(&value);
        Made { value, bytes }
    }
}

/// A value under the key that tells it from all others of its kind. As part of an input it is
/// hashed by its key.
#[derive(Clone, Debug)]
pub(crate) struct Keyed<T> {
    pub key: String,
    pub value: T,
}

impl<T> Keyed<T> {
    pub(crate) fn new(key: String, value: T) -> Keyed<T> {
        Keyed { key, value }
    }
}

impl<'a> From<&'a Part> for Keyed<&'a Part> {
    fn from(part: &'a Part) -> Keyed<&'a Part> {
        Keyed::new(part.key.clone(), part)
    }
}

impl<T> Deref for Keyed<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

impl<T> Serialize for Keyed<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.key)
    }
}

/// The result of work that ends early when a run is cancelled.
pub(crate) fn or_cancelled<T>(found: Option<T>) -> Result<T, RunError> {
    found.ok_or(RunError::Cancelled)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Serialize)]
    struct Sum<'a> {
        terms: &'a [u64],
        earlier: Keyed<u64>,
    }

    impl StageInput for Sum<'_> {
        type Output = u64;
        const NAME: &'static str = "sum";
        const STAGE: Stage = Stage::Report;

        fn compute(self, _: &dyn Watch) -> Result<Made<u64>, RunError> {
            Ok(Made::new(self.terms.iter().sum::<u64>() + *self.earlier, 8))
        }
    }

    #[test]
    fn a_key_follows_every_value_and_the_keys_of_earlier_results_but_not_those_results() {
        let key = |terms: &[u64], key: &str, value: u64| {
            Sum { terms, earlier: Keyed::new(key.into(), value) }.key()
        };
        let first = key(&[1, 2], "a", 3);
        assert_eq!(first, key(&[1, 2], "a", 4), "a key stands for its value");
        assert_ne!(first, key(&[1, 3], "a", 3));
        assert_ne!(first, key(&[1, 2], "b", 3));
        assert_eq!(first.len(), 64);
    }
}
