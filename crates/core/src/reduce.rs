//! Reduction: bringing a batch down to the last image per row, so that a merge never sees a key twice.
//!
//! The result says which keys must be gone and what each remaining touched row looks like, column by
//! column, as references into the batch; no value is copied. It holds for tables that keep current rows.
//!
//! Invariant (proved by the property tests): for any state of the target and any valid sequence of
//! changes, carrying out the result in the documented order gives the same state as applying the
//! changes one by one. The order is:
//!
//! 1. for each row that [moved](NetRow::moved_from) and lacks columns, read those from the target's row
//!    at its old key;
//! 2. if [`Reduced::truncate`], remove all rows;
//! 3. remove the rows with the keys in [`Reduced::gone`];
//! 4. write the rows: a complete one as an upsert, one that lacks columns as an update of the others.

use crate::change::{Change, ChangeBlock, ChangeKind};
use crate::column::{Value, value_at};
use crate::counters::TableCounters;
use crate::schema::RowIdentity;
use hashbrown::HashMap;
use hashbrown::hash_map::EntryRef;

/// A row image: which block, which row of it, old or new.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ImageRef {
    /// Index of the block.
    pub block: u32,
    /// Row in the block's old or new images.
    pub row: u32,
    /// Whether it is an old image.
    pub old: bool,
}

impl ImageRef {
    /// The value of one column of this image.
    pub fn value<'a>(&self, blocks: &[&'a ChangeBlock], column: usize) -> Value<'a> {
        let block = blocks[self.block as usize];
        let rows = if self.old { block.old_rows() } else { block.new_rows() };
        value_at(rows.column(column).as_ref(), self.row as usize)
    }
}

/// Where a row's values are.
#[derive(Clone, Debug)]
pub enum Cells {
    /// All in one image.
    Whole(ImageRef),
    /// Column by column; `None` where the batch carries no value and the target's must stay.
    Mixed(Box<[Option<ImageRef>]>),
}

impl Cells {
    /// The image that holds a column's value, if the batch carries it.
    pub fn at(&self, column: usize) -> Option<ImageRef> {
        match self {
            Cells::Whole(image) => Some(*image),
            Cells::Mixed(cells) => cells[column],
        }
    }

    /// Whether every column has a value.
    pub fn is_complete(&self) -> bool {
        match self {
            Cells::Whole(_) => true,
            Cells::Mixed(cells) => cells.iter().all(Option::is_some),
        }
    }
}

/// A row that exists after the batch and was touched by it.
#[derive(Clone, Debug)]
pub struct NetRow {
    /// Its values. The key's columns always have one.
    pub cells: Cells,
    /// The key that the row had in the target before the batch, if that was another one and columns
    /// are missing here.
    pub moved_from: Option<Cells>,
    /// Whether the batch first saw this row as an insert, so that the target cannot have the key yet.
    pub must_be_new: bool,
    /// Whether the target's row at this key was there before the batch, as the batch assumes.
    pub was_there: bool,
}

/// A row that must not exist after the batch.
#[derive(Clone, Debug)]
pub struct GoneRow {
    /// Its key; all columns where that is the whole row.
    pub key: Cells,
    /// Whether it was there before the batch, as the batch assumes.
    pub was_there: bool,
}

/// What a batch comes down to for one table.
#[derive(Clone, Debug, Default)]
pub struct Reduced {
    /// Remove all rows first.
    pub truncate: bool,
    /// Rows that must not exist afterwards. With a key only the key's columns count; without one, each
    /// entry removes one row that is equal in all columns.
    pub gone: Vec<GoneRow>,
    /// Rows to write. Without a key each is one more row to insert.
    pub rows: Vec<NetRow>,
    /// What was read and what became of it.
    pub counters: TableCounters,
}

/// Why a batch cannot be reduced. Each means that the table's log and its key do not fit together.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ReduceError {
    /// Two rows with one key at the same time.
    #[error("{table}: a second row with the key ({key}) arrived while the first is still there")]
    DuplicateKey {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A change to a row that the same batch had removed.
    #[error("{table}: a change to the row with the key ({key}) arrived after the row was deleted")]
    ChangeAfterDelete {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A row that left the filter and came back without all its values.
    #[error(
        "{table}: the row with the key ({key}) came back into the filter, and the log left out its large values that did not change. Run ALTER TABLE {table} REPLICA IDENTITY FULL in the source, then `moorage resnapshot {table}`"
    )]
    Incomplete {
        /// The table.
        table: String,
        /// The key's values.
        key: String,
    },
    /// A null, or no value at all, in a key column.
    #[error("{table}: key column {column} has no value in a captured change")]
    KeyMissing {
        /// The table.
        table: String,
        /// The column.
        column: String,
    },
    /// The log did not carry the old row where the whole row is the key.
    #[error("{table}: a captured change does not carry the whole old row, which a table without a key needs")]
    OldRowMissing {
        /// The table.
        table: String,
    },
}

