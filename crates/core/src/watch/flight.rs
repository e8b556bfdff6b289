//! Transactions between source and target: when each was committed, read, taken up and applied.

use super::lag::{ClockSkew, Steps};
use super::stalls::Stalls;
use crate::change::block::ChangeBlock;
use crate::change::kind::Transaction;
use chrono::{DateTime, Utc};
use hashbrown::HashTable;
use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;

/// A transaction that was read.
#[derive(Clone, Debug)]
pub(super) struct Read {
    pub(super) transaction: Arc<Transaction>,
    /// By the source's clock.
    pub(super) committed_at: DateTime<Utc>,
    /// By our clock: it cannot have been committed earlier.
    pub(super) not_before: Option<DateTime<Utc>>,
    pub(super) read_at: DateTime<Utc>,
    /// How many changes of which tables.
    pub(super) tables: Vec<(usize, u64)>,
}

impl Read {
    pub(super) fn changes(&self) -> u64 {
        self.tables.iter().map(|(_, changes)| changes).sum()
    }

    /// How long each step took it.
    pub(super) fn steps(
        &self,
        skew: ClockSkew,
        stalls: &Stalls,
        taken_at: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Steps {
        let committed_at = skew.by_our_clock(self.committed_at);
        let committed_at =
            self.not_before.map_or(committed_at, |bound| committed_at.max(bound)).min(self.read_at);
        let waited = stalls.between(committed_at, self.read_at);
        let between = |from: DateTime<Utc>, to: DateTime<Utc>| (to - from).to_std().unwrap_or_default();
        Steps {
            capture: between(committed_at, self.read_at).saturating_sub(waited),
            queue: between(self.read_at, taken_at) + waited,
            apply: between(taken_at, now),
        }
    }
}

/// What was read of a table.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct OfTable {
    pub(super) changes: u64,
    pub(super) bytes: u64,
}

/// The transactions of a batch.
#[derive(Debug, Default)]
pub(super) struct Flight {
    pub(super) read: Vec<Read>,
    pub(super) tables: HashMap<usize, OfTable>,
    /// Kept beside their tables' rows and not merged: the tables, with the commit of the first change.
    pub(super) held: HashMap<usize, DateTime<Utc>>,
    /// Everything that was committed before is in this batch or an earlier one; by our clock.
    pub(super) seen_at: Option<DateTime<Utc>>,
    by_proof: HashTable<usize>,
    hasher: RandomState,
    /// The first transaction of the stretch that is being read.
    stretch: usize,
}

impl Flight {
    pub(super) fn is_empty(&self) -> bool {
        self.read.is_empty() && self.tables.is_empty() && self.held.is_empty()
    }

    /// Changes that were read at a time and will be merged.
    pub(super) fn add(&mut self, table: usize, block: &ChangeBlock, read_at: DateTime<Utc>) {
        let of_table = self.tables.entry(table).or_default();
        of_table.changes += block.len() as u64;
        of_table.bytes += block.came_bytes() as u64;
        for (transaction, changes) in block.by_transaction() {
            let at = self.of(transaction, read_at);
            let read = &mut self.read[at];
            (read.read_at, read.committed_at) = (read_at, read.committed_at.max(transaction.committed_at));
            match read.tables.iter_mut().find(|(known, _)| *known == table) {
                Some((_, known)) => *known += changes,
                None => read.tables.push((table, changes)),
            }
        }
    }

    /// Changes that are only kept.
    pub(super) fn hold(&mut self, table: usize, block: &ChangeBlock) {
        let first = block.by_transaction().map(|(transaction, _)| transaction.committed_at).min();
        if let Some(first) = first {
            let known = self.held.entry(table).or_insert(first);
            *known = first.min(*known);
        }
    }

    /// The stretch of the stream ends here; none of it was there at a time, by our clock.
    pub(super) fn stretch_ends(&mut self, unseen_at: Option<DateTime<Utc>>) {
        if let Some(unseen_at) = unseen_at {
            self.read[self.stretch..].iter_mut().for_each(|read| read.not_before = Some(unseen_at));
        }
        self.stretch = self.read.len();
    }

    /// The place of a transaction. Sources that cannot tell one from the other give them no proof: then all of a stretch is one.
    fn of(&mut self, transaction: &Arc<Transaction>, read_at: DateTime<Utc>) -> usize {
        let new = Read {
            transaction: transaction.clone(),
            committed_at: transaction.committed_at,
            not_before: None,
            read_at,
            tables: Vec::with_capacity(1),
        };
        if transaction.proof.is_empty() {
            if self.stretch == self.read.len() {
                self.read.push(new);
            }
            return self.stretch;
        }
        let (read, hasher) = (&mut self.read, &self.hasher);
        let hash = hasher.hash_one(&transaction.proof);
        let is_it = |at: &usize| read[*at].transaction.proof == transaction.proof;
        if let Some(known) = self.by_proof.find(hash, is_it) {
            return *known;
        }
        let at = read.len();
        read.push(new);
        self.by_proof.insert_unique(hash, at, |at| hasher.hash_one(&read[*at].transaction.proof));
        at
    }
}
