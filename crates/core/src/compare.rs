//! Comparing the rows of two sides, in bounded memory.
//!
//! A table with a key is compared by [`KeyedCompare`]: both sides come in order of the key, as
//! [`crate::canonical::order`] defines it, and are walked along together. A table without one is compared as
//! a multiset by [`Tally`]: rows are counted by a 128-bit hash of their canonical form, a share of all
//! hashes at a time, so that memory does not depend on the table's size.
//!
//! Invariant: a row is reported as missing, extra or different if and only if the two sides differ in it and
//! the caller does not know of a captured change to that very key between its two looks.

mod tally;

use crate::canonical::{order, same, write_key};
use crate::column::{Value, value_at};
use crate::schema::Column;
use arrow::array::RecordBatch;
use serde::Serialize;
use std::cmp::Ordering;
use std::collections::VecDeque;
use std::hash::{BuildHasher, Hasher};

pub use tally::Tally;

/// A value that is not one of its column's type; the column holds null in its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// Row in the batch.
    pub row: usize,
    /// Column.
    pub column: usize,
    /// What is there, in words.
    pub shown: String,
}

/// Rows of one side.
#[derive(Clone, Debug)]
pub struct LookedRows {
    /// The rows.
    pub rows: RecordBatch,
    /// What does not fit, in order of rows.
    pub misfits: Vec<Misfit>,
    /// For each row whether it was in the target before the pipeline; empty if none was.
    pub kept: Vec<bool>,
}

impl LookedRows {
    /// Rows that all fit.
    pub fn fitting(rows: RecordBatch) -> Self {
        Self { rows, misfits: Vec::new(), kept: Vec::new() }
    }

    fn misfit(&self, row: usize, column: usize) -> Option<&Misfit> {
        self.misfits.iter().find(|m| m.row == row && m.column == column)
    }

    fn text(&self, row: usize, column: usize) -> Option<String> {
        match self.misfit(row, column) {
            Some(misfit) => Some(misfit.shown.clone()),
            None => value_text(value_at(self.rows.column(column).as_ref(), row)),
        }
    }
}

/// A value as people read it; `None` for null.
pub fn value_text(value: Value<'_>) -> Option<String> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(b) => b.to_string(),
        Value::Int(i) => i.to_string(),
        Value::Float32(f) => format!("{f:?}"),
        Value::Float64(f) => format!("{f:?}"),
        Value::Text(t) => t.to_string(),
        Value::Bytes(b) => b.iter().fold(String::from("\\x"), |mut out, byte| {
            out.push_str(&format!("{byte:02x}"));
            out
        }),
    })
}

/// One of the two sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Where rows come from.
    Source,
    /// Where they go.
    Target,
}

/// What is wrong with a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum DifferenceKind {
    /// In the source, not in the target.
    Missing,
    /// In the target, not in the source.
    Extra,
    /// On both sides, with other values.
    Different,
}

/// A column in which two rows differ.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ColumnDifference {
    /// Its name in the source.
    pub column: String,
    /// Its value there; none for null.
    pub source: Option<String>,
    /// Its value in the target.
    pub target: Option<String>,
}

/// A row that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// What is wrong.
    pub kind: DifferenceKind,
    /// The key's columns with their values; the whole row where there is no key.
    pub key: Vec<(String, Option<String>)>,
    /// Where the rows differ, if both are there.
    pub columns: Vec<ColumnDifference>,
    /// How many equal rows are too few or too many; 1 where there is a key.
    pub rows: u64,
}

/// Counts of a comparison.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Counts {
    /// Rows in the source.
    pub source_rows: u64,
    /// Rows in the target, without those it had before and kept.
    pub target_rows: u64,
    /// Rows missing in the target.
    pub missing: u64,
    /// Rows that only the target has.
    pub extra: u64,
    /// Rows with other values.
    pub different: u64,
    /// Rows that differ and that a captured change between the two looks is about.
    pub in_flight: u64,
    /// Rows that the target had before the pipeline and keeps.
    pub kept: u64,
}

impl Counts {
    /// Whether nothing is wrong.
    pub fn agree(&self) -> bool {
        self.missing + self.extra + self.different == 0
    }
}

/// One side did not come in order: rows cannot be compared so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the rows of the {side} did not come in order of the key, at ({key})")]
pub struct Disorder {
    /// Which side.
    pub side: &'static str,
    /// The key.
    pub key: String,
}

/// A 128-bit hash of what `write` writes.
pub(crate) fn hash(write: impl Fn(&mut Vec<u8>), scratch: &mut Vec<u8>) -> u128 {
    scratch.clear();
    write(scratch);
    let half = |seed: u64| {
        let mut hasher = std::hash::BuildHasherDefault::<std::hash::DefaultHasher>::new().build_hasher();
        hasher.write_u64(seed);
        hasher.write(scratch);
        u128::from(hasher.finish())
    };
    half(0x6d6f_6f72) << 64 | half(0x6167_6521)
}

