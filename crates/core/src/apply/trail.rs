//! A table that keeps changes: each change of a batch is a row of its own, in the order in which the source made them.
//!
//! | change | rows |
//! |---|---|
//! | insert | `insert` |
//! | update | `update` |
//! | update of the key, or of a row without one | `delete` with what told the old row apart, then `insert` |
//! | delete | `delete` with what told the row apart |
//! | truncate | `truncate` |
//!
//! Invariant (proved by the property tests): whoever takes the rows in the order of position and order, writes those of
//! snapshots, inserts and updates over the row with their key, removes those of deletes and all at a truncate, has at each
//! position what a table of current rows has there.
//!
//! A value that the log left out is taken from an earlier change of the batch. Where there is none, the row
//! [borrows](WriteSet::borrowed) from the last one that the target has of the key, and what that does not know either is
//! [named](unknown) in a column of its own.

use crate::apply::added::AddedRows;
use crate::apply::net::{Cells, NetRow, ReduceError, new_cells, old_cells, write_keys};
use crate::apply::write_set::WriteSet;
use crate::change::block::ChangeBlock;
use crate::change::kind::{Change, ChangeKind};
use crate::mapping::outputs::Output;
use crate::model::kept_as::{Added, Operation};
use crate::plan::table::TablePlan;
use crate::value::column::{Value, value_at};
use crate::value::moment::Moment;
use hashbrown::HashMap;

/// The rows that the changes of one table are, given in order, and the images that hold what is added to them.
///
/// # Errors
/// See [`ReduceError`].
pub(super) fn trail(
    plan: &TablePlan,
    blocks: &[ChangeBlock],
) -> Result<(WriteSet, Option<ChangeBlock>), ReduceError> {
    let mut trail = Trail::new(plan, blocks);
    for (b, block) in blocks.iter().enumerate() {
        let mut stamped = None;
        for (at, change) in block.changes().enumerate() {
            let place = block.place(at);
            let Some(transaction) = block.transaction(at) else { continue };
            if stamped.as_ref().is_none_or(|(sequence, _)| *sequence != (place.sequence, place.valid_from)) {
                let committed_at = Moment::of(transaction.committed_at).to_string();
                let millis = transaction.committed_at.timestamp_millis();
                let stamp = Stamp { committed_at, millis, position: transaction.position.sortable() };
                stamped = Some(((place.sequence, place.valid_from), stamp));
            }
            let Some((_, stamp)) = &stamped else { continue };
            // Two rows at most are of one change.
            let order = change.order.saturating_sub(place.first_order).saturating_mul(2);
            trail.change(b as u32, &change, stamp, i64::try_from(order).unwrap_or(i64::MAX - 1))?;
        }
    }
    let mut counters = WriteSet::read_of(blocks);
    counters.merged = counters.read.total() - counters.filtered;
    let set = WriteSet { rows: trail.rows, counters, ..WriteSet::default() };
    Ok((set, trail.added.finish()?))
}

/// What all changes of a transaction have in common.
struct Stamp {
    committed_at: String,
    /// The same in milliseconds since 1970-01-01 00:00 UTC.
    millis: i64,
    position: String,
}

/// What is known of the row at a key.
struct Known {
    cells: Cells,
    /// The key under which the target has the values that are not here; none if nobody knows them.
    origin: Option<Cells>,
}

struct Trail<'a> {
    plan: &'a TablePlan,
    blocks: Vec<&'a ChangeBlock>,
    width: usize,
    added: AddedRows<'a>,
    rows: Vec<NetRow>,
    /// The last image of each key; none where the log left nothing out.
    known: Option<HashMap<Vec<u8>, Known>>,
    /// Whether the table was emptied in this batch: then the target knows nothing of what is not in `known`.
    emptied: bool,
}

