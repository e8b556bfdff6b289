//! The target side.

use crate::{Events, Holder, Result, SnapshotMark, Step, TakeFrom, TargetLook, Turn};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_core::change::ChangeBlock;
use moorage_core::checkpoint::{Checkpoint, Durable, SourceIdentity};
use moorage_core::counters::TableCounters;
use moorage_core::finding::Finding;
use moorage_core::plan::{TablePlan, TargetDialect};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// Where a target is, for people.
#[derive(Clone, Debug, Serialize)]
pub struct TargetAddress {
    /// The kind of system.
    pub system: String,
    /// Host and port, or a socket's path; empty for a file.
    pub host: String,
    /// The database, or the file.
    pub database: String,
    /// The user; empty for a file.
    pub user: String,
}

/// A change that a target refused and that was set aside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Reject {
    /// Its number in the target.
    pub id: i64,
    /// The source table.
    pub table: String,
    /// The target table.
    pub target: String,
    /// The row's key, for people: `id = 7`.
    pub key: String,
    /// What the change is: `insert`, `update`, `delete`.
    pub operation: String,
    /// Why it was refused.
    pub reason: String,
    /// Whether it is only behind another reject of the same row.
    pub waits: bool,
    /// When the source committed it, RFC 3339.
    pub committed_at: String,
    /// Its position.
    pub position: String,
    /// When it was set aside, RFC 3339.
    pub set_aside_at: String,
    /// How often it was tried.
    pub tries: u64,
}

/// What is done about rejects.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Settle {
    /// They are applied, if the target takes them now.
    Retry,
    /// They are given up; what waits behind them is applied.
    Drop,
}

/// What became of rejects.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Settled {
    /// How many changes were applied.
    pub applied: u64,
    /// How many were given up.
    pub dropped: u64,
    /// Those that were tried and are still refused.
    pub refused: Vec<Reject>,
}

/// A table that is in the target, whoever made it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExistingTable {
    /// Its columns: name and declared type.
    pub columns: Vec<(String, String)>,
    /// Its rows.
    pub rows: u64,
    /// The pipeline that made it, if one did.
    pub owner: Option<String>,
}

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

/// How far a table has come. Each word means the same everywhere: in the target, in `status`, in JSON.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TableState {
    /// It is there, and nothing of it has been read.
    Waiting,
    /// Some of its rows are there; if it is broken off, it starts again from empty.
    Reading,
    /// Its snapshot is complete; changes are merged into it.
    Live,
    /// It follows changes from some point on, without a snapshot.
    ChangesOnly,
    /// Rows were copied once and nothing is followed.
    Copied,
    /// Its rows are as they were, and are read again by the next run.
    NeedsResnapshot,
    /// It is not in the source any more, or not picked any more: its rows stay as they were.
    Gone,
}

impl TableState {
    const ALL: [Self; 7] = [
        Self::Waiting,
        Self::Reading,
        Self::Live,
        Self::ChangesOnly,
        Self::Copied,
        Self::NeedsResnapshot,
        Self::Gone,
    ];

    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Reading => "reading",
            Self::Live => "live",
            Self::ChangesOnly => "changes only",
            Self::Copied => "copied",
            Self::NeedsResnapshot => "needs resnapshot",
            Self::Gone => "gone",
        }
    }

    /// The state that a word stands for. An earlier version had one word, `loading`, for all that is to be read.
    pub fn from_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|state| state.word() == word).unwrap_or(Self::Waiting)
    }

    /// Whether the next run reads it from empty.
    pub fn is_unread(self) -> bool {
        matches!(self, Self::Waiting | Self::Reading | Self::NeedsResnapshot)
    }
}