/// Reduces the changes of one table. All `blocks` must be of one table and one structure, in order.
///
/// # Errors
/// See [`ReduceError`]. Nothing is applied then.
pub fn reduce(blocks: &[&ChangeBlock]) -> Result<Reduced, ReduceError> {
    match blocks.first().map(|b| b.schema().identity.clone()) {
        None => Ok(Reduced::default()),
        Some(RowIdentity::WholeRow) => reduce_whole_rows(blocks),
        Some(RowIdentity::Key(key) | RowIdentity::DeclaredKey(key)) => KeyedReduction::new(blocks, key).run(),
    }
}

/// What is known of the row at one key.
enum State {
    /// It must not exist.
    Gone,
    /// It exists. `origin` is the slot of the key it had in the target before the batch, if the batch
    /// did not make the row itself.
    Live { cells: Cells, origin: Option<usize>, must_be_new: bool },
}

struct Slot {
    key: Cells,
    state: State,
    /// Whether the slot's state was decided by a change of its own (false for a key moved away from).
    owned: bool,
    /// Whether the first change that met the key assumes that the target has the row.
    was_there: bool,
}

struct KeyedReduction<'a> {
    blocks: &'a [&'a ChangeBlock],
    key: Vec<usize>,
    width: usize,
    slots: Vec<Slot>,
    index: HashMap<Vec<u8>, usize>,
    truncate: bool,
    counters: TableCounters,
    scratch: Vec<u8>,
}

