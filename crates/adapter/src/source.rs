//! The source side.

use crate::{AdapterError, Console, Events, Result, SourceLook, Step, Tail, TailFrom};
use arrow::array::RecordBatch;
use async_trait::async_trait;

use moorage_core::change::{Segment, Transaction};
use moorage_core::checkpoint::{CapturePoint, Checkpoint, Durable, SourceIdentity};
use moorage_core::finding::Finding;
use moorage_core::lag::ClockSkew;
use moorage_core::plan::{Plan, SourceTable, TablePlan};
use moorage_core::{Position, TableSchema};
use serde::Serialize;
use std::sync::Arc;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

/// Where a source is, for people.
#[derive(Clone, Debug, Serialize)]
pub struct SourceAddress {
    /// The kind of system with its version.
    pub system: String,
    /// Host and port, or a socket's path; empty for a file.
    pub host: String,
    /// The database, or the file.
    pub database: String,
    /// The user; empty for a file.
    pub user: String,
}

/// What [`Source::drifted`] says of a table that is not in the source any more.
pub const GONE: &str = "it is not in the source any more";

/// The end of the source's log now.
#[derive(Clone, Debug)]
pub struct Head {
    /// The newest position.
    pub position: Position,
    /// The source's clock against ours.
    pub skew: ClockSkew,
    /// Whether the log grows past a quiet capture point, which then holds it back.
    pub holds_log_back: bool,
}

/// Which capture point a pipeline uses.
#[derive(Clone, Debug)]
pub struct CapturePlan {
    /// The slot's name.
    pub slot: String,
    /// The publication's name.
    pub publication: String,
    /// Whether the project file names the slot.
    pub slot_named: bool,
    /// Whether the project file names the publication.
    pub publication_named: bool,
    /// A text to leave beside the capture point, to know it again.
    pub token: String,
}

/// What is to be inspected.
#[derive(Clone, Copy, Debug)]
pub struct Inspected<'a> {
    /// What is in the source.
    pub found: &'a [SourceTable],
    /// What a run would carry of it.
    pub plan: &'a Plan,
}

/// What a set-up script is for.
#[derive(Clone, Copy, Debug)]
pub struct SetUp<'a> {
    /// The pipeline.
    pub pipeline: &'a str,
    /// The role it is for; the one of the project file if not given.
    pub role: Option<&'a str>,
    /// Whether it is to take back what the other one does.
    pub undo: bool,
    /// What is in the source.
    pub found: &'a [SourceTable],
    /// What a run would carry of it.
    pub plan: &'a Plan,
}

/// What there is of a capture point.
#[derive(Clone, Debug)]
pub struct CaptureState {
    /// The source's identity.
    pub identity: SourceIdentity,
    /// The end of its log.
    pub head: Head,
    /// The capture point, if it is there.
    pub point: Option<CapturePoint>,
}

/// The outcome of [`Source::prepare`].
#[derive(Clone, Debug)]
pub struct Prepared {
    /// Where the stream starts.
    pub position: Position,
}

/// The outcome of [`Source::teardown`].
#[derive(Clone, Debug, Default, Serialize)]
pub struct Removed {
    /// What was found and what was done with it.
    pub steps: Vec<Step>,
    /// Whether a second look found nothing left.
    pub proved_gone: bool,
}

/// What a snapshot of a table covers: opaque to everyone but the source that made it, kept in the target
/// with the table's rows and handed back when changes are streamed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SnapshotMark {
    /// The source's own text.
    pub text: String,
    /// No transaction that the mark covers ends after this position: a target that holds everything up
    /// to here is consistent for this table.
    pub complete_at: Position,
}

/// Takes the chunks of a snapshot. Called from several tasks at once.
#[async_trait]
pub trait SnapshotSink: Send + Sync {
    /// Rows of a table, in no particular order; `table` is an index into the list given to
    /// [`Source::snapshot`].
    async fn rows(&self, table: usize, rows: RecordBatch) -> Result<()>;

    /// All rows of a table were handed over, and the mark is final.
    async fn finished(&self, table: usize, mark: SnapshotMark) -> Result<()>;
}

