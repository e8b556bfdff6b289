//! What a run says of itself, every second, for whoever looks.

use super::base::StateStore;
use super::runs::RunSums;
use super::samples::{pipeline_number, table_number};
use crate::error::Result;
use chrono::{DateTime, Utc};
use moorage_adapter::Usage;
use moorage_core::change::counters::Operations;
use moorage_core::watch::histogram::Durations;
use moorage_core::watch::meter::TableTotals;
use moorage_core::watch::sample::{AppliedTransaction, Lags};
use rusqlite::{OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What the writer is at while the target has a batch.
pub const MERGES: &str = "merges a batch";
/// What the reader is at while nothing comes.
pub const WAITS_FOR_SOURCE: &str = "waits for the source";

/// Why nothing is merged where no table is.
pub const ALL_HELD: &str = "all tables are held, and wait for a decision: `moorage drift`";

/// What a part of a run is at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standing {
    /// `waits for the source`, `waits for room`.
    pub doing: String,
    /// Since when.
    pub since: DateTime<Utc>,
}

/// A table whose changes are kept until someone decides.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldTable {
    /// The source table.
    pub table: String,
    /// When the first change that is kept was committed, by Moorage's clock.
    pub since: DateTime<Utc>,
}

/// A table that is being read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadingTable {
    /// The source table.
    pub table: String,
    /// Rows until now.
    pub rows: u64,
    /// Of how many, as the source estimates; none if it does not.
    pub of: Option<u64>,
}

impl ReadingTable {
    /// How much of it is read, of 100, at most 99: estimates are no more than that.
    pub fn percent(&self) -> Option<u64> {
        let of = self.of.filter(|of| *of > 0)?;
        Some((self.rows.saturating_mul(100) / of).min(99))
    }
}

/// A table whose reading was broken off, and that was not read since.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BrokenOff {
    /// The source table.
    pub table: String,
    /// By what.
    pub why: String,
}

/// What was done in a second, on the average of the last ten.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Rates {
    /// Changes that were read.
    pub read: f64,
    /// Their bytes.
    pub read_bytes: f64,
    /// Changes that were applied.
    pub applied: f64,
    /// Batches that the target committed.
    pub merges: f64,
}

/// The bounds of what lag is counted by since a run began: from what nobody feels to a whole day.
pub const LAG_BOUNDS: [Duration; 16] = [
    Duration::from_millis(5),
    Duration::from_millis(10),
    Duration::from_millis(25),
    Duration::from_millis(50),
    Duration::from_millis(100),
    Duration::from_millis(250),
    Duration::from_millis(500),
    Duration::from_secs(1),
    Duration::from_secs(2),
    Duration::from_secs(5),
    Duration::from_secs(10),
    Duration::from_secs(30),
    Duration::from_secs(120),
    Duration::from_secs(600),
    Duration::from_secs(3600),
    Duration::from_secs(86_400),
];

/// How many transactions of a run had which lag.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct LagCounts {
    /// How many had none above each of the [bounds](LAG_BOUNDS).
    pub up_to: Vec<u64>,
    /// How many there were.
    pub count: u64,
    /// The sum of all, in seconds, within 4 %.
    pub sum_s: f64,
}

impl LagCounts {
    /// Of a distribution.
    pub fn of(durations: &Durations) -> Self {
        let (up_to, sum) = durations.up_to(&LAG_BOUNDS);
        Self { up_to, count: durations.count(), sum_s: sum.as_secs_f64() }
    }
}

/// The same of the whole lag and of its steps.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct LagsCounts {
    /// The whole.
    pub whole: LagCounts,
    /// From the source's commit until it was read.
    pub capture: LagCounts,
    /// Until its batch was taken up.
    pub queue: LagCounts,
    /// Until the target had committed.
    pub apply: LagCounts,
}

impl From<&Lags> for LagsCounts {
    fn from(lags: &Lags) -> Self {
        let [whole, capture, queue, apply] =
            [&lags.whole, &lags.capture, &lags.queue, &lags.apply].map(LagCounts::of);
        Self { whole, capture, queue, apply }
    }
}

/// What a run says of itself. Losing it loses nothing: it is said again a second later.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Published {
    /// The run.
    pub run: i64,
    /// Everything that was committed before this moment, by Moorage's clock, is in the target.
    pub complete_until: Option<DateTime<Utc>>,
    /// How far the target was behind when this was said, in microseconds.
    pub behind_us: Option<u64>,
    /// The source's clock minus Moorage's, in microseconds.
    pub clock_skew_us: i64,
    /// Bytes to be read; none where that is not known.
    pub unread_bytes: Option<u64>,
    /// What the source keeps for the pipeline, in bytes.
    pub kept_bytes: Option<u64>,
    /// What it may keep.
    pub limit_bytes: Option<u64>,
    /// Changes that were read and not applied, and their bytes.
    pub on_the_way: (u64, u64),
    /// Bytes that wait between reader and batch, and how many may.
    pub queued_bytes: (u64, u64),
    /// What reads from the source.
    pub reader: Option<Standing>,
    /// What collects a batch.
    pub queue: Option<Standing>,
    /// What writes to the target.
    pub writer: Option<Standing>,
    /// What was done since the run began.
    pub sums: RunSums,
    /// The lag of what was applied since the run began.
    pub lags: LagsCounts,
    /// How fast it is.
    pub rates: Rates,
    /// What the run's process has asked of the source; none where that costs nobody anything.
    pub source_usage: Option<Usage>,
    /// Likewise of the target.
    pub target_usage: Option<Usage>,
    /// Tables that are being read.
    pub reading: Vec<ReadingTable>,
    /// Tables whose reading was broken off.
    pub broken_off: Vec<BrokenOff>,
    /// What it tries again after, and since when nothing was carried; none while something is.
    pub retrying: Option<Standing>,
    /// Tables whose changes are kept.
    pub held: Vec<HeldTable>,
    /// The last transactions that were applied, the last first.
    pub recent: Vec<AppliedTransaction>,
}