impl<'a> KeyedReduction<'a> {
    fn new(blocks: &'a [&'a ChangeBlock], key: Vec<usize>) -> Self {
        let width = blocks[0].schema().columns.len();
        Self {
            blocks,
            key,
            width,
            slots: Vec::new(),
            index: HashMap::new(),
            truncate: false,
            counters: TableCounters::default(),
            scratch: Vec::new(),
        }
    }

    fn run(mut self) -> Result<Reduced, ReduceError> {
        let blocks = self.blocks;
        for (b, block) in blocks.iter().enumerate() {
            count(&mut self.counters, block);
            for change in block.changes() {
                self.step(b as u32, &change)?;
            }
        }
        Ok(self.finish())
    }

    fn step(&mut self, block: u32, change: &Change<'_>) -> Result<(), ReduceError> {
        match change.kind {
            ChangeKind::Truncate => {
                self.truncate = true;
                self.slots.clear();
                self.index.clear();
                Ok(())
            }
            ChangeKind::Insert => {
                let cells = self.new_cells(block, change);
                let (slot, known) = self.slot(&cells, false)?;
                let was_gone = known && matches!(self.slots[slot].state, State::Gone);
                if known && !was_gone {
                    return Err(self.duplicate(&cells));
                }
                let must_be_new = !was_gone && !self.truncate;
                self.set(slot, State::Live { cells, origin: None, must_be_new });
                Ok(())
            }
            ChangeKind::Delete => {
                let key = self.old_cells(block, change);
                let (slot, _) = self.slot(&key, true)?;
                self.set(slot, State::Gone);
                Ok(())
            }
            ChangeKind::Update => self.update(block, change),
        }
    }

    fn update(&mut self, block: u32, change: &Change<'_>) -> Result<(), ReduceError> {
        let carried = self.new_cells(block, change);
        let old_key = if change.old.is_some() { self.old_cells(block, change) } else { carried.clone() };
        let (from, known) = self.slot(&old_key, true)?;
        let (earlier, origin, must_be_new) = if known {
            match &self.slots[from].state {
                // It left a filter in this batch, and comes back.
                State::Gone if self.blocks[block as usize].is_blind() => {
                    if !carried.is_complete() {
                        return Err(self.incomplete(&old_key));
                    }
                    (None, None, false)
                }
                State::Gone => return Err(self.after_delete(&old_key)),
                State::Live { cells, origin, must_be_new } => (Some(cells.clone()), *origin, *must_be_new),
            }
        } else {
            (None, Some(from), false)
        };
        let cells = self.overlay(carried, earlier.as_ref());
        let (to, _) = self.slot(&cells, false)?;
        if to == from {
            self.set(from, State::Live { cells, origin, must_be_new });
            return Ok(());
        }
        // A key that was never met before this change was just given a slot that says "gone".
        if matches!(self.slots[to].state, State::Live { .. }) {
            return Err(self.duplicate(&cells));
        }
        self.slots[from].state = State::Gone;
        self.slots[from].owned = false;
        self.set(to, State::Live { cells, origin, must_be_new: false });
        Ok(())
    }

    fn set(&mut self, slot: usize, state: State) {
        self.slots[slot].state = state;
        self.slots[slot].owned = true;
    }

    fn new_cells(&self, block: u32, change: &Change<'_>) -> Cells {
        new_cells(block, change, self.width, &self.key)
    }

    fn old_cells(&self, block: u32, change: &Change<'_>) -> Cells {
        old_cells(block, change)
    }

    fn overlay(&self, carried: Cells, earlier: Option<&Cells>) -> Cells {
        match (carried, earlier) {
            (Cells::Mixed(cells), Some(earlier)) => Cells::Mixed(
                cells.iter().enumerate().map(|(c, cell)| cell.or_else(|| earlier.at(c))).collect(),
            ),
            (carried, _) => carried,
        }
    }

    /// The slot of a key, made new (and then "gone") if the batch has not met the key yet. `was_there` says what
    /// a change that is the first to meet it assumes.
    fn slot(&mut self, cells: &Cells, was_there: bool) -> Result<(usize, bool), ReduceError> {
        self.scratch.clear();
        write_keys(self.blocks, cells, &self.key, &mut self.scratch)?;
        match self.index.entry_ref(self.scratch.as_slice()) {
            EntryRef::Occupied(found) => Ok((*found.get(), true)),
            EntryRef::Vacant(free) => {
                free.insert(self.slots.len());
                let was_there = was_there && !self.truncate;
                self.slots.push(Slot { key: cells.clone(), state: State::Gone, owned: false, was_there });
                Ok((self.slots.len() - 1, false))
            }
        }
    }

    fn duplicate(&self, cells: &Cells) -> ReduceError {
        ReduceError::DuplicateKey {
            table: self.blocks[0].schema().table.to_string(),
            key: self.key_text(cells),
        }
    }

    fn after_delete(&self, cells: &Cells) -> ReduceError {
        ReduceError::ChangeAfterDelete {
            table: self.blocks[0].schema().table.to_string(),
            key: self.key_text(cells),
        }
    }

    fn incomplete(&self, cells: &Cells) -> ReduceError {
        ReduceError::Incomplete {
            table: self.blocks[0].schema().table.to_string(),
            key: self.key_text(cells),
        }
    }

    fn key_text(&self, cells: &Cells) -> String {
        let value = |c: &usize| cells.at(*c).map(|i| format!("{:?}", i.value(self.blocks, *c)));
        self.key.iter().filter_map(value).collect::<Vec<_>>().join(", ")
    }

    fn finish(self) -> Reduced {
        let mut reduced = Reduced { truncate: self.truncate, counters: self.counters, ..Reduced::default() };
        let owned = self.slots.iter().filter(|s| s.owned).count() as u64 + u64::from(self.truncate);
        let keys: Vec<Cells> = self.slots.iter().map(|s| s.key.clone()).collect();
        for (at, slot) in self.slots.into_iter().enumerate() {
            match slot.state {
                State::Gone => {
                    reduced.gone.push(GoneRow { key: slot.key, was_there: slot.was_there });
                }
                State::Live { cells, origin, must_be_new } => {
                    let moved_from = match origin {
                        Some(from) if from != at && !cells.is_complete() => Some(keys[from].clone()),
                        _ => None,
                    };
                    let was_there = slot.was_there;
                    reduced.rows.push(NetRow { cells, moved_from, must_be_new, was_there });
                }
            }
        }
        reduced.counters.merged = owned;
        let passed = reduced.counters.read.total() - reduced.counters.filtered;
        reduced.counters.reduced = passed - owned;
        reduced
    }
}

