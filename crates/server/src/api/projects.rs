//! Uploads, projects, and their recipes with undo and redo.

use super::extract::{Body, Path, Query};
use super::{blocking, App};
use crate::picture::RunInfo;
use crate::problem::{Answer, Problem};
use crate::store::ProjectRow;
use crate::studio::{Event, Job};
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{header, HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::Json;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use tokio_stream::StreamExt;
use ulmix_core::check::{Check, Summary};
use ulmix_core::demo::Reedling;
use ulmix_core::health::{self, BodyHealth};
use ulmix_core::inspect::{inspect, Inspection};
use ulmix_core::own_shapes;
use ulmix_core::own_shapes::{directions, Directions};
use ulmix_core::part::{stem, Part, PartFacts};
use ulmix_core::pipeline::Pipeline;
use ulmix_core::recipe::{Beside, Drain, FileMark, FoundStruts, OwnShape, OwnStruts, PartStep, Ranges, Recipe, Shell, Unit};
use ulmix_core::sheet::shell_for;
use ulmix_core::stand::{standing, Standing};
use utoipa::{IntoParams, ToSchema};

/// Files brought in that are not yet a project: the last few, in memory.
#[derive(Default)]
pub struct Uploads(Mutex<VecDeque<Held>>);

#[derive(Clone)]
struct Held {
    id: String,
    name: String,
    bytes: Arc<Vec<u8>>,
    /// The part that it is in the unit of the step, of the file that came last.
    begun: Option<(PartStep, Arc<Part>)>,
    /// Its beams, and whether they came beside a solid.
    struts: Option<(FoundStruts, bool)>,
}

impl Uploads {
    const KEPT: usize = 16;

    fn put(&self, held: Held) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        // Parts are large.
        all.iter_mut().for_each(|older| older.begun = None);
        all.push_front(held);
        all.truncate(Self::KEPT);
    }

    fn held(&self, id: &str) -> Answer<Held> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().find(|u| u.id == id).cloned().ok_or_else(|| {
            Problem::new(StatusCode::NOT_FOUND, "upload_gone", "The file is no longer held.", "Bring it in again.")
        })
    }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct UploadName {
    /// The file's name.
    pub name: String,
}

/// A file that waits for its unit.
#[derive(Serialize, ToSchema)]
pub struct Upload {
    pub upload: String,
    pub file_name: String,
    pub contents: Inspection,
}

