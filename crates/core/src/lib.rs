pub mod demo;
pub mod grid;
pub mod part;
pub mod polygonise;
pub mod recipe;
pub mod sample;
pub mod shape;
pub mod surface;
