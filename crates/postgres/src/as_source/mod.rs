//! The source itself: the calls of the trait, each on connections of its own.

pub(crate) mod assemble;
mod capture;
mod carried;
mod catalog;
mod check;
mod console;
mod describing;
mod look;
pub(crate) mod mark;
pub(crate) mod named;
pub(crate) mod new_tables;
mod reading;
mod snapshot;
mod stream;
pub(crate) mod structure;
pub(crate) mod trigger;

use crate::as_source::assemble::proof_parts;
use crate::as_source::capture::Observed;
use crate::as_source::catalog::IdentityBy;
use crate::as_source::console::PostgresConsole;
use crate::as_source::look::PostgresLook;
use crate::as_source::mark::Mark;
use crate::as_source::named::{NOTE_PREFIX, Named, OURS, Point, is_slot_of, slot_name};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::{lsn, server};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, CapturePlan, CaptureSource, CaptureState, CaptureWords, ChangeStream, Console, Events,
    Head, InspectSource, Inspected, Lack, LookAtSource, Prepared, Removed, Result, SetUp, SetUpSource,
    SnapshotMark, SnapshotSink, SourceAddress, SourceLog, SourceLook, StreamStart, StreamTable, Tail,
    TailFrom, Usage, Waiting,
};
use moorage_core::change::kind::Transaction;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::SourceTable;
use moorage_core::model::finding::Finding;
use moorage_core::model::sql::quote_ident;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableName, TableSchema};
use std::sync::Arc;
use tokio_postgres::types::ToSql;

/// How many waiting changes are counted before `status` says "or more".
const COUNT_LIMIT: i32 = 100_000;

/// A PostgreSQL database as a source.
pub struct PostgresSource {
    address: PostgresAddress,
    connections: usize,
    named: Named,
}

impl PostgresSource {
    /// A source at `address` whose snapshots are read over this many connections (at least 1).
    pub fn new(address: PostgresAddress, connections: usize) -> Self {
        Self { address, connections: connections.max(1), named: Named::default() }
    }

    /// The same, with what the project file names of its capture points.
    #[must_use]
    pub(crate) fn reading_through(self, named: Named) -> Self {
        Self { named, ..self }
    }

    async fn session(&self) -> Result<Session> {
        Session::open(&self.address).await
    }

    async fn log_level_is_logical(&self, session: &Session) -> Result<()> {
        let sql = "SELECT setting, pending_restart FROM pg_settings WHERE name = 'wal_level'";
        let row = session.one("reading wal_level", sql, &[]).await?;
        let level: String = row.get(0);
        if level == "logical" {
            return Ok(());
        }
        let way_out = if row.get(1) {
            "logical is set but not yet in force: restart the server"
        } else {
            "run ALTER SYSTEM SET wal_level = logical and restart the server, or copy without following: moorage run --snapshot-only"
        };
        Err(AdapterError::refused(
            format!("the source's wal_level is {level}, so its log does not carry changes as rows"),
            way_out,
        ))
    }
}

#[async_trait]
impl InspectSource for PostgresSource {
    async fn address(&self) -> Result<SourceAddress> {
        let session = self.session().await?;
        let version: String = session
            .one("reading the server's version", "SELECT current_setting('server_version')", &[])
            .await?
            .get(0);
        Ok(SourceAddress {
            system: format!("PostgreSQL {}", version.split(' ').next().unwrap_or_default()),
            host: self.address.host_text(),
            database: self.address.database.clone(),
            user: self.address.user.clone(),
        })
    }

    async fn inspect(&self, capture: &CapturePlan, inspected: &Inspected<'_>) -> Result<Vec<Finding>> {
        let point = self.named.point(capture);
        check::inspect(&self.address, &self.session().await?, &point, inspected, IdentityBy::Log).await
    }

    async fn set_up_script(&self, capture: &CapturePlan, set_up: &SetUp<'_>) -> Result<String> {
        let (session, point) = (self.session().await?, self.named.point(capture));
        check::script::set_up_script(&self.address, &session, &point, set_up, IdentityBy::Log).await
    }

    async fn discover(&self) -> Result<Vec<SourceTable>> {
        catalog::discover(&self.session().await?, IdentityBy::Log).await
    }

    async fn table_names(&self) -> Result<Vec<NamedTable>> {
        catalog::table_names(&self.session().await?).await
    }

