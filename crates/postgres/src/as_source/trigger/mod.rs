//! A PostgreSQL database as a source, captured by triggers: for servers whose administrators do not allow
//! logical replication.

pub(crate) mod capture;
mod following;
mod found;
mod functions;
mod gather;
mod look;
pub(crate) mod names;
pub(crate) mod reader;
mod row_text;
mod stream;
mod written;

use crate::as_source::catalog::{self, IdentityBy};
use crate::as_source::mark::Mark;
use crate::as_source::named::Named;
use crate::as_source::new_tables;
use crate::as_source::{PostgresSource, check};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use crate::wire::server;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use capture::At;
use look::TriggerLook;
use moorage_adapter::{
    AdapterError, CapturePlan, CaptureSource, CaptureState, CaptureWords, ChangeStream, Console, Events,
    Head, InspectSource, Inspected, Lack, LookAtSource, Prepared, Removed, Result, SetUp, SetUpSource,
    SnapshotMark, SnapshotSink, SourceAddress, SourceLog, SourceLook, StreamStart, StreamTable, Tail,
    TailFrom, Usage, Waiting, WaitingNotes, object_name,
};
use moorage_core::change::kind::Transaction;
use moorage_core::checkpoint::decide::{CapturePoint, Refusal};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::SourceTable;
use moorage_core::model::finding::{End, Finding, Fix};
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableName, TableSchema};
use names::Names;
use std::sync::Arc;
use stream::Begin;

/// How many waiting changes are counted before `status` says "or more".
const COUNT_LIMIT: i64 = 100_000;

/// A PostgreSQL database, captured by triggers.
pub struct PostgresTriggerSource {
    address: PostgresAddress,
    /// What needs no capturing is done as for any PostgreSQL source.
    plain: PostgresSource,
    limit_bytes: u64,
    notes: WaitingNotes,
}

impl PostgresTriggerSource {
    /// A source at `address` whose snapshots are read over so many connections, and whose change tables may
    /// each grow to `limit_bytes`.
    pub fn new(address: PostgresAddress, connections: usize, limit_bytes: u64) -> Self {
        let plain = PostgresSource::new(address.clone(), connections);
        Self { address, plain, limit_bytes, notes: WaitingNotes::default() }
    }

    async fn session(&self) -> Result<Session> {
        Session::open(&self.address).await
    }
}

async fn snapshot_now(session: &Session) -> Result<Position> {
    let text: String =
        session.one("taking a snapshot", "SELECT pg_current_snapshot()::text", &[]).await?.get(0);
    reader::position(&text).ok_or_else(|| AdapterError::Protocol {
        address: "the source".into(),
        what: format!("{text:?} is not a snapshot"),
    })
}

async fn head(session: &Session) -> Result<Head> {
    Ok(Head { position: snapshot_now(session).await?, holds_log_back: false, ..server::head(session).await? })
}

/// Gives a snapshot's marks the positions of this capture: a look that is not earlier sees all they hold.
struct Marked(Arc<dyn SnapshotSink>);

#[async_trait]
impl SnapshotSink for Marked {
    async fn rows(&self, table: usize, rows: RecordBatch) -> Result<()> {
        self.0.rows(table, rows).await
    }

    async fn finished(&self, table: usize, mark: SnapshotMark) -> Result<()> {
        let complete_at = reader::position(&mark.text).unwrap_or(mark.complete_at);
        self.0.finished(table, SnapshotMark { text: mark.text, complete_at }).await
    }
}

#[async_trait]
impl InspectSource for PostgresTriggerSource {
    async fn address(&self) -> Result<SourceAddress> {
        self.plain.address().await
    }

    async fn inspect(&self, capture: &CapturePlan, inspected: &Inspected<'_>) -> Result<Vec<Finding>> {
        let session = self.session().await?;
        let names = Names::new(capture);
        let mut found = check::inspect(
            &self.address,
            &session,
            &Named::default().point(capture),
            inspected,
            IdentityBy::Trigger,
        )
        .await?;
        if capture::exists(&session, &names).await? && reader::is_full(&session, &names).await? {
            found.push(Finding::blocker(
                End::Source,
                "change_table_limit",
                "capturing has ended: a change table reached its limit",
                "changes since then are not captured",
                Fix::step(
                    "moorage resnapshot --all;  raise change_table_limit in the project file to keep more",
                ),
            ));
        }
        Ok(found)
    }

    async fn set_up_script(&self, capture: &CapturePlan, set_up: &SetUp<'_>) -> Result<String> {
        let session = self.session().await?;
        check::script::set_up_script(
            &self.address,
            &session,
            &Named::default().point(capture),
            set_up,
            IdentityBy::Trigger,
        )
        .await
    }

