//! Snapshots and streams on their way from a source: what both are made of, and the bound on what waits.

use crate::{AdapterError, Durable, Result};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_core::Position;
use moorage_core::change::segment::Segment;
use moorage_core::change::structure::SchemaChange;
use moorage_core::plan::table::TablePlan;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

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
    /// [`CaptureSource::snapshot`](crate::CaptureSource::snapshot).
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
    /// Whether what was sent last ends inside a transaction.
    in_transaction: Arc<AtomicBool>,
    stalled_since: Arc<AtomicI64>,
}

/// How full the room between a source and a batch is. Cheap to ask, from anywhere.
#[derive(Clone)]
pub struct QueueGauge {
    memory: Arc<Semaphore>,
    capacity: usize,
    /// In microseconds since 1970; 0 if there is room.
    stalled_since: Arc<AtomicI64>,
}

impl QueueGauge {
    /// How many bytes wait, and how many may.
    pub fn bytes(&self) -> (u64, u64) {
        let capacity = self.capacity as u64;
        (capacity.saturating_sub(self.memory.available_permits() as u64), capacity)
    }

    /// Since when the reader has stood still for want of room; none if it does not.
    pub fn stalled_since(&self) -> Option<DateTime<Utc>> {
        let since = self.stalled_since.load(Ordering::Relaxed);
        DateTime::from_timestamp_micros(since).filter(|_| since != 0)
    }
}

impl SegmentSender {
    /// Waits until there is room, then sends. `false` if nobody listens any more.
    pub async fn send(&self, mut segment: Segment) -> bool {
        let wanted = segment.bytes().clamp(1, self.capacity) as u32;
        self.in_transaction.store(segment.in_transaction, Ordering::Relaxed);
        let read_at = *segment.read_at.get_or_insert_with(Utc::now);
        let at_once =
            self.memory.clone().try_acquire_many_owned(wanted).ok().zip(self.sender.try_reserve().ok());
        let (memory, room) = match at_once {
            Some(both) => both,
            None => {
                self.stalled_since.store(read_at.timestamp_micros(), Ordering::Relaxed);
                let Ok(memory) = self.memory.clone().acquire_many_owned(wanted).await else { return false };
                let Ok(room) = self.sender.reserve().await else { return false };
                self.stalled_since.store(0, Ordering::Relaxed);
                segment.stalled = Some((read_at, Utc::now()));
                (memory, room)
            }
        };
        room.send(Ok(StreamedSegment { segment, _memory: Some(memory) }));
        true
    }

    /// What tells how full it is.
    pub fn gauge(&self) -> QueueGauge {
        let (memory, stalled_since) = (self.memory.clone(), self.stalled_since.clone());
        QueueGauge { memory, capacity: self.capacity, stalled_since }
    }

    /// Sends the error that ends the stream. A change of structure is an item of the stream instead: nothing comes behind
    /// it either, and what came before it can be applied.
    pub async fn fail(&self, error: AdapterError) {
        let (table, what, ends) = match error {
            AdapterError::Drift { table, what } => (table, what, false),
            AdapterError::Gap { table, why } => (table, why, true),
            AdapterError::Gone { table } => (table, crate::GONE.into(), true),
            error => return self.fail_with(error).await,
        };
        let schema = vec![SchemaChange { table, order: u64::MAX, what, ends, step: None }];
        let in_transaction = self.in_transaction.load(Ordering::Relaxed);
        self.send(Segment { schema, in_transaction, ..Segment::default() }).await;
        // Whoever follows has all there is, and closes the stream.
        self.sender.closed().await;
    }

    async fn fail_with(&self, error: AdapterError) {
        // Nobody listening any more is no news worth keeping.
        let _ = self.sender.send(Err(error)).await;
    }
}

/// A channel for segments that holds at most `capacity` bytes (at least 1), or one larger segment.
pub fn segment_channel(capacity: usize) -> (SegmentSender, mpsc::Receiver<Result<StreamedSegment>>) {
    let capacity = capacity.clamp(1, Semaphore::MAX_PERMITS.min(u32::MAX as usize));
    let (sender, receiver) = mpsc::channel(1024);
    let memory = Arc::new(Semaphore::new(capacity));
    let (in_transaction, stalled_since) = (Arc::default(), Arc::default());
    (SegmentSender { sender, memory, capacity, in_transaction, stalled_since }, receiver)
}

/// A running stream of changes. Dropping it ends the stream.
#[async_trait]
pub trait ChangeStream: Send + Sync {
    /// The next segment. Waits for as long as the source is silent. May be cancelled without loss.
    ///
    /// # Errors
    /// The stream is over then.
    async fn next(&mut self) -> Result<StreamedSegment>;

    /// What tells how much of it waits to be taken.
    fn gauge(&self) -> QueueGauge;

    /// Tells the source that everything up to a durable checkpoint may be forgotten. Does not wait.
    fn acknowledge(&self, durable: &Durable);

    /// Ends the stream after the source was told the last acknowledged position.
    async fn close(self: Box<Self>);
}
