//! Samples over time: how they are written and read.
//!
//! Times are whole seconds since 1970, by Moorage's clock; durations are in microseconds. Distributions are kept as
//! [`Durations::to_bytes`] writes them, and for people's own queries as a few quantiles beside them (see `views`).

use super::base::StateStore;
use crate::error::Result;
use chrono::{DateTime, Utc};
use moorage_core::change::counters::Operations;
use moorage_core::watch::histogram::{Durations, Fineness};
use moorage_core::watch::sample::{AppliedTransaction, Lags, Sample, TableSample};
use moorage_core::watch::tiers::{self, Tier};
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::time::Duration;

const COLUMNS: &str =
    "at, seconds, inserts, updates, deletes, truncates, bytes, transactions, merges, merging_us, behind_us,
  unread_bytes, kept_bytes, limit_bytes, lag, capture, queue, apply";

fn us(duration: Duration) -> i64 {
    i64::try_from(duration.as_micros()).unwrap_or(i64::MAX)
}

fn quantile(durations: &Durations, share: f64) -> Option<i64> {
    durations.quantile(share).map(us)
}

fn of_us(us: Option<i64>) -> Option<Duration> {
    us.map(|us| Duration::from_micros(us.max(0) as u64))
}

fn time(at: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(at, 0).unwrap_or_default()
}

/// What is drawn of a sample.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    /// When it begins.
    pub at: DateTime<Utc>,
    /// How long it is.
    pub span: Duration,
    /// The furthest that the target was behind.
    pub behind: Option<Duration>,
    /// Half of the transactions had no more lag; none if there was none.
    pub lag_p50: Option<Duration>,
    /// 95 of 100 had no more.
    pub lag_p95: Option<Duration>,
    /// Changes that were applied.
    pub operations: Operations,
    /// The most that the source kept, in bytes.
    pub kept_bytes: Option<u64>,
    /// Batches that the target committed.
    pub merges: u64,
}

/// A count that is kept: none is larger than what can be added up for as long as anything is kept.
fn count(r: &Row<'_>, at: usize) -> rusqlite::Result<u64> {
    Ok(r.get::<_, i64>(at)?.clamp(0, 1 << 48) as u64)
}

fn operations(r: &Row<'_>, first: usize) -> rusqlite::Result<Operations> {
    let [inserts, updates, deletes, truncates] =
        [first, first + 1, first + 2, first + 3].map(|at| count(r, at));
    Ok(Operations { inserts: inserts?, updates: updates?, deletes: deletes?, truncates: truncates? })
}

fn read_sample(r: &Row<'_>) -> rusqlite::Result<Sample> {
    let fine = |at: usize| -> rusqlite::Result<_> {
        Ok(Durations::from_bytes(Fineness::Fine, r.get_ref(at)?.as_blob()?))
    };
    let span = Duration::try_from_secs_f64(r.get(1)?).unwrap_or_default();
    Ok(Sample {
        operations: operations(r, 2)?,
        bytes: count(r, 6)?,
        transactions: count(r, 7)?,
        merges: count(r, 8)?,
        merging: of_us(r.get(9)?).unwrap_or_default(),
        behind: of_us(r.get(10)?),
        unread_bytes: r.get(11)?,
        kept_bytes: r.get(12)?,
        limit_bytes: r.get(13)?,
        lags: Lags { whole: fine(14)?, capture: fine(15)?, queue: fine(16)?, apply: fine(17)? },
        span,
        ..Sample::begin(time(r.get(0)?))
    })
}

fn read_slow(r: &Row<'_>) -> rusqlite::Result<AppliedTransaction> {
    let tables = r.get_ref(3)?.as_str()?;
    let committed_at = DateTime::parse_from_rfc3339(r.get_ref(0)?.as_str()?);
    Ok(AppliedTransaction {
        committed_at: committed_at.map(|at| at.to_utc()).unwrap_or_default(),
        position: r.get(1)?,
        changes: count(r, 2)?,
        tables: serde_json::from_str(tables).unwrap_or_default(),
        capture_us: count(r, 4)?,
        queue_us: count(r, 5)?,
        apply_us: count(r, 6)?,
    })
}

