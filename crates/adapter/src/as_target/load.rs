//! Making tables and loading snapshots.

use crate::{ExistingTable, Result, SnapshotMark, TableState};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_core::plan::table::TablePlan;

/// What there is of a planned table.
#[derive(Clone, Debug, Default)]
pub struct Surveyed {
    /// The table, if there is one of that name.
    pub existing: Option<ExistingTable>,
    /// How far the pipeline has brought it, if it made it.
    pub state: Option<TableState>,
    /// Whether the pipeline carries it in another way than is planned now.
    pub maps_otherwise: bool,
    /// Why it could not be made or taken over, with the way out.
    pub problem: Option<String>,
}

/// The end of a table's load.
#[derive(Clone, Debug)]
pub struct LoadedTable {
    /// How it goes on.
    pub state: TableState,
    /// What its snapshot covers; none for a copy that is not followed.
    pub mark: Option<SnapshotMark>,
    /// What captures its changes, as the source said it before the snapshot was taken.
    pub captured_by: Option<String>,
}

/// Called when a plan is made and when a run loads tables.
#[async_trait]
pub trait LoadTarget: Send + Sync {
    /// What there is of planned tables, in their order. Changes nothing.
    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>>;

    /// Whether [`create`](Self::create) would work. Changes nothing.
    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Makes a table, or adopts an existing one as its plan says, and remembers it as loading. Readers see
    /// the rows of one that was complete before until [`finish_load`](Self::finish_load).
    ///
    /// # Errors
    /// If there is a table of that name with other columns, or with rows and no word on what to do with
    /// them; nothing is changed then.
    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Adds rows of a table's snapshot. Each call is atomic; calls come from several tasks at once.
    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()>;

    /// Ends a table's load: builds its key, checks a declared one, remembers the state. Durable.
    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()>;

    /// Makes room beside a live table for reading it again: what is loaded from now on goes there, what is
    /// merged goes to the table itself, until [`Merge::replace`](crate::Merge::replace). What an earlier try left is
    /// removed.
    async fn create_again(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Builds the key of what was loaded beside a live table, so that replacing it is quick.
    async fn ready_again(&self, plan: &TablePlan) -> Result<()>;

    /// Gives up reading a table again; it stays as it is.
    async fn drop_again(&self, plan: &TablePlan) -> Result<()>;

    /// Remembers what captures tables' changes: by target table.
    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()>;
}
