//! A table that keeps versions: each row that a key had, with the times from when and until when it was valid.
//!
//! A change is valid from the time of its transaction ([`Place::valid_from`](crate::change::place::Place::valid_from)), which no two
//! transactions share: so no interval is empty, none overlaps another one of its key, and the versions that are valid at a time
//! are the rows at one position, in all tables of a pipeline. What one transaction does to a row leaves one version.
//!
//! | change | the version that was valid | a new one |
//! |---|---|---|
//! | insert | | from then on |
//! | update | until then | from then on |
//! | update of the key | of the old key: until then | of the new key: from then on |
//! | update that leaves a row as it is, as whole old rows tell | stays | |
//! | delete | until then | |
//! | truncate | all: until then | |
//!
//! Where deletes are ignored, an insert is an update of the row that may be there still.

use crate::apply::added::AddedRows;
use crate::apply::net::{
    Cells, GoneRow, NetRow, ReduceError, key_text, new_cells, old_cells, same_row, write_equal_keys,
    write_keys,
};
use crate::apply::write_set::{Ends, WriteSet};
use crate::change::block::ChangeBlock;
use crate::change::kind::{Change, ChangeKind};
use crate::mapping::outputs::Output;
use crate::model::kept_as::Added;
use crate::plan::table::TablePlan;
use crate::value::column::Value;
use crate::value::moment::Moment;
use hashbrown::HashMap;

/// What the changes of one table, given in order, do to the versions that a target has, and the images that hold what is
/// added to new ones. With `goes_on`, an earlier part of the first transaction may be in the target.
///
/// # Errors
/// See [`ReduceError`].
pub(super) fn versions(
    plan: &TablePlan,
    blocks: &[ChangeBlock],
    goes_on: bool,
) -> Result<(WriteSet, Option<ChangeBlock>), ReduceError> {
    let mut versions = Versions {
        plan,
        blocks: blocks.iter().collect(),
        slots: HashMap::new(),
        made: Vec::new(),
        gone: Vec::new(),
        ends: Ends { goes_on, ..Ends::default() },
        reduced: 0,
    };
    for (b, block) in blocks.iter().enumerate() {
        for (at, change) in block.changes().enumerate() {
            versions.change(b as u32, &change, block.place(at).valid_from)?;
        }
    }
    versions.finish(blocks)
}

/// Which version of a key is valid.
#[derive(Clone, Copy)]
enum Valid {
    None,
    /// One that the target has.
    InTarget,
    /// One that was made here.
    Made(usize),
}

struct Version {
    cells: Cells,
    since: Moment,
    until: Option<Moment>,
    /// The key under which the target has what the cells lack.
    origin: Option<Cells>,
    /// Whether its own transaction made another one of it.
    is_void: bool,
}

struct Versions<'a> {
    plan: &'a TablePlan,
    blocks: Vec<&'a ChangeBlock>,
    slots: HashMap<Vec<u8>, Valid>,
    made: Vec<Version>,
    gone: Vec<GoneRow>,
    ends: Ends,
    reduced: u64,
}

