//! Large values: zstd-compressed and cut into chunks under the hash of what they hold.
//!
//! Packing and most of writing happen outside the transaction that names the value: chunk 0 comes
//! last and makes a value whole, so that one cut short by a kill is none. Values on their way are
//! held: what nothing names yet is not dropped.

use super::{hash, Store};
use super::{StoreError, Stored};
use rusqlite::{params, Connection, Transaction};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, Weak};
use ulmix_runner::locked::lock;

const CHUNK: usize = 1 << 20;
/// Chunks that are written in one transaction.
const AT_ONCE: usize = 4;

/// Hashes of values that are being written, and how often.
pub(super) type OnTheirWay = Arc<Mutex<HashMap<String, usize>>>;

/// As long as it is held nobody puts a value on its way.
pub(super) type Dropping<'a> = MutexGuard<'a, HashMap<String, usize>>;

/// A value whose chunks but the first are written.
pub(super) struct Packed {
    pub hash: String,
    /// Absent: the store has the value already.
    first: Option<Vec<u8>>,
    held: OnTheirWay,
}

impl Drop for Packed {
    fn drop(&mut self) {
        let mut held = lock(&self.held);
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
    pub(super) fn finish(&self, t: &Transaction) -> Stored<()> {
        if let Some(first) = &self.first {
            t.execute("INSERT OR REPLACE INTO blobs VALUES (?, 0, ?)", params![self.hash, first])?;
        }
        Ok(())
    }
}

/// Values that somebody is reading, by hash: many who want the same one share it.
#[derive(Default)]
pub(super) struct SharedValues(Mutex<HashMap<String, Slot>>);

/// Locked while its value is read.
type Slot = Arc<Mutex<Weak<Vec<u8>>>>;

impl Store {
    pub(super) fn pack(&self, bytes: &[u8]) -> Stored<Packed> {
        let key = hash(bytes);
        *lock(&self.on_their_way).entry(key.clone()).or_default() += 1;
        let mut packed = Packed { hash: key, first: None, held: self.on_their_way.clone() };
        let known = |db: &Connection| {
            db.query_row(
                "SELECT EXISTS (SELECT 1 FROM blobs WHERE hash = ? AND n = 0)",
                [&packed.hash],
                |r| r.get::<_, bool>(0),
            )
        };
        if known(&self.reader())? {
            return Ok(packed);
        }
        let data = zstd::encode_all(bytes, 1).map_err(StoreError::internal)?;
        let chunks: Vec<&[u8]> = data.chunks(CHUNK).collect();
        for (batch, some) in chunks[1..].chunks(AT_ONCE).enumerate() {
            let mut db = self.db();
            let t = super::begin(&mut db)?;
            for (n, chunk) in some.iter().enumerate() {
                let n = (1 + batch * AT_ONCE + n) as i64;
                t.execute(
                    "INSERT OR REPLACE INTO blobs VALUES (?, ?, ?)",
                    params![packed.hash, n, chunk],
                )?;
            }
            t.commit()?;
        }
        packed.first = Some(chunks[0].to_vec());
        Ok(packed)
    }

    /// A value, shared with whoever reads it at the same time. `what` it is, for a person.
    pub fn shared_blob(&self, key: &str, what: &str) -> Stored<Arc<Vec<u8>>> {
        let slot = {
            let mut all = lock(&self.shared.0);
            all.retain(|_, slot| {
                Arc::strong_count(slot) > 1 || slot.lock().is_ok_and(|held| held.strong_count() > 0)
            });
            all.entry(key.to_owned()).or_default().clone()
        };
        // Whoever comes second waits for the first.
        let mut held = lock(&slot);
        if let Some(value) = held.upgrade() {
            return Ok(value);
        }
        let value = Arc::new(self.blob(key, what)?);
        *held = Arc::downgrade(&value);
        Ok(value)
    }

