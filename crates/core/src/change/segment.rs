//! What a source hands over at once.

use crate::change::block::ChangeBlock;
use crate::change::kind::Transaction;
use crate::change::structure::SchemaChange;
use chrono::{DateTime, Utc};
use std::sync::Arc;

/// A stretch of the stream. Blocks of one table stand in the order of their changes; blocks of
/// different tables may overlap in time, their changes' `order` says how.
#[derive(Clone, Debug, Default)]
pub struct Segment {
    /// The changes.
    pub blocks: Vec<ChangeBlock>,
    /// Of tables of which only is told what a stretch came to: deletes of the keys that a row had in the midst of the stretch,
    /// and neither before nor behind it. They are nothing to whoever has all that was before the stretch; rows that were read in
    /// its midst may have such keys.
    pub fleeting: Vec<ChangeBlock>,
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
    /// When it was read from the source, by Moorage's clock.
    pub read_at: Option<DateTime<Utc>>,
    /// What was committed before this moment, by Moorage's clock, stands in this segment or before it. Only where the segment
    /// ends between transactions; a source says it every second or so, also while nothing comes.
    pub seen_at: Option<DateTime<Utc>>,
    /// What stands in this stretch was not committed at this moment, by Moorage's clock: the source was looked at then. Where
    /// a change's time is that of its statement, it may be much earlier than its commit.
    pub unseen_at: Option<DateTime<Utc>>,
    /// From when until when the reader stood still since the last segment, because there was no room for more.
    pub stalled: Option<(DateTime<Utc>, DateTime<Utc>)>,
}

impl Segment {
    /// A segment that only says that nothing was missing at a moment, by Moorage's clock.
    pub fn nothing_missing_at(seen_at: DateTime<Utc>) -> Self {
        Self { seen_at: Some(seen_at), ..Self::default() }
    }

    /// Whether it holds nothing that anyone has to do something about.
    pub fn is_idle(&self) -> bool {
        let says_nothing = self.schema.is_empty() && self.notes.is_empty() && self.last_commit.is_none();
        says_nothing && self.blocks.is_empty() && !self.in_transaction
    }

    /// Size in bytes as read from the source.
    pub fn bytes(&self) -> usize {
        self.blocks.iter().chain(&self.fleeting).map(ChangeBlock::bytes).sum()
    }

    /// The segment with something done to each of its blocks.
    ///
    /// # Errors
    /// Of `work`.
    pub fn each<E>(mut self, work: impl Fn(ChangeBlock) -> Result<ChangeBlock, E>) -> Result<Self, E> {
        self.blocks = self.blocks.into_iter().map(&work).collect::<Result<_, E>>()?;
        self.fleeting = self.fleeting.into_iter().map(&work).collect::<Result<_, E>>()?;
        Ok(self)
    }
}
