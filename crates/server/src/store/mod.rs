//! One SQLite file: projects, recipe revisions, pictures and final meshes.
//!
//! Every method that changes something is one transaction; what it has returned from is on disk and
//! survives a kill. One connection writes, a few others read beside it.
//!
//! | module | idea |
//! |---|---|
//! | `schema` | the form of the file, and how older ones are brought up and copied |
//! | [`lock`] | one server for one file |
//! | `blobs` | large values |

mod blobs;
mod error;
mod lock;
mod schema;

pub use error::{StoreError, Stored};
use lock::Lock;
use rusqlite::{params, Connection, OptionalExtension, Transaction, TransactionBehavior};
pub use schema::{back_up, beside, OpenError};
use sha2::{Digest, Sha256};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};
use ulmix_core::pipeline::pace::{Pace, Paces};
use ulmix_recipe::Recipe;
use ulmix_runner::locked::lock;

/// Steps of history that a project keeps.
const HISTORY: i64 = 500;
/// Connections that read.
const READERS: usize = 4;
/// Pages of deleted values that are given back after a change, at most.
const GIVEN_BACK: usize = 4096;

/// The file of projects.
pub struct Store {
    writer: Mutex<Connection>,
    readers: Vec<Mutex<Connection>>,
    next_reader: AtomicUsize,
    on_their_way: blobs::OnTheirWay,
    shared: blobs::SharedValues,
    lock: Lock,
}

/// A project as stored.
#[derive(Clone, Debug)]
pub struct ProjectRow {
    /// Number of the project.
    pub id: String,
    /// When it was made, in ms since 1970.
    pub created_ms: i64,
    /// When it was changed last, in ms since 1970.
    pub updated_ms: i64,
    /// Current revision; undo moves it back.
    pub head: i64,
    /// The oldest revision that can be gone back to.
    pub first: i64,
    /// The newest revision.
    pub last: i64,
    /// The recipe of this revision, as JSON.
    pub recipe: String,
    /// Name of the part's file.
    pub part_file: String,
    /// Hash of the part's file.
    pub part_blob: String,
    /// Facts of the part, as JSON.
    pub part_facts: String,
}

impl ProjectRow {
    /// The recipe.
    ///
    /// # Errors
    /// A recipe that this version cannot read.
    pub fn read_recipe(&self) -> Stored<Recipe> {
        Recipe::from_json(&self.recipe).map_err(StoreError::Unreadable)
    }
}

/// A project as the start screen lists it.
pub struct ListedRow {
    /// Number of the project.
    pub id: String,
    /// When it was changed last, in ms since 1970.
    pub updated_ms: i64,
    /// What its card shows, as kept for this revision.
    pub facts: Option<String>,
    /// Why it cannot be shown, when that was found.
    pub fault: Option<String>,
    /// Where no facts are kept.
    pub recipe: Option<String>,
    /// Facts of the part, as JSON.
    pub part_facts: String,
}

/// A final mesh as stored.
pub struct FinalRow {
    /// Key of the recipe that it was made of.
    pub key: String,
    /// What the run found, as JSON.
    pub info: String,
    /// Hash of the mesh.
    pub mesh: String,
    /// Hash of the picture.
    pub picture: String,
}

/// The time in ms since 1970.
pub fn now_ms() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

/// SHA-256 in hexadecimal.
pub fn hash(bytes: &[u8]) -> String {
    hex(&Sha256::digest(bytes))
}

/// Bytes as hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

impl Store {
    /// Opens a file of projects, made where it is missing, for this process alone.
    pub fn open(path: &Path) -> Result<Store, OpenError> {
        let lock = Lock::take(path)?;
        let db = schema::open(path)?;
        let of = |e: rusqlite::Error| OpenError::of(path, &e);
        db.execute(
            "UPDATE jobs SET state = 'interrupted' WHERE state IN ('queued', 'running')",
            [],
        )
        .map_err(of)?;
        blobs::sweep(&db).map_err(of)?;
        let readers = (0..READERS)
            .map(|_| schema::reader(path).map(Mutex::new))
            .collect::<rusqlite::Result<_>>()
            .map_err(of)?;
        Ok(Store {
            writer: Mutex::new(db),
            readers,
            next_reader: AtomicUsize::new(0),
            on_their_way: Default::default(),
            shared: Default::default(),
            lock,
        })
    }

