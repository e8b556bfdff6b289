//! How a lake is looked after.

use chrono::Utc;
use std::time::Duration;

/// How tables are looked after.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Upkeep {
    /// So many small files may be beside each other.
    pub(crate) small_files: usize,
    /// For so long every version can be read.
    pub(crate) keep_for: Duration,
}

impl Default for Upkeep {
    fn default() -> Self {
        Self { small_files: 50, keep_for: Duration::from_secs(24 * 3600) }
    }
}

impl Upkeep {
    /// The moment from which on versions are kept, in milliseconds since 1970.
    pub(crate) fn since_ms(&self) -> i64 {
        let keep_ms = i64::try_from(self.keep_for.as_millis()).unwrap_or(i64::MAX);
        Utc::now().timestamp_millis().saturating_sub(keep_ms)
    }
}
