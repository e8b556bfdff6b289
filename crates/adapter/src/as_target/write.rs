//! The turn to write, and writing batches.

use crate::{Durable, Events, Holder, LoadedTable, Memo, MemoKind, Result, TakeFrom, Turn};
use async_trait::async_trait;
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::plan::table::TablePlan;
use std::sync::Arc;
use std::time::Duration;

/// What a batch did to one table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableProgress {
    /// The target table.
    pub target: String,
    /// What was read and what became of it.
    pub counters: TableCounters,
}

/// A table whose rows were loaded again.
pub struct Replacement<'a> {
    /// Its plan.
    pub plan: &'a TablePlan,
    /// What is written to the loaded rows first: the changes that their snapshot does not hold.
    pub later: Box<dyn Iterator<Item = Result<TableBatch>> + Send + 'a>,
    /// How it goes on.
    pub end: LoadedTable,
}

/// An open batch. Readers of the target see nothing of it before [`commit`](Self::commit). Dropping it
/// undoes all its writes.
#[async_trait]
pub trait Merge: Send {
    /// Carries out what the batch does to each table. May be called several times, for parts of one batch in their order.
    /// The plans are shared: one that is the same as before is met again without a look at it.
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()>;

    /// Waits until tables can be altered by what comes next, such that nobody who reads one of them waits for longer than a
    /// second meanwhile.
    async fn reserve(&mut self, tables: &[&TablePlan]) -> Result<()>;

    /// Alters a table behind what was written and in front of what will be, and keeps its new plan: with the batch. Without a
    /// step, only the plan; and the table's state, if it is held or to be read again from here on, or was held. Nobody who reads the table waits for longer than a second for it.
    ///
    /// # Errors
    /// `Refused`, with the way out, if something in the target is in the way; `Lacking`, if it is asked for a step and the
    /// target has said that it lacks [`Altering`](crate::Lack::Altering).
    async fn alter(&mut self, alteration: &Alteration) -> Result<()>;

    /// Replaces tables' rows by those that were loaded again beside them
    /// ([`create_again`](crate::LoadTarget::create_again)), all together, so that tables that refer to each other fit at
    /// the end.
    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()>;

    /// Keeps memos beside the rows, or takes them away: with the batch, or before its checkpoint.
    async fn remember(&mut self, memos: &[Memo]) -> Result<()>;

    /// Takes away all memos of a kind whose names begin with a text, however many they are.
    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()>;

    /// What is remembered of a kind under names that begin with a text, as the batch has it: behind the name `after`, in the
    /// order of names, some at a time, none at the end.
    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>>;

    /// Commits the writes, the counters and the checkpoint, as [`Guarantees`](crate::Guarantees) says. When it returns
    /// without an error they have reached the disk: what makes evidence of it believes that.
    async fn commit(self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>>;
}

impl dyn Merge {
    /// Commits, and gives the evidence of it.
    ///
    /// # Errors
    /// If it is not known to be committed.
    pub async fn commit_durably(
        self: Box<Self>,
        checkpoint: Checkpoint,
    ) -> Result<(Durable, Vec<TableProgress>)> {
        let progress = self.commit(&checkpoint).await?;
        Ok((Durable::committed(checkpoint), progress))
    }
}

/// How often a holder says that it is alive.
pub const RENEW_EVERY: Duration = Duration::from_secs(15);
/// After this time without a word a holder counts as gone. It then cannot write any more.
pub const LEASE: Duration = Duration::from_secs(60);

/// Called by a run.
#[async_trait]
pub trait WriteTarget: Send + Sync {
    /// Takes a pipeline's turn to write, and opens what is needed for writing, for as long as the turn lasts. Waits for
    /// what earlier writers have sent and what may still be committed, saying so, and ends it where it can. With `make`,
    /// makes room for what is remembered if there is none.
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
    async fn renew_turn(&self, pipeline: &str) -> Result<()>;

    /// Gives the turn back, if it is still ours.
    async fn end_turn(&self, pipeline: &str) -> Result<()>;

    /// Stores a checkpoint outside of a batch, durably: when setting up.
    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()>;

    /// Opens a batch that goes on from a checkpoint. What this costs does not grow with how many tables there are, as a
    /// batch is often one row.
    ///
    /// # Errors
    /// If the checkpoint in the target is another one.
    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>>;
}
