//! Large values: zstd-compressed and cut into chunks under the hash of what they hold.
//!
//! Packing and most of writing happen outside the transaction that names the value: chunk 0 comes last and makes a value
//! whole, so that one cut short by a kill is none. Values on their way are held: what nothing names yet is not dropped.

use super::{hash, Store};
use crate::problem::{Answer, Problem};
use rusqlite::{params, Connection, Transaction};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

const CHUNK: usize = 1 << 20;
/// Chunks that are written in one transaction.
const AT_ONCE: usize = 4;

/// Hashes of values that are being written, and how often.
pub(super) type OnTheirWay = Arc<Mutex<HashMap<String, usize>>>;

/// Keeps values from being put on their way.
pub(super) type Held<'a> = MutexGuard<'a, HashMap<String, usize>>;

/// A value whose chunks but the first are written.
pub(super) struct Packed {
    pub hash: String,
    /// Absent: the store has the value already.
    first: Option<Vec<u8>>,
    held: OnTheirWay,
}

impl Drop for Packed {
    fn drop(&mut self) {
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(n) = held.get_mut(&self.hash) {
            *n -= 1;
            if *n == 0 {
                held.remove(&self.hash);
            }
        }
    }
}

impl Packed {
    /// Makes the value whole within a transaction that names it.
    pub fn finish(&self, t: &Transaction) -> Answer<()> {
        if let Some(first) = &self.first {
            t.execute("INSERT OR REPLACE INTO blobs VALUES (?, 0, ?)", params![self.hash, first])?;
        }
        Ok(())
    }
}

/// Values that somebody is reading, by hash: many who want the same one share it.
#[derive(Default)]
pub(super) struct Shared(Mutex<HashMap<String, Slot>>);

/// Locked while its value is read.
type Slot = Arc<Mutex<Weak<Vec<u8>>>>;

impl Store {
    pub(super) fn pack(&self, bytes: &[u8]) -> Answer<Packed> {
        let key = hash(bytes);
        *self.on_their_way.lock().unwrap_or_else(PoisonError::into_inner).entry(key.clone()).or_default() += 1;
        let mut packed = Packed { hash: key, first: None, held: self.on_their_way.clone() };
        let known = |db: &Connection| {
            db.query_row("SELECT EXISTS (SELECT 1 FROM blobs WHERE hash = ? AND n = 0)", [&packed.hash], |r| r.get::<_, bool>(0))
        };
        if known(&self.reader())? {
            return Ok(packed);
        }
        let data = zstd::encode_all(bytes, 1).map_err(Problem::internal)?;
        let chunks: Vec<&[u8]> = data.chunks(CHUNK).collect();
        for (batch, some) in chunks[1..].chunks(AT_ONCE).enumerate() {
            let mut db = self.db();
            let t = super::begin(&mut db)?;
            for (n, chunk) in some.iter().enumerate() {
                let n = (1 + batch * AT_ONCE + n) as i64;
                t.execute("INSERT OR REPLACE INTO blobs VALUES (?, ?, ?)", params![packed.hash, n, chunk])?;
            }
            t.commit()?;
        }
        packed.first = Some(chunks[0].to_vec());
        Ok(packed)
    }

    /// A value, shared with whoever reads it at the same time. `what` it is, for a person.
    pub fn shared_blob(&self, key: &str, what: &str) -> Answer<Arc<Vec<u8>>> {
        let slot = {
            let mut all = self.shared.0.lock().unwrap_or_else(PoisonError::into_inner);
            all.retain(|_, slot| Arc::strong_count(slot) > 1 || slot.lock().is_ok_and(|held| held.strong_count() > 0));
            all.entry(key.to_owned()).or_default().clone()
        };
        // Whoever comes second waits for the first.
        let mut held = slot.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(value) = held.upgrade() {
            return Ok(value);
        }
        let value = Arc::new(self.blob(key, what)?);
        *held = Arc::downgrade(&value);
        Ok(value)
    }

    /// A value by its hash. `what` it is, for a person: a value that is not what its hash says is told as damaged.
    pub fn blob(&self, key: &str, what: &str) -> Answer<Vec<u8>> {
        let chunks = {
            let db = self.reader();
            let mut q = db.prepare_cached("SELECT data FROM blobs WHERE hash = ? ORDER BY n")?;
            let all = q.query_map([key], |r| r.get::<_, Vec<u8>>(0))?.collect::<rusqlite::Result<Vec<_>>>()?;
            all
        };
        let value = zstd::decode_all(chunks.concat().as_slice()).map_err(|_| Problem::damaged(what))?;
        if hash(&value) != key {
            return Err(Problem::damaged(what));
        }
        Ok(value)
    }

    /// Drops those of the values that nothing names any more. What is returned is to be held until the transaction has ended:
    /// so long nobody can take a value for stored that is being dropped.
    #[must_use = "held until the transaction has ended"]
    pub(super) fn drop_unused(&self, t: &Transaction, candidates: &[String]) -> Answer<Held<'_>> {
        let held = self.on_their_way.lock().unwrap_or_else(PoisonError::into_inner);
        for key in candidates.iter().filter(|key| !held.contains_key(*key)) {
            t.execute(&format!("DELETE FROM blobs WHERE hash = ?1 AND NOT {NAMED}"), [key])?;
        }
        Ok(held)
    }
}

/// Does something name the value ?1?
const NAMED: &str = "(EXISTS (SELECT 1 FROM projects WHERE part_blob = ?1) OR EXISTS (SELECT 1 FROM files WHERE blob = ?1)
    OR EXISTS (SELECT 1 FROM pictures WHERE blob = ?1) OR EXISTS (SELECT 1 FROM finals WHERE mesh = ?1)
    OR EXISTS (SELECT 1 FROM finals WHERE picture = ?1))";

/// Drops what a kill left of values on their way.
pub(super) fn sweep(db: &Connection) -> rusqlite::Result<()> {
    db.execute(
        "DELETE FROM blobs WHERE hash NOT IN (
            SELECT part_blob FROM projects UNION SELECT blob FROM files UNION SELECT blob FROM pictures
            UNION SELECT mesh FROM finals UNION SELECT picture FROM finals)",
        [],
    )?;
    Ok(())
}
