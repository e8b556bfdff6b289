//! Past and present runs.

use super::base::StateStore;
use crate::error::Result;
use chrono::Utc;
use moorage_core::change::counters::Operations;
use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

/// How many runs of a pipeline are remembered.
const KEPT_RUNS: i64 = 10_000;

/// What a run has done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunSums {
    /// Rows that were read by snapshot.
    pub snapshot_rows: u64,
    /// Changes that were applied.
    #[serde(flatten)]
    pub operations: Operations,
    /// Their bytes as read from the source.
    pub bytes: u64,
    /// Transactions that were applied.
    pub transactions: u64,
    /// Batches that the target committed.
    pub merges: u64,
    /// Warnings.
    pub warnings: u64,
    /// How often a lost connection was tried again.
    pub retries: u64,
}

/// A past or present run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RunRecord {
    /// Its number.
    pub run: i64,
    /// The process.
    pub pid: u32,
    /// Where that runs, or ran.
    pub host: String,
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
    /// What it has done.
    pub sums: RunSums,
}

const COLUMNS: &str =
    "id, pid, host, started_at, ended_at, outcome, message, doing, doing_since, snapshot_rows,
  inserts, updates, deletes, truncates, bytes, transactions, merges, warnings, retries";

impl RunRecord {
    fn read(r: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            run: r.get(0)?,
            pid: r.get(1)?,
            host: r.get(2)?,
            started_at: r.get(3)?,
            ended_at: r.get(4)?,
            outcome: r.get(5)?,
            message: r.get(6)?,
            doing: r.get(7)?,
            doing_since: r.get(8)?,
            sums: RunSums {
                snapshot_rows: r.get(9)?,
                operations: Operations {
                    inserts: r.get(10)?,
                    updates: r.get(11)?,
                    deletes: r.get(12)?,
                    truncates: r.get(13)?,
                },
                bytes: r.get(14)?,
                transactions: r.get(15)?,
                merges: r.get(16)?,
                warnings: r.get(17)?,
                retries: r.get(18)?,
            },
        })
    }
}

impl StateStore {
    /// Notes that a run begins; gives its number.
    ///
    /// # Errors
    /// If the store cannot be written.
    pub fn begin_run(&self, pipeline: &str) -> Result<i64> {
        let db = self.db();
        let host = gethostname::gethostname().to_string_lossy().into_owned();
        let sql = "INSERT INTO runs (pipeline, pid, host, started_at, doing, doing_since) VALUES (?1, ?2, ?3, ?4, 'starting', ?4)";
        let begun = params![pipeline, std::process::id(), host, Utc::now().to_rfc3339()];
        db.execute(sql, begun).map_err(|e| self.failed(&e))?;
        let run = db.last_insert_rowid();
        let sql = "DELETE FROM runs WHERE pipeline = ?1 AND id <= (SELECT id FROM runs WHERE pipeline = ?1 ORDER BY id DESC LIMIT 1 OFFSET ?2)";
        self.note(db.execute(sql, params![pipeline, KEPT_RUNS]));
        Ok(run)
    }

    /// Notes how a run ended.
    pub fn end_run(&self, run: i64, outcome: &str, message: &str) {
        let sql = "UPDATE runs SET ended_at = ?2, outcome = ?3, message = ?4, doing = NULL, doing_since = NULL WHERE id = ?1";
        self.note(self.db().execute(sql, params![run, Utc::now().to_rfc3339(), outcome, message]));
    }

    /// Notes what a run is doing now.
    pub fn run_does(&self, run: i64, doing: &str) {
        let sql = "UPDATE runs SET doing_since = CASE WHEN doing = ?2 THEN doing_since ELSE ?3 END, doing = ?2 WHERE id = ?1";
        self.note(self.db().execute(sql, params![run, doing, Utc::now().to_rfc3339()]));
    }

    /// Notes what a run has done until now.
    pub fn run_has_done(&self, run: i64, sums: &RunSums) {
        let sql = "UPDATE runs SET snapshot_rows = ?2, inserts = ?3, updates = ?4, deletes = ?5, truncates = ?6, bytes = ?7,
          transactions = ?8, merges = ?9, warnings = ?10, retries = ?11 WHERE id = ?1";
        let of = &sums.operations;
        let sums = params![
            run,
            sums.snapshot_rows,
            of.inserts,
            of.updates,
            of.deletes,
            of.truncates,
            sums.bytes,
            sums.transactions,
            sums.merges,
            sums.warnings,
            sums.retries
        ];
        self.note(self.db().prepare_cached(sql).and_then(|mut update| update.execute(sums)));
    }

    /// The newest run of a pipeline.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn last_run(&self, pipeline: &str) -> Result<Option<RunRecord>> {
        Ok(self.runs(pipeline, None, 1)?.pop())
    }

    /// The runs of a pipeline that had not ended at a time (RFC 3339, UTC), or all; the newest first, so many at most.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn runs(&self, pipeline: &str, since: Option<&str>, most: u32) -> Result<Vec<RunRecord>> {
        let sql = format!(
            "SELECT {COLUMNS} FROM runs WHERE pipeline = ?1 AND coalesce(ended_at, '9') >= ?2 ORDER BY id DESC LIMIT ?3"
        );
        self.all(&sql, params![pipeline, since.unwrap_or(""), most], RunRecord::read)
    }

    /// One run, with its pipeline's name.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn run(&self, run: i64) -> Result<Option<(String, RunRecord)>> {
        let sql = format!("SELECT {COLUMNS}, pipeline FROM runs WHERE id = ?1");
        let found = self.db().query_row(&sql, [run], |r| Ok((r.get(19)?, RunRecord::read(r)?)));
        found.optional().map_err(|e| self.failed(&e))
    }
}
