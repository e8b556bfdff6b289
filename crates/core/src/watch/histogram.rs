//! Distributions of durations: exact counts in ranges whose width grows with the value (HDR histograms).

use hdrhistogram::Histogram;
use std::time::Duration;

/// How finely values are told apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fineness {
    /// Within 0.8 %: for a pipeline.
    Fine,
    /// Within 3.2 %, at an eighth of the size: for each of many tables.
    Coarse,
}

impl Fineness {
    /// Significant decimal digits, as HDR histograms count them.
    fn digits(self) -> u8 {
        match self {
            Self::Fine => 2,
            Self::Coarse => 1,
        }
    }
}

/// The longest duration that is told from longer ones: ten years, in microseconds.
const LONGEST_US: u64 = 10 * 366 * 24 * 3600 * 1_000_000;

/// How many places there are ([`place`]) for what 64 bits hold.
const PLACES: usize = 61 * 16;
/// The most that is believed of what was written: far more than a year of transactions, and few enough to be added up.
const MOST_TIMES: u64 = 1 << 36;

/// How often which durations were seen. Microseconds and above; 0 counts as 1 µs.
#[derive(Clone, Debug, PartialEq)]
pub struct Durations(Histogram<u64>);

impl Durations {
    /// None seen yet.
    pub fn new(fineness: Fineness) -> Self {
        #[expect(clippy::expect_used, reason = "at most 5 digits are allowed, and these are 1 and 2")]
        let mut counts = Histogram::new(fineness.digits()).expect("a fineness that there is");
        counts.auto(true);
        Self(counts)
    }

    /// Sees a duration `times` times.
    pub fn record(&mut self, duration: Duration, times: u64) {
        if times == 0 {
            return;
        }
        let us = u64::try_from(duration.as_micros()).unwrap_or(u64::MAX).clamp(1, LONGEST_US);
        // With resizing on, only a value beyond what 64 bits hold is refused.
        let _ = self.0.record_n(us, times);
    }

    /// Adds what another one saw.
    pub fn add(&mut self, other: &Self) {
        // As above.
        let _ = self.0.add(&other.0);
    }

    /// How many were seen.
    pub fn count(&self) -> u64 {
        self.0.len()
    }

    /// Whether none was.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The duration that this share of all (0 to 1) does not exceed; none if none was seen.
    pub fn quantile(&self, share: f64) -> Option<Duration> {
        let highest = (!self.is_empty()).then(|| self.0.value_at_quantile(share))?;
        Some(Duration::from_micros(self.0.median_equivalent(highest)))
    }

    /// The longest; none if none was seen.
    pub fn longest(&self) -> Option<Duration> {
        self.quantile(1.0)
    }

    /// How many were not longer than each of these, and the sum of all, as near as they are told apart.
    pub fn up_to(&self, bounds: &[Duration]) -> (Vec<u64>, Duration) {
        let mut counts = vec![0; bounds.len()];
        let mut sum = 0.0;
        for seen in self.0.iter_recorded() {
            let (us, times) = (self.0.median_equivalent(seen.value_iterated_to()), seen.count_at_value());
            sum += us as f64 * times as f64;
            let of = bounds.iter().zip(&mut counts).filter(|(bound, _)| bound.as_micros() >= u128::from(us));
            of.for_each(|(_, count)| *count += times);
        }
        (counts, Duration::try_from_secs_f64(sum / 1e6).unwrap_or(Duration::MAX))
    }

    /// What was seen, in few bytes: pairs of numbers in base 128 (LEB128), how many places further than the one before,
    /// and how often. Within 3.2 %, however fine it was.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut counts: Vec<(u64, u64)> = Vec::new();
        for seen in self.0.iter_recorded() {
            let place = place(self.0.median_equivalent(seen.value_iterated_to()));
            match counts.last_mut().filter(|last| last.0 == place) {
                Some(last) => last.1 += seen.count_at_value(),
                None => counts.push((place, seen.count_at_value())),
            }
        }
        let (mut bytes, mut before) = (Vec::with_capacity(2 * counts.len()), 0);
        for (place, count) in counts {
            push_number(&mut bytes, place - before);
            push_number(&mut bytes, count);
            before = place;
        }
        bytes
    }

    /// Reads what [`to_bytes`](Self::to_bytes) wrote; what cannot be read is left out.
    pub fn from_bytes(fineness: Fineness, mut bytes: &[u8]) -> Self {
        let (mut read, mut at) = (Self::new(fineness), 0_u64);
        for _ in 0..PLACES {
            let Some((step, count)) = take_number(&mut bytes).zip(take_number(&mut bytes)) else { break };
            at = at.saturating_add(step);
            read.record(Duration::from_micros(middle(at)), count.min(MOST_TIMES));
        }
        read
    }
}

