//! Projects, and their recipes with undo and redo.

use super::extract::{JsonBody, Path, Raw};
use super::uploads::KeptUpload;
use super::work::{blocking, computed, watched, watched_for};
use super::App;
use crate::card::CardFacts;
use crate::events::{Event, Job};
use crate::lanes::{Lane, Tab};
use crate::problem::{Answer, Problem};
use crate::store::{ListedRow, ProjectRow};
use crate::studio::guarded;
use crate::waiting::Waiting;
use axum::extract::State;
use axum::http::{header, HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::Json;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use ulmix_check::health::{self, BodyHealth};
use ulmix_check::Check;
use ulmix_core::pipeline::Pipeline;
use ulmix_core::stand::{standing, Standing};
use ulmix_part::demo::Reedling;
use ulmix_part::own_shapes;
use ulmix_part::own_shapes::{directions, Directions};
use ulmix_part::sheet::shell_for;
use ulmix_part::{stem, Part, PartFacts};
use ulmix_recipe::{
    Beside, CleanUp, Drain, FileMark, OwnShape, OwnStrutsPattern, PartStep, Pattern, Ranges,
    Recipe, Shell, Unit,
};
use ulmix_runner::picture::RunInfo;
use utoipa::ToSchema;

/// Where a new project's part comes from.
#[derive(Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "from", deny_unknown_fields)]
pub(super) enum NewProject {
    Upload {
        upload: String,
        unit: Unit,
    },
    /// A part of the Reedling buoy.
    Reedling {
        part: Reedling,
    },
    /// A shape by its dimensions.
    Shape {
        shape: OwnShape,
    },
}

/// A project with its current recipe.
#[derive(Serialize, ToSchema)]
pub(super) struct Project {
    pub id: String,
    pub updated_ms: i64,
    /// Goes up with every change; send it as `If-Match`.
    pub revision: i64,
    pub can_undo: bool,
    pub can_redo: bool,
    pub recipe: Recipe,
    pub part: PartFacts,
    /// What sliders offer.
    pub ranges: Ranges,
    /// Of a part that is a sheet of our own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub directions: Option<Directions>,
    /// A sheet's first thickness.
    pub first_shell: Shell,
    /// A drain hole's first size.
    pub drain: Drain,
    /// How the part stands on the bed.
    pub standing: Standing,
    pub part_file: String,
    /// The final mesh of this recipe, when it was made.
    pub finished: Option<RunInfo>,
    /// The final run of this project under way, or the last one.
    pub job: Option<Job>,
    /// The last final run of this recipe ended with the server.
    pub interrupted: bool,
}

/// A project on the start screen.
#[derive(Serialize, ToSchema)]
pub(super) struct ProjectCard {
    pub id: String,
    /// As far as it can be told.
    pub name: String,
    pub updated_ms: i64,
    /// Absent for a project that cannot be read.
    pub facts: Option<CardFacts>,
    /// Why it cannot be shown.
    pub fault: Option<String>,
}

fn project(app: &App, id: &str, waiting: &Waiting) -> Answer<Project> {
    let row = app.studio.store.project(id)?;
    let head = row.head;
    let shown = assembled(app, row, waiting);
    match &shown {
        Ok(p) => {
            let facts = CardFacts::of(&p.recipe, &p.part, p.finished.as_ref());
            app.studio.store.set_facts(id, head, &facts.to_json()?)?;
        }
        Err(p) if p.is_lasting() => app.studio.store.set_fault(id, head, &p.message)?,
        Err(_) => {}
    }
    shown
}

fn assembled(app: &App, row: ProjectRow, waiting: &Waiting) -> Answer<Project> {
    let id = row.id.as_str();
    let recipe = row.read_recipe()?;
    let part = app.studio.part(&row, &recipe, waiting)?;
    let key = Pipeline::recipe_key(&part, &recipe);
    // What an older program told of a final mesh may be told otherwise now: then it is made again.
    let finished =
        app.studio.store.finished(id, &key)?.and_then(|f| serde_json::from_str(&f.info).ok());
    Ok(Project {
        finished,
        job: app.studio.job_of(id),
        interrupted: app.studio.store.interrupted(id, &key)?,
        ranges: Ranges::for_part(&part.mesh.bounds()),
        directions: recipe.part.shape.as_ref().and_then(directions),
        first_shell: Shell::for_size(part.mesh.bounds().size().max_element()),
        drain: recipe.drain(),
        standing: standing(&part.mesh, &recipe.stand.unwrap_or_default()),
        part: part.facts.clone(),
        recipe,
        can_undo: row.head > row.first,
        can_redo: row.head < row.last,
        revision: row.head,
        updated_ms: row.updated_ms,
        part_file: row.part_file,
        id: row.id,
    })
}

/// The project with its revision as ETag.
fn tagged(p: Project) -> Response {
    ([(header::ETAG, format!("\"{}\"", p.revision))], Json(p)).into_response()
}

#[utoipa::path(get, path = "/api/projects", responses((status = 200, body = [ProjectCard])))]
pub(super) async fn list(State(app): State<App>) -> Answer<Json<Vec<ProjectCard>>> {
    blocking(move || {
        let rows = app.studio.store.list()?;
        Ok(Json(rows.into_iter().map(card_of).collect()))
    })
    .await
}

/// Nothing is built for it: what is not kept yet is told of the recipe alone.
fn card_of(row: ListedRow) -> ProjectCard {
    let kept = row.facts.and_then(|facts| serde_json::from_str::<CardFacts>(&facts).ok());
    let named = |recipe: &str| {
        Some(serde_json::from_str::<serde_json::Value>(recipe).ok()?["name"].as_str()?.to_owned())
    };
    let name =
        kept.as_ref().map(|facts| facts.name.clone()).or_else(|| named(row.recipe.as_deref()?));
    let (facts, fault) = match (kept, row.recipe) {
        (Some(facts), _) => (Some(facts), None),
        (None, None) => (None, Some("Its recipe is missing in the file of projects.".to_owned())),
        (None, Some(recipe)) => match Recipe::from_json(&recipe) {
            Err(e) => (None, Some(e.message())),
            Ok(recipe) => {
                let mut facts = CardFacts::of_recipe(&recipe);
                // Those kept are of the file that the project began with.
                let plain = recipe.part == PartStep::plain(recipe.part.unit);
                if let Some(part) =
                    serde_json::from_str::<PartFacts>(&row.part_facts).ok().filter(|_| plain)
                {
                    facts = CardFacts {
                        size_mm: Some(part.size_mm),
                        part_volume_mm3: Some(part.volume_mm3),
                        ..facts
                    };
                }
                (Some(facts), row.fault)
            }
        },
    };
    let name = name.unwrap_or_else(|| "Project without a name".into());
    ProjectCard { id: row.id, name, updated_ms: row.updated_ms, facts, fault }
}

#[utoipa::path(post, path = "/api/projects", request_body = NewProject, responses((status = 201, body = Project), (status = 422, body = Problem)))]
pub(super) async fn create(
    State(app): State<App>,
    JsonBody(new): JsonBody<NewProject>,
) -> Answer<Response> {
    // A file is given the time that its size needs.
    let time = match &new {
        NewProject::Upload { upload, .. } => app.uploads.held(upload)?.time(),
        _ => Duration::from_secs(60),
    };
    watched_for(app, time, move |app, waiting| {
        let id = app.studio.new_id();
        let stopped = || waiting.stopped();
        let limits = app.studio.limits(&stopped);
        let made = |step: &PartStep, bytes: &[u8]| {
            guarded(|| Part::of::<Problem, _>(step, |_| Ok(bytes), &limits))?.map(Arc::new)
        };
        let begin = |step: PartStep, part: &Part, name: &str| {
            let first = Recipe::for_part(&part.mesh.bounds());
            Recipe { name: name.into(), part: step, ..first }
        };
        let (file_name, bytes, recipe, part) = match new {
            NewProject::Upload { upload, unit } => {
                let held = app.uploads.held(&upload)?;
                let bytes = held.read()?;
                let KeptUpload { name, begun, struts, .. } = held;
                let (step, part) = match begun.filter(|(step, _)| step.unit == unit) {
                    Some(begun) => begun,
                    None => {
                        let step = PartStep {
                            shell: Part::first_shell(&bytes, unit, &limits)?,
                            ..PartStep::plain(unit)
                        };
                        let part = made(&step, &bytes)?;
                        (step, part)
                    }
                };
                let mut recipe = begin(step, &part, stem(&name));
                match struts {
                    // Beams beside a solid fill it; others are kept to choose.
                    Some((struts, true)) => {
                        struts.fill(&mut recipe, part.mesh.bounds().size().max_element())
                    }
                    Some((struts, false)) => {
                        let clean = CleanUp::default();
                        let own = struts.own;
                        recipe.kept.push(Pattern::OwnStruts(OwnStrutsPattern { own, clean }));
                    }
                    None => {}
                }
                (name, bytes, recipe, part)
            }
            NewProject::Reedling { part } => {
                let (bytes, recipe) = part.file();
                let whole = made(&recipe.part, &bytes)?;
                (format!("{}.stl", part.file_name()), bytes, recipe, whole)
            }
            NewProject::Shape { shape } => {
                shape.validate()?;
                let shell = shell_for(&own_shapes::mesh(&shape))?;
                let title = shape.title();
                let step = PartStep { shape: Some(shape), shell, ..PartStep::plain(Unit::Mm) };
                // Its dimensions are the part: nothing is read.
                let part = made(&step, &[])?;
                (String::new(), Vec::new(), begin(step, &part, title), part)
            }
        };
        let facts = serde_json::to_string(&part.facts).map_err(Problem::internal)?;
        app.studio.store.create_project(&id, &recipe.to_json(), &file_name, &bytes, &facts)?;
        app.studio.keep_part(&id, &recipe, part)?;
        Ok((StatusCode::CREATED, tagged(project(app, &id, waiting)?)).into_response())
    })
    .await
}

#[utoipa::path(get, path = "/api/projects/{id}", responses((status = 200, body = Project), (status = 404, body = Problem)))]
pub(super) async fn show(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    watched(app, move |app, waiting| project(app, &id, waiting).map(tagged)).await
}

#[utoipa::path(delete, path = "/api/projects/{id}", responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn remove(State(app): State<App>, Path(id): Path<String>) -> Answer<StatusCode> {
    blocking(move || {
        app.studio.cancel_project(&id);
        app.studio.store.delete_project(&id)?;
        Ok(StatusCode::NO_CONTENT)
    })
    .await
}

