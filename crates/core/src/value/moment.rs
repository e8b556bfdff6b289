//! A moment as targets keep it: in microseconds.

use crate::model::types::LogicalType;
use crate::value::canonical::normal_text;
use chrono::{DateTime, Datelike, Timelike, Utc};
use serde::{Deserialize, Serialize};
use std::fmt;

/// Microseconds since 1970-01-01 00:00 UTC; 0 also where nothing is known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Moment(i64);

impl Moment {
    /// The microsecond that a time lies in.
    pub fn of(time: DateTime<Utc>) -> Self {
        Self(time.timestamp_micros())
    }

    /// The one behind it.
    #[must_use]
    pub fn next(self) -> Self {
        Self(self.0.saturating_add(1))
    }

    /// So many microseconds behind it.
    #[must_use]
    pub fn plus(self, micros: u64) -> Self {
        Self(self.0.saturating_add_unsigned(micros))
    }

    /// As a time; the earliest there is where the calendar library does not reach.
    pub fn time(self) -> DateTime<Utc> {
        DateTime::from_timestamp_micros(self.0).unwrap_or(DateTime::<Utc>::MIN_UTC)
    }
}

/// The canonical text of [`LogicalType::TimestampTz`].
impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let time = self.time();
        let Some(year) = u32::try_from(time.year()).ok().filter(|year| (1..=9999).contains(year)) else {
            let text = time.format("%Y-%m-%d %H:%M:%S%.6f+00:00").to_string();
            return f.write_str(&normal_text(&LogicalType::TimestampTz, &text));
        };
        // By hand: every change of a table that keeps them all has one or two, and the calendar library's templates take longer
        // than all else that is done with a row.
        let mut text = *b"0000-00-00 00:00:00.000000";
        let micros = time.timestamp_subsec_micros();
        let parts = [(0..4, year), (5..7, time.month()), (8..10, time.day()), (11..13, time.hour())];
        let parts =
            parts.into_iter().chain([(14..16, time.minute()), (17..19, time.second()), (20..26, micros)]);
        for (place, mut number) in parts {
            for digit in text[place].iter_mut().rev() {
                *digit = b'0' + (number % 10) as u8;
                number /= 10;
            }
        }
        let length = match micros {
            0 => 19,
            _ => text.iter().rposition(|&digit| digit != b'0').map_or(0, |last| last + 1),
        };
        f.write_str(std::str::from_utf8(&text[..length]).unwrap_or_default())?;
        f.write_str("+00:00")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The microseconds of years 1 to 9999, and some around them.
    const MICROS: std::ops::Range<i64> = -62_200_000_000_000_000..253_500_000_000_000_000;

    proptest! {
        #[test]
        fn a_moment_is_said_as_the_calendar_library_says_it(
            micros in prop_oneof![MICROS, (-60_000i64..250_000).prop_map(|day| day * 86_400_000_000 / 100)],
        ) {
            let plain = Moment(micros).time().format("%Y-%m-%d %H:%M:%S%.6f+00:00").to_string();
            let plain = normal_text(&LogicalType::TimestampTz, &plain).into_owned();
            prop_assert_eq!(Moment(micros).to_string(), plain);
        }
    }
}
