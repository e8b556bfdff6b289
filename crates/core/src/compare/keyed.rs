//! Two sides that come in order of the key, walked along together.

use crate::compare::difference::{ColumnDifference, Counts, Difference, DifferenceKind, Side};
use crate::compare::hash::KeyHasher;
use crate::compare::rows::LookedRows;
use crate::model::schema::Column;
use crate::value::canonical::{order, same};
use crate::value::column::{Value, value_at};
use arrow::array::RecordBatch;
use std::cmp::Ordering;
use std::collections::VecDeque;

/// One side did not come in order: rows cannot be compared so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the rows of the {side} did not come in order of the key, at ({key})")]
pub struct Disorder {
    /// Which side.
    pub side: &'static str,
    /// The key.
    pub key: String,
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
    /// Whether the target may have rows that the source has no more.
    keeps_deleted: bool,
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
            keeps_deleted: false,
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

    /// For a target that keeps rows which were deleted in the source.
    #[must_use]
    pub fn keeping_deleted(self, keeps_deleted: bool) -> Self {
        Self { keeps_deleted, ..self }
    }

    fn one_sided(&mut self, side: Side, kind: DifferenceKind, in_flight: &dyn Fn(u128) -> bool) {
        let cursor = if side == Side::Source { &self.source } else { &self.target };
        let kept = cursor.current().is_some_and(|(looked, row)| looked.kept.get(row) == Some(&true));
        let kept = kept || (side == Side::Target && self.keeps_deleted);
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
