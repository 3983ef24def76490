//! The REST interface under /api.
//!
//! | module | what it answers |
//! |---|---|
//! | [`uploads`] | files brought in |
//! | `projects` | projects, recipes with undo and redo |
//! | [`runs`] | drafts, final runs, pictures, events |
//! | [`exports`] | files to take away: meshes, recipe, part |
//! | [`given`] | seed points and struts from files |
//! | [`structures`], [`pictures`] | small pictures of structures, and of parts and shapes to begin with |
//! | `picking` | faces, loops of edges, what lies in a zone or body |
//!
//! `document` tells all of it; `extract` reads what requests bring; `work` runs what takes long;
//! [`shared`] holds bodies that several fetch.

mod document;
pub mod exports;
mod extract;
pub mod given;
mod picking;
pub mod pictures;
mod projects;
pub mod runs;
pub mod shared;
pub mod structures;
pub mod uploads;
mod work;

use crate::problem::Problem;
use crate::studio::Studio;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::routing::{delete, get, post, put};
use axum::{Json, Router};
use serde::Serialize;
use std::sync::Arc;
use tokio::sync::Semaphore;
use ulmix_lattice::own_cell;
use ulmix_part::demo::Reedling;
use ulmix_part::own_shapes::first_shapes;
use ulmix_recipe::{Family, GivenKind, Kind, OwnCell, OwnShape, MATERIALS};
use utoipa::ToSchema;

pub use document::openapi;

/// What all answers come from.
#[derive(Clone)]
pub struct App {
    /// Projects, and the work on them.
    pub studio: Arc<Studio>,
    /// Files on their way in.
    pub uploads: Arc<uploads::Uploads>,
    /// Files that wait to be fetched.
    pub exports: Arc<exports::Exports>,
    /// Places for work that keeps the computer busy: more at once would only make all wait.
    pub places: Arc<Semaphore>,
    /// An access token is asked for.
    pub locked: bool,
}

/// Work that keeps the computer busy at once.
pub const AT_ONCE: usize = 4;

/// Bytes of a request that brings a recipe: the most own struts, nodes and cells that one may have
/// take less.
const RECIPE_BYTES: usize = 64 << 20;

/// All paths, with the web app.
pub fn router(app: App) -> Router {
    let with_recipe = || DefaultBodyLimit::max(RECIPE_BYTES);
    Router::new()
        .route(
            "/api/openapi.json",
            get(|| async { ([("content-type", "application/json")], openapi()) }),
        )
        .route("/api/options", get(options))
        .route("/api/uploads", post(uploads::upload).layer(DefaultBodyLimit::disable()))
        .route("/api/projects", get(projects::list).post(projects::create))
        .route("/api/projects/{id}", get(projects::show).delete(projects::remove))
        .route("/api/projects/{id}/recipe", put(projects::set_recipe).layer(with_recipe()))
        .route("/api/projects/{id}/undo", post(projects::undo))
        .route("/api/projects/{id}/redo", post(projects::redo))
        .route("/api/projects/{id}/card", get(projects::card).put(projects::set_card))
        .route("/api/projects/{id}/faces", post(picking::faces))
        .route("/api/projects/{id}/faces/{face}/loops", post(picking::loops))
        .route("/api/projects/{id}/files", post(projects::add_file))
        .route("/api/projects/{id}/ghosts", get(projects::ghosts))
        .route("/api/projects/{id}/moved", get(projects::moved))
        .route("/api/projects/{id}/health", get(projects::health))
        // Places of a picture's points.
        .route(
            "/api/projects/{id}/within",
            post(picking::within).layer(DefaultBodyLimit::max(64 << 20)),
        )
        .route(
            "/api/projects/{id}/draft",
            post(runs::draft).delete(runs::stop_draft).layer(with_recipe()),
        )
        .route("/api/projects/{id}/picture", get(runs::picture))
        .route("/api/projects/{id}/estimate", post(runs::estimate).layer(with_recipe()))
        .route("/api/projects/{id}/cost", post(runs::cost).layer(with_recipe()))
        .route("/api/projects/{id}/skeleton", post(runs::skeleton).layer(with_recipe()))
        .route(
            "/api/projects/{id}/gradings/{grading}",
            post(runs::graded_field).layer(with_recipe()),
        )
        .route(
            "/api/projects/{id}/gradings/{grading}/spread",
            post(runs::source_spreads).layer(with_recipe()),
        )
        .route("/api/projects/{id}/cells", post(runs::cells).layer(with_recipe()))
        .route("/api/projects/{id}/final", post(runs::start_final))
        .route("/api/projects/{id}/events", get(runs::events))
        .route("/api/projects/{id}/export", post(exports::export))
        .route("/api/projects/{id}/recipe.json", get(exports::recipe))
        .route("/api/projects/{id}/part", get(exports::part))
        .route("/api/exports/{id}/{file}", get(exports::download))
        .route("/api/reedling/{part}/picture", get(pictures::reedling_picture))
        .route("/api/shapes/{number}/picture", get(pictures::shape_picture))
        .route("/api/structures/{kind}/picture", get(structures::structure_picture))
        .route("/api/structures/{kind}/pattern", post(structures::pattern_of_kind))
        .route("/api/points", post(given::points).layer(DefaultBodyLimit::max(16 << 20)))
        .route("/api/table", post(given::table).layer(DefaultBodyLimit::max(256 << 20)))
        .route("/api/struts", post(given::struts).layer(DefaultBodyLimit::max(64 << 20)))
        .route("/api/cell", post(given::cell).layer(DefaultBodyLimit::max(64 << 20)))
        .route("/api/jobs/{id}", delete(runs::cancel))
        .route("/api/{*rest}", get(nothing).post(nothing).put(nothing).delete(nothing))
        .method_not_allowed_fallback(|| async {
            let hint = "Check the request against /api/openapi.json.";
            Problem::new(
                StatusCode::METHOD_NOT_ALLOWED,
                "bad_method",
                "This address does not take that method.",
                hint,
            )
        })
        .with_state(app)
}

