//! Captured changes: what a source hands over, in columns, and what a batch is made of.
//!
//! A [`ChangeBlock`] holds consecutive changes of one table. Each change may have a new image (insert,
//! update) and an old one (update, delete: the key or the whole row). Images are rows of two Arrow
//! batches; kinds, order and transactions stand in columns beside them.

use crate::column::RowsBuilder;
use crate::counters::Operations;
use crate::position::Position;
use crate::schema::TableSchema;
use arrow::array::{RecordBatch, UInt32Array};
use arrow::compute::take_record_batch;
use arrow::error::ArrowError;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

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

/// Consecutive changes of one table with one structure.
#[derive(Clone, Debug)]
pub struct ChangeBlock {
    pub(crate) schema: Arc<TableSchema>,
    pub(crate) entries: Vec<Entry>,
    pub(crate) new: RecordBatch,
    pub(crate) old: RecordBatch,
    pub(crate) unchanged: HashMap<u32, Unchanged>,
    pub(crate) transactions: Vec<(usize, Arc<Transaction>)>,
    pub(crate) bytes: usize,
    /// What was read, where a filter left fewer changes or other kinds of them.
    pub(crate) read: Option<Operations>,
    pub(crate) blind: bool,
}

/// What became of a change when a block was mapped.
#[derive(Clone, Debug)]
pub struct MappedChange {
    /// Its number in the block before.
    pub at: usize,
    /// What happened, for the target.
    pub kind: ChangeKind,
    /// The row of its new image.
    pub new: Option<usize>,
    /// The row of its old image.
    pub old: Option<usize>,
    /// Whether the old image is the whole row.
    pub old_is_whole: bool,
    /// The columns of the new image that the log did not carry.
    pub unchanged: Option<Unchanged>,
}

impl ChangeBlock {
    /// How many changes of each kind were read for this block, also those that a filter kept away.
    pub fn read(&self) -> Operations {
        self.read.unwrap_or_else(|| {
            let mut read = Operations::default();
            self.entries.iter().for_each(|e| read.count(e.kind));
            read
        })
    }

    /// Whether updates and deletes may be about rows that a filter kept away, because the log does not say how
    /// rows were before.
    pub fn is_blind(&self) -> bool {
        self.blind
    }

    /// The block with its changes mapped: `changes` in the same order, with images of another structure.
    #[must_use]
    pub fn mapped(
        &self,
        schema: Arc<TableSchema>,
        changes: Vec<MappedChange>,
        new: RecordBatch,
        old: RecordBatch,
        read: Operations,
        blind: bool,
    ) -> Self {
        let mut block = Self {
            schema,
            entries: Vec::with_capacity(changes.len()),
            new,
            old,
            unchanged: HashMap::new(),
            transactions: Vec::new(),
            bytes: self.bytes,
            read: Some(read),
            blind,
        };
        for (to, change) in changes.into_iter().enumerate() {
            let before = self.entries[change.at];
            if let Some(transaction) = self.transaction(change.at)
                && !block.transactions.last().is_some_and(|(_, last)| Arc::ptr_eq(last, transaction))
            {
                block.transactions.push((to, transaction.clone()));
            }
            block.unchanged.extend(change.unchanged.map(|u| (to as u32, u)));
            block.entries.push(Entry {
                kind: change.kind,
                order: before.order,
                new: change.new.map(|row| row as u32),
                old: change.old.map(|row| row as u32),
                old_is_whole: change.old_is_whole,
            });
        }
        block
    }

    /// The table's structure when the changes were made.
    pub fn schema(&self) -> &Arc<TableSchema> {
        &self.schema
    }

    /// How many changes.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Size in bytes as read from the source.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// The new images.
    pub fn new_rows(&self) -> &RecordBatch {
        &self.new
    }

    /// The old images.
    pub fn old_rows(&self) -> &RecordBatch {
        &self.old
    }

    /// The changes in the order the source made them.
    pub fn changes(&self) -> impl Iterator<Item = Change<'_>> {
        self.entries.iter().enumerate().map(|(i, e)| Change {
            kind: e.kind,
            order: e.order,
            new: e.new.map(|r| r as usize),
            old: e.old.map(|r| r as usize),
            old_is_whole: e.old_is_whole,
            unchanged: self.unchanged.get(&(i as u32)),
        })
    }

    /// The transaction that the `i`-th change belongs to.
    pub fn transaction(&self, i: usize) -> Option<&Arc<Transaction>> {
        let after = self.transactions.partition_point(|(first, _)| *first <= i);
        after.checked_sub(1).map(|at| &self.transactions[at].1)
    }
}

