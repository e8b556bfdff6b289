//! Captured changes: what a source hands over, in columns, and what a batch is made of.
//!
//! A [`ChangeBlock`] holds consecutive changes of one table. Each change may have a new image (insert,
//! update) and an old one (update, delete: the key or the whole row). Images are rows of two Arrow
//! batches; kinds, order and transactions stand in columns beside them.

use crate::change::counters::Operations;
use crate::change::kind::{Change, ChangeKind, Entry, Transaction, Unchanged};
use crate::change::place::Place;
use crate::model::name::TableName;
use crate::model::schema::TableSchema;
use arrow::array::{RecordBatch, RecordBatchOptions, UInt32Array, new_null_array};
use arrow::compute::{concat_batches, take_record_batch};
use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use std::collections::HashMap;
use std::sync::Arc;

/// From which change on the changes of a block belong to a transaction.
#[derive(Clone, Debug)]
pub(crate) struct Span {
    pub(crate) first: usize,
    pub(crate) transaction: Arc<Transaction>,
    pub(crate) place: Place,
}

/// Adds the span of a change that goes on in `block`, unless it is that of the change before.
fn go_on(spans: &mut Vec<Span>, to: usize, span: Option<&Span>) {
    let Some(span) = span else { return };
    if !spans.last().is_some_and(|last| Arc::ptr_eq(&last.transaction, &span.transaction)) {
        spans.push(Span { first: to, ..span.clone() });
    }
}

/// Consecutive changes of one table with one structure.
#[derive(Clone, Debug)]
pub struct ChangeBlock {
    pub(crate) schema: Arc<TableSchema>,
    pub(crate) entries: Vec<Entry>,
    pub(crate) new: RecordBatch,
    pub(crate) old: RecordBatch,
    pub(crate) unchanged: HashMap<u32, Unchanged>,
    pub(crate) transactions: Vec<Span>,
    pub(crate) bytes: usize,
    /// What it is of the source's stream alone, in bytes.
    pub(crate) came: usize,
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

    /// A block of images alone, without any change.
    pub(crate) fn of_images(schema: Arc<TableSchema>, new: RecordBatch) -> Self {
        let old = RecordBatch::new_empty(new.schema());
        let (entries, transactions) = (Vec::new(), Vec::new());
        let unchanged = HashMap::new();
        Self {
            schema,
            entries,
            new,
            old,
            unchanged,
            transactions,
            bytes: 0,
            came: 0,
            read: None,
            blind: false,
        }
    }

    /// Whether updates and deletes may be about rows that a filter kept away, because the log does not say how
    /// rows were before.
    pub fn is_blind(&self) -> bool {
        self.blind
    }

    /// Of whose rows it is not known which were there before.
    #[must_use]
    pub fn blindly(self) -> Self {
        Self { blind: true, ..self }
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
            came: self.came,
            read: Some(read),
            blind,
        };
        for (to, change) in changes.into_iter().enumerate() {
            let before = self.entries[change.at];
            go_on(&mut block.transactions, to, self.span(change.at));
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

    /// Size in bytes as read from the source, and at least what its columns take in memory.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Size in bytes as it came from the source.
    pub fn came_bytes(&self) -> usize {
        self.came
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
        self.span(i).map(|span| &span.transaction)
    }

    /// The transactions that the changes belong to, one after the other, with how many changes of each.
    pub fn by_transaction(&self) -> impl Iterator<Item = (&Arc<Transaction>, u64)> {
        self.transactions.iter().enumerate().map(|(at, span)| {
            let end = self.transactions.get(at + 1).map_or(self.entries.len(), |next| next.first);
            (&span.transaction, end.saturating_sub(span.first) as u64)
        })
    }

    /// Where the transaction of the `i`-th change stands.
    pub fn place(&self, i: usize) -> Place {
        self.span(i).map_or_else(Place::default, |span| span.place)
    }

    fn span(&self, i: usize) -> Option<&Span> {
        let after = self.transactions.partition_point(|span| span.first <= i);
        after.checked_sub(1).map(|at| &self.transactions[at])
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
            came: self.came * places.len() / self.entries.len().max(1),
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
            go_on(&mut block.transactions, to, self.span(from));
        }
        block.new = take_record_batch(&self.new, &UInt32Array::from(new))?;
        block.old = take_record_batch(&self.old, &UInt32Array::from(old))?;
        Ok(block)
    }

    /// The block without changes of some kinds, which are counted as read all the same.
    ///
    /// # Errors
    /// If it is damaged.
    pub fn without(self, goes: impl Fn(ChangeKind) -> bool) -> Result<Self, ArrowError> {
        let places: Vec<usize> = (0..self.entries.len()).filter(|&i| !goes(self.entries[i].kind)).collect();
        if places.len() == self.entries.len() {
            return Ok(self);
        }
        let read = Some(self.read());
        Ok(Self { read, ..self.pick(&places)? })
    }