/// The revision that the sender knows.
fn if_match(headers: &HeaderMap) -> Answer<i64> {
    let value = headers.get(header::IF_MATCH).and_then(|v| v.to_str().ok()).unwrap_or_default();
    value.trim_matches('"').parse().map_err(|_| {
        let hint = "Send the revision that the change is based on.";
        Problem::new(
            StatusCode::PRECONDITION_REQUIRED,
            "no_revision",
            "The change does not say what it is based on.",
            hint,
        )
    })
}

/// Makes a change to the history and tells the other tabs.
async fn change(
    app: App,
    id: String,
    make: impl FnOnce(&App, &str, &Waiting) -> Answer<()> + Send + 'static,
) -> Answer<Response> {
    watched(app, move |app, waiting| {
        make(app, &id, waiting)?;
        // The change is made: whoever has left sees it later.
        let p = project(app, &id, &Waiting::patient())?;
        // Nobody listening is fine.
        let _ = app.studio.events.send(Event::Recipe { project: id, revision: p.revision });
        Ok(tagged(p))
    })
    .await
}

#[utoipa::path(put, path = "/api/projects/{id}/recipe", request_body = Recipe,
    params(("if-match" = String, Header, description = "Revision the change is based on")),
    responses((status = 200, body = Project), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_recipe(
    State(app): State<App>,
    Path(id): Path<String>,
    headers: HeaderMap,
    JsonBody(recipe): JsonBody<Recipe>,
) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id, waiting| {
        let row = app.studio.store.project(id)?;
        let old = row.read_recipe()?;
        let made = |r: &Recipe| r.part.shape.is_some();
        let read = |r: &Recipe| (r.part.unit, r.part.file.clone());
        if made(&recipe) != made(&old) || (!made(&old) && read(&recipe) != read(&old)) {
            let hint = "Bring the file in again to choose another unit.";
            return Err(Problem::new(
                StatusCode::UNPROCESSABLE_ENTITY,
                "bad_value",
                "The unit of a project's part stays.",
                hint,
            ));
        }
        recipe.validate(&app.studio.part(&row, &recipe, waiting)?.mesh.bounds())?;
        // What changes nothing is no step of the history.
        if recipe == old && from == row.head {
            return Ok(());
        }
        Ok(app.studio.store.revise(id, from, &recipe.to_json())?)
    })
    .await
}

