//! A source in memory, with a log, transactions and a capture point. The fake that engine tests drive.

use crate::rows::{Op, Row, berths_source_table, block_of, rows_of_batch};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, CapturePlan, CaptureSource, CaptureState, CaptureWords, ChangeStream, Console, Durable,
    Events, Head, InspectSource, Inspected, Lack, LookAtSource, Prepared, QueueGauge, Removed, Result,
    SegmentSender, SetUp, SetUpSource, SnapshotMark, SnapshotSink, SourceAddress, SourceLog, SourceLook,
    Step, StreamStart, StreamTable, StreamedSegment, Tail, TailFrom, Usage, Waiting, segment_channel,
};
use moorage_core::change::kind::Transaction;
use moorage_core::change::segment::Segment;
use moorage_core::checkpoint::decide::{CapturePoint, Refusal};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::{SourceIdentity, SourceTable};
use moorage_core::model::finding::{End, Finding};
use moorage_core::plan::table::TablePlan;
use moorage_core::watch::lag::ClockSkew;
use moorage_core::{Position, TableName, TableSchema};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tokio::sync::{Notify, mpsc};

#[derive(Clone, Debug)]
struct Logged {
    proof: String,
    /// Each with its table.
    ops: Vec<(usize, Op)>,
    note: Option<String>,
    /// The first table has another structure from here on.
    restructured: bool,
}

#[derive(Debug, Default)]
struct Inner {
    tables: Vec<String>,
    rows: BTreeMap<(usize, i64), Row>,
    log: Vec<Logged>,
    point: Option<(String, usize)>,
    acknowledged: usize,
}

/// Tables of berths with a log.
#[derive(Clone)]
pub struct MemorySource {
    inner: Arc<Mutex<Inner>>,
    grew: Arc<Notify>,
}

impl Inner {
    fn rows_of(&self, table: usize) -> Vec<Row> {
        let of = self.rows.iter().filter(|((of, _), _)| *of == table);
        of.map(|(_, row)| row.clone()).collect()
    }

    fn place(&self, plan: &TablePlan) -> usize {
        self.tables.iter().position(|name| *name == plan.table().name).expect("a table of this source")
    }
}

fn position(at: usize) -> Position {
    Position::new(&[at as u64], at.to_string())
}

/// What captures every table.
const CAPTURED_BY: &str = "memory";
/// How often it is said that nothing was missing.
const SAID_EVERY: std::time::Duration = std::time::Duration::from_millis(100);
/// How many changes of a transaction come in one segment.
const SEGMENT: usize = 1000;

impl Default for MemorySource {
    fn default() -> Self {
        Self::with_tables(&["berths"])
    }
}

impl MemorySource {
    /// A source with these tables.
    pub fn with_tables(tables: &[&str]) -> Self {
        let tables = tables.iter().map(ToString::to_string).collect();
        Self { inner: Arc::new(Mutex::new(Inner { tables, ..Inner::default() })), grew: Arc::default() }
    }

    /// Commits a transaction in the first table.
    pub fn commit(&self, ops: &[Op]) {
        self.commit_in(&ops.iter().map(|op| (0, op.clone())).collect::<Vec<_>>());
    }

    /// Commits a transaction, each change in the table with this place.
    pub fn commit_in(&self, ops: &[(usize, Op)]) {
        self.append(ops, None);
    }

    /// Gives the first table another column, which this source cannot carry.
    pub fn add_column(&self) {
        self.append(&[], None);
        self.inner.lock().unwrap().log.last_mut().unwrap().restructured = true;
    }