    async fn console(&self) -> Result<Box<dyn Console>> {
        Ok(Box::new(PostgresConsole::new(self.session().await?)))
    }

    fn usage(&self) -> Option<Usage> {
        Some(self.address.usage.so_far())
    }

    fn lacks(&self) -> &'static [Lack] {
        &[]
    }
}

impl SourceLog for PostgresSource {
    fn capture_words(&self) -> CaptureWords {
        CaptureWords { one: "slot", another: Some("name another slot in the project file") }
    }

    fn tells_of_structure(&self) -> bool {
        true
    }

    fn parse_position(&self, text: &str) -> Option<Position> {
        lsn::parse(text).map(lsn::position)
    }

    fn bytes_between(&self, from: &Position, to: &Position) -> Option<u64> {
        Some(lsn::of(to).saturating_sub(lsn::of(from)))
    }

    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool {
        let found = Mark::from_snapshot_mark(mark).zip(proof_parts(&transaction.proof));
        found.is_some_and(|(mark, (commit_lsn, xid))| mark.covers(xid, commit_lsn))
    }

    fn is_unbroken(&self, before: &str, now: &str) -> bool {
        before == now
    }
}

#[async_trait]
impl SetUpSource for PostgresSource {
    async fn capture_name(&self, pipeline: &str, remembered: Option<&str>) -> Result<String> {
        if let Some(named) = &self.named.slot {
            return Ok(named.clone());
        }
        let new = slot_name(&self.address.database, pipeline);
        if let Some(remembered) = remembered {
            // Another name was the project file's, which is not to be taken for ours.
            return Ok(if remembered.starts_with(OURS) { remembered.into() } else { new });
        }
        let sql = "SELECT slot_name::text FROM pg_replication_slots WHERE database = current_database()";
        let slots = self.session().await?.rows("looking for a slot", sql, &[]).await?;
        let slots = slots.iter().map(|row| row.get::<_, String>(0));
        Ok(slots.into_iter().find(|slot| is_slot_of(slot, pipeline)).unwrap_or(new))
    }

    async fn capture_state(&self, capture: &CapturePlan) -> Result<CaptureState> {
        capture::state(&self.session().await?, &self.named.point(capture)).await
    }

    async fn prepare(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
        again: bool,
        events: &Events,
    ) -> Result<Prepared> {
        let session = self.session().await?;
        self.log_level_is_logical(&session).await?;
        server::identity(&session).await?;
        let at = Observed { address: &self.address, session: &session, events };
        let point = self.named.point(capture);
        capture::publication(&at, &point, tables).await?;
        let position = capture::slot(&at, &point, again).await?;
        Ok(Prepared { position })
    }

    async fn align(&self, capture: &CapturePlan, tables: &[TablePlan], events: &Events) -> Result<()> {
        let (session, point) = (self.session().await?, self.named.point(capture));
        let at = Observed { address: &self.address, session: &session, events };
        capture::publication(&at, &point, tables).await
    }

    async fn let_in(
        &self,
        capture: &CapturePlan,
        tables: &[TableName],
    ) -> Result<Vec<(TableName, Option<String>)>> {
        new_tables::let_in(&self.session().await?, &self.named.point(capture).publication, tables).await
    }

    async fn captured_by(&self, plan: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>> {
        let ids: Vec<u32> = tables.iter().map(|t| t.source_id as u32).collect();
        capture::published_by(&self.session().await?, &self.named.point(plan).publication, &ids).await
    }

    async fn teardown(&self, capture: &CapturePlan, dry: bool, events: &Events) -> Result<Removed> {
        let session = self.session().await?;
        let observed = Observed { address: &self.address, session: &session, events };
        capture::teardown(&observed, &self.named.point(capture), dry).await
    }
}

#[async_trait]
impl CaptureSource for PostgresSource {
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        capture: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        events: &Events,
    ) -> Result<()> {
        snapshot::run(&self.address, self.connections, tables, capture.is_some(), sink, events).await
    }

    async fn changes(&self, start: StreamStart, _events: &Events) -> Result<Box<dyn ChangeStream>> {
        let point = self.named.point(&start.capture);
        stream::open(&self.address, start, point).await
    }

    async fn send_note(&self, note: &str) -> Result<()> {
        let session = self.session().await?;
        // Its commit must be in the log on disk, but need not wait for any standby.
        session.run("preparing a note", "SET synchronous_commit = local").await?;
        let sql = "SELECT pg_logical_emit_message(true, $1, $2::text)";
        session.one("writing a note into the log", sql, &[&NOTE_PREFIX, &note]).await.map(|_| ())
    }

