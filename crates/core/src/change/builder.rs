//! Making blocks of changes, one change at a time.

use crate::change::block::{ChangeBlock, Span};
use crate::change::kind::{ChangeKind, Entry, Transaction, Unchanged};
use crate::change::place::Place;
use crate::model::schema::TableSchema;
use crate::value::column::RowsBuilder;
use std::collections::HashMap;
use std::sync::Arc;

/// Collects consecutive changes of one table.
pub struct ChangeBlockBuilder {
    /// Where the values of a new image are pushed before [`push`](Self::push).
    pub new: RowsBuilder,
    /// Where the values of an old image are pushed before [`push`](Self::push).
    pub old: RowsBuilder,
    entries: Vec<Entry>,
    unchanged: HashMap<u32, Unchanged>,
    transactions: Vec<Span>,
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
        if !self.transactions.last().is_some_and(|span| Arc::ptr_eq(&span.transaction, transaction)) {
            let (transaction, place) = (transaction.clone(), Place::default());
            self.transactions.push(Span { first: index, transaction, place });
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
            came: self.bytes,
            read: None,
            blind: false,
        })
    }
}

/// About what a column of a block takes whatever it holds: the smallest buffers of two Arrow arrays.
const COLUMN_BYTES: usize = 512;