    async fn discover(&self) -> Result<Vec<SourceTable>> {
        catalog::discover(&self.session().await?, IdentityBy::Trigger).await
    }

    async fn table_names(&self) -> Result<Vec<NamedTable>> {
        catalog::table_names(&self.session().await?).await
    }

    async fn console(&self) -> Result<Box<dyn Console>> {
        self.plain.console().await
    }

    fn usage(&self) -> Option<Usage> {
        Some(self.address.usage.so_far())
    }

    fn lacks(&self) -> &'static [Lack] {
        &[]
    }
}

impl SourceLog for PostgresTriggerSource {
    fn capture_words(&self) -> CaptureWords {
        CaptureWords { one: "the schema of change tables", another: None }
    }

    fn tells_of_structure(&self) -> bool {
        true
    }

    fn parse_position(&self, text: &str) -> Option<Position> {
        reader::position(text)
    }

    fn bytes_between(&self, _: &Position, _: &Position) -> Option<u64> {
        None
    }

    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool {
        let mark = Mark::parse(&mark.text, u64::MAX);
        let xid = transaction.proof.parse::<u64>().ok();
        // Marks tell 32-bit numbers apart by their distance.
        mark.zip(xid).is_some_and(|(mark, xid)| mark.covers(xid as u32, 0))
    }

    fn is_unbroken(&self, before: &str, now: &str) -> bool {
        capture::is_unbroken(before, now)
    }
}

#[async_trait]
impl SetUpSource for PostgresTriggerSource {
    async fn capture_name(&self, pipeline: &str, _: Option<&str>) -> Result<String> {
        Ok(object_name(pipeline))
    }

    async fn capture_state(&self, plan: &CapturePlan) -> Result<CaptureState> {
        let session = self.session().await?;
        let names = Names::new(plan);
        let identity = server::identity(&session).await?;
        let head = head(&session).await?;
        let point = if capture::exists(&session, &names).await? {
            let sql = format!("SELECT token, forgotten::text FROM {}", names.about());
            let row = session.one("looking at the change tables", &sql, &[]).await?;
            // Whether capturing has ended is asked when the stream is opened, which can say it in full.
            let reaches = reader::position(row.get(1));
            Some(CapturePoint {
                active: None,
                reaches_back_to: reaches,
                token: row.get(0),
                named_by_user: false,
                keep_more: "",
            })
        } else {
            None
        };
        Ok(CaptureState { identity, head, point })
    }

    async fn prepare(
        &self,
        plan: &CapturePlan,
        tables: &[TablePlan],
        again: bool,
        events: &Events,
    ) -> Result<Prepared> {
        let session = self.session().await?;
        server::identity(&session).await?;
        let (at, names) = (At { address: &self.address, session: &session, events }, Names::new(plan));
        if again {
            capture::remove(&at, &names, false).await?;
        }
        capture::make(&at, &names, &plan.token, self.limit_bytes).await?;
        capture::align(&at, &names, tables, self.limit_bytes).await?;
        Ok(Prepared { position: snapshot_now(&session).await? })
    }

    async fn align(&self, plan: &CapturePlan, tables: &[TablePlan], events: &Events) -> Result<()> {
        let session = self.session().await?;
        let at = At { address: &self.address, session: &session, events };
        capture::align(&at, &Names::new(plan), tables, self.limit_bytes).await
    }

    async fn make_ready(&self, plan: &CapturePlan, table: &TablePlan, events: &Events) -> Result<()> {
        let session = self.session().await?;
        let at = At { address: &self.address, session: &session, events };
        capture::make_one(&at, &Names::new(plan), table, self.limit_bytes).await
    }

    async fn let_in(
        &self,
        capture: &CapturePlan,
        tables: &[TableName],
    ) -> Result<Vec<(TableName, Option<String>)>> {
        new_tables::let_in(&self.session().await?, &Names::new(capture).schema, tables).await
    }

    async fn captured_by(&self, plan: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>> {
        let ids: Vec<u64> = tables.iter().map(|t| t.source_id).collect();
        capture::captured_by(&self.session().await?, &Names::new(plan), &ids).await
    }

    async fn teardown(&self, capture: &CapturePlan, dry: bool, events: &Events) -> Result<Removed> {
        let session = self.session().await?;
        let (at, names) = (At { address: &self.address, session: &session, events }, Names::new(capture));
        let steps = capture::remove(&at, &names, dry).await?;
        let gone = !capture::exists(&session, &names).await?
            && capture::captured(&session, &names).await?.is_empty();
        Ok(Removed { steps, proved_gone: !dry && gone })
    }
}

#[async_trait]
impl CaptureSource for PostgresTriggerSource {
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        capture: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        events: &Events,
    ) -> Result<()> {
        self.plain.snapshot(tables, capture, Arc::new(Marked(sink)), events).await
    }

