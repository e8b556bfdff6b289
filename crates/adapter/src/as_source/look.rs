//! Looking at a source while a pipeline runs, or does not.

use crate::{CapturePlan, Result, SourceLook, StreamTable, Tail, TailFrom};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::plan::table::TablePlan;
use serde::Serialize;

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

/// Called by people's questions. Disturbs no pipeline that runs meanwhile, and moves no capture point.
#[async_trait]
pub trait LookAtSource: Send + Sync {
    /// What waits for a pipeline.
    async fn waiting(&self, capture: &CapturePlan, checkpoint: &Checkpoint) -> Result<Waiting>;

    /// Begins a look at these tables. With `capture` no captured change is lost to it from now on; without,
    /// changes cannot be asked for.
    async fn look(
        &self,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Result<Box<dyn SourceLook>>;

    /// Follows changes beside a pipeline. Changes committed before the wanted time may come too.
    async fn tail(&self, capture: &CapturePlan, tables: &[TablePlan], from: &TailFrom) -> Result<Tail>;

    /// Reads one row by the texts of its key's values, in the key's order: none or one row. Needs nothing but
    /// the right to read.
    async fn row(&self, plan: &TablePlan, key: &[String]) -> Result<RecordBatch>;

    /// Reads some rows of a table.
    async fn sample(&self, plan: &TablePlan, rows: usize) -> Result<RecordBatch>;
}
