//! A source that fails once, at a chosen call: before carrying it out, or after, as a lost answer would.

use crate::faulty::Fuse;
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    CapturePlan, CaptureSource, CaptureState, CaptureWords, ChangeStream, Console, Durable, Events, Head,
    InspectSource, Inspected, Lack, LookAtSource, Prepared, QueueGauge, Removed, Result, SetUp, SetUpSource,
    SnapshotMark, SnapshotSink, Source, SourceAddress, SourceLog, SourceLook, StreamStart, StreamTable,
    StreamedSegment, Tail, TailFrom, Usage, Waiting,
};
use moorage_core::change::kind::Transaction;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::model::described::NamedTable;
use moorage_core::model::described::SourceTable;
use moorage_core::model::finding::Finding;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableName, TableSchema};
use std::sync::Arc;

/// Counts the calls of a source, and what its streams give, and fails one of them. Calls that a clock makes, beside the
/// order of the run, are not counted.
#[derive(Clone)]
pub struct FaultySource {
    inner: Arc<dyn Source>,
    fuse: Fuse,
}

impl FaultySource {
    /// Fails the `fail_at`-th call (from 1; 0 fails none), `after` it was carried out or before.
    pub fn new(inner: Arc<dyn Source>, fail_at: usize, after: bool) -> Self {
        Self { inner, fuse: Fuse::new("source", fail_at, after) }
    }

    /// How many calls there were.
    pub fn calls(&self) -> usize {
        self.fuse.calls()
    }
}

struct FaultyStream {
    inner: Box<dyn ChangeStream>,
    fuse: Fuse,
}

#[async_trait]
impl ChangeStream for FaultyStream {
    async fn next(&mut self) -> Result<StreamedSegment> {
        // Counted by what arrives, as waiting for it may be broken off any number of times.
        let segment = self.inner.next().await?;
        if segment.segment.is_idle() {
            // Made by a clock.
            return Ok(segment);
        }
        self.fuse.guard(async { Ok(segment) }).await
    }

    fn gauge(&self) -> QueueGauge {
        self.inner.gauge()
    }

    fn acknowledge(&self, durable: &Durable) {
        self.inner.acknowledge(durable);
    }

    async fn close(self: Box<Self>) {
        self.inner.close().await;
    }
}

#[async_trait]
impl InspectSource for FaultySource {
    async fn address(&self) -> Result<SourceAddress> {
        self.fuse.guard(self.inner.address()).await
    }

    fn usage(&self) -> Option<Usage> {
        self.inner.usage()
    }

    fn lacks(&self) -> &'static [Lack] {
        self.inner.lacks()
    }

    async fn discover(&self) -> Result<Vec<SourceTable>> {
        self.fuse.guard(self.inner.discover()).await
    }

    async fn table_names(&self) -> Result<Vec<NamedTable>> {
        self.fuse.guard(self.inner.table_names()).await
    }

    async fn inspect(&self, capture: &CapturePlan, inspected: &Inspected<'_>) -> Result<Vec<Finding>> {
        self.fuse.guard(self.inner.inspect(capture, inspected)).await
    }

    async fn set_up_script(&self, capture: &CapturePlan, set_up: &SetUp<'_>) -> Result<String> {
        self.fuse.guard(self.inner.set_up_script(capture, set_up)).await
    }

    async fn console(&self) -> Result<Box<dyn Console>> {
        self.fuse.guard(self.inner.console()).await
    }
}

impl SourceLog for FaultySource {
    fn capture_words(&self) -> CaptureWords {
        self.inner.capture_words()
    }

    fn tells_of_structure(&self) -> bool {
        self.inner.tells_of_structure()
    }

    fn parse_position(&self, text: &str) -> Option<Position> {
        self.inner.parse_position(text)
    }

    fn bytes_between(&self, from: &Position, to: &Position) -> Option<u64> {
        self.inner.bytes_between(from, to)
    }

    fn is_unbroken(&self, before: &str, now: &str) -> bool {
        self.inner.is_unbroken(before, now)
    }

    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool {
        self.inner.covers(mark, transaction)
    }
}

#[async_trait]
impl SetUpSource for FaultySource {
    async fn capture_name(&self, pipeline: &str, remembered: Option<&str>) -> Result<String> {
        self.fuse.guard(self.inner.capture_name(pipeline, remembered)).await
    }

    async fn capture_state(&self, capture: &CapturePlan) -> Result<CaptureState> {
        self.fuse.guard(self.inner.capture_state(capture)).await
    }

    async fn prepare(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
        again: bool,
        events: &Events,
    ) -> Result<Prepared> {
        self.fuse.guard(self.inner.prepare(capture, tables, again, events)).await
    }

    async fn align(&self, capture: &CapturePlan, tables: &[TablePlan], events: &Events) -> Result<()> {
        self.fuse.guard(self.inner.align(capture, tables, events)).await
    }

    async fn make_ready(&self, capture: &CapturePlan, table: &TablePlan, events: &Events) -> Result<()> {
        self.fuse.guard(self.inner.make_ready(capture, table, events)).await
    }

    async fn let_in(
        &self,
        capture: &CapturePlan,
        tables: &[TableName],
    ) -> Result<Vec<(TableName, Option<String>)>> {
        self.fuse.guard(self.inner.let_in(capture, tables)).await
    }

    async fn captured_by(&self, capture: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>> {
        self.fuse.guard(self.inner.captured_by(capture, tables)).await
    }

    async fn teardown(&self, capture: &CapturePlan, dry: bool, events: &Events) -> Result<Removed> {
        self.fuse.guard(self.inner.teardown(capture, dry, events)).await
    }
}

#[async_trait]
impl CaptureSource for FaultySource {
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        capture: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        events: &Events,
    ) -> Result<()> {
        self.fuse.guard(self.inner.snapshot(tables, capture, sink, events)).await
    }

    async fn changes(&self, start: StreamStart, events: &Events) -> Result<Box<dyn ChangeStream>> {
        let inner = self.fuse.guard(self.inner.changes(start, events)).await?;
        Ok(Box::new(FaultyStream { inner, fuse: self.fuse.clone() }))
    }

    async fn send_note(&self, note: &str) -> Result<()> {
        self.fuse.guard(self.inner.send_note(note)).await
    }

    async fn head(&self, capture: &CapturePlan) -> Result<Head> {
        // Called by a clock too.
        self.inner.head(capture).await
    }

    async fn drifted(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
    ) -> Result<Vec<(Arc<TableSchema>, String)>> {
        // Called by a clock too.
        self.inner.drifted(capture, tables).await
    }
}

#[async_trait]
impl LookAtSource for FaultySource {
    async fn waiting(&self, capture: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting> {
        self.inner.waiting(capture, checkpoint).await
    }

    async fn look(
        &self,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Result<Box<dyn SourceLook>> {
        self.fuse.guard(self.inner.look(capture, tables)).await
    }

    async fn tail(&self, capture: &CapturePlan, tables: &[TablePlan], from: &TailFrom) -> Result<Tail> {
        self.fuse.guard(self.inner.tail(capture, tables, from)).await
    }

    async fn row(&self, plan: &TablePlan, key: &[String]) -> Result<RecordBatch> {
        self.fuse.guard(self.inner.row(plan, key)).await
    }

    async fn sample(&self, plan: &TablePlan, rows: usize) -> Result<RecordBatch> {
        self.fuse.guard(self.inner.sample(plan, rows)).await
    }
}