#[utoipa::path(post, path = "/api/uploads", params(UploadName), request_body(content_type = "application/octet-stream", description = "STL, 3MF, OBJ, PLY or GLB"),
    responses((status = 200, body = Upload), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub async fn upload(State(app): State<App>, Query(q): Query<UploadName>, body: axum::body::Body) -> Answer<Json<Upload>> {
    let most = ulmix_formats::LARGEST_FILE as usize;
    let mut bytes: Vec<u8> = Vec::new();
    let mut total = 0usize;
    let mut stream = body.into_data_stream();
    while let Some(chunk) = stream.next().await {
        let chunk = chunk.map_err(|_| {
            Problem::new(
                StatusCode::BAD_REQUEST,
                "cut_short",
                "The file did not arrive whole.",
                "Check the connection and bring it in again.",
            )
        })?;
        total += chunk.len();
        if total <= most {
            bytes.extend_from_slice(&chunk);
        } else if total > 8 * most {
            break;
        } else {
            // Read on without keeping, so that the answer reaches the sender.
            bytes = Vec::new();
        }
    }
    if total > most {
        return Err(Problem::new(
            StatusCode::PAYLOAD_TOO_LARGE,
            "too_large",
            format!("The file has {} MB; files up to {} MB can be brought in.", total >> 20, most >> 20),
            "Reduce the part before bringing it in.",
        ));
    }
    let file_name: String = q.name.chars().filter(|c| !c.is_control()).take(200).collect();
    let (found, bytes) = blocking(move || Ok((inspect(&bytes)?, bytes))).await?;
    let id = app.studio.new_id();
    let begun = Some((found.step, Arc::new(found.part)));
    let struts = OwnStruts::of(&file_name, &found.beams)?.map(|struts| (struts, found.beams_fill));
    app.uploads.put(Held { id: id.clone(), name: file_name.clone(), bytes: Arc::new(bytes), begun, struts });
    Ok(Json(Upload { upload: id, file_name, contents: found.told }))
}

/// Where a new project's part comes from.
#[derive(Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "from", deny_unknown_fields)]
pub enum NewProject {
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
pub struct Project {
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
pub struct ProjectCard {
    pub id: String,
    pub name: String,
    pub updated_ms: i64,
    pub size_mm: [f64; 3],
    pub part_volume_mm3: f64,
    pub structure: String,
    /// Of the final mesh, when it was made. Percent.
    pub saved_percent: Option<f64>,
    pub mass_g: Option<f64>,
    /// What its checks come to.
    pub summary: Option<Summary>,
}

pub fn read_recipe(row: &ProjectRow) -> Answer<Recipe> {
    Ok(Recipe::from_json(&row.recipe)?)
}

/// Facts as kept; older programs kept other ones.
fn read_facts(row: &ProjectRow) -> Option<PartFacts> {
    serde_json::from_str(&row.part_facts).ok()
}

fn finished(app: &App, row: &ProjectRow, recipe: &Recipe) -> Answer<Option<RunInfo>> {
    let part = app.studio.part(row, recipe)?;
    let found = app.studio.store.finished(&row.id, &Pipeline::recipe_key(&part, recipe))?;
    found.map(|f| serde_json::from_str(&f.info).map_err(Problem::internal)).transpose()
}

fn project(app: &App, id: &str) -> Answer<Project> {
    let row = app.studio.store.project(id)?;
    let recipe = read_recipe(&row)?;
    let part = app.studio.part(&row, &recipe)?;
    let key = Pipeline::recipe_key(&part, &recipe);
    Ok(Project {
        finished: finished(app, &row, &recipe)?,
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
pub async fn list(State(app): State<App>) -> Answer<Json<Vec<ProjectCard>>> {
    blocking(move || {
        let mut out = Vec::new();
        for row in app.studio.store.projects()? {
            let recipe = read_recipe(&row)?;
            // Those kept are of the file that the project began with.
            let kept = read_facts(&row).filter(|_| recipe.part == PartStep::plain(recipe.part.unit));
            let facts = match kept {
                Some(facts) => facts,
                None => app.studio.part(&row, &recipe)?.facts.clone(),
            };
            let done = finished(&app, &row, &recipe)?;
            out.push(ProjectCard {
                name: recipe.name.clone(),
                updated_ms: row.updated_ms,
                size_mm: facts.size_mm,
                part_volume_mm3: facts.volume_mm3,
                structure: ulmix_core::export::describe(&recipe),
                saved_percent: done.as_ref().map(|d| d.report.saved_percent),
                mass_g: done.as_ref().map(|d| d.report.mass_g),
                summary: done.as_ref().and_then(|d| d.report.checks.as_deref()).map(Summary::of),
                id: row.id,
            });
        }
        Ok(Json(out))
    })
    .await
}

#[utoipa::path(post, path = "/api/projects", request_body = NewProject, responses((status = 201, body = Project), (status = 422, body = Problem)))]
pub async fn create(State(app): State<App>, Body(new): Body<NewProject>) -> Answer<Response> {
    blocking(move || {
        let id = app.studio.new_id();
        let made = |step: &PartStep, bytes: &[u8]| Part::of::<Problem>(step, |_| Ok(bytes.to_vec())).map(Arc::new);
        let begin = |step: PartStep, part: &Part, name: &str| {
            let first = Recipe::for_part(&part.mesh.bounds());
            Recipe { name: name.into(), part: step, ..first }
        };
        let (file_name, bytes, recipe, part) = match new {
            NewProject::Upload { upload, unit } => {
                let Held { name, bytes, begun, struts, .. } = app.uploads.held(&upload)?;
                let (step, part) = match begun.filter(|(step, _)| step.unit == unit) {
                    Some(begun) => begun,
                    None => {
                        let step = PartStep { shell: Part::first_shell(&bytes, unit)?, ..PartStep::plain(unit) };
                        let part = made(&step, &bytes)?;
                        (step, part)
                    }
                };
                let mut recipe = begin(step, &part, stem(&name));
                match struts {
                    // Beams beside a solid fill it; others are kept to choose.
                    Some((struts, true)) => struts.fill(&mut recipe, part.mesh.bounds().size().max_element()),
                    Some((struts, false)) => recipe.structure.own_struts = Some(struts.own),
                    None => {}
                }
                (name, bytes, recipe, part)
            }
            NewProject::Reedling { part } => {
                let (bytes, recipe) = part.file();
                let whole = made(&recipe.part, &bytes)?;
                (format!("{}.stl", part.file_name()), Arc::new(bytes), recipe, whole)
            }
            NewProject::Shape { shape } => {
                shape.validate()?;
                let shell = shell_for(&own_shapes::mesh(&shape));
                let title = shape.title();
                let step = PartStep { shape: Some(shape), shell, ..PartStep::plain(Unit::Mm) };
                // Its dimensions are the part: nothing is read.
                let part = made(&step, &[])?;
                (String::new(), Arc::default(), begin(step, &part, title), part)
            }
        };
        let facts = serde_json::to_string(&part.facts).map_err(Problem::internal)?;
        app.studio.store.create_project(&id, &recipe.to_json(), &file_name, &bytes, &facts)?;
        app.studio.keep_part(&id, &recipe, part)?;
        Ok((StatusCode::CREATED, tagged(project(&app, &id)?)).into_response())
    })
    .await
}

#[utoipa::path(get, path = "/api/projects/{id}", responses((status = 200, body = Project), (status = 404, body = Problem)))]
pub async fn show(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    blocking(move || project(&app, &id).map(tagged)).await
}

#[utoipa::path(delete, path = "/api/projects/{id}", responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove(State(app): State<App>, Path(id): Path<String>) -> Answer<StatusCode> {
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
        Problem::new(StatusCode::PRECONDITION_REQUIRED, "no_revision", "The change does not say what it is based on.", hint)
    })
}

/// Makes a change to the history and tells the other tabs.
async fn change(app: App, id: String, make: impl FnOnce(&App, &str) -> Answer<()> + Send + 'static) -> Answer<Response> {
    blocking(move || {
        make(&app, &id)?;
        let p = project(&app, &id)?;
        // Nobody listening is fine.
        let _ = app.studio.events.send(Event::Recipe { project: id, revision: p.revision });
        Ok(tagged(p))
    })
    .await
}

#[utoipa::path(put, path = "/api/projects/{id}/recipe", request_body = Recipe,
    params(("if-match" = String, Header, description = "Revision the change is based on")),
    responses((status = 200, body = Project), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub async fn set_recipe(
    State(app): State<App>,
    Path(id): Path<String>,
    headers: HeaderMap,
    Body(recipe): Body<Recipe>,
) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id| {
        let row = app.studio.store.project(id)?;
        let old = read_recipe(&row)?;
        let made = |r: &Recipe| r.part.shape.is_some();
        let read = |r: &Recipe| (r.part.unit, r.part.file.clone());
        if made(&recipe) != made(&old) || (!made(&old) && read(&recipe) != read(&old)) {
            let hint = "Bring the file in again to choose another unit.";
            return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_value", "The unit of a project's part stays.", hint));
        }
        recipe.validate(&app.studio.part(&row, &recipe)?.mesh.bounds())?;
        // What changes nothing is no step of the history.
        if recipe == old && from == row.head {
            return Ok(());
        }
        app.studio.store.revise(id, from, &recipe.to_json())
    })
    .await
}

/// What a file that was brought in becomes in a project.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFile {
    pub upload: String,
    pub unit: Unit,
    pub becomes: FileUse,
}

#[derive(Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FileUse {
    /// More bodies beside the part's own.
    Bodies,
    /// The part, in place of the one there is; the recipe stays.
    Part,
}