/// What a file that was brought in becomes in a project.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct NewFile {
    pub upload: String,
    pub unit: Unit,
    pub becomes: FileUse,
}

#[derive(Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum FileUse {
    /// More bodies beside the part's own.
    Bodies,
    /// The part, in place of the one there is; the recipe stays.
    Part,
}

#[utoipa::path(post, path = "/api/projects/{id}/files", request_body = NewFile,
    params(("if-match" = String, Header, description = "Revision the change is based on")),
    responses((status = 200, body = Project), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_file(
    State(app): State<App>,
    Path(id): Path<String>,
    headers: HeaderMap,
    JsonBody(new): JsonBody<NewFile>,
) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id, waiting| {
        let held = app.uploads.held(&new.upload)?;
        let bytes = held.read()?;
        let name = held.name;
        let row = app.studio.store.project(id)?;
        let mut recipe = row.read_recipe()?;
        let file = FileMark { name, sha256: app.studio.store.put_file(id, &bytes)? };
        match new.becomes {
            FileUse::Bodies => recipe.part.beside.push(Beside { file, unit: new.unit }),
            FileUse::Part => {
                // A sheet needs a thickness, if there is none yet.
                let shell = match recipe.part.shell {
                    None => Part::first_shell(
                        &bytes,
                        new.unit,
                        &app.studio.limits(&|| waiting.stopped()),
                    )?,
                    shell => shell,
                };
                recipe.part = PartStep {
                    unit: new.unit,
                    file: Some(file),
                    shape: None,
                    shell,
                    ..recipe.part
                };
            }
        }
        recipe.validate(&app.studio.part(&row, &recipe, waiting)?.mesh.bounds())?;
        Ok(app.studio.store.revise(id, from, &recipe.to_json())?)
    })
    .await
}