/// A table to stream.
#[derive(Clone, Debug)]
pub struct StreamTable {
    /// Its plan.
    pub plan: TablePlan,
    /// What the target got by snapshot; `None` if it follows changes only.
    pub mark: Option<SnapshotMark>,
}

/// Where a stream starts.
#[derive(Clone, Debug)]
pub struct StreamStart {
    /// The target's checkpoint.
    pub checkpoint: Checkpoint,
    /// Which capture point.
    pub capture: CapturePlan,
    /// The tables.
    pub tables: Vec<StreamTable>,
}

/// What waits in the source for a pipeline that is not running.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Waiting {
    /// Changes to carried tables that were committed and not yet merged; `None` if it cannot be told now.
    pub changes: Option<u64>,
    /// Whether there are more than `changes`, because counting stopped.
    pub or_more: bool,
    /// Bytes of log between the checkpoint and its end.
    pub bytes: u64,
    /// Bytes that the source keeps for this pipeline.
    pub retained_bytes: u64,
    /// Where it keeps them: `log`, `change tables`.
    pub retained_in: &'static str,
    /// How many bytes each change table may grow to, where there are such tables with a limit.
    pub limit_bytes: Option<u64>,
    /// The oldest open transaction, with its start: `pid 312 (app), open since 14:03:22`.
    pub oldest_open: Option<String>,
}

/// A segment with the memory it holds, which is given back when it is dropped.
#[derive(Debug)]
pub struct StreamedSegment {
    /// The changes.
    pub segment: Segment,
    _memory: Option<OwnedSemaphorePermit>,
}

/// Sends segments into a [`ChangeStream`], never more bytes than it may hold at once.
#[derive(Clone)]
pub struct SegmentSender {
    sender: mpsc::Sender<Result<StreamedSegment>>,
    memory: Arc<Semaphore>,
    capacity: usize,
}

impl SegmentSender {
    /// Waits until there is room, then sends. `false` if nobody listens any more.
    pub async fn send(&self, segment: Segment) -> bool {
        let wanted = segment.bytes().clamp(1, self.capacity) as u32;
        let Ok(memory) = self.memory.clone().acquire_many_owned(wanted).await else { return false };
        self.sender.send(Ok(StreamedSegment { segment, _memory: Some(memory) })).await.is_ok()
    }

    /// Sends the error that ends the stream.
    pub async fn fail(&self, error: AdapterError) {
        // Nobody listening any more is no news worth keeping.
        let _ = self.sender.send(Err(error)).await;
    }
}

/// A channel for segments that holds at most `capacity` bytes (at least 1), or one larger segment.
pub fn segment_channel(capacity: usize) -> (SegmentSender, mpsc::Receiver<Result<StreamedSegment>>) {
    let capacity = capacity.clamp(1, Semaphore::MAX_PERMITS.min(u32::MAX as usize));
    let (sender, receiver) = mpsc::channel(1024);
    (SegmentSender { sender, memory: Arc::new(Semaphore::new(capacity)), capacity }, receiver)
}

/// A running stream of changes. Dropping it ends the stream.
#[async_trait]
pub trait ChangeStream: Send + Sync {
    /// The next segment. Waits for as long as the source is silent. May be cancelled without loss.
    ///
    /// # Errors
    /// The stream is over then.
    async fn next(&mut self) -> Result<StreamedSegment>;

    /// Tells the source that everything up to a durable checkpoint may be forgotten. Does not wait.
    fn acknowledge(&self, durable: &Durable);

    /// Ends the stream after the source was told the last acknowledged position.
    async fn close(self: Box<Self>);
}

/// A system that rows come from.
///
/// Legal order: any of the looking calls at any time; [`prepare`](Self::prepare) before
/// [`snapshot`](Self::snapshot) before [`changes`](Self::changes). All calls may be repeated after an
/// error. From `prepare` on no change of a published table may be lost for the stream.
#[async_trait]
pub trait Source: Send + Sync {
    /// Where it is.
    async fn address(&self) -> Result<SourceAddress>;

