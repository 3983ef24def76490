//! Numbers and fields on grids: the same bits on every machine. Nothing here knows a recipe.
//! Lengths are millimetres.
//!
//! | module | idea |
//! |---|---|
//! | [`numeric`] | sine and cosine, random numbers, even points, the middle of values |
//! | [`grid`] | the sampled box, and a bit for each of its samples |
//! | [`polygonise`] | signs on a grid and exact hits to a closed mesh |
//! | [`occlusion`] | shade in the crevices of a picture |

pub mod grid;
pub mod numeric;
pub mod occlusion;
pub mod polygonise;