/// What the target remembers of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredTable {
    /// The plan it was made from.
    pub plan: TablePlan,
    /// How far it has come.
    pub state: TableState,
    /// The mark of its snapshot: text and position text.
    pub mark: Option<(String, String)>,
    /// Rows that came by snapshot.
    pub snapshot_rows: u64,
    /// What was merged into it since.
    pub counters: TableCounters,
    /// When the last change was merged, as RFC 3339.
    pub last_change_at: Option<String>,
    /// What captures its changes, as the source said it ([`crate::Source::captured_by`]); none in a target that an
    /// earlier version wrote.
    pub captured_by: Option<String>,
}

/// What a batch did to one table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableProgress {
    /// The target table.
    pub target: String,
    /// What was read and what became of it.
    pub counters: TableCounters,
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

/// A table whose rows were loaded again.
pub struct Replacement<'a> {
    /// Its plan.
    pub plan: &'a TablePlan,
    /// What is written to the loaded rows first: the changes that their snapshot does not hold.
    pub later: Box<dyn Iterator<Item = Result<ChangeBlock>> + Send + 'a>,
    /// How it goes on.
    pub end: LoadedTable,
}

/// An open batch. Readers of the target see nothing of it before [`commit`](Self::commit). Dropping it
/// undoes all its writes.
#[async_trait]
pub trait Merge: Send {
    /// Applies changes, in the order given. May be called several times for parts of one batch.
    async fn write(&mut self, blocks: &[ChangeBlock]) -> Result<()>;

    /// Replaces tables' rows by those that were loaded again beside them ([`Target::create_again`]), all together, so
    /// that tables that refer to each other fit at the end.
    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()>;

    /// Commits the writes, the counters and the checkpoint at once, durably.
    async fn commit(self: Box<Self>, checkpoint: Checkpoint) -> Result<(Durable, Vec<TableProgress>)>;
}

/// How often a holder says that it is alive.
pub const RENEW_EVERY: Duration = Duration::from_secs(15);
/// After this time without a word a holder counts as gone. It then cannot write any more.
pub const LEASE: Duration = Duration::from_secs(60);

/// A system that rows go to.
///
/// Legal order for a table: [`create`](Self::create), any number of [`load`](Self::load), then
/// [`finish_load`](Self::finish_load), then merges. `create` on a table that is loading starts it again
/// from empty. Readers may come at any time.
///
/// One writer per pipeline: every writing call but [`settle`](Self::settle) needs the turn
/// ([`take_turn`](Self::take_turn)) and fails with [`AdapterError::TurnLost`](crate::AdapterError::TurnLost) once another
/// process has taken it. A call that was broken off, or whose answer was lost, may have been carried out; after the
/// turn has been taken anew, it has been or never will be.
#[async_trait]
pub trait Target: Send + Sync {
    /// Where it is.
    fn address(&self) -> TargetAddress;