/// The number of a pipeline, which is given one if it has none.
pub(super) fn pipeline_number(db: &Connection, pipeline: &str) -> rusqlite::Result<i64> {
    db.prepare_cached("INSERT OR IGNORE INTO pipelines (name) VALUES (?1)")?.execute([pipeline])?;
    db.prepare_cached("SELECT id FROM pipelines WHERE name = ?1")?.query_row([pipeline], |r| r.get(0))
}

/// The number of a pipeline's table, which is given one if it has none.
pub(super) fn table_number(db: &Connection, pipeline: i64, table: &str) -> rusqlite::Result<i64> {
    let known = "SELECT id FROM source_tables WHERE pipeline = ?1 AND name = ?2";
    let known = db.prepare_cached(known)?.query_row(params![pipeline, table], |r| r.get(0)).optional()?;
    if let Some(known) = known {
        return Ok(known);
    }
    db.execute("INSERT INTO source_tables (pipeline, name) VALUES (?1, ?2)", params![pipeline, table])?;
    Ok(db.last_insert_rowid())
}

/// The sample of a stretch, with the slowest transactions in it.
pub(super) fn sample_at(db: &Connection, of: (i64, i64, i64)) -> rusqlite::Result<Option<Sample>> {
    let sql = format!("SELECT {COLUMNS} FROM samples WHERE pipeline = ?1 AND span = ?2 AND at = ?3");
    let found = db.prepare_cached(&sql)?.query_row(of, read_sample).optional()?;
    let Some(mut sample) = found else { return Ok(None) };
    let sql = "SELECT committed_at, position, changes, tables, capture_us, queue_us, apply_us FROM slow_transactions
      WHERE pipeline = ?1 AND span = ?2 AND at = ?3 ORDER BY place";
    sample.slowest = db.prepare_cached(sql)?.query_map(of, read_slow)?.collect::<rusqlite::Result<_>>()?;
    Ok(Some(sample))
}

/// Adds a sample to the stretch of this length that it begins in.
pub(super) fn put_sample(db: &Connection, pipeline: i64, span: i64, sample: &Sample) -> rusqlite::Result<()> {
    let at = tiers::begin_of(sample.from.timestamp(), span);
    let mut whole = match sample_at(db, (pipeline, span, at))? {
        Some(mut before) => {
            before.add(sample);
            before
        }
        None => sample.clone(),
    };
    whole.from = time(at);
    let s = &whole;
    let sql = "INSERT OR REPLACE INTO samples (pipeline, span, at, seconds, inserts, updates, deletes, truncates, bytes, transactions,
      merges, merging_us, behind_us, unread_bytes, kept_bytes, limit_bytes, lag_p50_us, lag_p95_us, lag_p99_us, lag_max_us,
      capture_p50_us, queue_p50_us, apply_p50_us, lag, capture, queue, apply)
      VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?22, ?23, ?24, ?25, ?26, ?27)";
    db.prepare_cached(sql)?.execute(params![
        pipeline,
        span,
        at,
        s.span.as_secs_f64(),
        s.operations.inserts,
        s.operations.updates,
        s.operations.deletes,
        s.operations.truncates,
        s.bytes,
        s.transactions,
        s.merges,
        us(s.merging),
        s.behind.map(us),
        s.unread_bytes,
        s.kept_bytes,
        s.limit_bytes,
        quantile(&s.lags.whole, 0.5),
        quantile(&s.lags.whole, 0.95),
        quantile(&s.lags.whole, 0.99),
        quantile(&s.lags.whole, 1.0),
        quantile(&s.lags.capture, 0.5),
        quantile(&s.lags.queue, 0.5),
        quantile(&s.lags.apply, 0.5),
        s.lags.whole.to_bytes(),
        s.lags.capture.to_bytes(),
        s.lags.queue.to_bytes(),
        s.lags.apply.to_bytes(),
    ])?;
    put_slowest(db, (pipeline, span, at), &whole.slowest)
}

