//! Transactions between source and target: when each was committed, read, taken up and applied.
//!
//! A backlog brings a hundred thousand of them a second, each in blocks of several tables: so nothing is made for one but its
//! place, and what is known of tables stands with the tables.

use super::lag::{ClockSkew, Steps};
use super::stalls::Waits;
use crate::change::block::ChangeBlock;
use crate::change::kind::Transaction;
use chrono::{DateTime, Utc};
use hashbrown::{DefaultHashBuilder, HashTable};
use std::collections::HashMap;
use std::hash::BuildHasher;
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
}

impl Read {
    /// How long each step took it.
    pub(super) fn steps(
        &self,
        skew: ClockSkew,
        waits: &mut Waits<'_>,
        taken_at: DateTime<Utc>,
        now: DateTime<Utc>,
    ) -> Steps {
        let committed_at = skew.by_our_clock(self.committed_at);
        let committed_at =
            self.not_before.map_or(committed_at, |bound| committed_at.max(bound)).min(self.read_at);
        let waited = waits.between(committed_at, self.read_at);
        let between = |from: DateTime<Utc>, to: DateTime<Utc>| (to - from).to_std().unwrap_or_default();
        Steps {
            capture: between(committed_at, self.read_at).saturating_sub(waited),
            queue: between(self.read_at, taken_at) + waited,
            apply: between(taken_at, now),
        }
    }
}

/// What was read of a table.
#[derive(Clone, Debug, Default)]
pub(super) struct OfTable {
    pub(super) changes: u64,
    pub(super) bytes: u64,
    /// How many changes of which transaction, by its place among those that were read; one may stand there twice.
    pub(super) by: Vec<(usize, u64)>,
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
    places: Places,
    /// The first transaction of the stretch that is being read.
    stretch: usize,
}

impl Flight {
    pub(super) fn is_empty(&self) -> bool {
        self.read.is_empty() && self.tables.is_empty() && self.held.is_empty()
    }

    /// Changes that were read at a time and will be merged.
    pub(super) fn add(&mut self, table: usize, block: &ChangeBlock, read_at: DateTime<Utc>) {
        let Self { read, tables, places, stretch, .. } = self;
        let of_table = tables.entry(table).or_default();
        of_table.changes += block.len() as u64;
        of_table.bytes += block.came_bytes() as u64;
        for (transaction, changes) in block.by_transaction() {
            let at = places.of(read, *stretch, transaction, read_at);
            places.next = at + 1;
            let known = &mut read[at];
            known.read_at = read_at;
            if !Arc::ptr_eq(&known.transaction, transaction) {
                known.committed_at = known.committed_at.max(transaction.committed_at);
            }
            match of_table.by.last_mut() {
                Some((last, known)) if *last == at => *known += changes,
                _ => of_table.by.push((at, changes)),
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

    /// Of some transactions, by their places in ascending order, how many changes of which tables.
    pub(super) fn tables_of(&self, places: &[usize]) -> Vec<Vec<(usize, u64)>> {
        let mut found = vec![Vec::<(usize, u64)>::new(); places.len()];
        for (table, of_table) in &self.tables {
            for (at, changes) in &of_table.by {
                let Ok(which) = places.binary_search(at) else { continue };
                match found[which].iter_mut().find(|(known, _)| known == table) {
                    Some((_, known)) => *known += changes,
                    None => found[which].push((*table, *changes)),
                }
            }
        }
        found.iter_mut().for_each(|tables| tables.sort_unstable());
        found
    }
}

/// Where a transaction stands among those that were read.
#[derive(Debug, Default)]
struct Places {
    /// By the address of what stands for it, which is the same in the blocks of all tables of a stretch.
    by_address: HashTable<usize>,
    by_proof: HashTable<usize>,
    hasher: DefaultHashBuilder,
    /// Behind the last one that was asked for. Mostly it is the next, for tables are changed together.
    next: usize,
}

impl Places {
    /// Sources that cannot tell one transaction from the other give them no proof: then all of a stretch is one.
    fn of(
        &mut self,
        read: &mut Vec<Read>,
        stretch: usize,
        transaction: &Arc<Transaction>,
        read_at: DateTime<Utc>,
    ) -> usize {
        let (at, committed_at) = (read.len(), transaction.committed_at);
        let new = || Read { transaction: transaction.clone(), committed_at, not_before: None, read_at };
        if transaction.proof.is_empty() {
            if stretch == at {
                read.push(new());
            }
            return stretch;
        }
        if read.get(self.next).is_some_and(|next| Arc::ptr_eq(&next.transaction, transaction)) {
            return self.next;
        }
        let hasher = &self.hasher;
        let by_address = hasher.hash_one(Arc::as_ptr(transaction));
        let is_it = |at: &usize| Arc::ptr_eq(&read[*at].transaction, transaction);
        if let Some(known) = self.by_address.find(by_address, is_it) {
            return *known;
        }
        let by_proof = hasher.hash_one(&transaction.proof);
        let is_it = |at: &usize| read[*at].transaction.proof == transaction.proof;
        if let Some(known) = self.by_proof.find(by_proof, is_it) {
            return *known;
        }
        // As long as it stands there its address is nobody else's.
        read.push(new());
        self.by_address
            .insert_unique(by_address, at, |at| hasher.hash_one(Arc::as_ptr(&read[*at].transaction)));
        self.by_proof.insert_unique(by_proof, at, |at| hasher.hash_one(&read[*at].transaction.proof));
        at
    }
}
