//! What a source hands over at once.

use crate::change::block::ChangeBlock;
use crate::change::kind::Transaction;
use crate::change::structure::SchemaChange;
use std::sync::Arc;

/// A stretch of the stream. Blocks of one table stand in the order of their changes; blocks of
/// different tables may overlap in time, their changes' `order` says how.
#[derive(Clone, Debug, Default)]
pub struct Segment {
    /// The changes.
    pub blocks: Vec<ChangeBlock>,
    /// How many transactions end within this segment.
    pub commits: u64,
    /// The last transaction that ends within this segment.
    pub last_commit: Option<Arc<Transaction>>,
    /// Whether the segment ends inside a transaction, so that more of it must follow.
    pub in_transaction: bool,
    /// Changes of structure, in their order. What was made behind one is not in this segment, and does not follow it: a
    /// stream ends with the first that it meets, until someone opens another one.
    pub schema: Vec<SchemaChange>,
    /// Notes sent through the log by Moorage itself, with the transaction they arrived in.
    pub notes: Vec<String>,
}

impl Segment {
    /// Size in bytes as read from the source.
    pub fn bytes(&self) -> usize {
        self.blocks.iter().map(ChangeBlock::bytes).sum()
    }
}
