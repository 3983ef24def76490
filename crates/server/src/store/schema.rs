//! The form of the file: what it is told by, how it is opened, and how older ones are brought up.

use rusqlite::{Connection, ErrorCode, OpenFlags};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Tells the file from other programs' databases: "Ulmx".
pub(super) const APPLICATION_ID: i32 = 0x556c_6d78;
/// How long a change waits for another process that writes.
const PATIENCE: Duration = Duration::from_secs(10);

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
    // What the start screen shows of a project at a revision, so that nothing has to be built for
    // it; and why it cannot be shown, once that was found.
    "
    CREATE TABLE cards (
        project TEXT PRIMARY KEY REFERENCES projects(id) ON DELETE CASCADE,
        head INTEGER NOT NULL,
        facts TEXT,
        fault TEXT
    );
    CREATE INDEX jobs_of_project ON jobs (project, key);
    CREATE INDEX finals_by_mesh ON finals (mesh);
    CREATE INDEX finals_by_picture ON finals (picture);
    CREATE INDEX files_by_blob ON files (blob);
    CREATE INDEX pictures_by_blob ON pictures (blob);
    CREATE INDEX projects_by_part ON projects (part_blob);
",
];

/// Why a file of projects cannot be opened, in words for a person.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct OpenError {
    /// What is wrong, in a sentence for a person.
    pub message: String,
    /// What to do about it, in a sentence for a person.
    pub hint: String,
}

impl OpenError {
    pub(super) fn new(message: impl Into<String>, hint: impl Into<String>) -> OpenError {
        OpenError { message: message.into(), hint: hint.into() }
    }

    pub(super) fn of(path: &Path, e: &rusqlite::Error) -> OpenError {
        let path = path.display();
        match e.sqlite_error_code() {
            Some(ErrorCode::NotADatabase) => OpenError::new(
                format!("{path} is not a file of Ulmix projects."),
                "Choose another file with --data.",
            ),
            Some(ErrorCode::DatabaseCorrupt) => OpenError::new(
                format!("{path} is damaged: {e}."),
                "Start from a back-up of it, made by “ulmix backup”; keep the \
                     damaged file until all is found again.",
            ),
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => OpenError::new(
                format!("{path} is in use by another program."),
                "End that program and try again.",
            ),
            _ => OpenError::new(
                format!("{path} cannot be opened: {e}."),
                "Check that its folder is there and that the file can be written to.",
            ),
        }
    }
}

/// Opens a file for writing, made where it is missing, and brings an older one up after copying it.
pub(super) fn open(path: &Path) -> Result<Connection, OpenError> {
    let of = |e: rusqlite::Error| OpenError::of(path, &e);
    only_for_its_owner(path).map_err(|e| {
        OpenError::new(
            format!("{} cannot be opened: {e}.", path.display()),
            "Check that its folder is there and that the file can be written to.",
        )
    })?;
    let db = Connection::open(path).map_err(of)?;
    db.busy_timeout(PATIENCE).map_err(of)?;
    let have = version(&db, path)?;
    // What is deleted is overwritten, and its room is given back.
    db.pragma_update(None, "secure_delete", true).map_err(of)?;
    if db.pragma_query_value(None, "auto_vacuum", |r| r.get::<_, i64>(0)).map_err(of)?
        != INCREMENTAL
    {
        db.pragma_update(None, "auto_vacuum", INCREMENTAL).map_err(of)?;
        if have > 0 {
            db.execute_batch("PRAGMA journal_mode = DELETE; VACUUM;").map_err(of)?;
        }
    }
    db.pragma_update(None, "journal_mode", "WAL").map_err(of)?;
    db.pragma_update(None, "synchronous", "FULL").map_err(of)?;
    db.pragma_update(None, "foreign_keys", true).map_err(of)?;
    if 0 < have && have < MIGRATIONS.len() {
        let kept = beside(path, &format!("before-version-{}", MIGRATIONS.len()));
        if !kept.exists() {
            copy(&db, &kept).map_err(of)?;
        }
    }
    for (n, sql) in MIGRATIONS.iter().enumerate().skip(have) {
        let step = format!(
            "BEGIN IMMEDIATE; {sql} PRAGMA application_id = {APPLICATION_ID}; \
                 PRAGMA user_version = {}; COMMIT;",
            n + 1
        );
        db.execute_batch(&step).map_err(of)?;
    }
    Ok(db)
}

/// Room of deleted pages is given back when asked for.
const INCREMENTAL: i64 = 2;