impl<'a> Trail<'a> {
    fn new(plan: &'a TablePlan, blocks: &'a [ChangeBlock]) -> Self {
        let leaves_out = blocks.iter().any(|block| block.changes().any(|c| c.unchanged.is_some()));
        Self {
            plan,
            blocks: blocks.iter().collect(),
            width: plan.width(),
            added: AddedRows::behind(plan, blocks.len()),
            rows: Vec::new(),
            known: leaves_out.then(HashMap::new),
            emptied: false,
        }
    }

    fn change(
        &mut self,
        block: u32,
        change: &Change<'_>,
        stamp: &Stamp,
        order: i64,
    ) -> Result<(), ReduceError> {
        let key = self.plan.key();
        let old = || old_cells(block, change);
        let row = |operation, at| Row { operation, block, change, stamp, order: at };
        match change.kind {
            ChangeKind::Truncate => {
                self.known = self.known.take().map(|_| HashMap::new());
                self.emptied = true;
                self.write(&row(Operation::Truncate, order), None)
            }
            ChangeKind::Delete => self.gone(&row(Operation::Delete, order), &old()),
            ChangeKind::Insert => {
                let cells = new_cells(block, change, self.width, key);
                self.there(&row(Operation::Insert, order), cells, None)
            }
            ChangeKind::Update => {
                let cells = new_cells(block, change, self.width, key);
                let before = change.old.map(|_| old());
                let moves = match &before {
                    Some(before) => key.is_empty() || self.key_of(before)? != self.key_of(&cells)?,
                    None => false,
                };
                match before.filter(|_| moves) {
                    Some(before) => {
                        let known = self.known_of(&before)?;
                        self.gone(&row(Operation::Delete, order), &before)?;
                        self.there(&row(Operation::Insert, order + 1), cells, known)
                    }
                    None if key.is_empty() => Err(self.old_row_missing()),
                    None => {
                        let known = self.known_of(&cells)?;
                        self.there(&row(Operation::Update, order), cells, known)
                    }
                }
            }
        }
    }

    fn key_of(&self, cells: &Cells) -> Result<Vec<u8>, ReduceError> {
        let mut bytes = Vec::new();
        write_keys(&self.blocks, cells, self.plan.key(), &mut bytes)?;
        Ok(bytes)
    }

    fn old_row_missing(&self) -> ReduceError {
        ReduceError::OldRowMissing { table: self.plan.table().to_string() }
    }

    /// What is known of the row with this key before the change.
    fn known_of(&self, cells: &Cells) -> Result<Option<Known>, ReduceError> {
        let Some(known) = self.known.as_ref().filter(|_| !self.plan.key().is_empty()) else {
            return Ok(None);
        };
        let found = known.get(&self.key_of(cells)?);
        let origin = || (!self.emptied).then(|| cells.clone());
        Ok(Some(match found {
            Some(Known { cells, origin }) => Known { cells: cells.clone(), origin: origin.clone() },
            None => Known { cells: Cells::Mixed(vec![None; self.width].into()), origin: origin() },
        }))
    }

    /// A row that is gone: with what tells it apart.
    fn gone(&mut self, row: &Row<'_>, before: &Cells) -> Result<(), ReduceError> {
        let key = self.plan.key();
        if key.is_empty() {
            if !row.change.old_is_whole {
                return Err(self.old_row_missing());
            }
            return self.write(row, Some(before.clone()));
        }
        let bytes = self.key_of(before)?;
        if let Some(known) = &mut self.known {
            known.remove(&bytes);
        }
        let cells = (0..self.width).map(|c| before.at(c).filter(|_| key.contains(&c)));
        self.write(row, Some(Cells::Mixed(cells.collect())))
    }

    /// A row that is there, with what is known of the one before it where it lacks values.
    fn there(&mut self, row: &Row<'_>, cells: Cells, before: Option<Known>) -> Result<(), ReduceError> {
        let cells = match &before {
            Some(before) if !cells.is_complete() => {
                let own = |c: usize| cells.at(c).or_else(|| before.cells.at(c));
                Cells::Mixed((0..self.width).map(own).collect())
            }
            _ => cells,
        };
        let origin = before.and_then(|before| before.origin).filter(|_| !cells.is_complete());
        let bytes = match &self.known {
            Some(_) if !self.plan.key().is_empty() => Some(self.key_of(&cells)?),
            _ => None,
        };
        if let Some((known, bytes)) = self.known.as_mut().zip(bytes) {
            known.insert(bytes, Known { cells: cells.clone(), origin: origin.clone() });
        }
        self.write_row(row, Some(cells), origin, true)
    }

