//! Reading rows and changes.

use crate::{CapturePlan, ChangeStream, Events, Head, Result, SnapshotSink, StreamTable};
use async_trait::async_trait;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::plan::table::TablePlan;
use moorage_core::{Position, TableSchema};
use std::sync::Arc;

/// Where a stream starts.
#[derive(Clone, Debug)]
pub struct StreamStart {
    /// The target's checkpoint.
    pub checkpoint: Checkpoint,
    /// Which capture point.
    pub capture: CapturePlan,
    /// The tables.
    pub tables: Vec<StreamTable>,
    /// For each of them what captured its changes when that was last asked ([`captured_by`](crate::SetUpSource::captured_by)): as
    /// long as it is so, and no longer, a source may say that nothing was missing at a time. None where that is not asked.
    pub captured_by: Vec<Option<String>>,
    /// A position behind the checkpoint that an earlier stream from the same checkpoint gave as the end of transactions,
    /// and that was not acknowledged: this stream too has to end a segment exactly there.
    pub settled: Option<Position>,
}

/// Called by a run.
#[async_trait]
pub trait CaptureSource: Send + Sync {
    /// Reads whole tables as of one mark, in parallel. With `capture`, changes are being kept and the
    /// mark joins them exactly; without, the rows are just consistent with each other. An error of the sink ends it.
    async fn snapshot(
        &self,
        tables: &[TablePlan],
        capture: Option<&CapturePlan>,
        sink: Arc<dyn SnapshotSink>,
        events: &Events,
    ) -> Result<()>;

    /// Streams changes committed behind the checkpoint, without those that the marks cover. The source
    /// first proves that its history is the checkpoint's.
    ///
    /// Read again from the same checkpoint, what was not acknowledged comes again: the same changes, in the same order
    /// within each position, and up to a position that [settled](StreamStart::settled) neither more nor less.
    async fn changes(&self, start: StreamStart, events: &Events) -> Result<Box<dyn ChangeStream>>;

    /// Writes a note into the log that comes back in [`notes`](moorage_core::change::segment::Segment::notes) behind
    /// everything that was committed before.
    async fn send_note(&self, note: &str) -> Result<()>;

    /// The end of the log.
    async fn head(&self, capture: &CapturePlan) -> Result<Head>;

    /// Structure changes since the plans were made, by table.
    async fn drifted(
        &self,
        capture: &CapturePlan,
        tables: &[TablePlan],
    ) -> Result<Vec<(Arc<TableSchema>, String)>>;
}