/// Gives the hash of a key, or of a whole row, under which both sides and the captured changes meet.
pub struct KeyHasher<'a> {
    columns: &'a [Column],
    key: &'a [usize],
    scratch: Vec<u8>,
}

impl<'a> KeyHasher<'a> {
    /// For these columns of a table.
    pub fn new(columns: &'a [Column], key: &'a [usize]) -> Self {
        Self { columns, key, scratch: Vec::new() }
    }

    /// The hash of the values that `value` gives for each column.
    pub fn hash<'v>(&mut self, value: impl Fn(usize) -> Value<'v>) -> u128 {
        let (columns, key) = (self.columns, self.key);
        hash(|out| key.iter().for_each(|&k| write_key(&columns[k].logical, value(k), out)), &mut self.scratch)
    }
}

struct Cursor {
    side: Side,
    waiting: VecDeque<LookedRows>,
    at: usize,
    ended: bool,
}

impl Cursor {
    fn new(side: Side) -> Self {
        Self { side, waiting: VecDeque::new(), at: 0, ended: false }
    }

    fn current(&self) -> Option<(&LookedRows, usize)> {
        self.waiting.front().map(|rows| (rows, self.at))
    }

    /// The current row's value.
    fn value(&self, column: usize) -> Value<'_> {
        self.current().map_or(Value::Null, |(looked, row)| value_at(looked.rows.column(column).as_ref(), row))
    }

    fn advance(&mut self) {
        self.at += 1;
        while self.waiting.front().is_some_and(|rows| self.at >= rows.rows.num_rows()) {
            self.waiting.pop_front();
            self.at = 0;
        }
    }

    /// Whether more rows must be handed over before anything can be said.
    fn lacks(&self) -> bool {
        self.waiting.is_empty() && !self.ended
    }
}

/// Compares two sides that come in order of the key.
pub struct KeyedCompare<'a> {
    columns: &'a [Column],
    key: &'a [usize],
    hasher: KeyHasher<'a>,
    source: Cursor,
    target: Cursor,
    show: usize,
    /// What was found.
    pub counts: Counts,
    /// The first differences.
    pub differences: Vec<Difference>,
}

impl<'a> KeyedCompare<'a> {
    /// For a table with these columns and key; keeps the first `show` differences.
    pub fn new(columns: &'a [Column], key: &'a [usize], show: usize) -> Self {
        Self {
            columns,
            key,
            hasher: KeyHasher::new(columns, key),
            source: Cursor::new(Side::Source),
            target: Cursor::new(Side::Target),
            show,
            counts: Counts::default(),
            differences: Vec::new(),
        }
    }

    fn cursor(&mut self, side: Side) -> &mut Cursor {
        match side {
            Side::Source => &mut self.source,
            Side::Target => &mut self.target,
        }
    }

    /// The side that must hand over rows, or end, before the walk goes on.
    pub fn wants(&self) -> Option<Side> {
        [&self.source, &self.target].into_iter().find(|c| c.lacks()).map(|c| c.side)
    }

    /// Hands over rows of a side.
    ///
    /// # Errors
    /// If they are not in order.
    pub fn push(&mut self, side: Side, rows: LookedRows) -> Result<(), Disorder> {
        if rows.rows.num_rows() == 0 {
            return Ok(());
        }
        self.check_order(side, &rows)?;
        self.cursor(side).waiting.push_back(rows);
        Ok(())
    }

    fn check_order(&self, side: Side, rows: &LookedRows) -> Result<(), Disorder> {
        let count = rows.rows.num_rows();
        let cursor = if side == Side::Source { &self.source } else { &self.target };
        let compare = |a: (&RecordBatch, usize), b: (&RecordBatch, usize)| {
            self.key
                .iter()
                .map(|&k| {
                    let (left, right) =
                        (value_at(a.0.column(k).as_ref(), a.1), value_at(b.0.column(k).as_ref(), b.1));
                    order(&self.columns[k].logical, left, right)
                })
                .find(|o| *o != Ordering::Equal)
                .unwrap_or(Ordering::Equal)
        };
        let fits = |looked: &LookedRows, row: usize| {
            looked.misfits.iter().all(|m| m.row != row || !self.key.contains(&m.column))
        };
        let mut before = cursor.waiting.back().map(|last| (&last.rows, last.rows.num_rows() - 1));
        for row in (0..count).filter(|row| fits(rows, *row)) {
            if before.is_some_and(|before| compare(before, (&rows.rows, row)) == Ordering::Greater) {
                let side = if side == Side::Source { "source" } else { "target" };
                let key: Vec<String> =
                    self.key.iter().map(|&k| rows.text(row, k).unwrap_or_default()).collect();
                return Err(Disorder { side, key: key.join(", ") });
            }
            before = Some((&rows.rows, row));
        }
        Ok(())
    }

