//! What people rely on without thinking, tried on the real binary with a real file of projects.

mod app_and_script;
#[path = "../../../server/tests/http/asking.rs"]
mod asking;
mod bad_projects;
mod clients;
mod endings;
mod files;
mod one_file;
mod running;
mod tokens;
mod wishes;
