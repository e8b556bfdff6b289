//! Batching: which captured changes are applied to the target together, and when.
//!
//! [`Batcher`] is a step function. The driver feeds it segments and asks what to do; the order it must
//! keep is: [`add`](Batcher::add) → [`next`](Batcher::next) → for [`Action::WritePart`] write
//! [`take_part`](Batcher::take_part) into the open target transaction; for [`Action::Commit`] write what
//! [`close`](Batcher::close) gives, then commit. A batch always ends at the end of a
//! source transaction; one larger than the limits is written in parts into one target transaction, so
//! that neither memory nor atomicity depends on its size.

use crate::change::{ChangeBlock, Segment, Transaction};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// When a batch is closed.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Bytes as read from the source, after which the batch is applied.
    pub bytes: usize,
    /// Changes after which the batch is applied.
    pub rows: usize,
    /// Age of its oldest change after which the batch is applied. Zero: as soon as a transaction is whole.
    pub age: Duration,
}

impl Default for Limits {
    /// 4 MiB or 20,000 changes, so that a batch with its reduction stays within tens of MiB; one second.
    fn default() -> Self {
        Self { bytes: 4 << 20, rows: 20_000, age: Duration::from_secs(1) }
    }
}

/// What the driver does next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Wait for more.
    Wait,
    /// Wait for more, but look again at this time.
    WaitUntil(Instant),
    /// Write the blocks into the open target transaction; the source transaction is not whole yet.
    WritePart,
    /// Write the blocks and commit.
    Commit,
}

/// Collects a batch.
pub struct Batcher {
    limits: Limits,
    blocks: Vec<ChangeBlock>,
    bytes: usize,
    rows: usize,
    commits: u64,
    since: Option<Instant>,
    last: Option<Arc<Transaction>>,
    in_transaction: bool,
}

/// The end of a batch.
#[derive(Clone, Debug)]
pub struct BatchEnd {
    /// The last transaction in it.
    pub transaction: Arc<Transaction>,
    /// How many transactions it holds.
    pub commits: u64,
}

impl Batcher {
    /// An empty batch.
    pub fn new(limits: Limits) -> Self {
        Self {
            limits,
            blocks: Vec::new(),
            bytes: 0,
            rows: 0,
            commits: 0,
            since: None,
            last: None,
            in_transaction: false,
        }
    }

    /// Adds a segment that arrived at `now`.
    pub fn add(&mut self, segment: Segment, now: Instant) {
        self.bytes += segment.bytes();
        self.rows += segment.blocks.iter().map(ChangeBlock::len).sum::<usize>();
        self.blocks.extend(segment.blocks);
        self.commits += segment.commits;
        self.in_transaction = segment.in_transaction;
        if segment.last_commit.is_some() {
            self.last = segment.last_commit;
        }
        self.since.get_or_insert(now);
    }

    /// What to do at `now`. With `flush`, a whole batch is closed whatever its age.
    pub fn next(&self, now: Instant, flush: bool) -> Action {
        let full = self.is_full();
        match (self.in_transaction, &self.last, self.since) {
            (true, ..) if full => Action::WritePart,
            (true, ..) | (_, None, _) | (.., None) => Action::Wait,
            (false, Some(_), Some(_)) if full || flush => Action::Commit,
            (false, Some(_), Some(since)) => {
                let due = since + self.limits.age;
                if now >= due { Action::Commit } else { Action::WaitUntil(due) }
            }
        }
    }

    /// Whether the batch has reached its limits. Until then, what is there already may still join it.
    pub fn is_full(&self) -> bool {
        self.bytes >= self.limits.bytes || self.rows >= self.limits.rows
    }

    /// Whether a source transaction has begun of which not all has arrived.
    pub fn in_transaction(&self) -> bool {
        self.in_transaction
    }

    /// Changes that wait here.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Takes the blocks to write; the batch goes on.
    pub fn take_part(&mut self) -> Vec<ChangeBlock> {
        self.bytes = 0;
        self.rows = 0;
        std::mem::take(&mut self.blocks)
    }

    /// Ends the batch: its last blocks, and the transaction it ends with. The next one is empty. None, and
    /// nothing taken, if it cannot end here.
    pub fn close(&mut self) -> Option<(Vec<ChangeBlock>, BatchEnd)> {
        if self.in_transaction {
            return None;
        }
        let transaction = self.last.take()?;
        self.since = None;
        Some((self.take_part(), BatchEnd { transaction, commits: std::mem::take(&mut self.commits) }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::position::Position;

    fn segment(end: Option<u128>, in_transaction: bool) -> Segment {
        let last_commit = end.map(|rank| {
            Arc::new(Transaction {
                position: Position::new(rank, rank.to_string()),
                proof: String::new(),
                committed_at: chrono::DateTime::UNIX_EPOCH,
            })
        });
        Segment { last_commit, in_transaction, ..Segment::default() }
    }

    #[test]
    fn a_batch_closes_by_age_and_only_between_transactions() {
        let limits = Limits { age: Duration::from_secs(1), ..Limits::default() };
        let mut batcher = Batcher::new(limits);
        let start = Instant::now();
        batcher.add(segment(Some(1), true), start);
        assert_eq!(batcher.next(start + Duration::from_secs(5), true), Action::Wait, "inside a transaction");
        batcher.add(segment(Some(2), false), start);
        assert_eq!(batcher.next(start, false), Action::WaitUntil(start + limits.age));
        assert_eq!(batcher.next(start + limits.age, false), Action::Commit);
        assert_eq!(batcher.next(start, true), Action::Commit, "a flush does not wait");
        assert_eq!(batcher.close().unwrap().1.transaction.position.rank(), 2);
        assert_eq!(batcher.next(start, true), Action::Wait, "the next batch is empty");
    }

    #[test]
    fn a_transaction_over_the_limit_is_written_in_parts() {
        let mut batcher = Batcher::new(Limits { bytes: 0, ..Limits::default() });
        let now = Instant::now();
        batcher.add(segment(None, true), now);
        assert_eq!(batcher.next(now, false), Action::WritePart);
        batcher.take_part();
        assert!(batcher.close().is_none(), "nothing whole yet");
        batcher.add(segment(Some(7), false), now);
        assert_eq!(batcher.next(now, false), Action::Commit);
    }
}