    async fn head(&self, plan: &CapturePlan) -> Result<Head> {
        let (session, point) = (self.session().await?, self.named.point(plan));
        let (kept_bytes, limit_bytes) = capture::kept(&session, &point.slot).await?;
        Ok(Head { kept_bytes, limit_bytes, ..server::head(&session).await? })
    }

    async fn drifted(
        &self,
        _: &CapturePlan,
        tables: &[TablePlan],
    ) -> Result<Vec<(Arc<TableSchema>, String)>> {
        Ok(catalog::drifted(&self.discover().await?, tables))
    }
}

#[async_trait]
impl LookAtSource for PostgresSource {
    async fn waiting(&self, plan: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting> {
        let (session, plan) = (self.session().await?, self.named.point(plan));
        let sql = "SELECT active_pid IS NOT NULL, (pg_current_wal_lsn() - $2::text::pg_lsn)::bigint, (pg_current_wal_lsn() - restart_lsn)::bigint
                   FROM pg_replication_slots WHERE slot_name = $1";
        let mut waiting = Waiting { retained_in: "log", ..Waiting::default() };
        if let Some(row) =
            session.maybe("looking at the slot", sql, &[&plan.slot, &checkpoint.position]).await?
        {
            waiting.bytes = row.get::<_, Option<i64>>(1).unwrap_or(0).max(0) as u64;
            waiting.retained_bytes = row.get::<_, Option<i64>>(2).unwrap_or(0).max(0) as u64;
            if !row.get::<_, bool>(0) {
                (waiting.changes, waiting.or_more) = count_waiting(&session, &plan, checkpoint).await;
            }
        }
        let sql = "SELECT format('pid %s%s, open since %s UTC', pid, coalesce(' (' || nullif(application_name, '') || ')', ''), to_char(xact_start AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS'))
                   FROM pg_stat_activity WHERE backend_xid IS NOT NULL AND pid <> pg_backend_pid() AND datname = current_database() ORDER BY xact_start LIMIT 1";
        waiting.oldest_open =
            session.maybe("looking for open transactions", sql, &[]).await?.map(|r| r.get(0));
        Ok(waiting)
    }

    async fn look(
        &self,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Result<Box<dyn SourceLook>> {
        Ok(Box::new(PostgresLook::begin(&self.address, capture.map(|c| self.named.point(c)), tables).await?))
    }

    async fn tail(&self, capture: &CapturePlan, tables: &[TablePlan], from: &TailFrom) -> Result<Tail> {
        stream::tail(&self.address, &self.named.point(capture), tables, from).await
    }

    async fn row(&self, plan: &TablePlan, key: &[String]) -> Result<RecordBatch> {
        look::row(&self.session().await?, plan, key).await
    }

    async fn sample(&self, plan: &TablePlan, rows: usize) -> Result<RecordBatch> {
        look::sample(&self.session().await?, plan, rows).await
    }
}

/// Counts changes without consuming them: inserts, updates, deletes and truncates behind the checkpoint.
/// Nothing can be said where the right is missing, the slot is busy after all, or counting takes longer
/// than someone at a terminal likes to wait.
async fn count_waiting(session: &Session, plan: &Point, checkpoint: &Checkpoint) -> (Option<u64>, bool) {
    let done = proof_parts(&checkpoint.proof).map_or(-1, |(_, xid)| i64::from(xid));
    let sql = "SELECT count(*) FILTER (WHERE get_byte(data, 0) IN (68, 73, 84, 85) AND xid::text::bigint <> $3), count(*)
               FROM pg_logical_slot_peek_binary_changes($1, NULL, $2, 'proto_version', '1', 'publication_names', $4)";
    let publication = quote_ident(&plan.publication);
    if session.run("limiting the time", "SET statement_timeout = '5s'").await.is_err() {
        return (None, false);
    }
    let parameters: [&(dyn ToSql + Sync); 4] = [&plan.slot, &COUNT_LIMIT, &done, &publication];
    match session.as_user(session.one("counting what waits", sql, &parameters)).await {
        Ok(row) => (Some(row.get::<_, i64>(0) as u64), row.get::<_, i64>(1) >= i64::from(COUNT_LIMIT)),
        Err(error) => {
            tracing::debug!("waiting changes cannot be counted: {error}");
            (None, false)
        }
    }
}