/// A connection that only reads a file that is open for writing as well.
pub(super) fn reader(path: &Path) -> rusqlite::Result<Connection> {
    let db = Connection::open_with_flags(
        path,
        OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX,
    )?;
    db.busy_timeout(PATIENCE)?;
    Ok(db)
}

/// How many migrations the file has seen; none of a new one.
fn version(db: &Connection, path: &Path) -> Result<usize, OpenError> {
    let number = |name: &str| {
        db.pragma_query_value(None, name, |r| r.get::<_, i64>(0))
            .map_err(|e| OpenError::of(path, &e))
    };
    let (id, have) = (number("application_id")?, number("user_version")?);
    let ours: bool = db
        .query_row(
            "SELECT count(*) = 2 FROM sqlite_schema WHERE type = 'table' AND name IN \
             ('projects', 'revisions')",
            [],
            |r| r.get(0),
        )
        .map_err(|e| OpenError::of(path, &e))?;
    let empty: bool = db
        .query_row("SELECT count(*) = 0 FROM sqlite_schema", [], |r| r.get(0))
        .map_err(|e| OpenError::of(path, &e))?;
    // The first programs set no id.
    if id != APPLICATION_ID as i64 && !(id == 0 && (ours || empty && have == 0)) {
        return Err(OpenError::new(
            format!("{} is a database of another program.", path.display()),
            "Choose another file with --data.",
        ));
    }
    if have > MIGRATIONS.len() as i64 {
        return Err(OpenError::new(
            format!(
                "{} was written by a newer Ulmix (its form is {have}; this one knows {}).",
                path.display(),
                MIGRATIONS.len()
            ),
            "Start the newer program, or choose another file with --data.",
        ));
    }
    Ok(have.max(0) as usize)
}

/// Makes the file where it is missing, and lets nobody but its owner read it.
fn only_for_its_owner(path: &Path) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.create(true).append(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
        let file = options.mode(0o600).open(path)?;
        let mut permissions = file.metadata()?.permissions();
        if permissions.mode() & 0o077 != 0 {
            permissions.set_mode(permissions.mode() & 0o700);
            file.set_permissions(permissions)?;
        }
        Ok(())
    }
    #[cfg(not(unix))]
    options.open(path).map(drop)
}

/// A name beside a file: `a.sqlite` and "lock" give `a.sqlite.lock`.
pub fn beside(path: &Path, ending: &str) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".");
    name.push(ending);
    path.with_file_name(name)
}

fn copy(db: &Connection, to: &Path) -> rusqlite::Result<()> {
    only_for_its_owner(to).ok();
    // An empty file is taken for a new database.
    db.execute("VACUUM INTO ?", [to.to_string_lossy()])?;
    Ok(())
}

/// Copies a file of projects, also while a server has it open, and opens the copy to check it; how
/// many projects it holds.
///
/// # Errors
/// A source that is missing or no file of projects, a copy that exists already, and a copy that
/// does not hold what it should.
pub fn back_up(from: &Path, to: &Path) -> Result<u32, OpenError> {
    if !from.exists() {
        return Err(OpenError::new(
            format!("{} is not there.", from.display()),
            "Name the file of projects with --data.",
        ));
    }
    if to.exists() {
        return Err(OpenError::new(
            format!("{} exists already.", to.display()),
            "Choose another name: nothing is overwritten.",
        ));
    }
    let of = |e: rusqlite::Error| OpenError::of(from, &e);
    let db = Connection::open_with_flags(from, OpenFlags::SQLITE_OPEN_READ_WRITE).map_err(of)?;
    db.busy_timeout(PATIENCE).map_err(of)?;
    version(&db, from)?;
    let not_written = |e: rusqlite::Error| {
        let _ = std::fs::remove_file(to);
        OpenError::new(
            format!("{} cannot be written: {e}.", to.display()),
            "Choose a folder with room that can be written to.",
        )
    };
    copy(&db, to).map_err(not_written)?;
    let count =
        |db: &Connection| db.query_row("SELECT count(*) FROM projects", [], |r| r.get::<_, u32>(0));
    let copied = reader(to).map_err(not_written)?;
    let sound: String =
        copied.query_row("PRAGMA integrity_check", [], |r| r.get(0)).map_err(not_written)?;
    if sound != "ok" {
        return Err(OpenError::new(
            format!("The copy is not sound: {sound}."),
            "The file of projects may be damaged: keep it, and older back-ups.",
        ));
    }
    std::fs::File::open(to).and_then(|f| f.sync_all()).map_err(|e| {
        OpenError::new(
            format!("{} cannot be written: {e}.", to.display()),
            "Choose a folder with room that can be written to.",
        )
    })?;
    count(&copied).map_err(not_written)
}