    /// A value by its hash. `what` it is, for a person: a value that is not what its hash says is
    /// told as damaged.
    pub fn blob(&self, key: &str, what: &str) -> Stored<Vec<u8>> {
        let chunks = {
            let db = self.reader();
            let mut q = db.prepare_cached("SELECT data FROM blobs WHERE hash = ? ORDER BY n")?;
            let all = q
                .query_map([key], |r| r.get::<_, Vec<u8>>(0))?
                .collect::<rusqlite::Result<Vec<_>>>()?;
            all
        };
        let value = zstd::decode_all(chunks.concat().as_slice())
            .map_err(|_| StoreError::Damaged(what.into()))?;
        if hash(&value) != key {
            return Err(StoreError::Damaged(what.into()));
        }
        Ok(value)
    }

    /// Drops those of the values that nothing names any more. What is returned is to be held until
    /// the transaction has ended: so long nobody can take a value for stored that is being dropped.
    #[must_use = "held until the transaction has ended"]
    pub(super) fn drop_unused(
        &self,
        t: &Transaction,
        candidates: &[String],
    ) -> Stored<Dropping<'_>> {
        let held = lock(&self.on_their_way);
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Bytes that no packing makes much shorter.
    fn noise(count: usize, seed: u64) -> Vec<u8> {
        let mut state = seed;
        let mut next = || {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            (state >> 56) as u8
        };
        (0..count).map(|_| next()).collect()
    }

    fn store() -> (tempfile::TempDir, Store) {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("u.sqlite")).unwrap();
        (dir, store)
    }

    #[test]
    fn a_value_of_many_chunks_comes_back_and_one_cut_short_is_written_again() {
        let (_dir, store) = store();
        let value = noise(9 << 20, 3);
        store.create_project("a", "{}", "a.stl", &value, "{}").unwrap();
        let key = hash(&value);
        assert!(store.blob(&key, "The part").unwrap() == value);
        // As a kill leaves it: the first chunk comes last.
        store.db().execute("DELETE FROM blobs WHERE hash = ? AND n = 0", [&key]).unwrap();
        let damaged = store.blob(&key, "The part").unwrap_err();
        assert!(matches!(damaged, StoreError::Damaged(what) if what == "The part"));
        assert_eq!(store.put_file("a", &value).unwrap(), key);
        assert!(store.blob(&key, "The part").unwrap() == value);
    }

    #[test]
    fn a_value_on_its_way_is_not_dropped_with_a_project_that_has_it() {
        let (_dir, store) = store();
        let value = noise(3 << 20, 5);
        store.create_project("a", "{}", "a.stl", &value, "{}").unwrap();
        let on_its_way = store.pack(&value).unwrap();
        store.delete_project("a").unwrap();
        assert!(store.blob(&on_its_way.hash, "The part").unwrap() == value);
        store.create_project("b", "{}", "a.stl", &value, "{}").unwrap();
        let key = on_its_way.hash.clone();
        drop(on_its_way);
        store.delete_project("b").unwrap();
        // Nothing names it any more, and nobody is about to.
        let left: u32 = store
            .reader()
            .query_row("SELECT count(*) FROM blobs WHERE hash = ?", [&key], |r| r.get(0))
            .unwrap();
        assert_eq!(left, 0);
    }

    #[test]
    fn those_who_read_the_same_value_share_it() {
        let (_dir, store) = store();
        let value = noise(1 << 16, 7);
        store.create_project("a", "{}", "a.stl", &value, "{}").unwrap();
        let key = hash(&value);
        let all: Vec<Arc<Vec<u8>>> = std::thread::scope(|threads| {
            let readers: Vec<_> = (0..8)
                .map(|_| threads.spawn(|| store.shared_blob(&key, "The part").unwrap()))
                .collect();
            readers.into_iter().map(|r| r.join().unwrap()).collect()
        });
        assert!(all.iter().all(|one| Arc::ptr_eq(one, &all[0])) && *all[0] == value);
        drop(all);
        let missing = store.shared_blob("no such value", "The part").unwrap_err();
        assert!(matches!(missing, StoreError::Damaged(_)));
        assert!(store.shared.0.lock().unwrap().len() <= 1);
    }
}