    /// Tells who tries to serve the same file where it is served.
    pub fn tell_address(&self, address: &str) {
        self.lock.tell(address);
    }

    /// Brings everything into the one file, so that a plain copy of it holds all. For the end: it
    /// waits for who reads.
    pub fn settle(&self) {
        let settled =
            self.db().query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |r| r.get::<_, i64>(0));
        if !matches!(settled, Ok(0)) {
            tracing::warn!("the write-ahead log stays beside the file: {settled:?}");
        }
    }

    fn db(&self) -> MutexGuard<'_, Connection> {
        lock(&self.writer)
    }

    /// A connection that reads, free if there is one.
    fn reader(&self) -> MutexGuard<'_, Connection> {
        if let Some(free) = self.readers.iter().find_map(|r| r.try_lock().ok()) {
            return free;
        }
        let n = self.next_reader.fetch_add(1, Ordering::Relaxed) % self.readers.len();
        self.readers[n].lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes a project.
    ///
    /// # Errors
    /// The file of projects cannot be written.
    pub fn create_project(
        &self,
        id: &str,
        recipe: &str,
        part_file: &str,
        part: &[u8],
        part_facts: &str,
    ) -> Stored<()> {
        let part = self.pack(part)?;
        let mut db = self.db();
        let t = begin(&mut db)?;
        part.finish(&t)?;
        let now = now_ms();
        t.execute(
            "INSERT INTO projects (id, created_ms, updated_ms, head, part_file, \
                 part_blob, part_facts) VALUES (?, ?, ?, 1, ?, ?, ?)",
            params![id, now, now, part_file, part.hash, part_facts],
        )?;
        t.execute("INSERT INTO revisions VALUES (?, 1, ?)", params![id, recipe])?;
        t.commit()?;
        Ok(())
    }

    /// Removes a project and all that is its own.
    ///
    /// # Errors
    /// There is none, or the file cannot be written.
    pub fn delete_project(&self, id: &str) -> Stored<()> {
        let mut db = self.db();
        let t = begin(&mut db)?;
        let values = {
            let mut q = t.prepare(
                "SELECT part_blob FROM projects WHERE id = ?1 UNION SELECT blob FROM files WHERE project = ?1
                 UNION SELECT blob FROM pictures WHERE project = ?1
                 UNION SELECT mesh FROM finals WHERE project = ?1 UNION SELECT picture FROM finals WHERE project = ?1",
            )?;
            let all =
                q.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<Vec<String>>>()?;
            all
        };
        if t.execute("DELETE FROM projects WHERE id = ?", [id])? == 0 {
            return Err(StoreError::Missing("The project"));
        }
        let dropping = self.drop_unused(&t, &values)?;
        t.commit()?;
        drop(dropping);
        // What is deleted leaves the file and the log beside it.
        give_back(&db, usize::MAX)?;
        db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(()))?;
        Ok(())
    }

    /// A project with its newest revision.
    ///
    /// # Errors
    /// There is none, or the file cannot be read.
    pub fn project(&self, id: &str) -> Stored<ProjectRow> {
        let db = self.reader();
        let sql = format!("{PROJECT} WHERE p.id = ?");
        db.query_row(&sql, [id], project_row)
            .optional()?
            .ok_or_else(|| StoreError::Missing("The project"))
    }

    /// All projects, those changed last first.
    pub fn list(&self) -> Stored<Vec<ListedRow>> {
        let db = self.reader();
        let mut q = db.prepare_cached(
            "SELECT p.id, p.updated_ms, CASE WHEN c.head = p.head THEN c.facts END, CASE WHEN c.head = p.head THEN c.fault END,
                CASE WHEN c.head = p.head AND c.facts IS NOT NULL THEN NULL ELSE r.recipe END, p.part_facts
             FROM projects p LEFT JOIN cards c ON c.project = p.id LEFT JOIN revisions r ON r.project = p.id AND r.n = p.head
             ORDER BY p.updated_ms DESC, p.id",
        )?;
        let row = |r: &rusqlite::Row| {
            Ok(ListedRow {
                id: r.get(0)?,
                updated_ms: r.get(1)?,
                facts: r.get(2)?,
                fault: r.get(3)?,
                recipe: r.get(4)?,
                part_facts: r.get(5)?,
            })
        };
        let all = q.query_map([], row)?.collect::<rusqlite::Result<Vec<_>>>()?;
        Ok(all)
    }

    /// Keeps what a project's card shows at a revision.
    pub fn set_facts(&self, id: &str, head: i64, facts: &str) -> Stored<()> {
        self.keep_card(id, head, Some(facts), None)
    }

    /// Keeps why a project cannot be shown at a revision.
    pub fn set_fault(&self, id: &str, head: i64, fault: &str) -> Stored<()> {
        self.keep_card(id, head, None, Some(fault))
    }

    fn keep_card(
        &self,
        id: &str,
        head: i64,
        facts: Option<&str>,
        fault: Option<&str>,
    ) -> Stored<()> {
        let sql = "SELECT EXISTS (SELECT 1 FROM cards WHERE project = ? AND head = ? AND \
             facts IS ? AND fault IS ?)";
        if self.reader().query_row(sql, params![id, head, facts, fault], |r| r.get(0))? {
            return Ok(());
        }
        self.db().execute(
            "INSERT INTO cards SELECT ?1, ?2, ?3, ?4 WHERE EXISTS (SELECT 1 FROM projects WHERE id = ?1)
             ON CONFLICT (project) DO UPDATE SET head = excluded.head, facts = excluded.facts, fault = excluded.fault",
            params![id, head, facts, fault],
        )?;
        Ok(())
    }

    /// Adds a revision after `from`, which must still be the current one; what had been undone
    /// goes.
    pub fn revise(&self, id: &str, from: i64, recipe: &str) -> Stored<()> {
        let mut db = self.db();
        let t = begin(&mut db)?;
        check_head(&t, id, from)?;
        t.execute("DELETE FROM revisions WHERE project = ? AND n > ?", params![id, from])?;
        t.execute("INSERT INTO revisions VALUES (?, ?, ?)", params![id, from + 1, recipe])?;
        t.execute(
            "DELETE FROM revisions WHERE project = ? AND n <= ?",
            params![id, from + 1 - HISTORY],
        )?;
        t.execute(
            "UPDATE projects SET head = ?, updated_ms = ? WHERE id = ?",
            params![from + 1, now_ms(), id],
        )?;
        t.commit()?;
        Ok(())
    }

    /// Keeps a file that the project's recipes may name by its hash, which is returned.
    pub fn put_file(&self, id: &str, bytes: &[u8]) -> Stored<String> {
        let file = self.pack(bytes)?;
        let mut db = self.db();
        let t = begin(&mut db)?;
        file.finish(&t)?;
        t.execute("INSERT OR IGNORE INTO files VALUES (?, ?)", params![id, file.hash])?;
        t.commit()?;
        Ok(file.hash.clone())
    }

    /// A file of the project.
    pub fn file(&self, id: &str, sha256: &str) -> Stored<Vec<u8>> {
        let sql = "SELECT EXISTS (SELECT 1 FROM files WHERE project = ? AND blob = ?)";
        let known: bool = self.reader().query_row(sql, [id, sha256], |r| r.get(0))?;
        if !known {
            return Err(StoreError::Missing("A file that the recipe names"));
        }
        self.blob(sha256, "A file of the part")
    }

    /// Moves the current revision by one, back (−1) or forth (+1).
    pub fn step(&self, id: &str, from: i64, by: i64) -> Stored<()> {
        let mut db = self.db();
        let t = begin(&mut db)?;
        check_head(&t, id, from)?;
        let there: bool = t.query_row(
            "SELECT EXISTS (SELECT 1 FROM revisions WHERE project = ? AND n = ?)",
            params![id, from + by],
            |r| r.get(0),
        )?;
        if !there {
            let past = if by < 0 { StoreError::NothingToUndo } else { StoreError::NothingToRedo };
            return Err(past);
        }
        t.execute(
            "UPDATE projects SET head = ?, updated_ms = ? WHERE id = ?",
            params![from + by, now_ms(), id],
        )?;
        t.commit()?;
        Ok(())
    }

    /// How fast this machine's runs were found to be.
    pub fn paces(&self) -> Stored<Paces> {
        let db = self.reader();
        let mut all = db.prepare_cached("SELECT stage, ratio, runs FROM paces")?;
        let row = |r: &rusqlite::Row| Ok((r.get::<_, String>(0)?, r.get(1)?, r.get(2)?));
        let mut paces = Vec::new();
        for (stage, ratio, runs) in all.query_map([], row)?.collect::<rusqlite::Result<Vec<_>>>()? {
            // A stage that is no more has nothing to tell.
            let stage = serde_json::from_value(stage.into());
            paces.extend(stage.ok().map(|stage| Pace { stage, ratio, runs }));
        }
        Ok(Paces(paces))
    }

    /// Stores how quick this machine is.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn set_paces(&self, paces: &Paces) -> Stored<()> {
        let mut db = self.db();
        let t = begin(&mut db)?;
        for Pace { stage, ratio, runs } in &paces.0 {
            let name = serde_json::to_value(stage).map_err(StoreError::internal)?;
            t.execute(
                "INSERT OR REPLACE INTO paces VALUES (?, ?, ?)",
                params![name.as_str(), ratio, runs],
            )?;
        }
        t.commit()?;
        Ok(())
    }

    /// Stores a card's picture.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn set_card(&self, id: &str, png: &[u8]) -> Stored<()> {
        self.db().execute("UPDATE projects SET card = ? WHERE id = ?", params![png, id])?;
        Ok(())
    }

    /// A card's picture, if there is one.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn card(&self, id: &str) -> Stored<Option<Vec<u8>>> {
        let found = self
            .reader()
            .query_row("SELECT card FROM projects WHERE id = ?", [id], |r| r.get(0))
            .optional()?;
        Ok(found.flatten())
    }

    /// The project's one draft picture.
    pub fn set_picture(&self, id: &str, key: &str, glb: &[u8]) -> Stored<()> {
        let picture = self.pack(glb)?;
        let mut db = self.db();
        let t = begin(&mut db)?;
        picture.finish(&t)?;
        let older: Option<String> = t
            .query_row("SELECT blob FROM pictures WHERE project = ?", [id], |r| r.get(0))
            .optional()?;
        t.execute(
            "INSERT OR REPLACE INTO pictures VALUES (?, ?, ?)",
            params![id, key, picture.hash],
        )?;
        let dropping = self.drop_unused(&t, older.as_slice())?;
        t.commit()?;
        drop(dropping);
        give_back(&db, GIVEN_BACK)
    }

    /// The picture of a final mesh, if there is one.
    ///
    /// # Errors
    /// The file cannot be read, or is damaged.
    pub fn picture(&self, id: &str, key: &str) -> Stored<Option<Arc<Vec<u8>>>> {
        let sql = "SELECT blob FROM pictures WHERE project = ? AND key = ?";
        let blob: Option<String> =
            self.reader().query_row(sql, [id, key], |r| r.get(0)).optional()?;
        blob.map(|b| self.shared_blob(&b, "The picture")).transpose()
    }

    /// Keeps the newest few finals of a project.
    pub fn put_final(
        &self,
        id: &str,
        key: &str,
        info: &str,
        mesh: &[u8],
        picture: &[u8],
    ) -> Stored<()> {
        let (mesh, picture) = (self.pack(mesh)?, self.pack(picture)?);
        let mut db = self.db();
        let t = begin(&mut db)?;
        mesh.finish(&t)?;
        picture.finish(&t)?;
        let values = |t: &Transaction| {
            let mut q = t.prepare_cached(
                "SELECT mesh FROM finals WHERE project = ?1 UNION SELECT picture \
                     FROM finals WHERE project = ?1",
            )?;
            let all =
                q.query_map([id], |r| r.get(0))?.collect::<rusqlite::Result<Vec<String>>>()?;
            Ok::<_, rusqlite::Error>(all)
        };
        let before = values(&t)?;
        t.execute(
            "INSERT OR REPLACE INTO finals VALUES (?, ?, ?, ?, ?, ?)",
            params![id, key, now_ms(), info, mesh.hash, picture.hash],
        )?;
        t.execute(
            "DELETE FROM finals WHERE project = ?1 AND key NOT IN (SELECT key \
                 FROM finals WHERE project = ?1 ORDER BY made_ms DESC LIMIT 4)",
            [id],
        )?;
        let dropping = self.drop_unused(&t, &before)?;
        t.commit()?;
        drop(dropping);
        give_back(&db, GIVEN_BACK)
    }

    /// The final mesh of a recipe, if there is one.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn finished(&self, id: &str, key: &str) -> Stored<Option<FinalRow>> {
        let row = self.reader().query_row(
            "SELECT key, info, mesh, picture FROM finals WHERE project = ? AND key = ?",
            [id, key],
            |r| {
                Ok(FinalRow {
                    key: r.get(0)?,
                    info: r.get(1)?,
                    mesh: r.get(2)?,
                    picture: r.get(3)?,
                })
            },
        );
        Ok(row.optional()?)
    }

    /// Stores the state of a run.
    ///
    /// # Errors
    /// The file cannot be written.
    pub fn put_job(&self, id: &str, project: &str, key: &str, state: &str) -> Stored<()> {
        self.db().execute(
            "INSERT INTO jobs VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT (id) DO \
                 UPDATE SET state = excluded.state",
            params![id, project, key, state, now_ms()],
        )?;
        Ok(())
    }

    /// Was the last run for this mesh cut off by the end of the server?
    pub fn interrupted(&self, project: &str, key: &str) -> Stored<bool> {
        let state: Option<String> = self
            .reader()
            .query_row(
                "SELECT state FROM jobs WHERE project = ? AND key = ? ORDER BY \
                     created_ms DESC, rowid DESC LIMIT 1",
                [project, key],
                |r| r.get(0),
            )
            .optional()?;
        Ok(state.as_deref() == Some("interrupted"))
    }
}