fn put_slowest(db: &Connection, of: (i64, i64, i64), slowest: &[AppliedTransaction]) -> rusqlite::Result<()> {
    let sql = "INSERT OR REPLACE INTO slow_transactions (pipeline, span, at, place, committed_at, position, changes, tables,
      capture_us, queue_us, apply_us) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)";
    for (place, slow) in slowest.iter().enumerate() {
        let tables = &slow.tables[..slow.tables.len().min(MOST_TABLES)];
        db.prepare_cached(sql)?.execute(params![
            of.0,
            of.1,
            of.2,
            place as i64,
            slow.committed_at.to_rfc3339(),
            slow.position,
            slow.changes,
            serde_json::to_string(tables).unwrap_or_default(),
            slow.capture_us,
            slow.queue_us,
            slow.apply_us
        ])?;
    }
    Ok(())
}

/// Of how many tables it is kept that a slow transaction changed them.
const MOST_TABLES: usize = 4;

/// What is kept of a table's stretch: its number in the store and the sample.
pub(super) fn read_table_sample(r: &Row<'_>) -> rusqlite::Result<TableSample> {
    let lag = Durations::from_bytes(Fineness::Coarse, r.get_ref(6)?.as_blob()?);
    Ok(TableSample { table: r.get(0)?, operations: operations(r, 1)?, bytes: count(r, 5)?, lag })
}

/// Samples in the order of tables, those of each made one.
pub(super) fn by_table(samples: Vec<TableSample>) -> Vec<TableSample> {
    let mut all: Vec<TableSample> = Vec::new();
    for sample in samples {
        match all.last_mut().filter(|last| last.table == sample.table) {
            Some(last) => last.add(&sample),
            None => all.push(sample),
        }
    }
    all
}

/// Adds a table's sample to the stretch of this length that begins at a time.
pub(super) fn put_table_sample(
    db: &Connection,
    (pipeline, span, at): (i64, i64, i64),
    sample: &TableSample,
) -> rusqlite::Result<()> {
    let table = table_number(db, pipeline, &sample.table)?;
    let sql = "SELECT ?5, inserts, updates, deletes, truncates, bytes, lag FROM table_samples
      WHERE pipeline = ?1 AND span = ?2 AND at = ?3 AND source_table = ?4";
    let key = params![pipeline, span, at, table, sample.table];
    let before = db.prepare_cached(sql)?.query_row(key, read_table_sample).optional()?;
    let whole = match before {
        Some(mut before) => {
            before.add(sample);
            before
        }
        None => sample.clone(),
    };
    let sql = "INSERT OR REPLACE INTO table_samples (pipeline, span, at, source_table, inserts, updates, deletes, truncates, bytes,
      lag_p50_us, lag_max_us, lag) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)";
    db.prepare_cached(sql)?.execute(params![
        pipeline,
        span,
        at,
        table,
        whole.operations.inserts,
        whole.operations.updates,
        whole.operations.deletes,
        whole.operations.truncates,
        whole.bytes,
        quantile(&whole.lag, 0.5),
        quantile(&whole.lag, 1.0),
        whole.lag.to_bytes(),
    ])?;
    Ok(())
}

impl StateStore {
    /// Keeps what a run measured in the last second or so.
    pub fn keep_sample(&self, pipeline: &str, sample: &Sample) {
        self.note(self.in_transaction(|db| {
            let number = pipeline_number(db, pipeline)?;
            put_sample(db, number, tiers::OF_PIPELINE[0].span_s, sample)
        }));
    }

    /// Keeps what it measured of its tables in the minute or so before a time.
    pub fn keep_table_samples(&self, pipeline: &str, until: DateTime<Utc>, samples: &[TableSample]) {
        let span = tiers::OF_TABLES[0].span_s;
        // The end of a run is no whole minute behind the last one.
        let at = tiers::begin_of(until.timestamp() - 1, span);
        self.note(self.in_transaction(|db| {
            let number = pipeline_number(db, pipeline)?;
            samples.iter().try_for_each(|sample| put_table_sample(db, (number, span, at), sample))
        }));
    }

