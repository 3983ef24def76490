//! The job of Ulmix: a part and a recipe become a lighter, closed, printable mesh.
//!
//! No interface, no database and no clock here: functions take data, a watcher with a cancel
//! question, and give data or a typed error. Lengths are millimetres, angles degrees.
//!
//! | module | idea |
//! |---|---|
//! | [`recipe`] | every value of every step |
//! | [`part`], [`bodies`] | what came in, made ready, and the facts about it |
//! | [`inspect`], [`sheet`] | what a file holds, before its unit is known; is it a sheet? |
//! | [`welded`] | its points joined, before anything is mended |
//! | [`note`] | something that a person should know |
//! | [`pocket`] | a hollow of the part as a body |
//! | [`chords`] | how far triangles of a size lie from its curved surface |
//! | [`health`], [`rewrap`], [`triangles`], [`moved`] | what is wrong with it, with figures and places; crossings resolved; other triangles; how far that moved it |
//! | [`demo`], [`own_shapes`], [`builder`] | the Reedling parts, shapes by their dimensions, how both are made |
//! | [`grid`], [`sample`], [`sides`] | the sampled box; signs of the part on it; sides of many places |
//! | [`lattice`] | what fills a zone: structures, and giving them thickness |
//! | [`solids`], [`zoned`] | regions of zones and skins; what they make of every sample |
//! | [`patchwork`] | several structures as one field, each in its zone |
//! | [`shape`] | part, zones, skins and lattice as one field |
//! | [`polygonise`] | signs and exact hits to a closed mesh |
//! | [`untangle`] | meshes as files hold them, and what crosses there |
//! | [`occlusion`], [`thumbnail`] | shade for the picture; small pictures of structures |
//! | [`check`] | checks, and those of any mesh |
//! | [`asked`] | the result held against the request |
//! | [`report`] | numbers, checks and notes of a finished mesh |
//! | [`export`], [`stand`] | files, read again before they are offered; how they stand on the printer's bed |
//! | [`trig`], [`random`], [`even`], [`median`] | sine and cosine, random numbers, even points: the same bits everywhere; the middle of values |
//! | [`pipeline`] | the stages in order, cached |

pub mod asked;
pub mod bodies;
pub mod builder;
pub mod check;
pub mod chords;
pub mod demo;
pub mod even;
pub mod export;
pub mod grid;
pub mod health;
pub mod inspect;
pub mod lattice;
mod median;
pub mod moved;
mod near;
pub mod note;
pub mod occlusion;
pub mod own_shapes;
pub mod part;
pub mod patchwork;
pub mod pipeline;
pub mod pocket;
pub mod polygonise;
pub mod random;
pub mod recipe;
pub mod report;
pub mod rewrap;
pub mod sample;
pub mod shape;
pub mod sheet;
pub mod sides;
pub mod solids;
pub mod stand;
pub mod thumbnail;
pub mod triangles;
pub mod trig;
pub mod untangle;
pub mod welded;
pub mod zoned;
