//! What a target can promise, and what the engine does where it cannot.

use crate::Lack;

/// How the checkpoint comes to stand beside the data that it speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Committing {
    /// The data of all tables, the counters and the checkpoint are committed at once: a reader never sees a part, and a
    /// batch that is broken off leaves nothing.
    Together,
    /// Tables are written one after the other, the checkpoint last. Before the first of them the commit writes down where
    /// the batch ends ([`RecallTarget::settled`](crate::RecallTarget::settled)); it can be broken off behind any step. The
    /// engine then reads from the checkpoint again and has the first batch end at the very same transaction, whatever
    /// its limits are by now; the target leaves out what a table holds already. So each table is at one of two places
    /// after any break, and at the end of the next batch all are at one again.
    Following,
}

/// How a table's rows are replaced by others ([`Merge::replace`](crate::Merge::replace)).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Replacing {
    /// Readers see the old rows, then the new ones.
    AtOnce,
    /// Readers may see the table without rows, or with some of them. The engine says so before it begins.
    InParts,
}

/// What a target promises.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Guarantees {
    /// How a batch is committed.
    pub committing: Committing,
    /// How rows are replaced.
    pub replacing: Replacing,
    /// What it does not do. Asked for it nevertheless, it answers with
    /// [`AdapterError::Lacking`](crate::AdapterError::Lacking).
    pub lacks: &'static [Lack],
}