    fn append(&self, ops: &[(usize, Op)], note: Option<String>) {
        let mut inner = self.inner.lock().unwrap();
        for (table, op) in ops.iter().cloned() {
            match op {
                Op::Insert(row) => {
                    assert!(inner.rows.insert((table, row.0), row).is_none(), "a second row");
                }
                Op::Update(key, mut row) => {
                    let before = inner.rows.remove(&(table, key)).expect("the row to update");
                    if row.2.as_deref() == Some("~") {
                        row.2 = before.2;
                    }
                    inner.rows.insert((table, row.0), row);
                }
                Op::Delete(key) => assert!(inner.rows.remove(&(table, key)).is_some(), "the row to delete"),
                Op::Truncate => inner.rows.retain(|(of, _), _| *of != table),
            }
        }
        let proof = format!("transaction {}", inner.log.len() + 1);
        inner.log.push(Logged { proof, ops: ops.to_vec(), note, restructured: false });
        drop(inner);
        self.grew.notify_waiters();
    }

    /// The rows of the first table now.
    pub fn rows(&self) -> Vec<Row> {
        self.rows_in(0)
    }

    /// The rows of a table now.
    pub fn rows_in(&self, table: usize) -> Vec<Row> {
        self.inner.lock().unwrap().rows_of(table)
    }

    /// The number of the last transaction.
    pub fn end(&self) -> usize {
        self.inner.lock().unwrap().log.len()
    }

    /// Whether no capture point was made.
    pub fn is_untouched(&self) -> bool {
        self.inner.lock().unwrap().point.is_none()
    }

    /// Up to which transaction the target was acknowledged.
    pub fn acknowledged(&self) -> u128 {
        self.inner.lock().unwrap().acknowledged as u128
    }
}

struct MemoryStream {
    segments: mpsc::Receiver<Result<StreamedSegment>>,
    inner: Arc<Mutex<Inner>>,
    gauge: QueueGauge,
    task: tokio::task::JoinHandle<()>,
}

#[async_trait]
impl ChangeStream for MemoryStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        self.segments.recv().await.expect("the stream goes on")
    }

    fn gauge(&self) -> QueueGauge {
        self.gauge.clone()
    }

    fn acknowledge(&self, durable: &Durable) {
        self.inner.lock().unwrap().acknowledged = durable.checkpoint().position.parse().unwrap();
    }

    async fn close(self: Box<Self>) {}
}

impl Drop for MemoryStream {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// A table that is streamed: its place, its structure, and up to which transaction its snapshot holds everything.
type Streamed = (usize, Arc<TableSchema>, usize);

/// The changes of a transaction as segments, the last of which ends it.
fn segments(at: usize, logged: &Logged, tables: &[Streamed], order: &mut u64) -> Vec<Segment> {
    let transaction = Arc::new(Transaction {
        position: position(at),
        proof: logged.proof.clone(),
        committed_at: chrono::Utc::now(),
        found: None,
    });
    let mut segments = Vec::new();
    for part in logged.ops.chunks(SEGMENT) {
        let mut segment = Segment { in_transaction: true, ..Segment::default() };
        for run in part.chunk_by(|a, b| a.0 == b.0) {
            let ops: Vec<Op> = run.iter().map(|(_, op)| op.clone()).collect();
            let streamed = tables.iter().find(|(table, _, covered)| *table == run[0].0 && at > *covered);
            if let Some((_, schema, _)) = streamed {
                let no_old = |_| panic!("keyed");
                segment.blocks.push(block_of(schema, &transaction, order, &ops, no_old));
            }
        }
        segments.push(segment);
    }
    let mut last = segments.pop().unwrap_or_default();
    (last.in_transaction, last.commits, last.last_commit) = (false, 1, Some(transaction));
    last.notes.extend(logged.note.clone());
    segments.push(last);
    segments
}

fn head(end: usize) -> Head {
    let skew = ClockSkew::default();
    Head { position: position(end), skew, holds_log_back: true, kept_bytes: None, limit_bytes: None }
}

async fn send_log(
    inner: Arc<Mutex<Inner>>,
    grew: Arc<Notify>,
    tables: Vec<Streamed>,
    (mut at, says): (usize, bool),
    sender: SegmentSender,
) {
    let mut order = 0;
    loop {
        let grown = grew.notified();
        tokio::pin!(grown);
        grown.as_mut().enable();
        let next = inner.lock().unwrap().log.get(at).cloned();
        let Some(logged) = next else {
            let seen_at = chrono::Utc::now();
            let is_new = tokio::time::timeout(SAID_EVERY, grown).await.is_ok();
            let at_end = !is_new && inner.lock().unwrap().log.len() == at;
            if at_end && says && !sender.send(Segment::nothing_missing_at(seen_at)).await {
                return;
            }
            continue;
        };
        at += 1;
        if logged.restructured {
            let table = tables[0].1.table.clone();
            return sender.fail(AdapterError::Drift { table, what: "column depth was added".into() }).await;
        }
        for segment in segments(at, &logged, &tables, &mut order) {
            if !sender.send(segment).await {
                return;
            }
        }
    }
}

#[async_trait]
impl InspectSource for MemorySource {
    async fn address(&self) -> Result<SourceAddress> {
        let word = || "memory".to_string();
        Ok(SourceAddress { system: word(), host: word(), database: word(), user: word() })
    }