impl Versions<'_> {
    fn change(&mut self, block: u32, change: &Change<'_>, at: Moment) -> Result<(), ReduceError> {
        let new = || new_cells(block, change, self.plan.width(), self.plan.key());
        match change.kind {
            ChangeKind::Truncate => {
                self.truncate(at);
                Ok(())
            }
            ChangeKind::Insert => self.open(new(), None, at),
            ChangeKind::Delete => {
                let key = old_cells(block, change);
                let valid = self.valid(&key, true)?;
                self.end(&key, valid, at, true)
            }
            ChangeKind::Update => {
                let cells = new();
                self.update(block, change, cells, at)
            }
        }
    }

    fn update(
        &mut self,
        block: u32,
        change: &Change<'_>,
        carried: Cells,
        at: Moment,
    ) -> Result<(), ReduceError> {
        let before = if change.old.is_some() { old_cells(block, change) } else { carried.clone() };
        if change.old_is_whole && self.is_same(&before, &carried) {
            self.reduced += 1;
            return Ok(());
        }
        let valid = self.valid(&before, true)?;
        let (cells, origin) = match valid {
            Valid::Made(made) => {
                let made = &self.made[made];
                let own = |c: usize| carried.at(c).or_else(|| made.cells.at(c));
                let cells = match carried.is_complete() {
                    true => carried.clone(),
                    false => Cells::Mixed((0..self.plan.width()).map(own).collect()),
                };
                (cells, made.origin.clone())
            }
            Valid::InTarget => (carried, Some(before.clone())),
            // It left a filter, and comes back; or nothing is known of what was before.
            Valid::None if self.blocks[block as usize].is_blind() && carried.is_complete() => (carried, None),
            Valid::None if self.blocks[block as usize].is_blind() => {
                let (table, key) = (self.plan.table().to_string(), self.key_text(&before));
                return Err(ReduceError::Incomplete { table, key });
            }
            Valid::None => {
                let (table, key) = (self.plan.table().to_string(), self.key_text(&before));
                return Err(ReduceError::ChangeAfterDelete { table, key });
            }
        };
        self.end(&before, valid, at, true)?;
        self.open(cells, origin, at)
    }

    /// Whether the row is the same before and after, in the columns that are carried.
    fn is_same(&self, before: &Cells, after: &Cells) -> bool {
        same_row(&self.blocks, before, after, 0..self.plan.width()) == Some(true)
    }

    fn key_of(&self, cells: &Cells) -> Result<Vec<u8>, ReduceError> {
        let mut bytes = Vec::new();
        match self.plan.kept_as.is_exact() {
            true => write_keys(&self.blocks, cells, self.plan.key(), &mut bytes)?,
            // A row that was deleted, with nothing said of it, may come again with its key written otherwise.
            false => write_equal_keys(&self.blocks, cells, self.plan.key(), &mut bytes)?,
        }
        Ok(bytes)
    }

    fn key_text(&self, cells: &Cells) -> String {
        key_text(&self.blocks, cells, self.plan.key())
    }

    /// The version of a key that is valid. Of a key that is met for the first time the target has one, if the change that
    /// meets it assumes so and the table was not emptied.
    fn valid(&self, cells: &Cells, was_there: bool) -> Result<Valid, ReduceError> {
        Ok(match self.slots.get(&self.key_of(cells)?) {
            Some(valid) => *valid,
            None if was_there && self.ends.rest.is_none() => Valid::InTarget,
            None => Valid::None,
        })
    }

    /// The version that is valid is so until a moment. `was_there` says whether the change assumes that the target has one.
    fn end(&mut self, key: &Cells, valid: Valid, at: Moment, was_there: bool) -> Result<(), ReduceError> {
        match valid {
            Valid::None => {}
            Valid::InTarget => {
                self.gone.push(GoneRow { key: key.clone(), was_there });
                self.ends.at.push(at);
            }
            Valid::Made(made) => self.end_made(made, at),
        }
        self.slots.insert(self.key_of(key)?, Valid::None);
        Ok(())
    }

    fn end_made(&mut self, made: usize, at: Moment) {
        let version = &mut self.made[made];
        match version.since == at {
            true => {
                version.is_void = true;
                self.reduced += 1;
            }
            false => version.until = Some(at),
        }
    }

    fn open(&mut self, cells: Cells, origin: Option<Cells>, since: Moment) -> Result<(), ReduceError> {
        if !self.plan.kept_as.is_exact() {
            // A row of that key may have been deleted, with nothing said of it here.
            let valid = self.valid(&cells, true)?;
            self.end(&cells, valid, since, false)?;
        } else if !matches!(self.valid(&cells, false)?, Valid::None) {
            let (table, key) = (self.plan.table().to_string(), self.key_text(&cells));
            return Err(ReduceError::DuplicateKey { table, key });
        }
        self.slots.insert(self.key_of(&cells)?, Valid::Made(self.made.len()));
        let origin = origin.filter(|_| !cells.is_complete());
        self.made.push(Version { cells, since, until: None, origin, is_void: false });
        Ok(())
    }

    fn truncate(&mut self, at: Moment) {
        let made: Vec<usize> = self
            .slots
            .drain()
            .filter_map(|(_, valid)| if let Valid::Made(made) = valid { Some(made) } else { None })
            .collect();
        made.into_iter().for_each(|made| self.end_made(made, at));
        self.ends.rest.get_or_insert(at);
    }

    fn finish(self, blocks: &[ChangeBlock]) -> Result<(WriteSet, Option<ChangeBlock>), ReduceError> {
        let mut added = AddedRows::behind(self.plan, blocks.len());
        let mut rows = Vec::with_capacity(self.made.len());
        for version in self.made.into_iter().filter(|version| !version.is_void) {
            let (since, until) = (version.since.to_string(), version.until.map(|until| until.to_string()));
            let image = added.push(|output| match output {
                Output::Added(Added::Since) => Value::Text(&since),
                Output::Added(Added::Until) => until.as_deref().map_or(Value::Null, Value::Text),
                _ => Value::Null,
            })?;
            let cells = added.beside(Some(&version.cells), image);
            rows.push(NetRow { cells, moved_from: version.origin, must_be_new: true, was_there: false });
        }
        let mut counters = WriteSet::read_of(blocks);
        counters.reduced = self.reduced;
        counters.merged = counters.read.total() - counters.filtered - counters.reduced;
        let ends = Some(self.ends);
        let set = WriteSet { gone: self.gone, rows, keyed: true, ends, counters, ..WriteSet::default() };
        Ok((set, added.finish()?))
    }
}