/// What was found in a part.
#[derive(Serialize, ToSchema)]
pub(super) struct Health {
    /// All of it together.
    whole: Vec<Check>,
    /// Each body by itself, where there are several.
    bodies: Vec<BodyHealth>,
}

#[utoipa::path(get, path = "/api/projects/{id}/health", responses((status = 200, body = Health), (status = 404, body = Problem)))]
pub(super) async fn health(
    State(app): State<App>,
    tab: Tab,
    Path(id): Path<String>,
) -> Answer<Json<Health>> {
    computed(app, (Lane::Health, id, tab), move |app, id, waiting| {
        let row = app.studio.store.project(id)?;
        let recipe = row.read_recipe()?;
        let (part, least) = (app.studio.part(&row, &recipe, waiting)?, recipe.material.least_mm());
        let stopped = || waiting.stopped();
        let whole = health::health(&part, least, &stopped).ok_or_else(Problem::cancelled)?;
        let bodies = health::of_bodies(&part, least, &stopped).ok_or_else(Problem::cancelled)?;
        Ok(Json(Health { whole, bodies }))
    })
    .await
}

#[utoipa::path(get, path = "/api/projects/{id}/ghosts",
    responses((status = 200, content_type = "application/octet-stream", description = "Bodies that are no material, as corners of triangles: three little-endian \
         32-bit numbers each, mm"), (status = 404, body = Problem)))]
pub(super) async fn ghosts(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    watched(app, move |app, waiting| {
        let row = app.studio.store.project(&id)?;
        let part = app.studio.part(&row, &row.read_recipe()?, waiting)?;
        let ghosts = part.bodies.iter().filter(|b| !b.solid());
        let corners =
            ghosts.flat_map(|b| (0..b.mesh.triangles.len()).flat_map(|t| b.mesh.corners(t)));
        let bytes: Vec<u8> =
            corners.flat_map(|p| p.as_vec3().to_array()).flat_map(f32::to_le_bytes).collect();
        Ok(([(header::CONTENT_TYPE, "application/octet-stream")], bytes).into_response())
    })
    .await
}

#[utoipa::path(post, path = "/api/projects/{id}/undo", responses((status = 200, body = Project), (status = 409, body = Problem)))]
pub(super) async fn undo(
    State(app): State<App>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id, _| Ok(app.studio.store.step(id, from, -1)?)).await
}

#[utoipa::path(post, path = "/api/projects/{id}/redo", responses((status = 200, body = Project), (status = 409, body = Problem)))]
pub(super) async fn redo(
    State(app): State<App>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id, _| Ok(app.studio.store.step(id, from, 1)?)).await
}

#[utoipa::path(get, path = "/api/projects/{id}/moved",
    responses((status = 200, content_type = "model/gltf-binary", description = "The part with how far mending moved each place as THICKNESS, mm; the \
         greatest in asset.extras"), (status = 404, body = Problem)))]
pub(super) async fn moved(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    watched(app, move |app, waiting| {
        let row = app.studio.store.project(&id)?;
        let recipe = row.read_recipe()?;
        let mut before = recipe.clone();
        before.part.mend = before.part.mend.without_moving();
        let glb = ulmix_runner::picture::draw_moved(
            &*app.studio.part(&row, &recipe, waiting)?,
            &*app.studio.part(&row, &before, waiting)?,
        );
        Ok(([(header::CONTENT_TYPE, "model/gltf-binary")], glb).into_response())
    })
    .await
}

#[utoipa::path(put, path = "/api/projects/{id}/card", request_body(content_type = "image/png"), responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn set_card(
    State(app): State<App>,
    Path(id): Path<String>,
    Raw(png): Raw,
) -> Answer<StatusCode> {
    if !png.starts_with(b"\x89PNG") || png.len() > 1 << 20 {
        let hint = "Send a PNG of at most 1 MB.";
        return Err(Problem::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "bad_picture",
            "That is not a small PNG picture.",
            hint,
        ));
    }
    blocking(move || {
        app.studio.store.set_card(&id, &png)?;
        Ok(StatusCode::NO_CONTENT)
    })
    .await
}

#[utoipa::path(get, path = "/api/projects/{id}/card", responses((status = 200, content_type = "image/png"), (status = 404, body = Problem)))]
pub(super) async fn card(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    let png = blocking(move || Ok(app.studio.store.card(&id)?))
        .await?
        .ok_or_else(|| Problem::not_found("The picture"))?;
    Ok(([(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "no-cache")], png)
        .into_response())
}
