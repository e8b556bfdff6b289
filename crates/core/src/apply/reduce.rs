//! Reduction: bringing a batch down to the last image per row, so that a merge never sees a key twice.
//!
//! The result says which keys must be gone and what each remaining touched row looks like, column by
//! column, as references into the batch; no value is copied. It holds for tables that keep current rows.
//!
//! Invariant (proved by the property tests): for any state of the target and any valid sequence of
//! changes, carrying out the [steps](WriteSet::steps) of the result gives the same state as applying the
//! changes one by one.

use crate::apply::added::AddedRows;
use crate::apply::net::{
    Cells, GoneRow, ImageRef, NetRow, ReduceError, key_text, new_cells, old_cells, same_row,
    write_equal_keys, write_keys,
};
use crate::apply::write_set::WriteSet;
use crate::change::block::ChangeBlock;
use crate::change::counters::TableCounters;
use crate::change::kind::{Change, ChangeKind};
use crate::model::kept_as::Added;
use crate::model::schema::RowIdentity;
use crate::plan::table::TablePlan;
use crate::value::column::Value;
use crate::value::moment::Moment;
use hashbrown::HashMap;
use hashbrown::hash_map::EntryRef;

/// Reduces the changes of one table. All `blocks` must be of one table and one structure, in order.
///
/// # Errors
/// See [`ReduceError`]. Nothing is applied then.
pub fn reduce(blocks: &[&ChangeBlock]) -> Result<WriteSet, ReduceError> {
    match blocks.first().map(|b| b.schema().identity.clone()) {
        None => Ok(WriteSet::default()),
        Some(RowIdentity::WholeRow) => reduce_whole_rows(blocks),
        Some(RowIdentity::Key(key) | RowIdentity::DeclaredKey(key)) => KeyedReduction::new(blocks, key).run(),
    }
}

/// The same for a table whose rows may be others than the changes assume: a row that comes again is written over the one that
/// is there.
///
/// # Errors
/// See [`ReduceError`].
pub fn lenient(blocks: &[&ChangeBlock]) -> Result<WriteSet, ReduceError> {
    match blocks.first().and_then(|b| b.schema().identity.key()) {
        None => reduce(blocks),
        Some(key) => KeyedReduction { lenient: true, ..KeyedReduction::new(blocks, key.to_vec()) }.run(),
    }
}

/// The same for a table in which rows that were deleted stay, and are marked; with the images of the marks.
///
/// # Errors
/// See [`ReduceError`].
pub(super) fn marking(
    plan: &TablePlan,
    blocks: &[ChangeBlock],
) -> Result<(WriteSet, Option<ChangeBlock>), ReduceError> {
    let all: Vec<&ChangeBlock> = blocks.iter().collect();
    let mut marks = AddedRows::behind(plan, blocks.len());
    let set = {
        let reduction = KeyedReduction::new(&all, plan.key().to_vec());
        let deleted_at = plan.place_of(Added::DeletedAt);
        let marks = deleted_at.map(|place| Marks { place, rows: &mut marks });
        KeyedReduction { lenient: true, marks, ..reduction }.run()?
    };
    Ok((set, marks.finish()?))
}

/// The marks of rows that were deleted.
struct Marks<'a, 'p> {
    /// The column.
    place: usize,
    rows: &'a mut AddedRows<'p>,
}

impl Marks<'_, '_> {
    fn at(&mut self, moment: Moment) -> Result<ImageRef, ReduceError> {
        let text = moment.to_string();
        self.rows.push(|_| Value::Text(&text))
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

struct KeyedReduction<'a, 'm, 'p> {
    /// Whether rows may be others than the changes assume.
    lenient: bool,
    marks: Option<Marks<'m, 'p>>,
    /// When the rows of the target were all marked.
    all_marked: Option<Moment>,
    blocks: &'a [&'a ChangeBlock],
    key: Vec<usize>,
    width: usize,
    slots: Vec<Slot>,
    index: HashMap<Vec<u8>, usize>,
    truncate: bool,
    counters: TableCounters,
    scratch: Vec<u8>,
}

