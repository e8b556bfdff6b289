//! The store itself: its file, and how it is asked.

use super::schema;
use crate::error::{Result, StoreError};
use crate::folder;
use rusqlite::{Connection, Row, ToSql};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// The last two are what SQLite's own advice asks of files that may be damaged on purpose ("Defense Against The Dark Arts").
const SETTINGS: &str = "
PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON;";

/// How long others are waited for.
const PATIENCE: Duration = Duration::from_secs(5);

/// Does something again while others are in the way. Where two make the file at once and each waits for the other to let go of it, SQLite
/// ends one wait at once, whatever its time limit is (`sqlite3_busy_handler`).
fn patiently(work: impl Fn() -> rusqlite::Result<()>) -> rusqlite::Result<()> {
    let began = Instant::now();
    loop {
        match work() {
            Err(error)
                if error.sqlite_error_code() == Some(rusqlite::ErrorCode::DatabaseBusy)
                    && began.elapsed() < PATIENCE =>
            {
                std::thread::sleep(Duration::from_millis(10));
            }
            done => return done,
        }
    }
}

/// What is wrong with the store, and the way out where there is one: what does not come from the disk, from its rights or
/// from others is in the file itself.
fn broken(error: &rusqlite::Error) -> String {
    use rusqlite::ErrorCode as Code;
    // The file was opened for writing before SQLite saw it: that it "is read only", without more, is what its own header
    // says of it ("The SQLite Database File Format", 1.3.2: a write version above 2).
    let by_its_header =
        error.sqlite_error().is_some_and(|e| e.extended_code == rusqlite::ffi::SQLITE_READONLY);
    match error.sqlite_error_code() {
        _ if by_its_header => with_way_out(error),
        Some(
            Code::DatabaseBusy
            | Code::DatabaseLocked
            | Code::DiskFull
            | Code::SystemIoFailure
            | Code::ReadOnly
            | Code::PermissionDenied
            | Code::CannotOpen
            | Code::OutOfMemory,
        ) => error.to_string(),
        _ => with_way_out(error),
    }
}

fn with_way_out(error: &rusqlite::Error) -> String {
    format!(
        "{error}. Remove this file and run again: it only holds the history of runs, and no data is lost with it"
    )
}

/// Device and number of a file; none if it is not there.
fn which(path: &Path) -> Option<(u64, u64)> {
    std::fs::metadata(path).ok().map(|found| (found.dev(), found.ino()))
}

/// The state store of a project.
pub struct StateStore {
    path: PathBuf,
    db: Mutex<Connection>,
    /// Which file it was when it was opened.
    file: Option<(u64, u64)>,
    /// Whether it was said that something could not be noted.
    said: AtomicBool,
}

impl StateStore {
    /// Opens the store, making it if it is missing.
    ///
    /// # Errors
    /// If the folder cannot be written, or the file is not what it should be.
    pub fn open(folder: &Path) -> Result<Self> {
        let path = folder.join("state.db");
        let failed = |reason: String| StoreError { path: path.clone(), reason };
        folder::make(folder)?;
        // Made here, so that it and what SQLite puts beside it have the rights that are meant.
        drop(folder::open(&path).map_err(|e| failed(e.to_string()))?);
        // SQLite opens these itself, and follows links.
        for beside in ["-wal", "-shm", "-journal"] {
            let path = folder.join(format!("state.db{beside}"));
            folder::refuse_link(&path)
                .map_err(|e| StoreError { path: path.clone(), reason: e.to_string() })?;
        }
        let db = Connection::open(&path).map_err(|e| failed(e.to_string()))?;
        let ready = db
            .busy_timeout(PATIENCE)
            .and_then(|()| patiently(|| db.execute_batch(SETTINGS).and_then(|()| schema::set_up(&db))));
        ready.map_err(|e| failed(broken(&e)))?;
        Ok(Self { file: which(&path), path, db: Mutex::new(db), said: AtomicBool::new(false) })
    }

    pub(super) fn db(&self) -> MutexGuard<'_, Connection> {
        self.db.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn failed(&self, error: &rusqlite::Error) -> StoreError {
        StoreError { path: self.path.clone(), reason: broken(error) }
    }

    /// Whether its file is still the one in its place: someone may have removed the folder.
    pub fn is_in_place(&self) -> bool {
        self.file.is_some() && which(&self.path) == self.file
    }

    /// All rows that a query gives.
    pub(super) fn all<T>(
        &self,
        sql: &str,
        of: &[&dyn ToSql],
        read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>> {
        let db = self.db();
        let rows = || -> rusqlite::Result<Vec<T>> { db.prepare_cached(sql)?.query_map(of, read)?.collect() };
        rows().map_err(|e| self.failed(&e))
    }

    /// Does something in a transaction of its own.
    pub(super) fn in_transaction<T>(
        &self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T>,
    ) -> rusqlite::Result<T> {
        let mut db = self.db();
        let transaction = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        let done = work(&transaction)?;
        transaction.commit()?;
        Ok(done)
    }

    /// A lost note is no reason to stop a run. It is said once: the next one comes a second later.
    pub(super) fn note<T>(&self, done: rusqlite::Result<T>) {
        let Err(error) = done else { return };
        let path = self.path.display();
        match self.said.swap(true, Ordering::Relaxed) {
            false => tracing::warn!("state folder {path}: {error}. What a run notes there is not complete"),
            true => tracing::debug!("state folder {path}: {error}"),
        }
    }
}
