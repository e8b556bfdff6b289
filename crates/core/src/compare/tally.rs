//! Comparing rows without a key, as multisets.

use crate::compare::difference::{Difference, DifferenceKind, Side};
use crate::compare::hash::{KeyHasher, hash};
use crate::compare::rows::LookedRows;
use crate::model::schema::Column;
use crate::value::column::value_at;
use hashbrown::HashMap;
use std::collections::HashSet;

/// Counts rows without a key, for one share of all hashes.
pub struct Tally<'a> {
    columns: &'a [Column],
    hasher: KeyHasher<'a>,
    share: u64,
    shares: u64,
    /// Keys whose rows are not counted, and what makes them of a row.
    apart: Option<(KeyHasher<'a>, &'a HashSet<u128>)>,
    /// How many were not.
    left_out: u64,
    /// For each hash: rows of the source less rows of the target.
    surplus: HashMap<u128, i64>,
}

impl<'a> Tally<'a> {
    /// For a table with these columns, of which `all` names every one: counts the `share`-th of `shares`.
    pub fn new(columns: &'a [Column], all: &'a [usize], share: u64, shares: u64) -> Self {
        let hasher = KeyHasher::new(columns, all);
        Self {
            columns,
            hasher,
            share,
            shares: shares.max(1),
            apart: None,
            left_out: 0,
            surplus: HashMap::new(),
        }
    }

    /// Does not count rows with these keys: changes to them are on their way.
    #[must_use]
    pub fn leaving_out(mut self, key: &'a [usize], keys: &'a HashSet<u128>) -> Self {
        self.apart = Some((KeyHasher::new(self.columns, key), keys));
        self
    }

    /// How many rows of both sides were not counted for their keys.
    pub fn left_out(&self) -> u64 {
        self.left_out
    }

    fn is_apart(&mut self, looked: &LookedRows, row: usize) -> bool {
        let Some((hasher, keys)) = &mut self.apart else { return false };
        let hash = hasher.hash(|c| value_at(looked.rows.column(c).as_ref(), row));
        keys.contains(&hash)
    }

    /// Counts rows of a side, without those that were there before the pipeline; gives how many there were,
    /// whatever their share.
    pub fn add(&mut self, side: Side, looked: &LookedRows) -> u64 {
        let weight = if side == Side::Source { 1 } else { -1 };
        let mut counted = 0;
        for row in (0..looked.rows.num_rows()).filter(|row| looked.kept.get(*row) != Some(&true)) {
            counted += 1;
            if self.is_apart(looked, row) {
                self.left_out += 1;
                continue;
            }
            let hash = self.row_hash(looked, row);
            self.adjust(hash, weight);
        }
        counted
    }

    fn row_hash(&mut self, looked: &LookedRows, row: usize) -> u128 {
        match looked.misfits.iter().find(|m| m.row == row) {
            // A row with a value that fits nothing is like no row of the source.
            Some(misfit) => {
                let mut scratch = Vec::new();
                hash(|out| out.extend_from_slice(misfit.shown.as_bytes()), &mut scratch)
            }
            None => self.hasher.hash(|c| value_at(looked.rows.column(c).as_ref(), row)),
        }
    }

    /// Counts what a captured change between the two looks did: `weight` as for a row of the source, or its
    /// opposite.
    pub fn adjust(&mut self, hash: u128, weight: i64) {
        if (hash % u128::from(self.shares)) as u64 != self.share {
            return;
        }
        let count = self.surplus.entry(hash).or_insert(0);
        *count += weight;
        if *count == 0 {
            self.surplus.remove(&hash);
        }
    }

    /// Rows that are missing in the target and rows that only it has.
    pub fn found(&self) -> (u64, u64) {
        let sum = |sign: i64| self.surplus.values().map(|n| (n * sign).max(0) as u64).sum();
        (sum(1), sum(-1))
    }

    /// Of rows of a side, those that are among what was found and were not shown yet.
    pub fn show(&mut self, side: Side, looked: &LookedRows, limit: usize, shown: &mut Vec<Difference>) {
        let (sign, kind) = match side {
            Side::Source => (1, DifferenceKind::Missing),
            Side::Target => (-1, DifferenceKind::Extra),
        };
        for row in 0..looked.rows.num_rows() {
            if shown.len() >= limit {
                return;
            }
            if looked.kept.get(row) == Some(&true) || self.is_apart(looked, row) {
                continue;
            }
            let hash = self.row_hash(looked, row);
            if let Some(count) = self.surplus.get(&hash).copied().filter(|n| n * sign > 0) {
                self.surplus.remove(&hash);
                let key = (0..self.columns.len())
                    .map(|c| (self.columns[c].name.clone(), looked.text(row, c)))
                    .collect();
                shown.push(Difference { kind, key, columns: Vec::new(), rows: count.unsigned_abs() });
            }
        }
    }
}