impl<'a> KeyedReduction<'a, '_, '_> {
    fn new(blocks: &'a [&'a ChangeBlock], key: Vec<usize>) -> Self {
        let width = blocks[0].schema().columns.len();
        Self {
            lenient: false,
            marks: None,
            all_marked: None,
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

    fn run(mut self) -> Result<WriteSet, ReduceError> {
        let blocks = self.blocks;
        for (b, block) in blocks.iter().enumerate() {
            count(&mut self.counters, block);
            for (at, change) in block.changes().enumerate() {
                self.step(b as u32, &change, at)?;
            }
        }
        Ok(self.finish())
    }

    fn step(&mut self, block: u32, change: &Change<'_>, at: usize) -> Result<(), ReduceError> {
        let moment = || self.blocks[block as usize].place(at).valid_from;
        match change.kind {
            ChangeKind::Truncate if self.marks.is_some() => {
                let moment = moment();
                self.mark_all(moment)
            }
            ChangeKind::Delete if self.marks.is_some() => {
                let (key, moment) = (self.old_cells(block, change), moment());
                self.mark(&key, moment)
            }
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
                if known && !was_gone && !self.lenient {
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

    /// A row that was deleted has what is known of it, and the mark.
    fn mark(&mut self, key: &Cells, moment: Moment) -> Result<(), ReduceError> {
        let Some(marks) = &mut self.marks else { return Ok(()) };
        let (place, image) = (marks.place, marks.at(moment)?);
        let marked = |c: usize| match c == place {
            true => Some(image),
            false => key.at(c).filter(|_| self.key.contains(&c)),
        };
        let cells = Cells::Mixed((0..self.width).map(marked).collect());
        let (slot, known) = self.slot(key, true)?;
        let state = match &self.slots[slot].state {
            State::Live { cells: earlier, origin, must_be_new } => {
                let cells = self.overlay(cells, Some(earlier));
                State::Live { cells, origin: *origin, must_be_new: *must_be_new }
            }
            // It was moved away from.
            State::Gone if known => return Ok(()),
            State::Gone => State::Live { cells, origin: Some(slot), must_be_new: false },
        };
        self.set(slot, state);
        Ok(())
    }

    fn mark_all(&mut self, moment: Moment) -> Result<(), ReduceError> {
        let Some(place) = self.marks.as_ref().map(|marks| marks.place) else { return Ok(()) };
        for slot in 0..self.slots.len() {
            let State::Live { cells, .. } = &self.slots[slot].state else { continue };
            let is_marked = cells.at(place).is_some_and(|image| image.block as usize >= self.blocks.len());
            if !is_marked {
                let key = cells.clone();
                self.mark(&key, moment)?;
            }
        }
        self.all_marked.get_or_insert(moment);
        Ok(())
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
        if matches!(self.slots[to].state, State::Live { .. }) && !self.lenient {
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
        match self.lenient {
            // No error tells here that one key came in two ways of writing it.
            true => write_equal_keys(self.blocks, cells, &self.key, &mut self.scratch)?,
            false => write_keys(self.blocks, cells, &self.key, &mut self.scratch)?,
        }
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
        key_text(self.blocks, cells, &self.key)
    }

    /// Whether a row's key is written otherwise than the one that the batch first met.
    fn is_respelled(&self, slot: &Slot) -> bool {
        let State::Live { cells, .. } = &slot.state else { return false };
        self.lenient && same_row(self.blocks, &slot.key, cells, self.key.iter().copied()) == Some(false)
    }

    fn finish(self) -> WriteSet {
        let mut reduced =
            WriteSet { empty: self.truncate, keyed: true, counters: self.counters, ..WriteSet::default() };
        reduced.marks = self.all_marked;
        let owned = self.slots.iter().filter(|s| s.owned).count() as u64 + u64::from(self.truncate);
        let keys: Vec<Cells> = self.slots.iter().map(|s| s.key.clone()).collect();
        let respelled: Vec<bool> = self.slots.iter().map(|slot| self.is_respelled(slot)).collect();
        for ((at, slot), is_respelled) in self.slots.into_iter().enumerate().zip(respelled) {
            if is_respelled || matches!(slot.state, State::Gone) {
                reduced.gone.push(GoneRow { key: slot.key, was_there: slot.was_there });
            }
            match slot.state {
                State::Gone => {}
                State::Live { cells, origin, must_be_new } => {
                    let moved_from = match origin {
                        Some(from) if (from != at || is_respelled) && !cells.is_complete() => {
                            Some(keys[from].clone())
                        }
                        _ => None,
                    };
                    let (was_there, must_be_new) =
                        (slot.was_there && !is_respelled, must_be_new && !is_respelled);
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

fn count(counters: &mut TableCounters, block: &ChangeBlock) {
    let read = block.read();
    counters.read += read;
    counters.filtered += read.total() - block.len() as u64;
}

/// Rows without a key form a multiset; changes add to and take from the number of equal rows, and
/// only the difference counts.
fn reduce_whole_rows(blocks: &[&ChangeBlock]) -> Result<WriteSet, ReduceError> {
    let schema = blocks[0].schema();
    let width = schema.columns.len();
    let mut reduced = WriteSet::default();
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
                    reduced.empty = true;
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
