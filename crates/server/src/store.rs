//! One SQLite file: projects, recipe revisions, pictures and final meshes.
//!
//! Every method is one transaction; what it has returned from is on disk and survives a kill.
//! Large values are zstd-compressed and cut into chunks under the hash of what they hold.

use crate::problem::{Answer, Problem};
use axum::http::StatusCode;
use rusqlite::{params, Connection, OptionalExtension, Transaction};
use sha2::{Digest, Sha256};
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};
use ulmix_core::pipeline::pace::{Pace, Paces};

const CHUNK: usize = 1 << 20;
/// Steps of history that a project keeps.
const HISTORY: i64 = 500;

const MIGRATIONS: &[&str] = &[
    "
    CREATE TABLE blobs (hash TEXT NOT NULL, n INTEGER NOT NULL, data BLOB NOT NULL, PRIMARY KEY (hash, n)) WITHOUT ROWID;
    CREATE TABLE projects (
        id TEXT PRIMARY KEY,
        created_ms INTEGER NOT NULL,
        updated_ms INTEGER NOT NULL,
        head INTEGER NOT NULL,
        part_file TEXT NOT NULL,
        part_blob TEXT NOT NULL,
        part_facts TEXT NOT NULL,
        card BLOB
    );
    CREATE TABLE revisions (
        project TEXT NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
        n INTEGER NOT NULL,
        recipe TEXT NOT NULL,
        PRIMARY KEY (project, n)
    );
    CREATE TABLE pictures (
        project TEXT PRIMARY KEY REFERENCES projects(id) ON DELETE CASCADE,
        key TEXT NOT NULL,
        blob TEXT NOT NULL
    );
    CREATE TABLE finals (
        project TEXT NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
        key TEXT NOT NULL,
        made_ms INTEGER NOT NULL,
        info TEXT NOT NULL,
        mesh TEXT NOT NULL,
        picture TEXT NOT NULL,
        PRIMARY KEY (project, key)
    );
    CREATE TABLE jobs (
        id TEXT PRIMARY KEY,
        project TEXT NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
        key TEXT NOT NULL,
        state TEXT NOT NULL,
        created_ms INTEGER NOT NULL
    );
",
    "
    CREATE TABLE files (
        project TEXT NOT NULL REFERENCES projects(id) ON DELETE CASCADE,
        blob TEXT NOT NULL,
        PRIMARY KEY (project, blob)
    );
",
    "
    CREATE TABLE paces (stage TEXT PRIMARY KEY, ratio REAL NOT NULL, runs INTEGER NOT NULL) WITHOUT ROWID;
",
];

pub struct Store {
    db: Mutex<Connection>,
}

/// A project as stored.
#[derive(Clone, Debug)]
pub struct ProjectRow {
    pub id: String,
    pub created_ms: i64,
    pub updated_ms: i64,
    /// Current revision; undo moves it back.
    pub head: i64,
    pub first: i64,
    pub last: i64,
    pub recipe: String,
    pub part_file: String,
    pub part_blob: String,
    pub part_facts: String,
}

/// A final mesh as stored.
pub struct FinalRow {
    pub key: String,
    pub info: String,
    pub mesh: String,
    pub picture: String,
}

pub fn now_ms() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

pub fn hash(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect()
}

impl Store {
    pub fn open(path: &Path) -> rusqlite::Result<Store> {
        let db = Connection::open(path)?;
        db.busy_timeout(std::time::Duration::from_secs(10))?;
        db.pragma_update(None, "journal_mode", "WAL")?;
        db.pragma_update(None, "synchronous", "FULL")?;
        db.pragma_update(None, "foreign_keys", true)?;
        let have: usize = db.pragma_query_value(None, "user_version", |r| r.get::<_, i64>(0))? as usize;
        for (n, sql) in MIGRATIONS.iter().enumerate().skip(have) {
            db.execute_batch(&format!("BEGIN; {sql} PRAGMA user_version = {}; COMMIT;", n + 1))?;
        }
        db.execute("UPDATE jobs SET state = 'interrupted' WHERE state IN ('queued', 'running')", [])?;
        Ok(Store { db: Mutex::new(db) })
    }

    fn db(&self) -> MutexGuard<'_, Connection> {
        self.db.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn blob(&self, key: &str) -> Answer<Vec<u8>> {
        let db = self.db();
        let mut q = db.prepare_cached("SELECT data FROM blobs WHERE hash = ? ORDER BY n")?;
        let chunks = q.query_map([key], |r| r.get::<_, Vec<u8>>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
        if chunks.is_empty() {
            return Err(Problem::not_found("The stored file"));
        }
        zstd::decode_all(chunks.concat().as_slice()).map_err(Problem::internal)
    }

    pub fn create_project(&self, id: &str, recipe: &str, part_file: &str, part: &[u8], part_facts: &str) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        let (now, part_blob) = (now_ms(), insert_blob(&t, part)?);
        t.execute(
            "INSERT INTO projects (id, created_ms, updated_ms, head, part_file, part_blob, part_facts) VALUES (?, ?, ?, 1, ?, ?, ?)",
            params![id, now, now, part_file, part_blob, part_facts],
        )?;
        t.execute("INSERT INTO revisions VALUES (?, 1, ?)", params![id, recipe])?;
        t.commit()?;
        Ok(())
    }