    /// Looks at everything a pipeline needs, each finding with what mends it. Tries things and takes them back
    /// where that does not disturb anyone; leaves nothing behind.
    async fn inspect(&self, capture: &CapturePlan, inspected: &Inspected<'_>) -> Result<Vec<Finding>>;

    /// The statements for the source's administrator that let a pipeline do its work, with no right more than it
    /// needs, or that take this back.
    async fn set_up_script(&self, capture: &CapturePlan, set_up: &SetUp<'_>) -> Result<String>;

    /// The tables that are there, not the system's own.
    async fn discover(&self) -> Result<Vec<SourceTable>>;

    /// What a capture point of this source is called: `slot`.
    fn capture_word(&self) -> &'static str;

    /// What there is of a capture point, and of the source's history.
    async fn capture_state(&self, capture: &CapturePlan) -> Result<CaptureState>;

    /// Reads a position's text as people or checkpoints write it.
    fn parse_position(&self, text: &str) -> Option<Position>;

    /// Makes what capturing needs: first what selects the tables, then the capture point. What is there
    /// already is kept and said. `again` removes the capture point of a set-up that was broken off.
    /// Never makes a table's own updates or deletes fail.
    async fn prepare(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
        again: bool,
        events: &Events,
    ) -> Result<Prepared>;

    /// Adds and removes tables so that exactly `tables` are captured by an existing capture point.
    async fn align(&self, capture: &CapturePlan, tables: &[TablePlan], events: &Events) -> Result<()>;

    /// For each table what captures its changes now, as a text that becomes another one if that was ever
    /// interrupted or altered by someone; none if nothing does. To be asked after [`align`](Self::align) and before a
    /// snapshot of the table is taken, and kept with its rows.
    async fn captured_by(&self, capture: &CapturePlan, tables: &[TablePlan]) -> Result<Vec<Option<String>>>;

    /// Whether between two such texts, the later one last, no change can have been missed.
    fn is_unbroken(&self, before: &str, now: &str) -> bool {
        before == now
    }

    /// Whether a snapshot with this mark holds a transaction, as it stands beside its changes.
    fn covers(&self, mark: &SnapshotMark, transaction: &Transaction) -> bool;

    /// Reads whole tables as of one mark, in parallel. With `capture`, changes are being kept and the
    /// mark joins them exactly; without, the rows are just consistent with each other.
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        capture: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        events: &Events,
    ) -> Result<()>;

    /// Streams changes committed behind the checkpoint, without those that the marks cover. The source
    /// first proves that its history is the checkpoint's.
    async fn changes(&self, start: StreamStart, events: &Events) -> Result<Box<dyn ChangeStream>>;

    /// Writes a note into the log that comes back in [`Segment::notes`] behind everything that was
    /// committed before.
    async fn send_note(&self, note: &str) -> Result<()>;

    /// The end of the log.
    async fn head(&self, capture: &CapturePlan) -> Result<Head>;

    /// What waits for a pipeline; must not disturb it.
    async fn waiting(&self, capture: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting>;

    /// Begins a look at these tables. With `capture` no captured change is lost to it from now on; without,
    /// changes cannot be asked for.
    async fn look(
        &self,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Result<Box<dyn SourceLook>>;

    /// Follows changes beside a pipeline, without moving or holding up its capture point. Changes committed
    /// before the wanted time may come too.
    async fn tail(&self, capture: &CapturePlan, tables: &[TablePlan], from: &TailFrom) -> Result<Tail>;

    /// Reads one row by the texts of its key's values, in the key's order: none or one row. Needs nothing but
    /// the right to read.
    async fn row(&self, plan: &TablePlan, key: &[String]) -> Result<RecordBatch>;

    /// Reads some rows of a table.
    async fn sample(&self, plan: &TablePlan, rows: usize) -> Result<RecordBatch>;

    /// Structure changes since the plans were made, by table.
    async fn drifted(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
    ) -> Result<Vec<(Arc<TableSchema>, String)>>;

    /// A session that writes to the source as an application does.
    async fn console(&self) -> Result<Box<dyn Console>>;

    /// Removes what [`prepare`](Self::prepare) made, or with `dry` says what it would remove. What it waits for is told
    /// to `events`.
    async fn teardown(&self, capture: &CapturePlan, dry: bool, events: &Events) -> Result<Removed>;
}