#[utoipa::path(post, path = "/api/projects/{id}/files", request_body = NewFile,
    params(("if-match" = String, Header, description = "Revision the change is based on")),
    responses((status = 200, body = Project), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub async fn add_file(
    State(app): State<App>,
    Path(id): Path<String>,
    headers: HeaderMap,
    Body(new): Body<NewFile>,
) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id| {
        let Held { name, bytes, .. } = app.uploads.held(&new.upload)?;
        let row = app.studio.store.project(id)?;
        let mut recipe = read_recipe(&row)?;
        let file = FileMark { name, sha256: app.studio.store.put_file(id, &bytes)? };
        match new.becomes {
            FileUse::Bodies => recipe.part.beside.push(Beside { file, unit: new.unit }),
            FileUse::Part => {
                // A sheet needs a thickness, if there is none yet.
                let shell = match recipe.part.shell {
                    None => Part::first_shell(&bytes, new.unit)?,
                    shell => shell,
                };
                recipe.part = PartStep { unit: new.unit, file: Some(file), shape: None, shell, ..recipe.part };
            }
        }
        recipe.validate(&app.studio.part(&row, &recipe)?.mesh.bounds())?;
        app.studio.store.revise(id, from, &recipe.to_json())
    })
    .await
}

/// What was found in a part.
#[derive(Serialize, ToSchema)]
pub struct Health {
    /// All of it together.
    whole: Vec<Check>,
    /// Each body by itself, where there are several.
    bodies: Vec<BodyHealth>,
}

