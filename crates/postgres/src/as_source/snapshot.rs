//! The snapshot: whole tables as of one mark, read in parallel.
//!
//! The steps, each of which was found to be needed:
//!
//! 1. The tables are published and their changes kept (the caller's duty).
//! 2. F is the next transaction number after that; wait until every transaction before F has ended.
//!    Otherwise one that wrote before the table was published could commit after the mark and be in
//!    neither.
//! 3. In one REPEATABLE READ transaction: lock the tables, then take the snapshot (the mark) and export
//!    it, then read L, the end of the log: no covered transaction commits behind L. Locking first keeps
//!    a TRUNCATE or a rewrite from coming between the mark and the read.
//! 4. Workers import the snapshot and read small page ranges from one queue; the last range of a table
//!    has no end, because the table may have grown since its size was read.
//! 5. The mark is final once the log is flushed up to L: before, a crash of the source could take covered
//!    transactions back.

use crate::as_source::catalog::{self, IdentityBy};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::copy_text::push_line;
use crate::wire::waits::{blockers, naming_waits};
use crate::wire::{lsn, server};
use arrow::array::RecordBatch;
use futures_util::TryStreamExt;
use moorage_adapter::{AdapterError, Doing, Event, Events, Result, SnapshotMark, SnapshotSink};
use moorage_core::model::described::SourceColumn;
use moorage_core::model::sql::quote_list;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::RowsBuilder;
use std::collections::VecDeque;
use std::pin::Pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio_postgres::CopyOutStream;

/// Pages of one range: 16 MiB of table.
const RANGE_PAGES: u64 = 2048;
/// A chunk is handed on at this many rows or bytes.
const CHUNK_ROWS: usize = 8192;
const CHUNK_BYTES: usize = 1 << 20;

struct Range {
    table: usize,
    from_page: u64,
    to_page: Option<u64>,
}

struct Work {
    tables: Vec<TablePlan>,
    queue: Mutex<VecDeque<Range>>,
    left: Vec<AtomicUsize>,
    snapshot: String,
    mark: SnapshotMark,
}

/// Reads tables. With `joined` the mark holds for the stream.
pub(crate) async fn run(
    address: &PostgresAddress,
    connections: usize,
    tables: &[TablePlan],
    joined: bool,
    sink: Arc<dyn SnapshotSink>,
    events: &Events,
) -> Result<()> {
    let exporter = Session::open(address).await?;
    server::identity(&exporter).await?;
    if joined {
        wait_for_writers(&exporter, events).await?;
    }
    let work = Arc::new(take_mark(address, &exporter, tables, events).await?);
    let mut workers = tokio::task::JoinSet::new();
    for _ in 0..connections.max(1) {
        workers.spawn(read_ranges(address.clone(), work.clone(), sink.clone()));
    }
    while let Some(done) = workers.join_next().await {
        done.map_err(|e| AdapterError::Io { doing: "reading the snapshot".into(), reason: e.to_string() })??;
    }
    exporter.run("ending the snapshot", "COMMIT").await
}

