//! Single changes: their kinds, their transactions, and what a block remembers of each.

use crate::model::position::Position;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// What happened to a row, or to a whole table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum ChangeKind {
    /// A row is new.
    Insert,
    /// A row has other values, perhaps another key.
    Update,
    /// A row is gone.
    Delete,
    /// All rows are gone.
    Truncate,
}

/// A committed source transaction.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Transaction {
    /// The position just behind it: a target that holds it and all before it is complete up to here. On a
    /// single change, whose transaction may not have ended yet, the position of its commit.
    pub position: Position,
    /// What the source needs to find this very transaction again, to prove on resuming that its
    /// history is still the one the checkpoint was taken from. Opaque outside the adapter.
    pub proof: String,
    /// When it was committed, by the source's clock.
    pub committed_at: DateTime<Utc>,
    /// Of a source that is looked at: in which look it was found. None where transactions come one by one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<FoundIn>,
}

/// Where a transaction stands in the look that found it. All changes with the same place there are of one transaction, as far
/// as the source can tell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundIn {
    /// The position at which the look ends: all that it found is merged at once.
    pub ends: Position,
    /// The order of transactions in it: of two that changed the same row, the later one has the greater number.
    pub nth: u64,
    /// When it was committed, as near as can be told: later for greater numbers.
    pub at: DateTime<Utc>,
}

/// Which columns an update did not carry; `true` means "unchanged, value not in the log".
pub type Unchanged = Box<[bool]>;

/// One change inside a block. Row numbers point into the block's `new` and `old` batches.
#[derive(Clone, Copy, Debug)]
pub struct Change<'a> {
    /// What happened.
    pub kind: ChangeKind,
    /// Its number in the stream: later changes have higher numbers, across all tables.
    pub order: u64,
    /// The row of the new image.
    pub new: Option<usize>,
    /// The row of the old image.
    pub old: Option<usize>,
    /// Whether the old image is the whole row; otherwise only its key columns count.
    pub old_is_whole: bool,
    /// The columns of the new image that the log did not carry.
    pub unchanged: Option<&'a Unchanged>,
}

#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub(crate) struct Entry {
    pub(crate) kind: ChangeKind,
    pub(crate) order: u64,
    pub(crate) new: Option<u32>,
    pub(crate) old: Option<u32>,
    pub(crate) old_is_whole: bool,
}
