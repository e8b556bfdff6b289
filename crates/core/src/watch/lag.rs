//! Lag: the time from a source commit until the target holds it.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// The difference between two clocks, from one question and answer.
///
/// The source's time is taken to be from the middle of the round trip, as in RFC 5905, section 8.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct ClockSkew {
    /// Source clock minus ours, in microseconds.
    pub source_ahead_us: i64,
}

impl ClockSkew {
    /// From when the question was sent, what the source answered, and when the answer came.
    pub fn measure(asked: DateTime<Utc>, source: DateTime<Utc>, answered: DateTime<Utc>) -> Self {
        let middle = asked + (answered - asked) / 2;
        Self { source_ahead_us: (source - middle).num_microseconds().unwrap_or(0) }
    }

    /// A time of the source's clock by ours.
    pub fn by_our_clock(&self, at: DateTime<Utc>) -> DateTime<Utc> {
        at.checked_sub_signed(TimeDelta::microseconds(self.source_ahead_us)).unwrap_or(at)
    }

    /// A time of our clock by the source's.
    pub fn by_source_clock(&self, at: DateTime<Utc>) -> DateTime<Utc> {
        at.checked_add_signed(TimeDelta::microseconds(self.source_ahead_us)).unwrap_or(at)
    }

    /// Time from a source commit until `now` by our clock; never negative.
    pub fn lag(&self, committed_at: DateTime<Utc>, now: DateTime<Utc>) -> Duration {
        (now - self.by_our_clock(committed_at)).to_std().unwrap_or_default()
    }
}

/// What lag is made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Steps {
    /// From the source's commit until it was read, without the time in which the reader had no room for it.
    pub capture: Duration,
    /// Until its batch was taken up.
    pub queue: Duration,
    /// Until the target had committed.
    pub apply: Duration,
}

impl Steps {
    /// The whole lag.
    pub fn whole(&self) -> Duration {
        self.capture + self.queue + self.apply
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lag_is_by_one_clock_and_never_negative() {
        let at = |ms: i64| DateTime::from_timestamp_millis(1_000_000 + ms).unwrap();
        let skew = ClockSkew::measure(at(0), at(5_050), at(100));
        assert_eq!(skew.source_ahead_us, 5_000_000);
        assert_eq!(skew.lag(at(5_000), at(300)), Duration::from_millis(300));
        assert_eq!(skew.lag(at(9_000), at(300)), Duration::ZERO);
    }
}
