//! What journeys in a real browser are made of: the binary, a browser, and the few things a person
//! does.

pub mod browser;