impl Published {
    /// What keeps it from coming closer, of a run that says how it stands; `doing` is what it notes of itself.
    pub fn why(&self, doing: &str) -> String {
        let since = |at: DateTime<Utc>| at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
        let all_held =
            self.complete_until.is_some_and(|until| self.held.iter().any(|held| held.since == until));
        if all_held {
            return ALL_HELD.into();
        }
        match (&self.reader, &self.writer) {
            // No stream is open: it sets up, reads, or tries again.
            (None, _) | (_, None) => doing.into(),
            (_, Some(writer)) if writer.doing == MERGES => {
                format!("the target has been at a batch since {}", since(writer.since))
            }
            (Some(reader), _) if reader.doing == WAITS_FOR_SOURCE => {
                format!("nothing has come from the source since {}", since(reader.since))
            }
            _ => doing.into(),
        }
    }
}

impl StateStore {
    /// Forgets what earlier runs of a pipeline said of its tables.
    pub fn publishes_anew(&self, pipeline: &str) {
        self.note(self.in_transaction(|db| {
            let number = pipeline_number(db, pipeline)?;
            db.execute("DELETE FROM published_tables WHERE pipeline = ?1", [number])
        }));
    }

    /// Says how a run stands, and what it has done to the tables that it has done something to since the last time.
    pub fn publish(
        &self,
        pipeline: &str,
        at: DateTime<Utc>,
        published: &Published,
        tables: &[(String, TableTotals)],
    ) {
        let Ok(content) = serde_json::to_string(published) else { return };
        self.note(self.in_transaction(|db| {
            let number = pipeline_number(db, pipeline)?;
            db.prepare_cached("INSERT OR REPLACE INTO published (pipeline, at, content) VALUES (?1, ?2, ?3)")?
                .execute(params![number, at.to_rfc3339(), content])?;
            let sql = "INSERT OR REPLACE INTO published_tables (pipeline, source_table, inserts, updates, deletes, truncates, bytes, lag_us,
              committed_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
            for (table, totals) in tables {
                let of = &totals.operations;
                db.prepare_cached(sql)?.execute(params![
                    number,
                    table_number(db, number, table)?,
                    of.inserts,
                    of.updates,
                    of.deletes,
                    of.truncates,
                    totals.bytes,
                    totals.lag_us,
                    totals.committed_at.map(|at| at.to_rfc3339()),
                ])?;
            }
            Ok(())
        }));
    }

    /// What the run of a pipeline said last, and when; none if none ever did.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn published(&self, pipeline: &str) -> Result<Option<(DateTime<Utc>, Published)>> {
        let sql = "SELECT at, content FROM published JOIN pipelines p ON p.id = pipeline WHERE p.name = ?1";
        let read = |r: &Row<'_>| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?));
        let found = self.db().query_row(sql, [pipeline], read).optional().map_err(|e| self.failed(&e))?;
        Ok(found.and_then(|(at, content)| {
            let at = DateTime::parse_from_rfc3339(&at).ok()?.to_utc();
            Some((at, serde_json::from_str(&content).ok()?))
        }))
    }

    /// The same, if it is of the newest run: one that begins has said nothing yet, whatever an earlier one said last.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn published_by_newest(&self, pipeline: &str) -> Result<Option<(DateTime<Utc>, Published)>> {
        let newest = self.last_run(pipeline)?.map(|run| run.run);
        Ok(self.published(pipeline)?.filter(|(_, said)| newest == Some(said.run)))
    }

    /// What the last run of a pipeline has done to its tables, by their names.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn published_tables(&self, pipeline: &str) -> Result<Vec<(String, TableTotals)>> {
        let sql = "SELECT t.name, inserts, updates, deletes, truncates, bytes, lag_us, committed_at
          FROM published_tables s JOIN pipelines p ON p.id = s.pipeline JOIN source_tables t ON t.id = s.source_table
          WHERE p.name = ?1 ORDER BY t.name";
        let read = |r: &Row<'_>| {
            let committed_at: Option<String> = r.get(7)?;
            let committed_at = committed_at.and_then(|at| DateTime::parse_from_rfc3339(&at).ok());
            let operations = Operations {
                inserts: r.get(1)?,
                updates: r.get(2)?,
                deletes: r.get(3)?,
                truncates: r.get(4)?,
            };
            let (bytes, lag_us) = (r.get(5)?, r.get(6)?);
            let committed_at = committed_at.map(|at| at.to_utc());
            Ok((r.get(0)?, TableTotals { operations, bytes, lag_us, committed_at }))
        };
        self.all(sql, params![pipeline], read)
    }
}
