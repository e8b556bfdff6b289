//! What was measured in a stretch of time: of a pipeline, and of each of its tables.

use super::histogram::{Durations, Fineness};
use super::lag::Steps;
use crate::change::counters::Operations;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A transaction that the target holds, and how long it was on its way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AppliedTransaction {
    /// When it was committed, by the source's clock. Where changes are captured by triggers, when its last statement was made.
    pub committed_at: DateTime<Utc>,
    /// Where it was committed.
    pub position: String,
    /// How many changes of carried tables.
    pub changes: u64,
    /// Of which source tables, with how many of each.
    pub tables: Vec<(String, u64)>,
    /// Microseconds from its commit until it was read.
    pub capture_us: u64,
    /// From there until its batch was taken up.
    pub queue_us: u64,
    /// From there until the target had committed it.
    pub apply_us: u64,
}

impl AppliedTransaction {
    /// From its commit until the target held it, in microseconds.
    pub fn lag_us(&self) -> u64 {
        self.capture_us + self.queue_us + self.apply_us
    }
}

/// Lag as it was distributed, whole and by its steps.
#[derive(Clone, Debug, PartialEq)]
pub struct Lags {
    /// The whole.
    pub whole: Durations,
    /// From the source's commit until it was read.
    pub capture: Durations,
    /// Until its batch was taken up.
    pub queue: Durations,
    /// Until the target had committed.
    pub apply: Durations,
}

impl Default for Lags {
    fn default() -> Self {
        let none = || Durations::new(Fineness::Fine);
        Self { whole: none(), capture: none(), queue: none(), apply: none() }
    }
}

impl Lags {
    /// Sees a transaction.
    pub fn record(&mut self, steps: &Steps) {
        self.recording().record(steps);
    }

    /// To see many.
    pub fn recording(&mut self) -> Recording<'_> {
        Recording { lags: self, queue: (Duration::ZERO, 0), apply: (Duration::ZERO, 0) }
    }

    /// Adds what another one saw.
    pub fn add(&mut self, other: &Self) {
        self.whole.add(&other.whole);
        self.capture.add(&other.capture);
        self.queue.add(&other.queue);
        self.apply.add(&other.apply);
    }
}

/// Sees transactions one after the other: those of a batch have some steps in common, which are counted once. All is seen once
/// it is dropped.
pub struct Recording<'a> {
    lags: &'a mut Lags,
    queue: (Duration, u64),
    apply: (Duration, u64),
}

impl Recording<'_> {
    /// Sees a transaction.
    pub fn record(&mut self, steps: &Steps) {
        self.lags.whole.record(steps.whole(), 1);
        self.lags.capture.record(steps.capture, 1);
        for (last, durations, step) in [
            (&mut self.queue, &mut self.lags.queue, steps.queue),
            (&mut self.apply, &mut self.lags.apply, steps.apply),
        ] {
            if last.0 != step {
                durations.record(last.0, last.1);
                *last = (step, 0);
            }
            last.1 += 1;
        }
    }
}

impl Drop for Recording<'_> {
    fn drop(&mut self) {
        self.lags.queue.record(self.queue.0, self.queue.1);
        self.lags.apply.record(self.apply.0, self.apply.1);
    }
}

/// A stretch of a pipeline's time.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    /// When it begins.
    pub from: DateTime<Utc>,
    /// How long it is.
    pub span: Duration,
    /// Changes that were applied.
    pub operations: Operations,
    /// Their bytes as read from the source.
    pub bytes: u64,
    /// Transactions that were applied, as far as the source can tell them apart.
    pub transactions: u64,
    /// Batches that the target committed.
    pub merges: u64,
    /// How long the target was at it.
    pub merging: Duration,
    /// The lag of the transactions.
    pub lags: Lags,
    /// The furthest that the target was behind in this time, whether or not anything was applied; none if that is not known.
    pub behind: Option<Duration>,
    /// What was to be read at the end, in bytes; none where that is not known.
    pub unread_bytes: Option<u64>,
    /// The most that the source kept for the pipeline, in bytes.
    pub kept_bytes: Option<u64>,
    /// The most that it may keep.
    pub limit_bytes: Option<u64>,
    /// The slowest transactions, the slowest first.
    pub slowest: Vec<AppliedTransaction>,
}

/// How many of the slowest transactions of a stretch are kept.
pub const SLOWEST: usize = 3;

impl Sample {
    /// A stretch that begins, in which nothing has happened.
    pub fn begin(from: DateTime<Utc>) -> Self {
        Self {
            from,
            span: Duration::ZERO,
            operations: Operations::default(),
            bytes: 0,
            transactions: 0,
            merges: 0,
            merging: Duration::ZERO,
            lags: Lags::default(),
            behind: None,
            unread_bytes: None,
            kept_bytes: None,
            limit_bytes: None,
            slowest: Vec::new(),
        }
    }

    /// Makes it one with a later one: from the beginning of this to the end of that.
    pub fn add(&mut self, later: &Self) {
        let end = (later.from - self.from).to_std().unwrap_or_default() + later.span;
        self.span = self.span.max(end);
        self.operations += later.operations;
        self.bytes += later.bytes;
        self.transactions += later.transactions;
        self.merges += later.merges;
        self.merging += later.merging;
        self.lags.add(&later.lags);
        self.behind = self.behind.max(later.behind);
        self.unread_bytes = later.unread_bytes.or(self.unread_bytes);
        self.kept_bytes = self.kept_bytes.max(later.kept_bytes);
        self.limit_bytes = later.limit_bytes.or(self.limit_bytes);
        later.slowest.iter().for_each(|slow| self.is_slow(slow.clone()));
    }

    /// Keeps a transaction if it is among the slowest.
    pub fn is_slow(&mut self, transaction: AppliedTransaction) {
        let at = self.slowest.partition_point(|slow| slow.lag_us() >= transaction.lag_us());
        if at < SLOWEST {
            self.slowest.truncate(SLOWEST - 1);
            self.slowest.insert(at, transaction);
        }
    }
}

/// A stretch of a table's time, in which something was applied to it.
#[derive(Clone, Debug, PartialEq)]
pub struct TableSample {
    /// The source table.
    pub table: String,
    /// Changes that were applied.
    pub operations: Operations,
    /// Their bytes as read from the source.
    pub bytes: u64,
    /// The lag of the transactions that changed it.
    pub lag: Durations,
}

impl TableSample {
    /// Of a table, with nothing in it.
    pub fn begin(table: impl Into<String>) -> Self {
        let (operations, lag) = (Operations::default(), Durations::new(Fineness::Coarse));
        Self { table: table.into(), operations, bytes: 0, lag }
    }

    /// Makes it one with another one of the same table.
    pub fn add(&mut self, other: &Self) {
        self.operations += other.operations;
        self.bytes += other.bytes;
        self.lag.add(&other.lag);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_slowest_stay_in_order() {
        let slow = |us: u64| AppliedTransaction {
            committed_at: DateTime::UNIX_EPOCH,
            position: us.to_string(),
            changes: 1,
            tables: Vec::new(),
            capture_us: us,
            queue_us: 0,
            apply_us: 0,
        };
        let mut sample = Sample::begin(DateTime::UNIX_EPOCH);
        [5, 1, 9, 7, 7, 2].into_iter().for_each(|us| sample.is_slow(slow(us)));
        let kept: Vec<u64> = sample.slowest.iter().map(AppliedTransaction::lag_us).collect();
        assert_eq!(kept, [9, 7, 7]);
    }
}