    /// One block of the changes of several of the same structure, in order; none if there are none.
    ///
    /// # Errors
    /// If the structures differ.
    pub fn joined(blocks: &[&Self]) -> Result<Option<Self>, ArrowError> {
        let Some((first, rest)) = blocks.split_first() else { return Ok(None) };
        if rest.is_empty() {
            return Ok(Some((*first).clone()));
        }
        let arrow = first.schema.arrow();
        let new = concat_batches(&arrow, blocks.iter().map(|block| &block.new))?;
        let old = concat_batches(&arrow, blocks.iter().map(|block| &block.old))?;
        let (mut joined, mut rows) = (Self { new, old, ..(*first).clone() }, first.images());
        for later in rest {
            let count = joined.entries.len();
            joined.read = (joined.read.is_some() || later.read.is_some()).then(|| {
                let mut read = joined.read();
                read += later.read();
                read
            });
            let moved = |entry: &Entry| Entry {
                new: entry.new.map(|row| row + rows.0),
                old: entry.old.map(|row| row + rows.1),
                ..*entry
            };
            joined.entries.extend(later.entries.iter().map(moved));
            let unchanged = later.unchanged.iter().map(|(at, columns)| (at + count as u32, columns.clone()));
            joined.unchanged.extend(unchanged);
            let spans = later.transactions.iter();
            joined.transactions.extend(spans.map(|span| Span { first: span.first + count, ..span.clone() }));
            joined.bytes += later.bytes;
            joined.came += later.came;
            joined.blind |= later.blind;
            let images = later.images();
            rows = (rows.0 + images.0, rows.1 + images.1);
        }
        Ok(Some(joined))
    }

    /// How many new and how many old images there are.
    fn images(&self) -> (u32, u32) {
        (self.new.num_rows() as u32, self.old.num_rows() as u32)
    }

    /// The block as one of a table of another name.
    #[must_use]
    pub fn named(mut self, table: &TableName) -> Self {
        self.schema = Arc::new(TableSchema { table: table.clone(), ..(*self.schema).clone() });
        self
    }

    /// The block with the columns of another structure alone, which are all among its own.
    ///
    /// # Errors
    /// If one is not.
    pub fn onto(mut self, schema: &Arc<TableSchema>) -> Result<Self, ArrowError> {
        let place = |name: &str| {
            let at = self.schema.columns.iter().position(|c| c.name == name);
            at.ok_or_else(|| ArrowError::SchemaError(format!("captured changes have no column {name}")))
        };
        let places = schema.columns.iter().map(|c| place(&c.name)).collect::<Result<Vec<_>, _>>()?;
        let rows = |rows: &RecordBatch| {
            let columns = places.iter().map(|&at| rows.column(at).clone()).collect();
            let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
            RecordBatch::try_new_with_options(schema.arrow(), columns, &options)
        };
        (self.new, self.old) = (rows(&self.new)?, rows(&self.old)?);
        for unchanged in self.unchanged.values_mut() {
            *unchanged = places.iter().map(|&at| unchanged[at]).collect();
        }
        self.unchanged.retain(|_, unchanged| unchanged.contains(&true));
        self.schema = schema.clone();
        Ok(self)
    }

    /// The block in another structure: where each of its columns comes from in this one, if from any, and what makes rows of
    /// it.
    ///
    /// # Errors
    /// Of `rows`.
    pub fn reshaped(
        mut self,
        schema: &Arc<TableSchema>,
        places: &[Option<usize>],
        rows: impl Fn(&RecordBatch) -> Result<RecordBatch, ArrowError>,
    ) -> Result<Self, ArrowError> {
        (self.new, self.old) = (rows(&self.new)?, rows(&self.old)?);
        for unchanged in self.unchanged.values_mut() {
            *unchanged = places.iter().map(|at| at.is_some_and(|at| unchanged[at])).collect();
        }
        self.unchanged.retain(|_, unchanged| unchanged.contains(&true));
        self.schema = schema.clone();
        Ok(self)
    }

    /// The block, whose columns begin with so many of the row itself, as another form of the table has it: what that adds is null.
    /// `schema` is what record batches of the form have.
    ///
    /// # Errors
    /// If the form has other columns of the row.
    pub fn in_form(
        self,
        form: &Arc<TableSchema>,
        schema: &SchemaRef,
        width: usize,
    ) -> Result<Self, ArrowError> {
        let places: Vec<Option<usize>> =
            (0..form.columns.len()).map(|at| (at < width).then_some(at)).collect();
        let rows = |rows: &RecordBatch| {
            let column = |(to, from): (usize, &Option<usize>)| match from {
                Some(from) => rows.column(*from).clone(),
                None => new_null_array(schema.field(to).data_type(), rows.num_rows()),
            };
            let columns = places.iter().enumerate().map(column).collect();
            let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
            RecordBatch::try_new_with_options(schema.clone(), columns, &options)
        };
        self.reshaped(form, &places, rows)
    }

    /// The same block with only the changes of transactions that `keep` says yes to.
    #[must_use]
    pub fn only(mut self, keep: impl Fn(&Transaction) -> bool) -> Self {
        let kept: Vec<usize> =
            (0..self.entries.len()).filter(|&i| self.transaction(i).is_some_and(|t| keep(t))).collect();
        if kept.len() == self.entries.len() {
            return self;
        }
        let mut transactions: Vec<Span> = Vec::new();
        let mut unchanged = HashMap::new();
        for (to, &from) in kept.iter().enumerate() {
            if let Some(columns) = self.unchanged.remove(&(from as u32)) {
                unchanged.insert(to as u32, columns);
            }
            go_on(&mut transactions, to, self.span(from));
        }
        self.entries = kept.into_iter().map(|i| self.entries[i]).collect();
        self.transactions = transactions;
        self.unchanged = unchanged;
        self.read = None;
        self
    }
}