    /// Which system and database it is, in the form in which a source of the same kind says it; none if there is no
    /// such kind of source.
    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(None)
    }

    /// How it declares and compares names and types.
    fn dialect(&self) -> &(dyn TargetDialect + Sync);

    /// The table of this name, if there is one.
    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>>;

    /// What there is of planned tables, in their order. Changes nothing.
    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let stored = self.tables(pipeline).await?;
        let mut all = Vec::with_capacity(plans.len());
        for plan in plans {
            let problem = self.check(pipeline, plan).await.err().map(|e| e.to_string());
            let stored = stored.iter().find(|s| s.plan.target == plan.target);
            all.push(Surveyed {
                existing: self.describe(&plan.target).await?,
                state: stored.map(|s| s.state),
                maps_otherwise: stored.is_some_and(|s| !s.plan.maps_like(plan)),
                problem,
            });
        }
        Ok(all)
    }

    /// The names of all tables that are there, Moorage's own left out.
    async fn list(&self) -> Result<Vec<String>>;

    /// Writes, reads and drops a table for a look, and more that a pipeline needs; `bytes` is about what will be
    /// written.
    async fn probe(&self, bytes: u64) -> Result<Vec<Finding>>;

    /// The statements for the target's administrator that let a pipeline do its work, or undo that; for a role, or for
    /// that of the project file if none is given.
    fn set_up_script(&self, role: Option<&str>, undo: bool) -> String;

    /// The statement that would make a table.
    fn definition(&self, plan: &TablePlan) -> String;

    /// What it remembers of a pipeline; `None` if nothing. Makes nothing.
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>>;

    /// The tables it remembers of a pipeline. Makes nothing.
    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>>;

    /// Looks at one state of everything, on a connection of its own; none if nothing is there yet.
    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>>;

    /// How many rows a table holds now.
    async fn count(&self, table: &str) -> Result<u64>;

    /// Takes a pipeline's turn to write. Waits for what earlier writers have sent and what may still be committed,
    /// saying so, and ends it where it can. With `make`, makes room for what is remembered if there is none.
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn>;

    /// Says that the turn's holder is alive, where that cannot be seen from the outside. To be called every
    /// [`RENEW_EVERY`].
    async fn renew_turn(&self, _pipeline: &str) -> Result<()> {
        Ok(())
    }

    /// Gives the turn back, if it is still ours.
    async fn end_turn(&self, pipeline: &str) -> Result<()>;

    /// Who has the turn now, as far as can be told.
    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>>;

    /// Stores a checkpoint outside of a batch, durably: when setting up.
    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<Durable>;

    /// Whether [`create`](Self::create) would work, changing nothing.
    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Makes a table, or adopts an existing one as its plan says, and remembers it as loading. Readers see
    /// the rows of one that was complete before until [`finish_load`](Self::finish_load).
    ///
    /// # Errors
    /// If there is a table of that name with other columns, or with rows and no word on what to do with
    /// them; nothing is changed then.
    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Makes room beside a live table for reading it again: what is loaded from now on goes there, what is
    /// merged goes to the table itself, until [`Merge::replace`]. What an earlier try left is removed.
    async fn create_again(&self, pipeline: &str, plan: &TablePlan) -> Result<()>;

    /// Builds the key of what was loaded beside a live table, so that replacing it is quick.
    async fn ready_again(&self, plan: &TablePlan) -> Result<()>;

    /// Gives up reading a table again; it stays as it is.
    async fn drop_again(&self, plan: &TablePlan) -> Result<()>;

    /// Adds rows of a table's snapshot. Each call is atomic.
    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()>;

    /// Ends a table's load: builds its key, checks a declared one, remembers the state. Durable.
    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()>;

    /// Remembers what captures tables' changes: by target table.
    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()>;

    /// Opens a batch over these tables, that goes on from a checkpoint.
    ///
    /// # Errors
    /// If the checkpoint in the target is another one.
    async fn begin(&self, from: &Checkpoint, tables: &[TablePlan]) -> Result<Box<dyn Merge>>;

    /// Notes that tables are to be read again by the next run, from empty; with `checkpoint`, forgets also the
    /// pipeline's checkpoint.
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()>;

    /// Notes that tables are not followed any more.
    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()>;

    /// Forgets tables altogether, and with `remove` removes them, unless they were there before the pipeline.
    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>>;

    /// The changes of a pipeline that were set aside, the oldest first.
    async fn rejects(&self, _pipeline: &str) -> Result<Vec<Reject>> {
        Ok(Vec::new())
    }

    /// One of them with its change, in the target's structure.
    async fn reject(&self, _pipeline: &str, _id: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        Ok(None)
    }

    /// Carries out a decision about some of them, or all: whole, or not at all. Changes that hang together with
    /// them by their rows are tried again in their order, so that none is applied around an earlier one.
    async fn settle(&self, _pipeline: &str, _ids: Option<&[i64]>, _how: Settle) -> Result<Settled> {
        Err(crate::AdapterError::refused("rejects", "this target sets no changes aside"))
    }

    /// Removes the pipeline's tables and what it remembers, or with `dry` says what it would remove.
    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>>;
}
