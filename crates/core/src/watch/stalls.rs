//! How long a reader stood still because there was no room for more, between any two moments.

use chrono::{DateTime, TimeDelta, Utc};
use std::collections::VecDeque;
use std::time::Duration;

/// How many moments are remembered: behind twice as many every other one is forgotten, and what lies between two that are left
/// is taken to be spread evenly.
const REMEMBERED: usize = 1024;

/// The time that a reader has stood still, as it grew.
#[derive(Clone, Debug, Default)]
pub struct Stalls {
    /// Moments, oldest first, with all of the time until then.
    grown: VecDeque<(DateTime<Utc>, TimeDelta)>,
}

impl Stalls {
    /// It stood still from one moment to another, behind all that was told before.
    pub fn add(&mut self, from: DateTime<Utc>, to: DateTime<Utc>) {
        let before = self.grown.back().map_or(TimeDelta::zero(), |last| last.1);
        let from = self.grown.back().map_or(from, |last| from.max(last.0));
        if to <= from {
            return;
        }
        self.grown.push_back((from, before));
        self.grown.push_back((to, before + (to - from)));
        if self.grown.len() >= 2 * REMEMBERED {
            let mut keep = false;
            self.grown.retain(|_| {
                keep = !keep;
                keep
            });
        }
    }

    /// How long it stood still between two moments.
    #[cfg(test)]
    fn between(&self, from: DateTime<Utc>, to: DateTime<Utc>) -> Duration {
        self.waits().between(from, to)
    }

    /// To ask for many.
    pub fn waits(&self) -> Waits<'_> {
        Waits { stalls: self, behind: 0, last: None }
    }
}

/// How long a reader stood still between moments, asked for about one after the other: mostly later ones, and often the same end.
pub struct Waits<'a> {
    stalls: &'a Stalls,
    /// Behind how many moments the last one asked for stood.
    behind: usize,
    last: Option<(DateTime<Utc>, TimeDelta)>,
}

impl Waits<'_> {
    /// How long it stood still between two moments.
    pub fn between(&mut self, from: DateTime<Utc>, to: DateTime<Utc>) -> Duration {
        if self.stalls.grown.is_empty() {
            return Duration::ZERO;
        }
        let until = match self.last {
            Some((at, until)) if at == to => until,
            _ => {
                let mut at = self.stalls.grown.partition_point(|(moment, _)| *moment <= to);
                let until = self.stalls.until(to, &mut at);
                self.last = Some((to, until));
                until
            }
        };
        (until - self.stalls.until(from, &mut self.behind)).to_std().unwrap_or_default()
    }
}

impl Stalls {
    /// How much of it there was until a moment, which is looked for where the last one stood first.
    fn until(&self, at: DateTime<Utc>, behind: &mut usize) -> TimeDelta {
        let is_behind = |place: usize| self.grown.get(place).is_none_or(|(moment, _)| *moment > at);
        let is_there = is_behind(*behind) && behind.checked_sub(1).is_none_or(|before| !is_behind(before));
        if !is_there {
            *behind = self.grown.partition_point(|(moment, _)| *moment <= at);
        }
        let Some(before) = behind.checked_sub(1).and_then(|last| self.grown.get(last)) else {
            return TimeDelta::zero();
        };
        let Some(next) = self.grown.get(*behind) else { return before.1 };
        let (part, whole) = ((at - before.0).as_seconds_f64(), (next.0 - before.0).as_seconds_f64());
        let grown = (next.1 - before.1).as_seconds_f64() * part / whole;
        before.1 + TimeDelta::microseconds((grown * 1e6) as i64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(s: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_000_000 + s, 0).unwrap()
    }

    #[test]
    fn only_what_lies_between_counts() {
        let mut stalls = Stalls::default();
        stalls.add(at(10), at(20));
        stalls.add(at(30), at(40));
        let between = |from, to| stalls.between(at(from), at(to)).as_secs();
        assert_eq!([between(0, 5), between(0, 15), between(0, 50), between(15, 35)], [0, 5, 20, 10]);
        assert_eq!([between(20, 30), between(40, 90), between(50, 40)], [0, 0, 0]);
    }

    #[test]
    fn however_many_there_are_the_sum_stays_right_and_few_are_remembered() {
        let mut stalls = Stalls::default();
        for second in 0..100_000 {
            stalls.add(at(2 * second), at(2 * second + 1));
        }
        assert!(stalls.grown.len() < 2 * REMEMBERED);
        let half = stalls.between(at(50_000), at(150_000)).as_secs_f64();
        assert!((half - 50_000.0).abs() < 200.0, "{half}");
    }
}