    /// A side has no more rows.
    pub fn end(&mut self, side: Side) {
        self.cursor(side).ended = true;
    }

    /// Walks along as far as both sides allow. `in_flight` says whether a captured change is about the key
    /// with this hash.
    pub fn walk(&mut self, in_flight: &dyn Fn(u128) -> bool) {
        loop {
            if self.key_does_not_fit() {
                self.one_sided(Side::Target, DifferenceKind::Extra, &|_| false);
                continue;
            }
            if self.source.lacks() || self.target.lacks() {
                return;
            }
            let step = match (self.source.current().is_some(), self.target.current().is_some()) {
                (false, false) => return,
                (true, false) => Ordering::Less,
                (false, true) => Ordering::Greater,
                (true, true) => self.key_order(),
            };
            match step {
                Ordering::Less => self.one_sided(Side::Source, DifferenceKind::Missing, in_flight),
                Ordering::Greater => self.one_sided(Side::Target, DifferenceKind::Extra, in_flight),
                Ordering::Equal => self.both(in_flight),
            }
        }
    }

    /// A target row whose key is not of its type can match nothing.
    fn key_does_not_fit(&self) -> bool {
        let Some((looked, row)) = self.target.current() else { return false };
        looked.misfits.iter().any(|m| m.row == row && self.key.contains(&m.column))
    }

    fn key_order(&self) -> Ordering {
        self.key
            .iter()
            .map(|&k| order(&self.columns[k].logical, self.source.value(k), self.target.value(k)))
            .find(|o| *o != Ordering::Equal)
            .unwrap_or(Ordering::Equal)
    }

    fn one_sided(&mut self, side: Side, kind: DifferenceKind, in_flight: &dyn Fn(u128) -> bool) {
        let cursor = if side == Side::Source { &self.source } else { &self.target };
        let kept = cursor.current().is_some_and(|(looked, row)| looked.kept.get(row) == Some(&true));
        if kept {
            self.counts.kept += 1;
        } else {
            match side {
                Side::Source => self.counts.source_rows += 1,
                Side::Target => self.counts.target_rows += 1,
            }
            let hash = self.hasher.hash(|k| cursor.value(k));
            if in_flight(hash) {
                self.counts.in_flight += 1;
            } else {
                match kind {
                    DifferenceKind::Missing => self.counts.missing += 1,
                    _ => self.counts.extra += 1,
                }
                let key = self.key_text(side);
                self.keep(Difference { kind, key, columns: Vec::new(), rows: 1 });
            }
        }
        self.cursor(side).advance();
    }

    fn both(&mut self, in_flight: &dyn Fn(u128) -> bool) {
        self.counts.source_rows += 1;
        self.counts.target_rows += 1;
        let unlike: Vec<usize> = (0..self.columns.len()).filter(|&c| !self.same(c)).collect();
        if !unlike.is_empty() {
            let hash = self.hasher.hash(|k| self.source.value(k));
            if in_flight(hash) {
                self.counts.in_flight += 1;
            } else {
                self.counts.different += 1;
                if self.differences.len() < self.show {
                    let text = |cursor: &Cursor, c: usize| {
                        cursor.current().and_then(|(looked, row)| looked.text(row, c))
                    };
                    let columns = unlike.iter().map(|&c| ColumnDifference {
                        column: self.columns[c].name.clone(),
                        source: text(&self.source, c),
                        target: text(&self.target, c),
                    });
                    let (columns, key) = (columns.collect(), self.key_text(Side::Source));
                    self.keep(Difference { kind: DifferenceKind::Different, key, columns, rows: 1 });
                }
            }
        }
        self.source.advance();
        self.target.advance();
    }

    fn same(&self, column: usize) -> bool {
        let misfits = self.target.current().is_some_and(|(looked, row)| looked.misfit(row, column).is_some());
        !misfits && same(&self.columns[column].logical, self.source.value(column), self.target.value(column))
    }

    fn key_text(&self, side: Side) -> Vec<(String, Option<String>)> {
        let cursor = if side == Side::Source { &self.source } else { &self.target };
        let Some((looked, row)) = cursor.current() else { return Vec::new() };
        self.key.iter().map(|&k| (self.columns[k].name.clone(), looked.text(row, k))).collect()
    }

    fn keep(&mut self, difference: Difference) {
        if self.differences.len() < self.show {
            self.differences.push(difference);
        }
    }
}

#[cfg(test)]
mod tests;
