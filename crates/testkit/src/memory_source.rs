//! A source in memory, with a log, transactions and a capture point. The fake that engine tests drive.

use crate::rows::{Op, Row, berths_source_table, block_of, rows_of_batch};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, CapturePlan, CaptureSource, CaptureState, CaptureWords, ChangeStream, Console, Durable,
    Events, Head, InspectSource, Inspected, Lack, LookAtSource, Prepared, Removed, Result, SegmentSender,
    SetUp, SetUpSource, SnapshotMark, SnapshotSink, SourceAddress, SourceLog, SourceLook, Step, StreamStart,
    StreamTable, StreamedSegment, Tail, TailFrom, Waiting, segment_channel,
};
use moorage_core::change::kind::Transaction;
use moorage_core::change::segment::Segment;
use moorage_core::checkpoint::decide::{CapturePoint, Refusal};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::{SourceIdentity, SourceTable};
use moorage_core::model::finding::{End, Finding};
use moorage_core::plan::table::TablePlan;
use moorage_core::watch::lag::ClockSkew;
use moorage_core::{Position, TableSchema};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tokio::sync::{Notify, mpsc};

#[derive(Clone, Debug)]
struct Logged {
    proof: String,
    ops: Vec<Op>,
    note: Option<String>,
}

#[derive(Debug, Default)]
struct Inner {
    rows: BTreeMap<i64, Row>,
    log: Vec<Logged>,
    point: Option<(String, usize)>,
    acknowledged: usize,
}

/// A table of berths with a log.
#[derive(Clone, Default)]
pub struct MemorySource {
    inner: Arc<Mutex<Inner>>,
    grew: Arc<Notify>,
}

fn position(at: usize) -> Position {
    Position::new(&[at as u64], at.to_string())
}

impl MemorySource {
    /// Commits a transaction.
    pub fn commit(&self, ops: &[Op]) {
        self.append(ops, None);
    }

    fn append(&self, ops: &[Op], note: Option<String>) {
        let mut inner = self.inner.lock().unwrap();
        for op in ops {
            match op.clone() {
                Op::Insert(row) => assert!(inner.rows.insert(row.0, row).is_none(), "a second row"),
                Op::Update(key, mut row) => {
                    let before = inner.rows.remove(&key).expect("the row to update");
                    if row.2.as_deref() == Some("~") {
                        row.2 = before.2;
                    }
                    inner.rows.insert(row.0, row);
                }
                Op::Delete(key) => assert!(inner.rows.remove(&key).is_some(), "the row to delete"),
                Op::Truncate => inner.rows.clear(),
            }
        }
        let proof = format!("transaction {}", inner.log.len() + 1);
        inner.log.push(Logged { proof, ops: ops.to_vec(), note });
        drop(inner);
        self.grew.notify_waiters();
    }

    /// The rows now.
    pub fn rows(&self) -> Vec<Row> {
        self.inner.lock().unwrap().rows.values().cloned().collect()
    }

    /// Up to which transaction the target was acknowledged.
    pub fn acknowledged(&self) -> u128 {
        self.inner.lock().unwrap().acknowledged as u128
    }
}

struct MemoryStream {
    segments: mpsc::Receiver<Result<StreamedSegment>>,
    inner: Arc<Mutex<Inner>>,
    task: tokio::task::JoinHandle<()>,
}

#[async_trait]
impl ChangeStream for MemoryStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        self.segments.recv().await.expect("the stream goes on")
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

async fn send_log(
    inner: Arc<Mutex<Inner>>,
    grew: Arc<Notify>,
    schema: Arc<TableSchema>,
    covered: usize,
    mut at: usize,
    sender: SegmentSender,
) {
    let mut order = 0;
    loop {
        let grown = grew.notified();
        tokio::pin!(grown);
        grown.as_mut().enable();
        let next = inner.lock().unwrap().log.get(at).cloned();
        let Some(logged) = next else {
            grown.await;
            continue;
        };
        at += 1;
        let transaction = Arc::new(Transaction {
            position: position(at),
            proof: logged.proof,
            committed_at: chrono::Utc::now(),
        });
        let mut segment =
            Segment { commits: 1, last_commit: Some(transaction.clone()), ..Segment::default() };
        if at > covered && !logged.ops.is_empty() {
            let no_old = |_| panic!("keyed");
            segment.blocks.push(block_of(&schema, &transaction, &mut order, &logged.ops, no_old));
        }
        segment.notes.extend(logged.note);
        if !sender.send(segment).await {
            return;
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
        Ok(vec![berths_source_table()])
    }

    async fn console(&self) -> Result<Box<dyn Console>> {
        Err(AdapterError::refused("memory", "it has no statements"))
    }

    fn lacks(&self) -> &'static [Lack] {
        &[Lack::Looks]
    }
}

impl SourceLog for MemorySource {
    fn capture_words(&self) -> CaptureWords {
        CaptureWords { one: "slot", another: None }
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
            head: Head {
                position: position(inner.log.len()),
                skew: ClockSkew::default(),
                holds_log_back: true,
            },
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
        Ok(tables.iter().map(|_| Some("memory".into())).collect())
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
            (inner.rows.values().cloned().collect::<Vec<_>>(), inner.log.len())
        };
        for (table, plan) in tables.iter().enumerate() {
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
        let table = &start.tables[0];
        let covered = table.mark.as_ref().map_or(0, |m| m.text.parse().unwrap());
        let (sender, segments) = segment_channel(1 << 20);
        let task =
            send_log(self.inner.clone(), self.grew.clone(), table.plan.schema.clone(), covered, from, sender);
        Ok(Box::new(MemoryStream { segments, inner: self.inner.clone(), task: tokio::spawn(task) }))
    }

    async fn send_note(&self, note: &str) -> Result<()> {
        self.append(&[], Some(note.into()));
        Ok(())
    }

    async fn head(&self, _: &CapturePlan) -> Result<Head> {
        let end = self.inner.lock().unwrap().log.len();
        Ok(Head { position: position(end), skew: ClockSkew::default(), holds_log_back: true })
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