    pub fn delete_project(&self, id: &str) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        if t.execute("DELETE FROM projects WHERE id = ?", [id])? == 0 {
            return Err(Problem::not_found("The project"));
        }
        drop_unused_blobs(&t)?;
        t.commit()?;
        Ok(())
    }

    pub fn project(&self, id: &str) -> Answer<ProjectRow> {
        let db = self.db();
        let sql = format!("{PROJECT} WHERE p.id = ?");
        db.query_row(&sql, [id], project_row).optional()?.ok_or_else(|| Problem::not_found("The project"))
    }

    pub fn projects(&self) -> Answer<Vec<ProjectRow>> {
        let db = self.db();
        let mut q = db.prepare_cached(&format!("{PROJECT} ORDER BY p.updated_ms DESC, p.id"))?;
        let rows = q.query_map([], project_row)?.collect::<rusqlite::Result<Vec<_>>>()?;
        Ok(rows)
    }

    /// Adds a revision after `from`, which must still be the current one; what had been undone goes.
    pub fn revise(&self, id: &str, from: i64, recipe: &str) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        check_head(&t, id, from)?;
        t.execute("DELETE FROM revisions WHERE project = ? AND n > ?", params![id, from])?;
        t.execute("INSERT INTO revisions VALUES (?, ?, ?)", params![id, from + 1, recipe])?;
        t.execute("DELETE FROM revisions WHERE project = ? AND n <= ?", params![id, from + 1 - HISTORY])?;
        t.execute("UPDATE projects SET head = ?, updated_ms = ? WHERE id = ?", params![from + 1, now_ms(), id])?;
        t.commit()?;
        Ok(())
    }

    /// Keeps a file that the project's recipes may name by its hash, which is returned.
    pub fn put_file(&self, id: &str, bytes: &[u8]) -> Answer<String> {
        let mut db = self.db();
        let t = db.transaction()?;
        let blob = insert_blob(&t, bytes)?;
        t.execute("INSERT OR IGNORE INTO files VALUES (?, ?)", params![id, blob])?;
        t.commit()?;
        Ok(blob)
    }

    /// A file of the project.
    pub fn file(&self, id: &str, sha256: &str) -> Answer<Vec<u8>> {
        let sql = "SELECT EXISTS (SELECT 1 FROM files WHERE project = ? AND blob = ?)";
        let known: bool = self.db().query_row(sql, [id, sha256], |r| r.get(0))?;
        if !known {
            return Err(Problem::not_found("A file that the recipe names"));
        }
        self.blob(sha256)
    }

    /// Moves the current revision by one, back (−1) or forth (+1).
    pub fn step(&self, id: &str, from: i64, by: i64) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        check_head(&t, id, from)?;
        let there: bool =
            t.query_row("SELECT EXISTS (SELECT 1 FROM revisions WHERE project = ? AND n = ?)", params![id, from + by], |r| {
                r.get(0)
            })?;
        if !there {
            let what = if by < 0 { "Nothing to undo." } else { "Nothing to redo." };
            return Err(Problem::new(StatusCode::CONFLICT, "history_end", what, "The history ends here."));
        }
        t.execute("UPDATE projects SET head = ?, updated_ms = ? WHERE id = ?", params![from + by, now_ms(), id])?;
        t.commit()?;
        Ok(())
    }

    /// How fast this machine's runs were found to be.
    pub fn paces(&self) -> Answer<Paces> {
        let db = self.db();
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

    pub fn set_paces(&self, paces: &Paces) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        for Pace { stage, ratio, runs } in &paces.0 {
            let name = serde_json::to_value(stage).map_err(Problem::internal)?;
            t.execute("INSERT OR REPLACE INTO paces VALUES (?, ?, ?)", params![name.as_str(), ratio, runs])?;
        }
        t.commit()?;
        Ok(())
    }

    pub fn set_card(&self, id: &str, png: &[u8]) -> Answer<()> {
        self.db().execute("UPDATE projects SET card = ? WHERE id = ?", params![png, id])?;
        Ok(())
    }

    pub fn card(&self, id: &str) -> Answer<Option<Vec<u8>>> {
        let found = self.db().query_row("SELECT card FROM projects WHERE id = ?", [id], |r| r.get(0)).optional()?;
        Ok(found.flatten())
    }

    /// The project's one draft picture.
    pub fn set_picture(&self, id: &str, key: &str, glb: &[u8]) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        let blob = insert_blob(&t, glb)?;
        t.execute("INSERT OR REPLACE INTO pictures VALUES (?, ?, ?)", params![id, key, blob])?;
        drop_unused_blobs(&t)?;
        t.commit()?;
        Ok(())
    }

    pub fn picture(&self, id: &str, key: &str) -> Answer<Option<Vec<u8>>> {
        let blob: Option<String> =
            self.db().query_row("SELECT blob FROM pictures WHERE project = ? AND key = ?", [id, key], |r| r.get(0)).optional()?;
        blob.map(|b| self.blob(&b)).transpose()
    }

    /// Keeps the newest few finals of a project.
    pub fn put_final(&self, id: &str, key: &str, info: &str, mesh: &[u8], picture: &[u8]) -> Answer<()> {
        let mut db = self.db();
        let t = db.transaction()?;
        let (mesh, picture) = (insert_blob(&t, mesh)?, insert_blob(&t, picture)?);
        t.execute("INSERT OR REPLACE INTO finals VALUES (?, ?, ?, ?, ?, ?)", params![id, key, now_ms(), info, mesh, picture])?;
        t.execute(
            "DELETE FROM finals WHERE project = ?1 AND key NOT IN (SELECT key FROM finals WHERE project = ?1 ORDER BY made_ms DESC LIMIT 4)",
            [id],
        )?;
        drop_unused_blobs(&t)?;
        t.commit()?;
        Ok(())
    }

    pub fn finished(&self, id: &str, key: &str) -> Answer<Option<FinalRow>> {
        let row =
            self.db().query_row("SELECT key, info, mesh, picture FROM finals WHERE project = ? AND key = ?", [id, key], |r| {
                Ok(FinalRow { key: r.get(0)?, info: r.get(1)?, mesh: r.get(2)?, picture: r.get(3)? })
            });
        Ok(row.optional()?)
    }

    pub fn put_job(&self, id: &str, project: &str, key: &str, state: &str) -> Answer<()> {
        self.db().execute(
            "INSERT INTO jobs VALUES (?1, ?2, ?3, ?4, ?5) ON CONFLICT (id) DO UPDATE SET state = excluded.state",
            params![id, project, key, state, now_ms()],
        )?;
        Ok(())
    }

    /// Was the last run for this mesh cut off by the end of the server?
    pub fn interrupted(&self, project: &str, key: &str) -> Answer<bool> {
        let state: Option<String> = self
            .db()
            .query_row(
                "SELECT state FROM jobs WHERE project = ? AND key = ? ORDER BY created_ms DESC, rowid DESC LIMIT 1",
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

fn check_head(t: &Transaction, id: &str, from: i64) -> Answer<()> {
    let head: Option<i64> = t.query_row("SELECT head FROM projects WHERE id = ?", [id], |r| r.get(0)).optional()?;
    match head {
        None => Err(Problem::not_found("The project")),
        Some(h) if h == from => Ok(()),
        Some(_) => Err(Problem::new(
            StatusCode::PRECONDITION_FAILED,
            "changed_elsewhere",
            "This project was changed in another tab or window.",
            "The newest state is shown now; make your change again.",
        )),
    }
}

fn insert_blob(t: &Transaction, bytes: &[u8]) -> Answer<String> {
    let key = hash(bytes);
    let known: bool = t.query_row("SELECT EXISTS (SELECT 1 FROM blobs WHERE hash = ?)", [&key], |r| r.get(0))?;
    if !known {
        let packed = zstd::encode_all(bytes, 1).map_err(Problem::internal)?;
        for (n, chunk) in packed.chunks(CHUNK).enumerate() {
            t.execute("INSERT INTO blobs VALUES (?, ?, ?)", params![key, n as i64, chunk])?;
        }
    }
    Ok(key)
}

/// Blobs that nothing refers to.
fn drop_unused_blobs(t: &Transaction) -> Answer<()> {
    t.execute(
        "DELETE FROM blobs WHERE hash NOT IN (
            SELECT part_blob FROM projects UNION SELECT blob FROM files UNION SELECT blob FROM pictures
            UNION SELECT mesh FROM finals UNION SELECT picture FROM finals)",
        [],
    )?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use ulmix_core::pipeline::Stage;

    #[test]
    fn what_runs_taught_outlives_the_server() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("projects.sqlite");
        let pace = |stage, ratio| Pace { stage, ratio, runs: 3 };
        let learned = Paces(vec![pace(Stage::Surface, 1.7), pace(Stage::Report, 0.4)]);
        {
            let store = Store::open(&path).unwrap();
            assert_eq!(store.paces().unwrap(), Paces::default());
            store.set_paces(&Paces(vec![pace(Stage::Surface, 9.0)])).unwrap();
            store.set_paces(&learned).unwrap();
        }
        let mut found = Store::open(&path).unwrap().paces().unwrap();
        found.0.sort_by(|a, b| b.ratio.total_cmp(&a.ratio));
        assert_eq!(found, learned);
        // A stage of another version is passed over.
        let store = Store::open(&path).unwrap();
        store.db().execute("INSERT INTO paces VALUES ('polishing', 1.0, 1)", []).unwrap();
        assert_eq!(store.paces().unwrap().0.len(), 2);
    }
}
