//! Files to take away: meshes, the recipe, the part as it came.

use super::extract::{JsonBody, Path};
use super::shared::shared_bytes;
use super::work::watched;
use super::App;
use crate::problem::{Answer, Problem};
use crate::store::{ProjectRow, StoreError};
use axum::extract::State;
use axum::http::{header, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::Json;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use ulmix_check::{Check, Summary};
use ulmix_core::export::{export as write, Contents, FileKind};
use ulmix_core::pipeline::Pipeline;
use ulmix_formats::stl;
use ulmix_runner::locked::lock;
use ulmix_runner::packed::unpack;
use ulmix_runner::picture::RunInfo;
use utoipa::ToSchema;

/// Files ready to be fetched: the last few, in memory, for a while.
#[derive(Default)]
pub struct Exports(Mutex<VecDeque<ToFetch>>);

/// A file to fetch.
struct ToFetch {
    id: String,
    file: Arc<Vec<u8>>,
    since: Instant,
}

impl Exports {
    const KEPT: usize = 4;
    const EXPIRES: Duration = Duration::from_secs(15 * 60);

    /// Keeps the newest through a pause.
    pub fn rest(&self) {
        lock(&self.0).truncate(1);
    }

    /// Lets go of files that nobody has fetched in a while.
    pub fn expire(&self) {
        lock(&self.0).retain(|e| e.since.elapsed() < Exports::EXPIRES);
    }
}

/// A file that is wanted of the final mesh.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExportRequest {
    /// Format of the file.
    pub kind: FileKind,
    /// With or without its ending.
    pub file_name: String,
    /// Only this body, by its name in the report or the part: lattice or solids apart, or one left
    /// as it is.
    #[serde(default)]
    pub body: Option<String>,
}

/// A file that was written, read again and checked.
#[derive(Serialize, ToSchema)]
pub struct ExportReady {
    /// Address of the file.
    pub url: String,
    /// Name of the file.
    pub file_name: String,
    /// Size of the file.
    pub bytes: usize,
    /// Triangles that the file holds.
    pub triangles: usize,
    /// Volume that they enclose.
    pub volume_mm3: f64,
    /// Of the file as read again, and of its mesh against the request.
    pub checks: Vec<Check>,
    /// What they come to.
    pub summary: Summary,
}

/// A name that is safe on every system, with the right ending.
fn clean_name(wanted: &str, kind: FileKind) -> Answer<String> {
    let ending = format!(".{}", kind.extension());
    let trimmed = wanted.trim();
    let stem = if trimmed.to_ascii_lowercase().ends_with(&ending) {
        &trimmed[..trimmed.len() - ending.len()]
    } else {
        trimmed
    };
    if stem.is_empty() || stem.chars().count() > 120 || stem != safe(stem) {
        return Err(Problem {
            field: Some("file_name".into()),
            ..Problem::new(
                StatusCode::UNPROCESSABLE_ENTITY,
                "bad_name",
                "That cannot be a file's name.",
                "Use up to 120 characters, none of / \\ : * ? \" < > |, no dot at \
                     either end, and no name of a device such as CON.",
            )
        });
    }
    Ok(format!("{stem}{ending}"))
}

/// A name that is one file's on every system: nothing that parts folders, hides, turns the
/// direction of reading, ends in a dot or space, or means a device (CON, COM1 and the like,
/// whatever follows the first dot).
fn safe(name: &str) -> String {
    // Marks of direction and joiners, which nobody sees.
    let unseen = |c: char| matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}');
    let kept = |c: &char| !c.is_control() && !unseen(*c) && !"/\\:*?\"<>|".contains(*c);
    let name: String = name.chars().filter(kept).collect();
    let name = name.trim_start_matches(['.', ' ']).trim_end_matches(['.', ' ']);
    let first = name.split('.').next().unwrap_or_default().trim_end().to_ascii_uppercase();
    let is_digit = |n: &str| {
        n.chars().count() == 1 && n.chars().all(|c| c.is_ascii_digit() || "¹²³".contains(c))
    };
    let numbered = |of: &str| first.strip_prefix(of).is_some_and(is_digit);
    if name.is_empty()
        || matches!(first.as_str(), "CON" | "PRN" | "AUX" | "NUL")
        || numbered("COM")
        || numbered("LPT")
    {
        return format!("_{name}");
    }
    name.to_owned()
}

#[utoipa::path(post, path = "/api/projects/{id}/export", request_body = ExportRequest,
    responses((status = 200, body = ExportReady), (status = 409, body = Problem), (status = 422, body = Problem)))]