impl ChangeBlock {
    /// The changes at these places, in ascending order, as a block of their own; what a filter kept away is not
    /// counted in it.
    ///
    /// # Errors
    /// If a place is not in the block.
    pub fn pick(&self, places: &[usize]) -> Result<Self, ArrowError> {
        let mut block = Self {
            schema: self.schema.clone(),
            entries: Vec::with_capacity(places.len()),
            new: self.new.clone(),
            old: self.old.clone(),
            unchanged: HashMap::new(),
            transactions: Vec::new(),
            bytes: self.bytes * places.len() / self.entries.len().max(1),
            read: None,
            blind: self.blind,
        };
        let (mut new, mut old) = (Vec::new(), Vec::new());
        for (to, &from) in places.iter().enumerate() {
            let entry = self.entries.get(from).ok_or_else(|| {
                ArrowError::InvalidArgumentError(format!("change {from} of {}", self.entries.len()))
            })?;
            let renumbered = |rows: &mut Vec<u32>, row: Option<u32>| {
                row.map(|row| {
                    rows.push(row);
                    rows.len() as u32 - 1
                })
            };
            let moved = Entry {
                new: renumbered(&mut new, entry.new),
                old: renumbered(&mut old, entry.old),
                ..*entry
            };
            block.entries.push(moved);
            if let Some(columns) = self.unchanged.get(&(from as u32)) {
                block.unchanged.insert(to as u32, columns.clone());
            }
            if let Some(transaction) = self.transaction(from)
                && !block.transactions.last().is_some_and(|(_, last)| Arc::ptr_eq(last, transaction))
            {
                block.transactions.push((to, transaction.clone()));
            }
        }
        block.new = take_record_batch(&self.new, &UInt32Array::from(new))?;
        block.old = take_record_batch(&self.old, &UInt32Array::from(old))?;
        Ok(block)
    }

    /// The same block with only the changes of transactions that `keep` says yes to.
    #[must_use]
    pub fn only(mut self, keep: impl Fn(&Transaction) -> bool) -> Self {
        let kept: Vec<usize> =
            (0..self.entries.len()).filter(|&i| self.transaction(i).is_some_and(|t| keep(t))).collect();
        if kept.len() == self.entries.len() {
            return self;
        }
        let mut transactions: Vec<(usize, Arc<Transaction>)> = Vec::new();
        let mut unchanged = HashMap::new();
        for (to, &from) in kept.iter().enumerate() {
            if let Some(columns) = self.unchanged.remove(&(from as u32)) {
                unchanged.insert(to as u32, columns);
            }
            if let Some(transaction) = self.transaction(from)
                && !transactions.last().is_some_and(|(_, last)| Arc::ptr_eq(last, transaction))
            {
                transactions.push((to, transaction.clone()));
            }
        }
        self.entries = kept.into_iter().map(|i| self.entries[i]).collect();
        self.transactions = transactions;
        self.unchanged = unchanged;
        self.read = None;
        self
    }
}

/// Collects consecutive changes of one table.
pub struct ChangeBlockBuilder {
    /// Where the values of a new image are pushed before [`push`](Self::push).
    pub new: RowsBuilder,
    /// Where the values of an old image are pushed before [`push`](Self::push).
    pub old: RowsBuilder,
    entries: Vec<Entry>,
    unchanged: HashMap<u32, Unchanged>,
    transactions: Vec<(usize, Arc<Transaction>)>,
    bytes: usize,
}

/// Which images were pushed for a change.
#[derive(Clone, Debug, Default)]
pub struct Images {
    /// A new image was pushed.
    pub new: bool,
    /// An old image was pushed; `Some(true)` if it is the whole row.
    pub old: Option<bool>,
    /// Columns of the new image that the log did not carry.
    pub unchanged: Option<Unchanged>,
}

impl ChangeBlockBuilder {
    /// An empty block.
    pub fn new(schema: Arc<TableSchema>) -> Self {
        Self {
            new: RowsBuilder::new(schema.clone()),
            old: RowsBuilder::new(schema),
            entries: Vec::new(),
            unchanged: HashMap::new(),
            transactions: Vec::new(),
            bytes: 0,
        }
    }

    /// Adds a change whose images have been pushed. `bytes` is its size as it came from the source.
    pub fn push(
        &mut self,
        kind: ChangeKind,
        order: u64,
        transaction: &Arc<Transaction>,
        images: Images,
        bytes: usize,
    ) {
        let index = self.entries.len();
        if !self.transactions.last().is_some_and(|(_, t)| Arc::ptr_eq(t, transaction)) {
            self.transactions.push((index, transaction.clone()));
        }
        let new = images.new.then(|| {
            self.new.end_row(0);
            (self.new.rows() - 1) as u32
        });
        let old = images.old.map(|_| {
            self.old.end_row(0);
            (self.old.rows() - 1) as u32
        });
        if let Some(columns) = images.unchanged {
            self.unchanged.insert(index as u32, columns);
        }
        self.entries.push(Entry { kind, order, new, old, old_is_whole: images.old == Some(true) });
        self.bytes += bytes;
    }

    /// How many changes so far.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there is none yet.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Turns what was collected into a block. Its size counts at least what the columns themselves take.
    ///
    /// # Errors
    /// If the columns of an image were not all pushed.
    pub fn finish(mut self) -> Result<ChangeBlock, arrow::error::ArrowError> {
        let least = 512 + self.new.columns.len() * COLUMN_BYTES;
        Ok(ChangeBlock {
            schema: self.new.schema().clone(),
            entries: self.entries,
            new: self.new.finish()?,
            old: self.old.finish()?,
            unchanged: self.unchanged,
            transactions: self.transactions,
            bytes: self.bytes.max(least),
            read: None,
            blind: false,
        })
    }
}

/// About what a column of a block takes whatever it holds: the smallest buffers of two Arrow arrays.
const COLUMN_BYTES: usize = 512;

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
    /// Notes sent through the log by Moorage itself, with the transaction they arrived in.
    pub notes: Vec<String>,
}

impl Segment {
    /// Size in bytes as read from the source.
    pub fn bytes(&self) -> usize {
        self.blocks.iter().map(ChangeBlock::bytes).sum()
    }
}
