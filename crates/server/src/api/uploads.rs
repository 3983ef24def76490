//! Files brought in that are not yet a project. An upload waits on disk: what a person never comes
//! back for costs no memory, and goes after a while.

use super::extract::Query;
use super::work::watched_for;
use super::App;
use crate::problem::{Answer, Problem};
use crate::store::beside;
use crate::studio::{guarded, RESTING_BYTES};
use axum::body::Body;
use axum::extract::State;
use axum::http::{header, HeaderMap, StatusCode};
use axum::Json;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;
use tokio_stream::StreamExt;
use ulmix_part::inspect::{inspect, Inspection};
use ulmix_part::Part;
use ulmix_recipe::{FoundStruts, OwnStruts, PartStep};
use ulmix_runner::locked::lock;
use utoipa::{IntoParams, ToSchema};

/// Files that wait at most, and their bytes together.
const KEPT: usize = 16;
const BYTES: u64 = 4 << 30;
/// A file that nobody asks for so long goes.
const EXPIRES: Duration = Duration::from_secs(30 * 60);
/// Files that come in, and those that are read, at the same time.
const AT_ONCE: usize = 8;
const READ_AT_ONCE: usize = 2;
/// Time for reading a file, and bytes for which there is a second more.
const TIME: Duration = Duration::from_secs(8);
const BYTES_A_SECOND: u64 = 10 << 20;
/// What is read on of a file that is too large, so that the answer reaches the sender.
const READ_ON: u64 = 64 << 20;

/// Files on their way in, on disk.
pub struct Uploads {
    folder: PathBuf,
    all: Mutex<VecDeque<KeptUpload>>,
    coming: Semaphore,
    reading: Semaphore,
}

/// A file that waits.
#[derive(Clone)]
pub struct KeptUpload {
    id: String,
    /// Name of the file.
    pub name: String,
    file: Arc<OnDisk>,
    since: Instant,
    /// The part that it is in the unit of the step, of the file that came last.
    pub begun: Option<(PartStep, Arc<Part>)>,
    /// The beams of the file, and whether they came beside a solid.
    pub struts: Option<(FoundStruts, bool)>,
}

/// A file on disk that goes with its last user.
struct OnDisk {
    path: PathBuf,
    bytes: u64,
}

impl Drop for OnDisk {
    fn drop(&mut self) {
        if let Err(e) = std::fs::remove_file(&self.path) {
            tracing::warn!("{} stays: {e}", self.path.display());
        }
    }
}

impl OnDisk {
    fn read(&self) -> Answer<Vec<u8>> {
        std::fs::read(&self.path).map_err(Problem::internal)
    }
}

impl KeptUpload {
    /// The bytes of the file.
    ///
    /// # Errors
    /// The file has expired, or the disk does not give it.
    pub fn read(&self) -> Answer<Vec<u8>> {
        self.file.read()
    }

    /// Time for making something of it.
    pub fn time(&self) -> Duration {
        time_for(self.file.bytes)
    }
}

fn time_for(bytes: u64) -> Duration {
    TIME + Duration::from_secs(bytes / BYTES_A_SECOND)
}

impl Uploads {
    /// Keeps files in a folder beside the file of projects, `data`. Files that an earlier server
    /// left there go.
    pub fn beside(data: &Path) -> std::io::Result<Uploads> {
        let folder = beside(data, "uploads");
        if folder.exists() {
            std::fs::remove_dir_all(&folder)?;
        }
        let mut make = std::fs::DirBuilder::new();
        #[cfg(unix)]
        std::os::unix::fs::DirBuilderExt::mode(&mut make, 0o700);
        make.create(&folder)?;
        Ok(Uploads {
            folder,
            all: Mutex::default(),
            coming: Semaphore::new(AT_ONCE),
            reading: Semaphore::new(READ_AT_ONCE),
        })
    }

    fn put(&self, held: KeptUpload) {
        let mut all = lock(&self.all);
        // Parts are large.
        all.iter_mut().for_each(|older| older.begun = None);
        all.push_front(held);
        let mut bytes = 0;
        let kept = all.iter().take(KEPT).take_while(|h| {
            bytes += h.file.bytes;
            bytes <= BYTES
        });
        let kept = kept.count().max(1);
        all.truncate(kept);
    }

    /// A file that was brought in.
    pub fn held(&self, id: &str) -> Answer<KeptUpload> {
        let mut all = lock(&self.all);
        let found = all.iter_mut().find(|u| u.id == id).ok_or_else(|| {
            Problem::new(
                StatusCode::NOT_FOUND,
                "upload_gone",
                "The file is no longer held.",
                "Bring it in again.",
            )
        })?;
        found.since = Instant::now();
        Ok(found.clone())
    }

