//! Opening the target, and working with it away from the threads that must not wait.

use crate::file;
use crate::file::error::sql_error;
use moorage_adapter::{AdapterError, Result};
use rusqlite::{Connection, OpenFlags};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// How long a write waits for another program's transaction on the file.
const BUSY_TIMEOUT: Duration = Duration::from_secs(30);

/// Opens the file if it is not open yet, and makes what is missing if `write`; whether it is open.
pub(super) fn ensure_open(
    db: &mut Option<Connection>,
    path: &Path,
    made: &AtomicBool,
    write: bool,
) -> Result<bool> {
    if db.is_none() {
        let exists = path.exists();
        if !write && !exists {
            return Ok(false);
        }
        made.store(!exists, Ordering::Relaxed);
        // Who only reads need not be able to write.
        let opened = if write { open(path) } else { open(path).or_else(|_| open_for_reading(path)) };
        *db = Some(opened?);
    }
    Ok(true)
}

pub(crate) async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T> + Send + 'static,
) -> Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(|e| AdapterError::Io {
        doing: "running work on the target file".into(),
        reason: e.to_string(),
    })?
}

pub(crate) fn open(path: &Path) -> Result<Connection> {
    let failed = |e| sql_error(path, "opening", e);
    if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty() && !p.exists()) {
        return Err(AdapterError::refused(
            format!("target {}", path.display()),
            format!("the folder {} does not exist", folder.display()),
        ));
    }
    if !path.exists() {
        // Rows may be as confidential as in the source: never for everyone, whatever the umask says.
        let made = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o640).open(path);
        // If it cannot be made, opening it says why.
        drop(made);
    }
    let flags =
        OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let db = Connection::open_with_flags(path, flags).map_err(failed)?;
    db.busy_timeout(BUSY_TIMEOUT).map_err(failed)?;
    db.set_prepared_statement_cache_capacity(256);
    // FULL: a commit in write-ahead mode is on the disk when it returns (https://www.sqlite.org/pragma.html#pragma_synchronous).
    // The cache bounds memory, also that of a transaction of any size, which spills into the log.
    db.execute_batch(
        "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA cache_size = -32768;
         PRAGMA wal_autocheckpoint = 4000; PRAGMA journal_size_limit = 67108864;",
    )
    .map_err(failed)?;
    Ok(db)
}

pub(super) fn open_for_reading(path: &Path) -> Result<Connection> {
    file::open::open(path).map_err(|e| sql_error(path, "opening", e))
}
