//! Batching: which captured changes are applied to the target together, and when.
//!
//! [`Batcher`] is a step function. The driver feeds it segments and asks what to do; the order it must
//! keep is: [`add`](Batcher::add) → [`next`](Batcher::next) → for [`Action::WritePart`] write
//! [`take_part`](Batcher::take_part) into the open target transaction; for [`Action::Commit`] write what
//! [`close`](Batcher::close) gives, then commit. A batch always ends at the end of a
//! source transaction; one larger than the limits is written in parts into one target transaction, so
//! that neither memory nor atomicity depends on its size. A batch that was begun before and has to end where it was to
//! end then ([`ending_at`](Batcher::ending_at)) is written in parts too.

use crate::change::block::ChangeBlock;
use crate::change::kind::Transaction;
use crate::change::segment::Segment;
use crate::drift::alter::Alteration;
use crate::drift::held::Release;
use crate::model::position::Position;
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
#[must_use]
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

/// What a batch is made of, in order.
#[derive(Clone, Debug)]
pub enum Collected {
    /// Changes of rows. Blocks of one table stand in the order of their changes.
    Rows(Box<ChangeBlock>),
    /// A table is altered: what stands before is written before, what stands behind is written behind it.
    Alter(Arc<Alteration>),
    /// A table that was held goes on.
    Release(Arc<Release>),
    /// What was kept of a target's table, which is not held any more, is of no use.
    Clear(String),
}