    /// All that a query gives of the stretches of each tier that reach into a stretch of time. It has the pipeline's name as its
    /// first parameter, then the tier's span, and the bounds of `at`.
    fn of_tiers<T>(
        &self,
        tiers: &[Tier],
        sql: &str,
        (pipeline, from, to): (&str, DateTime<Utc>, DateTime<Utc>),
        read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>> {
        let mut all = Vec::new();
        for tier in tiers {
            let bounds = params![pipeline, tier.span_s, from.timestamp() - tier.span_s, to.timestamp()];
            all.extend(self.all(sql, bounds, &read)?);
        }
        Ok(all)
    }

    /// The samples of a pipeline that reach into a stretch of time, in their order, as finely as they are kept.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn samples(&self, pipeline: &str, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Vec<Sample>> {
        let sql = format!(
            "SELECT {COLUMNS} FROM samples WHERE pipeline = (SELECT id FROM pipelines WHERE name = ?1)
             AND span = ?2 AND at > ?3 AND at <= ?4 ORDER BY at"
        );
        let mut samples = self.of_tiers(&tiers::OF_PIPELINE, &sql, (pipeline, from, to), read_sample)?;
        samples.sort_by_key(|sample| sample.from);
        Ok(samples)
    }

    /// Of each sample of a pipeline that reaches into a stretch of time what is drawn of it, in their order.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn points(&self, pipeline: &str, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Vec<Point>> {
        let sql = "SELECT at, seconds, behind_us, lag_p50_us, lag_p95_us, inserts, updates, deletes, truncates, kept_bytes, merges
             FROM samples WHERE pipeline = (SELECT id FROM pipelines WHERE name = ?1) AND span = ?2 AND at > ?3 AND at <= ?4 ORDER BY at";
        let read = |r: &Row<'_>| {
            Ok(Point {
                at: time(r.get(0)?),
                span: Duration::try_from_secs_f64(r.get(1)?).unwrap_or_default(),
                behind: of_us(r.get(2)?),
                lag_p50: of_us(r.get(3)?),
                lag_p95: of_us(r.get(4)?),
                operations: operations(r, 5)?,
                kept_bytes: r.get(9)?,
                merges: count(r, 10)?,
            })
        };
        let mut points = self.of_tiers(&tiers::OF_PIPELINE, sql, (pipeline, from, to), read)?;
        points.sort_by_key(|point| point.at);
        Ok(points)
    }

    /// What was measured of a pipeline's tables in a stretch of time, all of it together, by table.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn table_samples(
        &self,
        pipeline: &str,
        from: DateTime<Utc>,
        to: DateTime<Utc>,
    ) -> Result<Vec<TableSample>> {
        let sql = "SELECT t.name, inserts, updates, deletes, truncates, bytes, lag
          FROM table_samples s JOIN source_tables t ON t.id = s.source_table
          WHERE s.pipeline = (SELECT id FROM pipelines WHERE name = ?1) AND span = ?2 AND at > ?3 AND at <= ?4";
        let mut samples = self.of_tiers(&tiers::OF_TABLES, sql, (pipeline, from, to), read_table_sample)?;
        samples.sort_by(|a, b| a.table.cmp(&b.table));
        Ok(by_table(samples))
    }

    /// The slowest transactions of a pipeline in a stretch of time with a lag of this much or more, the slowest first, so many at
    /// most. Of each stretch of the tiers only [so many](moorage_core::watch::sample::SLOWEST) are kept.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn slow_transactions(
        &self,
        pipeline: &str,
        (from, to): (DateTime<Utc>, DateTime<Utc>),
        over: Duration,
        most: usize,
    ) -> Result<Vec<AppliedTransaction>> {
        let sql = "SELECT committed_at, position, changes, tables, capture_us, queue_us, apply_us FROM slow_transactions
          WHERE pipeline = (SELECT id FROM pipelines WHERE name = ?1) AND span = ?2 AND at > ?3 AND at <= ?4";
        let mut slow = self.of_tiers(&tiers::OF_PIPELINE, sql, (pipeline, from, to), read_slow)?;
        slow.retain(|slow| Duration::from_micros(slow.lag_us()) >= over);
        slow.sort_by_key(|slow| std::cmp::Reverse(slow.lag_us()));
        slow.truncate(most);
        Ok(slow)
    }
}