    async fn inspect(&self, _: &CapturePlan, _: &Inspected<'_>) -> Result<Vec<Finding>> {
        Ok(vec![Finding::ok(End::Source, "connection", "memory")])
    }

    async fn set_up_script(&self, _: &CapturePlan, _: &SetUp<'_>) -> Result<String> {
        Ok(String::new())
    }

    async fn discover(&self) -> Result<Vec<SourceTable>> {
        let inner = self.inner.lock().unwrap();
        let tables = inner.tables.iter().zip(1..).map(|(name, id)| SourceTable {
            name: TableName::new("public", name),
            id,
            ..berths_source_table()
        });
        Ok(tables.collect())
    }

    async fn table_names(&self) -> Result<Vec<NamedTable>> {
        Ok(self.discover().await?.iter().map(NamedTable::of).collect())
    }

    async fn console(&self) -> Result<Box<dyn Console>> {
        Err(AdapterError::refused("memory", "it has no statements"))
    }

    fn usage(&self) -> Option<Usage> {
        None
    }

    fn lacks(&self) -> &'static [Lack] {
        &[Lack::Looks]
    }
}

impl SourceLog for MemorySource {
    fn capture_words(&self) -> CaptureWords {
        CaptureWords { one: "slot", another: None }
    }

    fn tells_of_structure(&self) -> bool {
        false
    }

    fn parse_position(&self, text: &str) -> Option<Position> {
        text.parse().ok().map(position)
    }

    fn bytes_between(&self, _: &Position, _: &Position) -> Option<u64> {
        None
    }

    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool {
        transaction.position <= mark.complete_at
    }

    fn is_unbroken(&self, before: &str, now: &str) -> bool {
        before == now
    }
}

#[async_trait]
impl SetUpSource for MemorySource {
    async fn capture_name(&self, pipeline: &str, _: Option<&str>) -> Result<String> {
        Ok(pipeline.into())
    }

    async fn capture_state(&self, _: &CapturePlan) -> Result<CaptureState> {
        let inner = self.inner.lock().unwrap();
        let word = || "memory".to_string();
        Ok(CaptureState {
            identity: SourceIdentity { kind: word(), system: word(), database: word(), timeline: word() },
            head: head(inner.log.len()),
            point: inner.point.as_ref().map(|(token, from)| CapturePoint {
                active: None,
                reaches_back_to: Some(position((*from).max(inner.acknowledged))),
                token: Some(token.clone()),
                named_by_user: false,
                keep_more: "",
            }),
        })
    }

    async fn prepare(
        &self,
        capture: &CapturePlan,
        _: &[TablePlan],
        again: bool,
        _: &Events,
    ) -> Result<Prepared> {
        let mut inner = self.inner.lock().unwrap();
        let now = inner.log.len();
        if again {
            inner.point = None;
        }
        let from = inner.point.get_or_insert((capture.token.clone(), now)).1;
        Ok(Prepared { position: position(from) })
    }

