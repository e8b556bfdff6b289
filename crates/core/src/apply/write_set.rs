//! What a batch does to a table, as data: adapters carry it out, in the order in which it is handed to them.
//!
//! A target walks over [`WriteSet::steps`]; one that has to know all that goes before anything comes, because tables
//! refer to each other, walks over the [removals](WriteSet::removals) of all tables and then over their
//! [writes](WriteSet::writes).

use crate::apply::net::{Cells, GoneRow, NetRow};
use crate::change::block::ChangeBlock;
use crate::change::counters::TableCounters;
use crate::value::moment::Moment;

/// What a batch comes down to for one table.
#[derive(Clone, Debug, Default)]
pub struct WriteSet {
    /// Remove all rows first.
    pub empty: bool,
    /// Rows that must not exist afterwards. With a key only the key's columns count; without one, each
    /// entry removes one row that is equal in all columns.
    pub gone: Vec<GoneRow>,
    /// Rows to write. Without a key each is one more row.
    pub rows: Vec<NetRow>,
    /// Whether rows have a key.
    pub keyed: bool,
    /// When all rows that are there were deleted, where deleted ones are marked; none if they were not.
    pub marks: Option<Moment>,
    /// Of a table of versions: until when those that end were valid. Such a table is never emptied; each of `rows` is a
    /// version more, and `gone` are those that were valid still.
    pub ends: Option<Ends>,
    /// What was read and what became of it.
    pub counters: TableCounters,
}

/// When versions end that are valid still in the target.
#[derive(Clone, Debug, Default)]
pub struct Ends {
    /// For each of [`WriteSet::gone`] until when it was valid, that moment not among it.
    pub at: Vec<Moment>,
    /// Until when all others were; none if they still are.
    pub rest: Option<Moment>,
    /// Whether a version in the target may have begun at the very moment at which it ends, as an earlier part of the same
    /// transaction made it: it is taken away then, as none of it was ever to be seen.
    pub goes_on: bool,
}

/// One step of carrying out a [`WriteSet`]. Rows are named by their place in [`WriteSet::rows`].
#[derive(Clone, Debug)]
pub enum Write<'a> {
    /// Remove all rows.
    Empty,
    /// Remove the rows with these keys.
    Remove(&'a [GoneRow]),
    /// For each of these remove one row that is equal in all columns.
    RemoveEqual(&'a [GoneRow]),
    /// Of the versions with these keys that are valid still: they are until the moment with the same place.
    End(&'a [GoneRow], &'a [Moment]),
    /// All versions that are valid still are until this moment.
    EndRest(Moment),
    /// All rows that are not marked as deleted are marked so, at this moment.
    Mark(Moment),
    /// Add rows.
    Append(Vec<usize>),
    /// Write whole rows, over those with their keys. What such a row lacks was [borrowed](WriteSet::borrowed) before.
    Put(Vec<usize>),
    /// Write the columns that there are of rows that are there.
    Patch(Vec<usize>),
}

impl WriteSet {
    /// What was read, of the changes of one table.
    pub(super) fn read_of(blocks: &[ChangeBlock]) -> TableCounters {
        let mut counters = TableCounters::default();
        for block in blocks {
            let read = block.read();
            counters.read += read;
            counters.filtered += read.total() - block.len() as u64;
        }
        counters
    }

    /// Whether a row is written whole: with its own values alone, or with some that it had under another key.
    fn is_whole(row: &NetRow) -> bool {
        row.cells.is_complete() || row.moved_from.is_some()
    }

    /// Rows that move to another key and lack columns, with the key that they have in the target before the batch: these
    /// columns' values are to be read before the first step, which may remove them.
    pub fn borrowed(&self) -> impl Iterator<Item = (usize, &Cells)> {
        self.rows.iter().enumerate().filter_map(|(at, row)| Some((at, row.moved_from.as_ref()?)))
    }

    /// The steps that take rows away.
    pub fn removals(&self) -> impl Iterator<Item = Write<'_>> {
        let gone = self.gone.as_slice();
        let remove = match &self.ends {
            Some(ends) => Write::End(gone, &ends.at),
            None if self.keyed => Write::Remove(gone),
            None => Write::RemoveEqual(gone),
        };
        let rest = self.ends.as_ref().and_then(|ends| ends.rest).map(Write::EndRest);
        let remove = (!gone.is_empty()).then_some(remove);
        let rest = rest.or(self.marks.map(Write::Mark));
        self.empty.then_some(Write::Empty).into_iter().chain(remove).chain(rest)
    }

    /// The steps that write rows. No two of them touch the same row.
    pub fn writes(&self) -> impl Iterator<Item = Write<'_>> {
        let all = 0..self.rows.len();
        let steps = if self.keyed && self.ends.is_none() {
            let (put, patch) = all.partition(|&at| Self::is_whole(&self.rows[at]));
            vec![(Write::Put as fn(Vec<usize>) -> Write<'static>, put), (Write::Patch, patch)]
        } else {
            vec![(Write::Append as fn(Vec<usize>) -> Write<'static>, all.collect())]
        };
        steps
            .into_iter()
            .filter(|(_, rows): &(_, Vec<usize>)| !rows.is_empty())
            .map(|(step, rows)| step(rows))
    }

    /// All steps, in the order in which they are carried out.
    pub fn steps(&self) -> impl Iterator<Item = Write<'_>> {
        self.removals().chain(self.writes())
    }
}