/// Where a value stands among places of which there are sixteen between a number and its double; below 32 each has its own.
fn place(value: u64) -> u64 {
    let octave = u64::from(value.max(16).ilog2()) - 4;
    octave * 16 + (value >> octave)
}

/// The value in the middle of a place.
fn middle(place: u64) -> u64 {
    let octave = (place / 16).saturating_sub(1).min(59);
    let first = (place - octave * 16).min(31) << octave;
    first + (1 << octave) / 2
}

fn push_number(bytes: &mut Vec<u8>, mut number: u64) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

fn take_number(bytes: &mut &[u8]) -> Option<u64> {
    let mut number = 0_u64;
    for shift in (0..64).step_by(7) {
        let (&byte, rest) = bytes.split_first()?;
        *bytes = rest;
        number |= u64::from(byte & 0x7f) << shift;
        if byte < 0x80 {
            return Some(number);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_up_to_a_bound_add_up() {
        let mut seen = Durations::new(Fineness::Fine);
        [(5, 2), (90, 1), (5000, 3)]
            .into_iter()
            .for_each(|(ms, times)| seen.record(Duration::from_millis(ms), times));
        let bounds = [1, 10, 100, 1000, 10_000].map(Duration::from_millis);
        let (counts, sum) = seen.up_to(&bounds);
        assert_eq!(counts, [0, 2, 3, 3, 6]);
        assert!((sum.as_secs_f64() / 15.1 - 1.0).abs() < 0.008, "{sum:?}");
    }
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_written_is_read(us in prop::collection::vec(1_u64..1 << 50, 0..200), coarse: bool) {
            let fineness = if coarse { Fineness::Coarse } else { Fineness::Fine };
            let mut seen = Durations::new(fineness);
            us.iter().for_each(|&us| seen.record(Duration::from_micros(us >> (us % 50)), 1 + us % 300));
            let read = Durations::from_bytes(fineness, &seen.to_bytes());
            prop_assert_eq!(seen.count(), read.count());
            prop_assert_eq!(read.to_bytes(), seen.to_bytes(), "written again it is the same");
            for share in [0.0, 0.1, 0.5, 0.9, 0.99, 1.0] {
                let us = |of: &Durations| of.quantile(share).map_or(0.0, |d| d.as_micros() as f64);
                let (seen, read) = (us(&seen), us(&read));
                prop_assert!((seen - read).abs() <= seen * 0.04 + 0.5, "{read} for {seen}");
            }
        }

        #[test]
        fn any_numbers_can_be_read_and_added_up(numbers in prop::collection::vec(any::<u64>(), 0..3000)) {
            let mut bytes = Vec::new();
            numbers.iter().for_each(|number| push_number(&mut bytes, *number));
            let mut all = Durations::new(Fineness::Fine);
            for _ in 0..5 {
                all.add(&Durations::from_bytes(Fineness::Fine, &bytes));
            }
            let _ = (all.longest(), all.to_bytes());
        }

        #[test]
        fn any_bytes_can_be_read(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = Durations::from_bytes(Fineness::Coarse, &bytes).longest();
        }

        #[test]
        fn quantiles_are_as_near_as_said(us in prop::collection::vec(1_u64..100_000_000, 1..300), coarse: bool) {
            let (fineness, most) = if coarse { (Fineness::Coarse, 0.032) } else { (Fineness::Fine, 0.008) };
            let mut seen = Durations::new(fineness);
            us.iter().for_each(|&us| seen.record(Duration::from_micros(us), 1));
            let mut exact = us.clone();
            exact.sort_unstable();
            for share in [0.0, 0.25, 0.5, 0.99, 1.0] {
                let at = ((share * exact.len() as f64).ceil() as usize).max(1) - 1;
                let (exact, told) = (exact[at] as f64, seen.quantile(share).unwrap().as_micros() as f64);
                prop_assert!((told - exact).abs() <= exact * most + 0.5, "{told} for {exact}");
            }
        }
    }
}