    fn write(&mut self, row: &Row<'_>, own: Option<Cells>) -> Result<(), ReduceError> {
        self.write_row(row, own, None, false)
    }

    /// One more row. Where it lacks values and `needs` all, it borrows them, or says that they are not known.
    fn write_row(
        &mut self,
        row: &Row<'_>,
        own: Option<Cells>,
        origin: Option<Cells>,
        needs: bool,
    ) -> Result<(), ReduceError> {
        let own_at = |c: usize| own.as_ref().and_then(|own| own.at(c));
        let borrows = origin.is_some();
        let unchanged = match needs && !borrows {
            true => names(self.plan, (0..self.width).filter(|&c| own_at(c).is_none())),
            false => None,
        };
        let old = self.blocks[row.block as usize].old_rows();
        let old_value = |of: usize| match row.change.old.filter(|_| row.change.old_is_whole) {
            Some(at) => value_at(old.column(of).as_ref(), at),
            None => Value::Null,
        };
        let added = self.added.push(|output| match output {
            Output::Added(Added::Operation) => Value::Text(self.plan.kept_as.word(row.operation)),
            Output::Added(Added::CommittedAt) if self.plan.kept_as.milliseconds => {
                Value::Int(row.stamp.millis)
            }
            Output::Added(Added::IsDelete) => Value::Bool(row.operation == Operation::Delete),
            Output::Added(Added::CommittedAt) => Value::Text(&row.stamp.committed_at),
            Output::Added(Added::Position) => Value::Text(&row.stamp.position),
            Output::Added(Added::Order) => Value::Int(row.order),
            Output::Added(Added::Unchanged) => unchanged.as_deref().map_or(Value::Null, Value::Text),
            Output::Old(of) => old_value(*of),
            _ => Value::Null,
        })?;
        let mut cells = self.added.beside(own.as_ref(), added);
        match &mut cells {
            // What nobody knows is null, and so is what a row that is gone does not say.
            Cells::Mixed(cells) if !borrows => cells.iter_mut().for_each(|c| *c = c.or(Some(added))),
            Cells::Mixed(cells) => {
                if let Some(place) = self.plan.place_of(Added::Unchanged) {
                    cells[place] = None;
                }
            }
            Cells::Whole(_) | Cells::Beside { .. } => {}
        }
        self.rows.push(NetRow { cells, moved_from: origin, must_be_new: true, was_there: false });
        Ok(())
    }
}

/// A row to come.
struct Row<'a> {
    operation: Operation,
    block: u32,
    change: &'a Change<'a>,
    stamp: &'a Stamp,
    order: i64,
}

/// Names of target columns as a JSON array; none if there are none.
fn names(plan: &TablePlan, columns: impl Iterator<Item = usize>) -> Option<String> {
    let names: Vec<&str> = columns.map(|c| plan.columns[c].name.as_str()).collect();
    (!names.is_empty()).then(|| serde_json::Value::from(names).to_string())
}

/// What a row that [borrows](WriteSet::borrowed) says of values that are not known: given what the target's last row of the
/// key says of them (none inside if it knows all), if there is one.
pub fn unknown(plan: &TablePlan, row: &NetRow, found: Option<Option<&str>>) -> Option<String> {
    let lacks = (0..plan.width()).filter(|&c| row.cells.at(c).is_none());
    let unknown_there: Vec<String> = match found {
        None => return names(plan, lacks),
        Some(None) => return None,
        Some(Some(text)) => serde_json::from_str(text).unwrap_or_default(),
    };
    names(plan, lacks.filter(|&c| unknown_there.contains(&plan.columns[c].name)))
}