/// Collects a batch.
pub struct Batcher {
    limits: Limits,
    collected: Vec<Collected>,
    bytes: usize,
    rows: usize,
    commits: u64,
    since: Option<Instant>,
    last: Option<Arc<Transaction>>,
    /// The one that the target has come to: what is done to tables without any change of rows ends with it once more.
    done: Option<Arc<Transaction>>,
    in_transaction: bool,
    /// Where the first batch has to end.
    end: Option<Position>,
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
            collected: Vec::new(),
            bytes: 0,
            rows: 0,
            commits: 0,
            since: None,
            last: None,
            done: None,
            in_transaction: false,
            end: None,
        }
    }

    /// The target holds everything up to this transaction.
    #[must_use]
    pub fn behind(mut self, done: Option<Arc<Transaction>>) -> Self {
        self.done = done;
        self
    }

    /// Has the first batch end at this very transaction, whatever the limits are.
    #[must_use]
    pub fn ending_at(mut self, end: Option<Position>) -> Self {
        self.end = end;
        self
    }

    /// Where the first batch has to end.
    pub fn end(&self) -> Option<&Position> {
        self.end.as_ref()
    }

    /// The place behind which the stream has come although the first batch was to end there.
    pub fn missed(&self) -> Option<(&Position, &Position)> {
        let (end, last) = (self.end.as_ref()?, &self.last.as_ref()?.position);
        (last > end).then_some((end, last))
    }

    /// Adds a segment that arrived at `now`.
    pub fn add(&mut self, segment: Segment, now: Instant) {
        self.bytes += segment.bytes();
        self.rows += segment.blocks.iter().map(ChangeBlock::len).sum::<usize>();
        self.collected.extend(segment.blocks.into_iter().map(|block| Collected::Rows(Box::new(block))));
        self.commits += segment.commits;
        self.in_transaction = segment.in_transaction;
        if segment.last_commit.is_some() {
            self.last = segment.last_commit;
        }
        self.since.get_or_insert(now);
    }

    /// Adds what is done to a table in front of all that is added later. It counts as a change, but not as what a
    /// transaction brings: something has to end behind it.
    pub fn put(&mut self, next: Collected, now: Instant) {
        self.rows += 1;
        self.collected.push(next);
        self.since.get_or_insert(now);
    }

    /// What to do at `now`. With `flush`, a whole batch is closed whatever its age.
    pub fn next(&self, now: Instant, flush: bool) -> Action {
        let full = self.is_large();
        if let (Some(end), false) = (&self.end, self.in_transaction) {
            let there = self.last.as_ref().is_some_and(|last| last.position == *end);
            return match (there, full) {
                (true, _) => Action::Commit,
                (false, true) => Action::WritePart,
                (false, false) => Action::Wait,
            };
        }
        match (self.in_transaction, self.last_of_all(), self.since) {
            (true, ..) if full => Action::WritePart,
            (true, ..) | (_, None, _) | (.., None) => Action::Wait,
            (false, Some(_), Some(_)) if full || flush => Action::Commit,
            (false, Some(_), Some(since)) => {
                let due = since + self.limits.age;
                if now >= due { Action::Commit } else { Action::WaitUntil(due) }
            }
        }
    }

    /// The transaction that the batch would end with.
    fn last_of_all(&self) -> Option<&Arc<Transaction>> {
        let is_deed = |c: &Collected| !matches!(c, Collected::Rows(_));
        let again = || {
            self.done
                .as_ref()
                .filter(|_| self.collected.iter().any(is_deed) && self.collected.iter().all(is_deed))
        };
        self.last.as_ref().or_else(again)
    }

    fn next_is_early(&self) -> bool {
        self.end.as_ref().is_some_and(|end| self.last.as_ref().is_none_or(|last| last.position != *end))
    }

    /// Whether nothing more may join the batch: it has reached its limits, or the place where it has to end.
    pub fn is_full(&self) -> bool {
        (self.end.is_some() && !self.in_transaction && !self.next_is_early()) || self.is_large()
    }

    fn is_large(&self) -> bool {
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

    /// Takes what is to be written; the batch goes on.
    pub fn take_part(&mut self) -> Vec<Collected> {
        self.bytes = 0;
        self.rows = 0;
        std::mem::take(&mut self.collected)
    }

    /// Ends the batch: the last of it, and the transaction it ends with. The next one is empty. None, and
    /// nothing taken, if it cannot end here.
    pub fn close(&mut self) -> Option<(Vec<Collected>, BatchEnd)> {
        if self.in_transaction || self.next_is_early() {
            return None;
        }
        self.end = None;
        let transaction = self.last_of_all()?.clone();
        (self.last, self.done) = (None, Some(transaction.clone()));
        self.since = None;
        Some((self.take_part(), BatchEnd { transaction, commits: std::mem::take(&mut self.commits) }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::position::Position;

    fn segment(end: Option<u64>, in_transaction: bool) -> Segment {
        let last_commit = end.map(|rank| {
            Arc::new(Transaction {
                position: Position::new(&[rank], rank.to_string()),
                proof: String::new(),
                committed_at: chrono::DateTime::UNIX_EPOCH,
                found: None,
            })
        });
        Segment { last_commit, in_transaction, ..Segment::default() }
    }

    /// Someone decides, and nothing comes.
    #[test]
    fn what_is_done_to_tables_alone_ends_with_what_was_done_last() {
        let start = Instant::now();
        let mut batcher = Batcher::new(Limits::default()).behind(segment(Some(7), false).last_commit);
        batcher.add(segment(None, false), start);
        assert_eq!(batcher.next(start, true), Action::Wait, "nothing is to be done");
        batcher.put(Collected::Clear("t".into()), start);
        assert_eq!(batcher.next(start, true), Action::Commit);
        let (collected, end) = batcher.close().unwrap();
        assert_eq!((collected.len(), end.transaction.position.first(), end.commits), (1, 7, 0));
        batcher.put(Collected::Clear("t".into()), start);
        batcher.add(segment(Some(8), true), start);
        assert_eq!(batcher.next(start, true), Action::Wait, "not inside a transaction");
        batcher.add(segment(Some(9), false), start);
        assert_eq!(batcher.close().unwrap().1.transaction.position.first(), 9);
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
        assert_eq!(batcher.close().unwrap().1.transaction.position.first(), 2);
        assert_eq!(batcher.next(start, true), Action::Wait, "the next batch is empty");
    }

    #[test]
    fn a_batch_that_was_begun_before_ends_where_it_was_to_end() {
        let limits = Limits { rows: usize::MAX, bytes: 0, age: Duration::ZERO };
        let mut batcher = Batcher::new(limits).ending_at(Some(Position::new(&[3], "3")));
        let now = Instant::now();
        for at in [1, 2] {
            batcher.add(segment(Some(at), false), now);
            assert_eq!(batcher.next(now, true), Action::WritePart, "full, old, and not there yet");
            assert!(batcher.close().is_none());
            batcher.take_part();
        }
        batcher.add(segment(Some(3), true), now);
        assert_ne!(batcher.next(now, true), Action::Commit, "more of it is to come");
        batcher.add(segment(Some(3), false), now);
        assert_eq!(batcher.next(now, false), Action::Commit);
        assert_eq!(batcher.close().unwrap().1.transaction.position.first(), 3);
        batcher.add(segment(Some(4), false), now);
        assert_eq!(batcher.next(now, false), Action::Commit, "the next one is free");

        let mut batcher = Batcher::new(limits).ending_at(Some(Position::new(&[3], "3")));
        batcher.add(segment(Some(4), false), now);
        let (wanted, at) = batcher.missed().expect("it came past");
        assert_eq!((wanted.first(), at.first()), (3, 4));
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