    async fn captured_by(&self, _: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>> {
        Ok(tables.iter().map(|_| Some(CAPTURED_BY.into())).collect())
    }

    async fn align(&self, _: &CapturePlan, _: &[TablePlan], _: &Events) -> Result<()> {
        Ok(())
    }

    async fn teardown(&self, capture: &CapturePlan, dry: bool, _: &Events) -> Result<Removed> {
        let mut inner = self.inner.lock().unwrap();
        let there = inner.point.is_some();
        if !dry {
            inner.point = None;
        }
        let outcome = match (there, dry) {
            (false, _) => "not there",
            (true, true) => "would be removed",
            (true, false) => "removed",
        };
        Ok(Removed { steps: vec![Step::new(&capture.name, outcome)], proved_gone: !dry })
    }
}

#[async_trait]
impl CaptureSource for MemorySource {
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        _: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        _: &Events,
    ) -> Result<()> {
        let (rows, mark) = {
            let inner = self.inner.lock().unwrap();
            let rows = tables.iter().map(|plan| inner.rows_of(inner.place(plan)));
            (rows.collect::<Vec<_>>(), inner.log.len())
        };
        for (table, (plan, rows)) in tables.iter().zip(rows).enumerate() {
            for chunk in rows.chunks(2) {
                sink.rows(table, rows_of_batch(&plan.schema, chunk)).await?;
            }
            sink.finished(table, SnapshotMark { text: mark.to_string(), complete_at: position(mark) })
                .await?;
        }
        Ok(())
    }

    async fn changes(&self, start: StreamStart, _: &Events) -> Result<Box<dyn ChangeStream>> {
        let from: usize = start.checkpoint.position.parse().unwrap();
        let proof = &start.checkpoint.proof;
        let found =
            from.checked_sub(1).and_then(|i| self.inner.lock().unwrap().log.get(i).map(|l| l.proof.clone()));
        if !proof.is_empty() && found.as_ref() != Some(proof) {
            let (position, found) = (start.checkpoint.position, found.unwrap_or_default());
            return Err(AdapterError::History(Refusal::OtherHistory { position, found }));
        }
        let streamed = |table: &StreamTable| {
            let covered = table.mark.as_ref().map_or(0, |m| m.text.parse().unwrap());
            (self.inner.lock().unwrap().place(&table.plan), table.plan.schema.clone(), covered)
        };
        let tables = start.tables.iter().map(streamed).collect();
        let (sender, segments) = segment_channel(1 << 20);
        let gauge = sender.gauge();
        let says = start.captured_by.iter().flatten().all(|by| by == CAPTURED_BY);
        let task = send_log(self.inner.clone(), self.grew.clone(), tables, (from, says), sender);
        Ok(Box::new(MemoryStream { segments, inner: self.inner.clone(), gauge, task: tokio::spawn(task) }))
    }

    async fn send_note(&self, note: &str) -> Result<()> {
        self.append(&[], Some(note.into()));
        Ok(())
    }

    async fn head(&self, _: &CapturePlan) -> Result<Head> {
        let end = self.inner.lock().unwrap().log.len();
        Ok(head(end))
    }

    async fn drifted(&self, _: &CapturePlan, _: &[TablePlan]) -> Result<Vec<(Arc<TableSchema>, String)>> {
        Ok(Vec::new())
    }
}

#[async_trait]
impl LookAtSource for MemorySource {
    async fn waiting(&self, _: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting> {
        let from = checkpoint.position.parse().unwrap_or(0);
        let changes: usize = self.inner.lock().unwrap().log.iter().skip(from).map(|l| l.ops.len()).sum();
        Ok(Waiting { changes: Some(changes as u64), ..Waiting::default() })
    }

    async fn look(&self, _: Option<&CapturePlan>, _: &[StreamTable]) -> Result<Box<dyn SourceLook>> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Looks })
    }

    async fn tail(&self, _: &CapturePlan, _: &[TablePlan], _: &TailFrom) -> Result<Tail> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Looks })
    }

    async fn row(&self, _: &TablePlan, _: &[String]) -> Result<RecordBatch> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Looks })
    }

    async fn sample(&self, _: &TablePlan, _: usize) -> Result<RecordBatch> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Looks })
    }
}