/// The new image, with values the log left out taken from the old image where that has them.
fn new_cells(block: u32, change: &Change<'_>, width: usize, key: &[usize]) -> Cells {
    let image = ImageRef { block, row: change.new.unwrap_or(0) as u32, old: false };
    let Some(unchanged) = change.unchanged else { return Cells::Whole(image) };
    let old = change.old.map(|row| ImageRef { block, row: row as u32, old: true });
    let cells = (0..width).map(|c| match (unchanged[c], old) {
        (false, _) => Some(image),
        (true, Some(old)) if change.old_is_whole || key.contains(&c) => Some(old),
        (true, _) => None,
    });
    Cells::Mixed(cells.collect())
}

fn old_cells(block: u32, change: &Change<'_>) -> Cells {
    Cells::Whole(ImageRef { block, row: change.old.unwrap_or(0) as u32, old: true })
}

/// Appends a key's values in the form of [`Value::write_key`].
fn write_keys(
    blocks: &[&ChangeBlock],
    cells: &Cells,
    key: &[usize],
    out: &mut Vec<u8>,
) -> Result<(), ReduceError> {
    for &column in key {
        match cells.at(column).map(|image| image.value(blocks, column)) {
            None | Some(Value::Null) => {
                let schema = blocks[0].schema();
                return Err(ReduceError::KeyMissing {
                    table: schema.table.to_string(),
                    column: schema.columns[column].name.clone(),
                });
            }
            Some(value) => value.write_key(out),
        }
    }
    Ok(())
}

fn count(counters: &mut TableCounters, block: &ChangeBlock) {
    let read = block.read();
    counters.read += read;
    counters.filtered += read.total() - block.len() as u64;
}

/// Rows without a key form a multiset; changes add to and take from the number of equal rows, and
/// only the difference counts.
fn reduce_whole_rows(blocks: &[&ChangeBlock]) -> Result<Reduced, ReduceError> {
    let schema = blocks[0].schema();
    let width = schema.columns.len();
    let mut reduced = Reduced::default();
    let mut index: HashMap<Vec<u8>, usize> = HashMap::new();
    let mut counts: Vec<(Cells, i64)> = Vec::new();
    let mut scratch = Vec::new();
    let mut add =
        |counts: &mut Vec<(Cells, i64)>, index: &mut HashMap<Vec<u8>, usize>, cells: Cells, by: i64| {
            scratch.clear();
            for column in 0..width {
                let value = cells.at(column).map_or(Value::Null, |image| image.value(blocks, column));
                value.write_key(&mut scratch);
            }
            let at = *index.entry_ref(scratch.as_slice()).or_insert_with(|| {
                counts.push((cells, 0));
                counts.len() - 1
            });
            counts[at].1 += by;
        };
    let missing = || ReduceError::OldRowMissing { table: schema.table.to_string() };
    for (b, block) in blocks.iter().enumerate() {
        count(&mut reduced.counters, block);
        for change in block.changes() {
            let image = |row: usize, old| ImageRef { block: b as u32, row: row as u32, old };
            let old = match change.old {
                Some(row) if change.old_is_whole => Some(Cells::Whole(image(row, true))),
                _ => None,
            };
            match change.kind {
                ChangeKind::Truncate => {
                    reduced.truncate = true;
                    counts.clear();
                    index.clear();
                }
                ChangeKind::Insert => {
                    let new = change.new.ok_or_else(missing)?;
                    add(&mut counts, &mut index, Cells::Whole(image(new, false)), 1);
                }
                ChangeKind::Delete => add(&mut counts, &mut index, old.ok_or_else(missing)?, -1),
                ChangeKind::Update => {
                    let old = old.ok_or_else(missing)?;
                    let new = image(change.new.ok_or_else(missing)?, false);
                    let cells = match change.unchanged {
                        None => Cells::Whole(new),
                        Some(u) => Cells::Mixed(
                            (0..width).map(|c| if u[c] { old.at(c) } else { Some(new) }).collect(),
                        ),
                    };
                    add(&mut counts, &mut index, old, -1);
                    add(&mut counts, &mut index, cells, 1);
                }
            }
        }
    }
    for (cells, count) in counts {
        for _ in 0..count.unsigned_abs() {
            if count > 0 {
                reduced.rows.push(NetRow {
                    cells: cells.clone(),
                    moved_from: None,
                    must_be_new: false,
                    was_there: false,
                });
            } else {
                reduced.gone.push(GoneRow { key: cells.clone(), was_there: true });
            }
        }
    }
    reduced.counters.merged = reduced.counters.read.total() - reduced.counters.filtered;
    Ok(reduced)
}

mod units;
pub use units::{Unit, Units, units};

#[cfg(test)]
mod tests;
