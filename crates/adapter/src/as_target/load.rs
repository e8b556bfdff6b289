//! Making tables and loading snapshots.

use crate::{ExistingTable, Result, SnapshotMark, TableState};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_core::Position;
use moorage_core::plan::table::TablePlan;
use moorage_core::value::moment::Moment;

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

/// From when on what was read counts, in a table that keeps more than the current rows: all that it has from before is older,
/// and all that is merged into it later is newer.
#[derive(Clone, Debug, Default)]
pub struct CountsFrom {
    /// The place behind all changes of a position: its sortable text with a `+` behind it; of no characters where there was
    /// nothing before.
    pub position: String,
    /// The moment.
    pub valid_from: Moment,
}

impl CountsFrom {
    /// Behind all that was merged up to a position.
    pub fn behind(position: Option<&Position>, valid_from: Moment) -> Self {
        Self { position: position.map(|p| format!("{}+", p.sortable())).unwrap_or_default(), valid_from }
    }
}

/// The end of a table's load.
#[derive(Clone, Debug)]
pub struct LoadedTable {
    /// From when on its rows count, where they take the place of others.
    pub from: CountsFrom,
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

    /// Adds rows of a table's snapshot. Each call is atomic; calls come from several tasks at once. Where they are loaded beside
    /// a table, columns that are added for what it keeps are left out, if the rows have them.
    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()>;

    /// Ends a table's load: builds its key, checks a declared one, remembers the state. Durable.
    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()>;

    /// Makes room beside a live table for reading it again: what is loaded from now on goes there, what is
    /// merged goes to the table itself, until [`Merge::replace`](crate::Merge::replace). What an earlier try left is
    /// removed. Of a table that keeps more than the current rows those alone are loaded there, and what is another way in
    /// it then is added to it.
    async fn create_again(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Builds the key of what was loaded beside a live table, so that replacing it is quick.
    async fn ready_again(&self, plan: &TablePlan) -> Result<()>;

    /// Gives up reading a table again; it stays as it is.
    async fn drop_again(&self, plan: &TablePlan) -> Result<()>;

    /// Remembers what captures tables' changes: by target table.
    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()>;
}
