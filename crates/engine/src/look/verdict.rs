//! What is compared, and what comes of it.

use chrono::{DateTime, Utc};
use moorage_core::compare::difference::{Counts, Difference};
use serde::Serialize;

/// What is compared, and how much is shown.
#[derive(Clone, Debug)]
pub struct VerifyOptions {
    /// Only these tables, by source name; all if empty.
    pub tables: Vec<String>,
    /// Only count rows.
    pub counts_only: bool,
    /// How many differing rows of a table are shown.
    pub show: usize,
}

/// What was found in one table. Times are in milliseconds.
#[derive(Clone, Debug, Serialize)]
pub struct TableVerdict {
    /// In the source.
    pub table: String,
    /// In the target.
    pub target: String,
    /// Whether both sides agree.
    pub agrees: bool,
    /// Why it was not compared, if so.
    pub not_compared: Option<String>,
    /// The counts.
    #[serde(flatten)]
    pub counts: Counts,
    /// The first differing rows.
    pub differences: Vec<Difference>,
    /// How long it took.
    pub elapsed_ms: u64,
    /// Rows of both sides read in a second.
    pub rows_per_second: u64,
}

/// What was found in a pipeline.
#[derive(Clone, Debug, Serialize)]
pub struct Verdict {
    /// The pipeline.
    pub pipeline: String,
    /// Whether every table that is followed was compared and agrees.
    pub agrees: bool,
    /// Tables that are not followed any more, because they are not in the source or not picked: there is nothing to
    /// compare them with.
    pub gone: Vec<String>,
    /// Whether only rows were counted.
    pub counts_only: bool,
    /// The target's position when it was looked at.
    pub position: Option<String>,
    /// The source commit up to which the target was complete then.
    pub complete_up_to: Option<DateTime<Utc>>,
    /// Captured changes that lay between the two looks.
    pub changes_between: u64,
    /// The tables.
    pub tables: Vec<TableVerdict>,
}
