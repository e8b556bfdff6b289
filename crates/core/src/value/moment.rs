//! A moment as targets keep it: in microseconds.

use crate::model::types::LogicalType;
use crate::value::canonical::normal_text;
use chrono::{DateTime, Utc};
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
        let text = self.time().format("%Y-%m-%d %H:%M:%S%.6f+00:00").to_string();
        f.write_str(&normal_text(&LogicalType::TimestampTz, &text))
    }
}
