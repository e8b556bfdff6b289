//! Arguments of what looks at rows and changes: `preview`, `row`, `changes`, `verify`.

use super::common::{Pipelines, duration};
use clap::Args as ClapArgs;
use std::time::Duration;

#[derive(Debug, ClapArgs)]
pub struct PreviewArgs {
    /// A table of the source; every picked one if none is given
    #[arg(value_name = "TABLE")]
    pub table: Option<String>,
    /// How many rows
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub rows: usize,
    /// Show the source's rows as they are, without mapping
    #[arg(long, conflicts_with = "target")]
    pub source: bool,
    /// Show what the target holds instead
    #[arg(long)]
    pub target: bool,
    /// The rows that came into the target last, the newest first
    #[arg(long, value_name = "N", requires = "target", conflicts_with = "rows")]
    pub newest: Option<usize>,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct RowArgs {
    /// A table of the source
    #[arg(value_name = "TABLE")]
    pub table: String,
    /// The values of the key's columns
    #[arg(value_name = "KEY", required = true, allow_negative_numbers = true)]
    pub key: Vec<String>,
    /// Follow the row until both sides agree
    #[arg(long)]
    pub wait: bool,
    /// Wait no longer than this
    #[arg(long = "for", value_name = "TIME", value_parser = duration, requires = "wait")]
    pub duration: Option<Duration>,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct ChangesArgs {
    /// A table of the source
    #[arg(value_name = "TABLE")]
    pub table: String,
    /// Where to begin: now, start, a position, or a time as 2026-06-01T14:00:00Z
    #[arg(long, value_name = "WHERE", default_value = "now")]
    pub from: String,
    /// End after so many changes
    #[arg(long, value_name = "N")]
    pub limit: Option<u64>,
    /// End after this time
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub duration: Option<Duration>,
    /// The pipeline, where the project file has several
    #[arg(long)]
    pub pipeline: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct VerifyArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Only this table; may be given several times
    #[arg(long, value_name = "TABLE")]
    pub table: Vec<String>,
    /// Only count rows
    #[arg(long)]
    pub counts_only: bool,
    /// How many differing rows of a table are shown
    #[arg(long, value_name = "ROWS", default_value_t = 5)]
    pub show: usize,
}
