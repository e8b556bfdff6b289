//! Local state in the project's `.moorage/` folder: past runs, what a run is doing, earlier looks.
//!
//! Losing it loses no data: everything that counts is in the target.

use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::folder;
use chrono::Utc;
use moorage_adapter::Event;
use moorage_core::change::counters::Operations;
use moorage_core::model::drift::DriftPolicy;
use rusqlite::{Connection, OptionalExtension, params};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS runs (
  id INTEGER PRIMARY KEY, pipeline TEXT NOT NULL, pid INTEGER NOT NULL, host TEXT NOT NULL, started_at TEXT NOT NULL,
  ended_at TEXT, outcome TEXT, message TEXT, doing TEXT, doing_since TEXT);
CREATE TABLE IF NOT EXISTS positions (
  pipeline TEXT NOT NULL, at TEXT NOT NULL, position TEXT NOT NULL, committed_at TEXT NOT NULL, changes INTEGER NOT NULL,
  lag_ms INTEGER NOT NULL, merge_ms INTEGER NOT NULL);
CREATE INDEX IF NOT EXISTS positions_at ON positions (pipeline, at);
CREATE TABLE IF NOT EXISTS table_states (
  pipeline TEXT NOT NULL, source_table TEXT NOT NULL, seen_at TEXT NOT NULL, inserts INTEGER NOT NULL,
  updates INTEGER NOT NULL, deletes INTEGER NOT NULL, truncates INTEGER NOT NULL, PRIMARY KEY (pipeline, source_table));