#[utoipa::path(get, path = "/api/projects/{id}/health", responses((status = 200, body = Health), (status = 404, body = Problem)))]
pub async fn health(State(app): State<App>, Path(id): Path<String>) -> Answer<Json<Health>> {
    blocking(move || {
        let row = app.studio.store.project(&id)?;
        let recipe = read_recipe(&row)?;
        let (part, least) = (app.studio.part(&row, &recipe)?, recipe.material.least_mm());
        Ok(Json(Health { whole: health::health(&part, least), bodies: health::of_bodies(&part, least) }))
    })
    .await
}

#[utoipa::path(get, path = "/api/projects/{id}/ghosts",
    responses((status = 200, content_type = "application/octet-stream", description = "Bodies that are no material, as corners of triangles: three little-endian 32-bit numbers each, mm"), (status = 404, body = Problem)))]
pub async fn ghosts(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    blocking(move || {
        let row = app.studio.store.project(&id)?;
        let part = app.studio.part(&row, &read_recipe(&row)?)?;
        let ghosts = part.bodies.iter().filter(|b| !b.solid());
        let corners = ghosts.flat_map(|b| (0..b.mesh.triangles.len()).flat_map(|t| b.mesh.corners(t)));
        let bytes: Vec<u8> = corners.flat_map(|p| p.as_vec3().to_array()).flat_map(f32::to_le_bytes).collect();
        Ok(([(header::CONTENT_TYPE, "application/octet-stream")], bytes).into_response())
    })
    .await
}

#[utoipa::path(post, path = "/api/projects/{id}/undo", responses((status = 200, body = Project), (status = 409, body = Problem)))]
pub async fn undo(State(app): State<App>, Path(id): Path<String>, headers: HeaderMap) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id| app.studio.store.step(id, from, -1)).await
}

#[utoipa::path(post, path = "/api/projects/{id}/redo", responses((status = 200, body = Project), (status = 409, body = Problem)))]
pub async fn redo(State(app): State<App>, Path(id): Path<String>, headers: HeaderMap) -> Answer<Response> {
    let from = if_match(&headers)?;
    change(app, id, move |app, id| app.studio.store.step(id, from, 1)).await
}

#[utoipa::path(get, path = "/api/projects/{id}/moved",
    responses((status = 200, content_type = "model/gltf-binary", description = "The part with how far mending moved each place as THICKNESS, mm; the greatest in asset.extras"), (status = 404, body = Problem)))]
pub async fn moved(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    blocking(move || {
        let row = app.studio.store.project(&id)?;
        let recipe = read_recipe(&row)?;
        let mut before = recipe.clone();
        before.part.mend = before.part.mend.without_moving();
        let glb = crate::picture::draw_moved(&*app.studio.part(&row, &recipe)?, &*app.studio.part(&row, &before)?);
        Ok(([(header::CONTENT_TYPE, "model/gltf-binary")], glb).into_response())
    })
    .await
}

#[utoipa::path(put, path = "/api/projects/{id}/card", request_body(content_type = "image/png"), responses((status = 204), (status = 422, body = Problem)))]
pub async fn set_card(State(app): State<App>, Path(id): Path<String>, png: Bytes) -> Answer<StatusCode> {
    if !png.starts_with(b"\x89PNG") || png.len() > 1 << 20 {
        let hint = "Send a PNG of at most 1 MB.";
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad_picture", "That is not a small PNG picture.", hint));
    }
    blocking(move || app.studio.store.set_card(&id, &png).map(|()| StatusCode::NO_CONTENT)).await
}

#[utoipa::path(get, path = "/api/projects/{id}/card", responses((status = 200, content_type = "image/png"), (status = 404, body = Problem)))]
pub async fn card(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    let png = blocking(move || app.studio.store.card(&id)).await?.ok_or_else(|| Problem::not_found("The picture"))?;
    Ok(([(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "no-cache")], png).into_response())
}