/// Writes a file of the final mesh and checks it.
pub async fn export(
    State(app): State<App>,
    Path(id): Path<String>,
    JsonBody(r): JsonBody<ExportRequest>,
) -> Answer<Json<ExportReady>> {
    watched(app, move |app, waiting| {
        let file_name = clean_name(&r.file_name, r.kind)?;
        let row = app.studio.store.project(&id)?;
        let recipe = row.read_recipe()?;
        let part = app.studio.part(&row, &recipe, waiting)?;
        let done =
            app.studio.store.finished(&id, &Pipeline::recipe_key(&part, &recipe))?.ok_or_else(
                || {
                    let hint = "Make the final mesh first.";
                    Problem::new(
                        StatusCode::CONFLICT,
                        "no_final",
                        "There is no final mesh of this recipe yet.",
                        hint,
                    )
                },
            )?;
        let mesh = unpack(&app.studio.store.blob(&done.mesh, "The final mesh")?)
            .ok_or_else(|| Problem::from(StoreError::Damaged("The final mesh".into())))?;
        if mesh.triangles.is_empty() {
            let hint = "Change the recipe so that something is left.";
            return Err(Problem::new(
                StatusCode::CONFLICT,
                "empty",
                "The final mesh is empty: there is nothing to export.",
                hint,
            ));
        }
        let info: RunInfo = serde_json::from_str(&done.info).map_err(Problem::internal)?;
        let apart = &info.report.apart;
        let (bodies, alongside) = (info.report.bodies, &part.alongside());
        let contents = Contents {
            mesh: &mesh,
            placing: info.placing,
            apart,
            only: r.body.as_deref(),
            bodies,
            alongside,
        };
        let file = write(&contents, &recipe, r.kind)?;
        let checks = file.all_checks(info.report.checks.as_deref());
        let token = app.studio.new_id();
        let ready = ExportReady {
            url: format!("/api/exports/{token}/{}", percent(&file_name)),
            bytes: file.bytes.len(),
            triangles: file.triangles,
            volume_mm3: file.volume_mm3,
            summary: Summary::of(&checks),
            checks,
            file_name,
        };
        let mut all = lock(&app.exports.0);
        all.push_front(ToFetch { id: token, file: Arc::new(file.bytes), since: Instant::now() });
        all.truncate(Exports::KEPT);
        Ok(Json(ready))
    })
    .await
}

/// The bytes of a file that was written.
#[utoipa::path(get, path = "/api/exports/{id}/{file}", responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = Problem)))]
pub async fn download(
    State(app): State<App>,
    Path((id, file)): Path<(String, String)>,
) -> Answer<Response> {
    let found = {
        let all = lock(&app.exports.0);
        all.iter().find(|e| e.id == id).map(|e| e.file.clone())
    };
    let bytes = found.ok_or_else(|| Problem::not_found("The exported file"))?;
    let kind = if file.ends_with(".3mf") { "model/3mf" } else { "model/stl" };
    Ok(attachment(kind, &file, shared_bytes(bytes)))
}

/// The recipe as a file.
#[utoipa::path(get, path = "/api/projects/{id}/recipe.json", responses((status = 200, body = ulmix_recipe::Recipe), (status = 404, body = Problem)))]
pub async fn recipe(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    watched(app, move |app, _| {
        let row = app.studio.store.project(&id)?;
        // A recipe that cannot be read leaves as it is.
        let (name, text) = match row.read_recipe() {
            Ok(recipe) => (recipe.name.clone(), recipe.to_json()),
            Err(_) => (id, row.recipe),
        };
        Ok(attachment(
            "application/json",
            &format!("{}.recipe.json", safe(&name)),
            text.into_bytes(),
        ))
    })
    .await
}

/// The file that the part came from.
#[utoipa::path(get, path = "/api/projects/{id}/part", responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = Problem)))]
pub async fn part(State(app): State<App>, Path(id): Path<String>) -> Answer<Response> {
    watched(app, move |app, waiting| {
        let store = &app.studio.store;
        let row = store.project(&id)?;
        let first = |row: ProjectRow| {
            Ok::<_, Problem>((row.part_file, store.blob(&row.part_blob, "The part")?))
        };
        let (name, bytes) = match row.read_recipe() {
            // Of a recipe that cannot be read the file is left that the project began with.
            Err(_) => first(row)?,
            Ok(recipe) => match (&recipe.part.shape, &recipe.part.file) {
                (Some(_), _) => (
                    format!("{}.stl", recipe.name),
                    stl::write(&app.studio.part(&row, &recipe, waiting)?.mesh),
                ),
                (None, Some(f)) => (f.name.clone(), store.file(&id, &f.sha256)?),
                (None, None) => first(row)?,
            },
        };
        Ok(attachment("application/octet-stream", &safe(&name), bytes))
    })
    .await
}

fn attachment(kind: &str, name: &str, bytes: impl Into<axum::body::Body>) -> Response {
    let disposition = format!("attachment; filename*=UTF-8''{}", percent(name));
    (
        [(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, disposition)],
        bytes.into(),
    )
        .into_response()
}

/// Percent-encoding of all but the unreserved characters (RFC 3986).
fn percent(s: &str) -> String {
    let keep = |b: u8| b.is_ascii_alphanumeric() || b"-._~".contains(&b);
    s.bytes().map(|b| if keep(b) { (b as char).to_string() } else { format!("%{b:02X}") }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_cleaned_or_refused() {
        assert_eq!(clean_name(" keel 3.stl ", FileKind::Stl).unwrap(), "keel 3.stl");
        assert_eq!(clean_name("keel.stl", FileKind::ThreeMf).unwrap(), "keel.stl.3mf");
        assert_eq!(clean_name("Bügel", FileKind::ThreeMf).unwrap(), "Bügel.3mf");
        for bad in [
            "",
            "  ",
            "../x",
            "a/b",
            ".stl",
            "a\nb",
            "con:1",
            "CON",
            "nul.stl",
            "com1.keel",
            "Lpt9",
            "a.",
            "a .stl",
            "keel\u{202e}lts",
            &"x".repeat(300),
        ] {
            assert_eq!(clean_name(bad, FileKind::Stl).unwrap_err().code, "bad_name", "{bad:?}");
        }
        for (name, is) in [
            ("Bügel 3", "Bügel 3"),
            ("../a", "a"),
            ("CON", "_CON"),
            ("", "_"),
            ("x\u{202e}y. ", "xy"),
            ("console", "console"),
        ] {
            assert_eq!(safe(name), is);
        }
        assert_eq!(percent("a b/ü"), "a%20b%2F%C3%BC");
    }
}
