//! Checks of a mesh, and what is wrong with a part, with figures and places. Lengths are
//! millimetres.

mod checks;
pub mod health;

pub use checks::{
    checks, checks_given, counted, crossing_within, pass_or, worst, Check, CheckGroup, Summary,
    Verdict,
};