CREATE TABLE IF NOT EXISTS kept_in_source (
  pipeline TEXT PRIMARY KEY, seen_at TEXT NOT NULL, bytes INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS asked_again (
  pipeline TEXT NOT NULL, source_table TEXT NOT NULL, asked_at TEXT NOT NULL, outcome TEXT, PRIMARY KEY (pipeline, source_table));
CREATE TABLE IF NOT EXISTS asked_decisions (
  pipeline TEXT NOT NULL,
  id INTEGER NOT NULL,
  decision TEXT NOT NULL,
  asked_at TEXT NOT NULL,
  outcome TEXT,
  PRIMARY KEY (pipeline, id)
);";

/// The last two are what SQLite's own advice asks of files that may be damaged on purpose ("Defense Against The Dark Arts").
const SETTINGS: &str = "
PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; PRAGMA trusted_schema = OFF; PRAGMA cell_size_check = ON;";

/// Merges are noted at most this often.
const NOTE_EVERY: Duration = Duration::from_secs(1);
/// How many merges are remembered of a pipeline.
const KEPT_POSITIONS: u32 = 100_000;

/// A past or present run.
#[derive(Clone, Debug, Serialize)]
pub struct RunRecord {
    /// When it began, RFC 3339.
    pub started_at: String,
    /// When it ended.
    pub ended_at: Option<String>,
    /// `done`, `stopped`, `failed`; none while it runs or if it was killed.
    pub outcome: Option<String>,
    /// Why it ended.
    pub message: Option<String>,
    /// What it is doing.
    pub doing: Option<String>,
    /// Since when.
    pub doing_since: Option<String>,
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

/// The state store of a project.
pub struct StateStore {
    path: PathBuf,
    db: Mutex<Connection>,
    last_note: Mutex<Option<Instant>>,
    /// Whether the last word was that something is waited for.
    waits: AtomicBool,
}

impl StateStore {
    /// Opens the store, making it if it is missing.
    ///
    /// # Errors
    /// If the folder cannot be written.
    pub fn open(folder: &Path) -> Result<Self> {
        let path = folder.join("state.db");
        let failed = |reason: String| EngineError::State { path: path.clone(), reason };
        folder::make(folder)?;
        // Made here, so that it and what SQLite puts beside it have the rights that are meant.
        drop(folder::open(&path).map_err(|e| failed(e.to_string()))?);
        // SQLite opens these itself, and follows links.
        for beside in ["-wal", "-shm", "-journal"] {
            let path = folder.join(format!("state.db{beside}"));
            folder::refuse_link(&path)
                .map_err(|e| EngineError::State { path: path.clone(), reason: e.to_string() })?;
        }
        let db = Connection::open(&path).map_err(|e| failed(e.to_string()))?;
        let set_up = db
            .busy_timeout(Duration::from_secs(5))
            .and_then(|()| db.execute_batch(SETTINGS))
            .and_then(|()| db.execute_batch(SCHEMA));
        set_up.map_err(|e| failed(broken(&e)))?;
        Ok(Self { path, db: Mutex::new(db), last_note: Mutex::default(), waits: AtomicBool::new(false) })
    }

    fn db(&self) -> MutexGuard<'_, Connection> {
        self.db.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn failed(&self, error: &rusqlite::Error) -> EngineError {
        EngineError::State { path: self.path.clone(), reason: broken(error) }
    }

    /// Notes that a run begins; gives its number.
    pub(crate) fn begin_run(&self, pipeline: &str) -> Result<i64> {
        let db = self.db();
        let host = gethostname::gethostname().to_string_lossy().into_owned();
        db.execute(
            "INSERT INTO runs (pipeline, pid, host, started_at, doing, doing_since) VALUES (?1, ?2, ?3, ?4, 'starting', ?4)",
            params![pipeline, std::process::id(), host, Utc::now().to_rfc3339()],
        )
        .map_err(|e| self.failed(&e))?;
        Ok(db.last_insert_rowid())
    }

    /// Notes how a run ended.
    pub(crate) fn end_run(&self, run: i64, outcome: &str, message: &str) {
        let sql = "UPDATE runs SET ended_at = ?2, outcome = ?3, message = ?4, doing = NULL, doing_since = NULL WHERE id = ?1";
        self.note(self.db().execute(sql, params![run, Utc::now().to_rfc3339(), outcome, message]));
    }

    /// A lost note is no reason to stop a run.
    fn note(&self, done: rusqlite::Result<usize>) {
        if let Err(error) = done {
            tracing::warn!("state folder {}: {error}", self.path.display());
        }
    }

    /// Notes what an event says of a run.
    pub(crate) fn record(&self, pipeline: &str, run: i64, event: &Event) {
        let doing = match event {
            Event::Waiting { what, .. } => what.clone(),
            Event::SnapshotStarted { tables } => format!("reading {} tables", tables.len()),
            Event::Streaming { position } => format!("following changes from {position}"),
            Event::Retrying { reason, .. } => format!("retrying: {reason}"),
            Event::Stopping { by } => format!("stopping ({by})"),
            Event::Merged { position, .. } => {
                self.record_merge(pipeline, event);
                if !self.waits.load(Ordering::Relaxed) {
                    return;
                }
                format!("following changes from {position}")
            }
            _ => return,
        };
        self.waits.store(matches!(event, Event::Waiting { .. }), Ordering::Relaxed);
        let sql = "UPDATE runs SET doing_since = CASE WHEN doing = ?2 THEN doing_since ELSE ?3 END, doing = ?2 WHERE id = ?1";
        self.note(self.db().execute(sql, params![run, doing, Utc::now().to_rfc3339()]));
    }

    fn record_merge(&self, pipeline: &str, event: &Event) {
        let Event::Merged { changes, committed_at, position, lag_ms, merge_ms, .. } = event else { return };
        {
            let mut last = self.last_note.lock().unwrap_or_else(PoisonError::into_inner);
            if last.is_some_and(|at| at.elapsed() < NOTE_EVERY) {
                return;
            }
            *last = Some(Instant::now());
        }
        let db = self.db();
        let sql = "INSERT INTO positions (pipeline, at, position, committed_at, changes, lag_ms, merge_ms) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let row = params![
            pipeline,
            Utc::now().to_rfc3339(),
            position,
            committed_at.to_rfc3339(),
            changes,
            lag_ms,
            merge_ms
        ];
        self.note(db.execute(sql, row));
        let oldest = db.last_insert_rowid() - i64::from(KEPT_POSITIONS);
        self.note(db.execute("DELETE FROM positions WHERE rowid < ?1", [oldest]));
    }

    /// Remembers how much the source keeps for the next look; gives time (RFC 3339) and size of the last look.
    pub(crate) fn look_at_kept(&self, pipeline: &str, bytes: u64) -> Result<Option<(String, u64)>> {
        let db = self.db();
        let sql = "SELECT seen_at, bytes FROM kept_in_source WHERE pipeline = ?1";
        let before = db.query_row(sql, [pipeline], |r| Ok((r.get(0)?, r.get(1)?))).optional();
        let sql = "INSERT OR REPLACE INTO kept_in_source (pipeline, seen_at, bytes) VALUES (?1, ?2, ?3)";
        let now = Utc::now().to_rfc3339();
        db.execute(sql, params![pipeline, now, bytes]).and(before).map_err(|e| self.failed(&e))
    }

    /// Asks the process that runs a pipeline to read tables again, together.
    pub(crate) fn ask_again(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        let sql = "INSERT OR REPLACE INTO asked_again (pipeline, source_table, asked_at) VALUES (?1, ?2, ?3)";
        let mut db = self.db();
        let mut asked = || {
            let transaction = db.transaction()?;
            for table in tables {
                transaction.execute(sql, params![pipeline, table, Utc::now().to_rfc3339()])?;
            }
            transaction.commit()
        };
        asked().map_err(|e| self.failed(&e))
    }

    /// The tables that are to be read again, in the order asked.
    pub(crate) fn asked_again(&self, pipeline: &str) -> Result<Vec<String>> {
        let db = self.db();
        let sql =
            "SELECT source_table FROM asked_again WHERE pipeline = ?1 AND outcome IS NULL ORDER BY asked_at";
        let mut query = db.prepare_cached(sql).map_err(|e| self.failed(&e))?;
        let rows = query.query_map([pipeline], |r| r.get(0)).map_err(|e| self.failed(&e))?;
        rows.collect::<rusqlite::Result<_>>().map_err(|e| self.failed(&e))
    }

    /// Says what came of it: empty if it was done.
    pub(crate) fn answer_again(&self, pipeline: &str, table: &str, outcome: &str) {
        let sql = "UPDATE asked_again SET outcome = ?3 WHERE pipeline = ?1 AND source_table = ?2";
        self.note(self.db().execute(sql, params![pipeline, table, outcome]));
    }

    /// What came of it, once it is known.
    pub(crate) fn answer_to_again(&self, pipeline: &str, table: &str) -> Result<Option<String>> {
        let sql = "SELECT outcome FROM asked_again WHERE pipeline = ?1 AND source_table = ?2";
        let found = self.db().query_row(sql, [pipeline, table], |r| r.get(0)).optional();
        found.map(Option::flatten).map_err(|e| self.failed(&e))
    }

    /// Takes back what was asked for.
    pub(crate) fn unask_again(&self, pipeline: &str, table: &str) {
        let sql = "DELETE FROM asked_again WHERE pipeline = ?1 AND source_table = ?2";
        self.note(self.db().execute(sql, [pipeline, table]));
    }

    /// Asks the process that runs a pipeline, or will, to do something about a change of structure that is held.
    pub(crate) fn ask_decision(&self, pipeline: &str, id: u64, decision: DriftPolicy) -> Result<()> {
        let sql = "INSERT OR REPLACE INTO asked_decisions (pipeline, id, decision, asked_at) VALUES (?1, ?2, ?3, ?4)";
        let asked = params![pipeline, id, decision.word(), Utc::now().to_rfc3339()];
        self.db().execute(sql, asked).map(|_| ()).map_err(|e| self.failed(&e))
    }

    /// The decisions that are to be carried out, in the order asked.
    pub(crate) fn asked_decisions(&self, pipeline: &str) -> Result<Vec<(u64, DriftPolicy)>> {
        let db = self.db();
        let sql = "SELECT id, decision FROM asked_decisions WHERE pipeline = ?1 AND outcome IS NULL ORDER BY asked_at";
        let mut query = db.prepare_cached(sql).map_err(|e| self.failed(&e))?;
        let read = |r: &rusqlite::Row<'_>| Ok((r.get::<_, u64>(0)?, r.get::<_, String>(1)?));
        let rows = query.query_map([pipeline], read).map_err(|e| self.failed(&e))?;
        let all: Vec<(u64, String)> = rows.collect::<rusqlite::Result<_>>().map_err(|e| self.failed(&e))?;
        Ok(all.into_iter().filter_map(|(id, word)| Some((id, DriftPolicy::of_decision(&word)?))).collect())
    }

    /// Says what came of a decision: empty if it was carried out.
    pub(crate) fn answer_decision(&self, pipeline: &str, id: u64, outcome: &str) {
        let sql = "UPDATE asked_decisions SET outcome = ?3 WHERE pipeline = ?1 AND id = ?2";
        self.note(self.db().execute(sql, params![pipeline, id, outcome]));
    }

    /// What came of a decision, once it is known.
    pub(crate) fn answer_to_decision(&self, pipeline: &str, id: u64) -> Result<Option<String>> {
        let sql = "SELECT outcome FROM asked_decisions WHERE pipeline = ?1 AND id = ?2";
        let found = self.db().query_row(sql, params![pipeline, id], |r| r.get(0)).optional();
        found.map(Option::flatten).map_err(|e| self.failed(&e))
    }

    /// The newest run of a pipeline.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn last_run(&self, pipeline: &str) -> Result<Option<RunRecord>> {
        let sql = "SELECT started_at, ended_at, outcome, message, doing, doing_since FROM runs WHERE pipeline = ?1 ORDER BY id DESC LIMIT 1";
        self.db()
            .query_row(sql, [pipeline], |r| {
                Ok(RunRecord {
                    started_at: r.get(0)?,
                    ended_at: r.get(1)?,
                    outcome: r.get(2)?,
                    message: r.get(3)?,
                    doing: r.get(4)?,
                    doing_since: r.get(5)?,
                })
            })
            .optional()
            .map_err(|e| self.failed(&e))
    }

    /// Remembers a table's counters for the next look; gives those of the last look.
    ///
    /// # Errors
    /// If the store cannot be read or written.
    pub fn look(&self, pipeline: &str, table: &str, now: &Operations) -> Result<Option<Operations>> {
        let db = self.db();
        let sql = "SELECT inserts, updates, deletes, truncates FROM table_states WHERE pipeline = ?1 AND source_table = ?2";
        let before = db
            .query_row(sql, [pipeline, table], |r| {
                Ok(Operations {
                    inserts: r.get(0)?,
                    updates: r.get(1)?,
                    deletes: r.get(2)?,
                    truncates: r.get(3)?,
                })
            })
            .optional()
            .map_err(|e| self.failed(&e))?;
        let sql = "INSERT OR REPLACE INTO table_states (pipeline, source_table, seen_at, inserts, updates, deletes, truncates) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        let seen_at = Utc::now().to_rfc3339();
        db.execute(
            sql,
            params![pipeline, table, seen_at, now.inserts, now.updates, now.deletes, now.truncates],
        )
        .map_err(|e| self.failed(&e))?;
        Ok(before)
    }
}