const PROJECT: &str = "SELECT p.id, p.created_ms, p.updated_ms, p.head,
    (SELECT min(n) FROM revisions WHERE project = p.id), (SELECT max(n) FROM revisions WHERE project = p.id),
    r.recipe, p.part_file, p.part_blob, p.part_facts
    FROM projects p JOIN revisions r ON r.project = p.id AND r.n = p.head";

fn project_row(r: &rusqlite::Row) -> rusqlite::Result<ProjectRow> {
    Ok(ProjectRow {
        id: r.get(0)?,
        created_ms: r.get(1)?,
        updated_ms: r.get(2)?,
        head: r.get(3)?,
        first: r.get(4)?,
        last: r.get(5)?,
        recipe: r.get(6)?,
        part_file: r.get(7)?,
        part_blob: r.get(8)?,
        part_facts: r.get(9)?,
    })
}

fn check_head(t: &Transaction, id: &str, from: i64) -> Stored<()> {
    let head: Option<i64> =
        t.query_row("SELECT head FROM projects WHERE id = ?", [id], |r| r.get(0)).optional()?;
    match head {
        None => Err(StoreError::Missing("The project")),
        Some(h) if h == from => Ok(()),
        Some(_) => Err(StoreError::ChangedElsewhere),
    }
}

/// A transaction that waits for another process at its beginning: later it could only give up.
fn begin(db: &mut Connection) -> rusqlite::Result<Transaction<'_>> {
    db.transaction_with_behavior(TransactionBehavior::Immediate)
}

/// Gives the room of up to so many deleted pages back to the system.
fn give_back(db: &Connection, pages: usize) -> Stored<()> {
    let pages = pages.min(i32::MAX as usize);
    let mut q = db.prepare(&format!("PRAGMA incremental_vacuum({pages})"))?;
    let mut rows = q.query([])?;
    // One row for each page.
    while rows.next()?.is_some() {}
    Ok(())
}

#[cfg(test)]
mod tests;