/// Step 2.
async fn wait_for_writers(session: &Session, events: &Events) -> Result<()> {
    let row = session.one("taking a transaction number", "SELECT pg_current_xact_id()::text", &[]).await?;
    let first: String = row.get(0);
    let begun = Instant::now();
    let mut said = Duration::ZERO;
    loop {
        let sql = "SELECT pg_snapshot_xmin(pg_current_snapshot()) >= $1::text::xid8";
        if session.one("looking for old transactions", sql, &[&first]).await?.get(0) {
            return Ok(());
        }
        if begun.elapsed() - said >= Duration::from_secs(1) {
            said = begun.elapsed();
            let found = blockers(session, 0).await?;
            let what = format!("before reading tables: waits for {}", found.join("; "));
            events(Event::Waiting { what, waited_ms: said.as_millis() as u64 });
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Step 3.
async fn take_mark(
    address: &PostgresAddress,
    exporter: &Session,
    tables: &[TablePlan],
    events: &Events,
) -> Result<Work> {
    let list = tables.iter().map(|t| format!("ONLY {}", t.table().quoted())).collect::<Vec<_>>().join(", ");
    let lock = format!(
        "SET row_security = off; BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; LOCK TABLE {list} IN ACCESS SHARE MODE"
    );
    let locked = exporter.run("locking the tables against structure changes", &lock);
    naming_waits(address, exporter.pid(), "locking the tables", events, locked).await?;
    let sql = "SELECT pg_current_snapshot()::text, pg_export_snapshot()";
    let row = exporter.one("taking the snapshot", sql, &[]).await?;
    let end =
        exporter.one("reading the end of the log", "SELECT pg_current_wal_insert_lsn()::text", &[]).await?;
    let end: String = end.get(0);
    let complete_at = lsn::parse(&end).map(lsn::position).ok_or_else(|| AdapterError::Protocol {
        address: address.text(),
        what: format!("{end:?} is not a log position"),
    })?;
    unchanged(exporter, tables).await?;
    let ids: Vec<u32> = tables.iter().map(|t| t.source_id as u32).collect();
    let sql = "SELECT pg_relation_size(id) / current_setting('block_size')::bigint FROM unnest($1::oid[]) WITH ORDINALITY t(id, place) ORDER BY place";
    let sizes = exporter.rows("reading the tables' sizes", sql, &[&ids]).await?;
    let pages = sizes.iter().map(|s| s.get::<_, Option<i64>>(0).unwrap_or(0).max(0) as u64);
    let ranges: Vec<u64> = pages.map(|pages| pages.div_ceil(RANGE_PAGES).max(1)).collect();
    let left = ranges.iter().map(|count| AtomicUsize::new(*count as usize)).collect();
    // Small tables first: empty ones are ready at once.
    let mut order: Vec<usize> = (0..tables.len()).collect();
    order.sort_by_key(|table| ranges[*table]);
    let queue = order
        .into_iter()
        .flat_map(|table| {
            let last = ranges[table] - 1;
            (0..=last).map(move |i| Range {
                table,
                from_page: i * RANGE_PAGES,
                to_page: (i < last).then_some((i + 1) * RANGE_PAGES),
            })
        })
        .collect();
    let mark = SnapshotMark { text: row.get(0), complete_at };
    Ok(Work { tables: tables.to_vec(), queue: Mutex::new(queue), left, snapshot: row.get(1), mark })
}

/// Nobody can change the tables' structures any more: whether they are the planned ones. One that was changed since is
/// planned anew; otherwise rows would be taken for older than a column that they hold.
async fn unchanged(session: &Session, tables: &[TablePlan]) -> Result<()> {
    let described = catalog::describe(session, IdentityBy::Log).await?;
    for plan in tables {
        let Some(planned) = plan.structure.as_deref() else { continue };
        let found = described.iter().find(|d| d.table.id == plan.source_id);
        // The identity is another one where triggers tell of changes, and of no consequence for what is read.
        let is_as_planned = found.is_some_and(|found| {
            let same = |(a, b): (&SourceColumn, &SourceColumn)| {
                (a.number, &a.column.name, &a.column.source_type, a.generated)
                    == (b.number, &b.column.name, &b.column.source_type, b.generated)
            };
            let columns = &found.table.columns;
            columns.len() == planned.columns.len() && columns.iter().zip(&planned.columns).all(same)
        });
        if !is_as_planned {
            let reason = "its structure was changed a moment ago".into();
            return Err(AdapterError::Busy { doing: Doing::to("reading", plan.table()), reason });
        }
    }
    Ok(())
}

/// Step 4.
async fn read_ranges(address: PostgresAddress, work: Arc<Work>, sink: Arc<dyn SnapshotSink>) -> Result<()> {
    let mut session = None;
    loop {
        let next = work.queue.lock().unwrap_or_else(PoisonError::into_inner).pop_front();
        let Some(range) = next else { return Ok(()) };
        let session = match &mut session {
            Some(session) => session,
            none => none.insert(import(&address, &work.snapshot).await?),
        };
        read_range(session, &work.tables[range.table], &range, &sink).await?;
        if work.left[range.table].fetch_sub(1, Ordering::AcqRel) == 1 {
            wait_until_flushed(session, &work.mark).await?;
            sink.finished(range.table, work.mark.clone()).await?;
        }
    }
}

async fn import(address: &PostgresAddress, snapshot: &str) -> Result<Session> {
    let session = Session::open(address).await?;
    let sql = format!(
        "SET row_security = off; BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT {}",
        moorage_core::model::sql::quote_literal(snapshot)
    );
    session.run("joining the snapshot", &sql).await?;
    Ok(session)
}

async fn read_range(
    session: &Session,
    plan: &TablePlan,
    range: &Range,
    sink: &Arc<dyn SnapshotSink>,
) -> Result<()> {
    let condition = match (range.from_page, range.to_page) {
        (0, None) => String::new(),
        (from, None) => format!(" WHERE ctid >= '({from},0)'"),
        (from, Some(to)) => format!(" WHERE ctid >= '({from},0)' AND ctid < '({to},0)'"),
    };
    let mut chunks = Chunks::open(session, plan, &condition).await?;
    while let Some(rows) = chunks.next().await? {
        sink.rows(range.table, rows).await?;
    }
    Ok(())
}

/// Rows of a table, chunk by chunk.
pub(crate) struct Chunks<'a> {
    session: &'a Session,
    lines: Pin<Box<CopyOutStream>>,
    rows: RowsBuilder,
    doing: Doing,
    /// A stream that has ended may not be asked again.
    ended: bool,
}

impl<'a> Chunks<'a> {
    /// Begins to read; `more` goes behind FROM.
    pub(crate) async fn open(session: &'a Session, plan: &TablePlan, more: &str) -> Result<Self> {
        let doing = Doing::to("reading", plan.table());
        let columns = quote_list(plan.schema.columns.iter().map(|c| c.name.as_str()));
        let sql = format!("COPY (SELECT {columns} FROM ONLY {}{more}) TO STDOUT", plan.table().quoted());
        let lines = session.client().copy_out(&sql).await.map_err(|e| session.error(&doing, &e))?;
        Ok(Self {
            session,
            lines: Box::pin(lines),
            rows: RowsBuilder::new(plan.schema.clone()),
            doing,
            ended: false,
        })
    }

    /// The next chunk; none at the end.
    pub(crate) async fn next(&mut self) -> Result<Option<RecordBatch>> {
        if self.ended {
            return Ok(None);
        }
        while let Some(line) = self.lines.try_next().await.map_err(|e| self.session.error(&self.doing, &e))? {
            push_line(&mut self.rows, &line)
                .map_err(|what| AdapterError::Value { table: self.rows.schema().table.to_string(), what })?;
            if self.rows.rows() >= CHUNK_ROWS || self.rows.bytes() >= CHUNK_BYTES {
                return Ok(Some(self.rows.finish()?));
            }
        }
        self.ended = true;
        if self.rows.rows() == 0 { Ok(None) } else { Ok(Some(self.rows.finish()?)) }
    }
}

/// Step 5. A server that does not wait for the disk at commit flushes within a second.
pub(crate) async fn wait_until_flushed(session: &Session, mark: &SnapshotMark) -> Result<()> {
    let sql = "SELECT pg_current_wal_flush_lsn()::text";
    let wanted = record_end(lsn::of(&mark.complete_at));
    loop {
        let row = session.one("waiting for the log to be flushed", sql, &[]).await?;
        let flushed = lsn::parse(row.get(0)).unwrap_or(0);
        if flushed >= wanted {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// The end of the log is given as just behind a page's header (24 bytes, or 40 on a segment's first page)
/// when the last record ended with the page before; that header is only written with the next record.
fn record_end(end_of_log: u64) -> u64 {
    const PAGE: u64 = 8192;
    match end_of_log % PAGE {
        header @ (24 | 40) => end_of_log - header,
        _ => end_of_log,
    }
}