    /// Lets go of a large part that was made of a file: it is made again when the file is used.
    pub fn rest(&self) {
        let large = |begun: &(PartStep, Arc<Part>)| begun.1.bytes() > RESTING_BYTES;
        let mut all = lock(&self.all);
        all.iter_mut()
            .filter(|held| held.begun.as_ref().is_some_and(large))
            .for_each(|held| held.begun = None);
    }

    /// Lets go of files that nobody has asked for in a while.
    pub fn expire(&self) {
        lock(&self.all).retain(|held| held.since.elapsed() < EXPIRES);
    }
}

impl Drop for Uploads {
    fn drop(&mut self) {
        lock(&self.all).clear();
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// Name of a file that is sent.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct UploadName {
    /// The file's name.
    pub name: String,
}

/// A file that waits for its unit.
#[derive(Serialize, ToSchema)]
pub struct Upload {
    /// Number under which it waits.
    pub upload: String,
    /// Name of the file.
    pub file_name: String,
    /// What the file holds.
    pub contents: Inspection,
}

fn too_large(bytes: u64) -> Problem {
    let most = ulmix_formats::LARGEST_FILE >> 20;
    Problem::new(
        StatusCode::PAYLOAD_TOO_LARGE,
        "too_large",
        format!("The file has {} MB; files up to {most} MB can be brought in.", bytes >> 20),
        "Reduce the part before bringing it in.",
    )
}

#[utoipa::path(post, path = "/api/uploads", params(UploadName), request_body(content_type = "application/octet-stream", description = "STL, 3MF, OBJ, PLY or GLB"),
    responses((status = 200, body = Upload), (status = 413, body = Problem), (status = 422, body = Problem)))]
/// Takes a file in and tells what it holds.
pub async fn upload(
    State(app): State<App>,
    Query(q): Query<UploadName>,
    headers: HeaderMap,
    body: Body,
) -> Answer<Json<Upload>> {
    let told = headers
        .get(header::CONTENT_LENGTH)
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.parse::<u64>().ok());
    if let Some(bytes) = told.filter(|bytes| *bytes > ulmix_formats::LARGEST_FILE) {
        return Err(too_large(bytes));
    }
    let _coming = app.uploads.coming.try_acquire().map_err(|_| {
        Problem::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "busy",
            "Many files are being brought in at this moment.",
            "Bring it in again in a while.",
        )
    })?;
    let id = app.studio.new_id();
    let file = received(&app.uploads.folder.join(&id), body).await?;
    let file_name: String = q.name.chars().filter(|c| !c.is_control()).take(200).collect();
    let _reading = app.uploads.reading.acquire().await.map_err(Problem::internal)?;
    let of = file.clone();
    let found = watched_for(app.clone(), time_for(file.bytes), move |app, waiting| {
        let stopped = || waiting.stopped();
        guarded(|| inspect(&of.read()?, &app.studio.limits(&stopped)).map_err(Problem::from))?
    })
    .await?;
    let begun = Some((found.step, Arc::new(found.part)));
    let struts = OwnStruts::of(&file_name, &found.beams)?.map(|struts| (struts, found.beams_fill));
    app.uploads.put(KeptUpload {
        id: id.clone(),
        name: file_name.clone(),
        file,
        since: Instant::now(),
        begun,
        struts,
    });
    Ok(Json(Upload { upload: id, file_name, contents: found.told }))
}

/// Writes what arrives to a file.
async fn received(path: &Path, body: Body) -> Answer<Arc<OnDisk>> {
    let cut_short = || {
        Problem::new(
            StatusCode::BAD_REQUEST,
            "cut_short",
            "The file did not arrive whole.",
            "Check the connection and bring it in again.",
        )
    };
    let no_room = |e: std::io::Error| {
        tracing::error!("{}: {e}", path.display());
        Problem::new(
            StatusCode::INSUFFICIENT_STORAGE,
            "cannot_save",
            "The file could not be kept: the disk is full or cannot be written to.",
            "Make room and bring it in again.",
        )
    };
    let mut out = File::create_new(path).map_err(no_room)?;
    // From here on it goes with its last user.
    let mut file = OnDisk { path: path.to_owned(), bytes: 0 };
    let mut stream = body.into_data_stream();
    while let Some(chunk) = stream.next().await {
        let chunk = chunk.map_err(|_| cut_short())?;
        file.bytes += chunk.len() as u64;
        if file.bytes <= ulmix_formats::LARGEST_FILE {
            tokio::task::block_in_place(|| out.write_all(&chunk)).map_err(no_room)?;
        } else if file.bytes > ulmix_formats::LARGEST_FILE + READ_ON {
            break;
        }
    }
    if file.bytes > ulmix_formats::LARGEST_FILE {
        return Err(too_large(file.bytes));
    }
    Ok(Arc::new(file))
}