    async fn changes(&self, start: StreamStart, _: &Events) -> Result<Box<dyn ChangeStream>> {
        let session = self.session().await?;
        let names = Names::new(&start.capture);
        let checkpoint = &start.checkpoint;
        if reader::is_full(&session, &names).await? {
            return Err(stream::full(&names, &checkpoint.position));
        }
        if !checkpoint.proof.is_empty() {
            let sql = format!("SELECT EXISTS (SELECT FROM {} WHERE mark = $1)", names.anchors());
            let known: bool =
                session.one("looking for the mark of the history", &sql, &[&checkpoint.proof]).await?.get(0);
            if !known {
                let position = checkpoint.position.clone();
                return Err(Refusal::OtherHistory { position, found: "no mark of it".into() }.into());
            }
        }
        drop(session);
        let begin = Begin {
            address: self.address.clone(),
            names,
            tables: start.tables,
            captured_by: start.captured_by,
            after: start.checkpoint.position,
            notes: self.notes.clone(),
            settled: start.settled,
            owns: true,
        };
        begin.start().await
    }

    async fn send_note(&self, note: &str) -> Result<()> {
        // The next look begins after this and sees everything that was committed before.
        self.notes.push(note);
        Ok(())
    }

    async fn head(&self, plan: &CapturePlan) -> Result<Head> {
        let (session, names) = (self.session().await?, Names::new(plan));
        let kept_bytes = capture::largest(&session, &names).await?;
        Ok(Head { kept_bytes, limit_bytes: Some(self.limit_bytes), ..head(&session).await? })
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
impl LookAtSource for PostgresTriggerSource {
    async fn waiting(&self, plan: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting> {
        let session = self.session().await?;
        let names = Names::new(plan);
        if !capture::exists(&session, &names).await? {
            return Ok(Waiting::default());
        }
        let mut waiting = Waiting { changes: Some(0), retained_in: "change tables", ..Waiting::default() };
        for (id, _) in capture::captured(&session, &names).await? {
            let changes = names.rows(id);
            let sql = format!(
                "SELECT (SELECT count(*) FROM (SELECT FROM {changes} WHERE NOT pg_visible_in_snapshot(xid, $1::text::pg_snapshot) LIMIT {COUNT_LIMIT}) c),
                        pg_total_relation_size({}::regclass)",
                moorage_core::model::sql::quote_literal(&changes)
            );
            let row = session.one("counting waiting changes", &sql, &[&checkpoint.position]).await?;
            let count: i64 = row.get(0);
            waiting.or_more |= count >= COUNT_LIMIT;
            waiting.changes = waiting.changes.map(|n| n + count.max(0) as u64);
            waiting.retained_bytes += row.get::<_, i64>(1).max(0) as u64;
        }
        waiting.limit_bytes = Some(self.limit_bytes);
        Ok(waiting)
    }

    async fn look(
        &self,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Result<Box<dyn SourceLook>> {
        Ok(Box::new(TriggerLook::new(&self.address, capture, tables)))
    }

    async fn tail(&self, capture: &CapturePlan, tables: &[TablePlan], from: &TailFrom) -> Result<Tail> {
        let session = self.session().await?;
        let names = Names::new(capture);
        let refuse = |reason: &str| {
            AdapterError::refused(format!("following changes in schema {}", names.schema), reason)
        };
        if !capture::exists(&session, &names).await? {
            return Err(refuse("it is not there: `moorage run` makes it"));
        }
        let sql = format!("SELECT forgotten::text FROM {}", names.about());
        let forgotten: String = session.one("looking at the change tables", &sql, &[]).await?.get(0);
        let kept = reader::position(&forgotten);
        let after = match from {
            TailFrom::Now => snapshot_now(&session).await?,
            TailFrom::Behind(at) if kept.is_some_and(|kept| *at < kept) => {
                return Err(refuse("changes before that are not kept any more: use --from start"));
            }
            TailFrom::Behind(at) => at.clone(),
            TailFrom::Start | TailFrom::Time(_) => {
                reader::position(reader::NOTHING).ok_or_else(|| refuse("no beginning"))?
            }
        };
        let tables = tables.iter().map(|plan| StreamTable { plan: plan.clone(), mark: None }).collect();
        let begin = Begin {
            address: self.address.clone(),
            names,
            tables,
            captured_by: Vec::new(),
            after: after.to_string(),
            notes: WaitingNotes::default(),
            settled: None,
            owns: false,
        };
        Ok(Tail { stream: begin.start().await?, from: after })
    }

    async fn row(&self, plan: &TablePlan, key: &[String]) -> Result<RecordBatch> {
        self.plain.row(plan, key).await
    }

    async fn sample(&self, plan: &TablePlan, rows: usize) -> Result<RecordBatch> {
        self.plain.sample(plan, rows).await
    }
}