async fn nothing() -> Problem {
    Problem::not_found("This address")
}

/// A material to choose.
#[derive(Serialize, ToSchema)]
pub struct MaterialChoice {
    /// Name of the material.
    pub name: &'static str,
    /// g/cm³.
    pub density: f64,
    /// Least thickness that prints well. mm.
    pub least_mm: f64,
}

/// A kind of structure to choose.
#[derive(Serialize, ToSchema)]
pub struct StructureChoice {
    /// The kind meant.
    pub kind: Kind,
    /// The kind's name for a person.
    pub title: &'static str,
    /// The family that it is shown in.
    pub family: Family,
    /// Grows from seed points.
    pub seeded: bool,
    /// Comes from a file.
    pub given: bool,
    /// A random number tells its arrangements apart.
    pub random: bool,
    /// A cell of it, to begin an own one with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drawn: Option<OwnCell>,
}

/// A part of the Reedling buoy.
#[derive(Serialize, ToSchema)]
pub struct ReedlingPart {
    /// The part meant.
    pub part: Reedling,
    /// The part's name for a person.
    pub title: &'static str,
    /// What it shows.
    pub words: &'static str,
}

/// A shape to begin with.
#[derive(Serialize, ToSchema)]
pub struct FirstShape {
    /// Name of the shape.
    pub title: &'static str,
    /// The shape with its first dimensions.
    pub shape: OwnShape,
}

/// What the app needs to know of the server.
#[derive(Serialize, ToSchema)]
pub struct Options {
    /// Version of the program.
    pub version: &'static str,
    /// Materials that are known.
    pub materials: Vec<MaterialChoice>,
    /// Kinds of structures.
    pub structures: Vec<StructureChoice>,
    /// Parts to try.
    pub reedling: Vec<ReedlingPart>,
    /// Shapes to begin with.
    pub shapes: Vec<FirstShape>,
    /// Bytes of the largest file that is read.
    pub largest_file_bytes: u64,
    /// Is there a session to log out of?
    pub can_log_out: bool,
}

/// What can be chosen.
#[utoipa::path(get, path = "/api/options", responses((status = 200, body = Options)))]
pub async fn options(State(app): State<App>) -> Json<Options> {
    Json(Options {
        version: env!("CARGO_PKG_VERSION"),
        materials: MATERIALS
            .iter()
            .map(|m| MaterialChoice { name: m.name, density: m.density, least_mm: m.least_mm })
            .collect(),
        structures: Kind::all()
            .into_iter()
            .chain([GivenKind::OwnStruts, GivenKind::OwnMesh].map(Kind::Given))
            .map(|kind| StructureChoice {
                kind,
                title: kind.title(),
                family: kind.family(),
                seeded: kind.seeded(),
                given: matches!(kind, Kind::Given(_)),
                random: kind.random(),
                drawn: if let Kind::Cell(cell) = kind { own_cell::drawn(cell) } else { None },
            })
            .collect(),
        reedling: Reedling::ALL
            .map(|part| ReedlingPart { part, title: part.title(), words: part.words() })
            .into(),
        shapes: first_shapes()
            .into_iter()
            .map(|(title, shape)| FirstShape { title, shape })
            .collect(),
        largest_file_bytes: ulmix_formats::LARGEST_FILE,
        can_log_out: app.locked,
    })
}
