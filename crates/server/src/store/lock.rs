//! One server for one file: a second one would answer from what it remembers of before the first
//! one's changes.

use super::schema::{beside, OpenError};
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::Path;

/// Held as long as the file is open; the system lets go of it when the process ends, however that
/// happens.
pub(super) struct Lock(File);

impl Lock {
    pub(super) fn take(path: &Path) -> Result<Lock, OpenError> {
        let place = beside(path, "lock");
        let failed = |e: std::io::Error| {
            OpenError::new(
                format!("{} cannot be opened: {e}.", place.display()),
                "Check that its folder can be written to.",
            )
        };
        let mut file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .read(true)
            .write(true)
            .open(&place)
            .map_err(failed)?;
        match file.try_lock() {
            Ok(()) => {
                file.set_len(0).map_err(failed)?;
                Ok(Lock(file))
            }
            Err(TryLockError::WouldBlock) => {
                let mut address = String::new();
                // Who has just started has not told its address yet.
                let _ = file.read_to_string(&mut address);
                let at = if address.is_empty() {
                    String::new()
                } else {
                    format!(" at {}", address.trim())
                };
                Err(OpenError::new(
                    format!("{} is served already{at}.", path.display()),
                    "Open that address, end that server, or choose another file with --data.",
                ))
            }
            Err(TryLockError::Error(e)) => Err(failed(e)),
        }
    }

    /// Tells a second server where this one is found.
    pub(super) fn tell(&self, address: &str) {
        let mut file = &self.0;
        // Words of the second server are only less good without it.
        let _ =
            file.set_len(0).and_then(|()| file.rewind()).and_then(|()| writeln!(file, "{address}"));
    }
}
