//! What is reported: [`Report`].

use crate::store::periods::{Period, TablePeriod};
use crate::store::samples::Point;
use chrono::{DateTime, Utc};
use moorage_core::watch::alerts::step::Notice;
use moorage_core::watch::sample::AppliedTransaction;

/// What is reported.
#[derive(Clone, Debug)]
pub struct Report {
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// On which machine.
    pub host: String,
    /// From when on.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// The pipelines.
    pub pipelines: Vec<PipelineReport>,
}

/// What is reported of a pipeline.
#[derive(Clone, Debug)]
pub struct PipelineReport {
    /// Its name.
    pub pipeline: String,
    /// Where rows come from, in words.
    pub source: String,
    /// Where they go.
    pub target: String,
    /// All of the time together.
    pub whole: Period,
    /// The time in stretches of the same length, oldest first.
    pub points: Vec<Period>,
    /// Samples as finely as they are kept, for what the source kept.
    pub kept: Vec<Point>,
    /// What it may keep, in bytes.
    pub limit_bytes: Option<u64>,
    /// By table.
    pub tables: Vec<TablePeriod>,
    /// The slowest transactions, the slowest first.
    pub slowest: Vec<AppliedTransaction>,
    /// Runs that had not ended when it began, the newest first.
    pub runs: Vec<RunLine>,
    /// Changes of structure.
    pub drift: Vec<DriftLine>,
    /// What is set aside.
    pub rejects: Vec<RejectLine>,
    /// What was said of alerts.
    pub notices: Vec<Notice>,
    /// What could not be asked, in words.
    pub unknown: Vec<String>,
}

/// A run.
#[derive(Clone, Debug)]
pub struct RunLine {
    /// Its number.
    pub run: i64,
    /// When it began, RFC 3339.
    pub began: String,
    /// How long it went on, in milliseconds; none if nobody knows.
    pub took_ms: Option<u64>,
    /// How it ended, in a word.
    pub outcome: &'static str,
    /// Whether that is a trouble.
    pub is_bad: bool,
    /// Rows that it read.
    pub rows: u64,
    /// Changes that it applied.
    pub changes: u64,
    /// Batches.
    pub merges: u64,
    /// Warnings, and how often something was tried again.
    pub warnings: u64,
    /// Why it ended.
    pub reason: String,
}

/// A change of structure.
#[derive(Clone, Debug)]
pub struct DriftLine {
    /// When it was met.
    pub at: DateTime<Utc>,
    /// The source table.
    pub table: String,
    /// What changed.
    pub what: String,
    /// What became of it.
    pub done: String,
    /// Whether it waits for a decision.
    pub waits: bool,
}

/// A change that is set aside.
#[derive(Clone, Debug)]
pub struct RejectLine {
    /// When it was set aside, RFC 3339.
    pub at: String,
    /// The source table.
    pub table: String,
    /// The row.
    pub key: String,
    /// `insert`, `update`, `delete`.
    pub operation: String,
    /// Why.
    pub reason: String,
}
