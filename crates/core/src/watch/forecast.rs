//! When what a source keeps for a pipeline reaches its limit.

use super::sample::Sample;
use std::time::Duration;

/// Over how much time a rate has to be known before anything is said from it.
const LEAST: f64 = 60.0;

/// The time until the limit is reached if it goes on as in these samples, oldest first; none if there is no limit, nothing grows,
/// or too little is known.
pub fn full_in(samples: &[Sample]) -> Option<Duration> {
    let mut known =
        samples.iter().filter_map(|s| Some((s.from, s.kept_bytes? as f64, s.limit_bytes? as f64)));
    let first = known.next()?;
    let last = known.next_back()?;
    let seconds = (last.0 - first.0).as_seconds_f64();
    let rate = (last.1 - first.1) / seconds;
    let left = (last.2 - last.1).max(0.0) / rate;
    (seconds >= LEAST && rate > 0.0).then(|| Duration::try_from_secs_f64(left).ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::{DateTime, TimeDelta};
    use rstest::rstest;

    #[rstest]
    #[case::grows(&[(0, 100), (60, 160)], Some(840))]
    #[case::is_over_it(&[(0, 100), (60, 1160)], Some(0))]
    #[case::shrinks(&[(0, 100), (60, 90)], None)]
    #[case::stays(&[(0, 100), (60, 100)], None)]
    #[case::too_short(&[(0, 100), (30, 160)], None)]
    #[case::nothing(&[], None)]
    fn the_time_left_is_by_the_rate(#[case] kept: &[(i64, u64)], #[case] seconds: Option<u64>) {
        let sample = |(at, kept): &(i64, u64)| Sample {
            kept_bytes: Some(*kept),
            limit_bytes: Some(1000),
            ..Sample::begin(DateTime::UNIX_EPOCH + TimeDelta::seconds(*at))
        };
        let samples: Vec<Sample> = kept.iter().map(sample).collect();
        assert_eq!(full_in(&samples).map(|d| d.as_secs()), seconds);
    }
}
