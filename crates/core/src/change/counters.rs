//! Counting changes so that the sums can be checked: what was read is what was merged, reduced away
//! or rejected.

use crate::change::kind::ChangeKind;
use serde::{Deserialize, Serialize};
use std::ops::AddAssign;

/// Counts of changes by kind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Operations {
    /// Inserted rows.
    pub inserts: u64,
    /// Updated rows.
    pub updates: u64,
    /// Deleted rows.
    pub deletes: u64,
    /// Emptied tables.
    pub truncates: u64,
}

impl Operations {
    /// Counts one change.
    pub fn count(&mut self, kind: ChangeKind) {
        match kind {
            ChangeKind::Insert => self.inserts += 1,
            ChangeKind::Update => self.updates += 1,
            ChangeKind::Delete => self.deletes += 1,
            ChangeKind::Truncate => self.truncates += 1,
        }
    }

    /// All kinds together.
    pub fn total(&self) -> u64 {
        self.inserts + self.updates + self.deletes + self.truncates
    }
}

impl AddAssign for Operations {
    fn add_assign(&mut self, other: Self) {
        self.inserts += other.inserts;
        self.updates += other.updates;
        self.deletes += other.deletes;
        self.truncates += other.truncates;
    }
}

/// Changes that met a row in another state than they assume, and were applied all the same.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Adjusted {
    /// Updates of missing rows, which became inserts.
    pub updates_of_missing: u64,
    /// Inserts of present rows, which became updates.
    pub inserts_of_present: u64,
    /// Deletes of missing rows, which became nothing.
    pub deletes_of_missing: u64,
}

impl Adjusted {
    /// All together.
    pub fn total(&self) -> u64 {
        self.updates_of_missing + self.inserts_of_present + self.deletes_of_missing
    }
}

impl AddAssign for Adjusted {
    fn add_assign(&mut self, other: Self) {
        self.updates_of_missing += other.updates_of_missing;
        self.inserts_of_present += other.inserts_of_present;
        self.deletes_of_missing += other.deletes_of_missing;
    }
}

/// What became of the changes that were read for a table.
/// `read.total() == merged + reduced + filtered + rejected + dropped`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableCounters {
    /// Changes read from the stream, by kind.
    pub read: Operations,
    /// Changes that decided what a row of the target looks like now.
    pub merged: u64,
    /// Changes that a later change of the same row in the same batch made unnecessary.
    pub reduced: u64,
    /// Changes of rows that a filter keeps away.
    #[serde(default)]
    pub filtered: u64,
    /// Changes that the target refused and that wait for a decision.
    #[serde(default)]
    pub rejected: u64,
    /// Changes that were set aside and then given up.
    #[serde(default)]
    pub dropped: u64,
    /// Among the merged ones.
    #[serde(default)]
    pub adjusted: Adjusted,
}

impl AddAssign for TableCounters {
    fn add_assign(&mut self, other: Self) {
        self.read += other.read;
        self.merged += other.merged;
        self.reduced += other.reduced;
        self.filtered += other.filtered;
        self.rejected += other.rejected;
        self.dropped += other.dropped;
        self.adjusted += other.adjusted;
    }
}
