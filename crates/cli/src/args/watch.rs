//! Arguments of what looks at how things stand, and stood: `status`, `lag`, `watch`, `history`, `report`.

use super::common::{Pipelines, duration, since};
use chrono::{DateTime, Utc};
use clap::{Args as ClapArgs, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;

#[derive(Debug, ClapArgs)]
pub struct StatusArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// Count the rows of every target table, however long that takes; otherwise only as far as it is quick
    #[arg(long)]
    pub count: bool,
}

#[derive(Debug, ClapArgs)]
pub struct WatchArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
}

#[derive(Debug, ClapArgs)]
pub struct LagArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// By what it is told apart
    #[arg(long, value_enum, value_name = "WHAT")]
    pub by: Option<LagBy>,
    /// List the slowest transactions with at least this lag, such as 500ms or 2s
    #[arg(long, value_name = "TIME", value_parser = duration, default_value = "0s")]
    pub over: Duration,
    /// From when on: a time ago, such as 30m or 7d, or a time, such as 2026-06-01T14:00:00Z or '2026-06-01 14:00'
    #[arg(long, value_name = "TIME", value_parser = since)]
    pub since: Option<DateTime<Utc>>,
    /// How many transactions are listed
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub limit: usize,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum LagBy {
    /// A line a table
    Table,
}

#[derive(Debug, ClapArgs)]
pub struct ReportArgs {
    #[command(flatten)]
    pub pipelines: Pipelines,
    /// From when on: a time ago, such as 30m or 7d, or a time, such as 2026-06-01T14:00:00Z or '2026-06-01 14:00'
    #[arg(long, value_name = "TIME", value_parser = since, default_value = "1d")]
    pub since: DateTime<Utc>,
    /// Until when, likewise; until now if not given
    #[arg(long, value_name = "TIME", value_parser = since)]
    pub until: Option<DateTime<Utc>>,
    /// The file it is written to; `-` for standard output
    #[arg(short, long, value_name = "FILE", default_value = "moorage-report.html")]
    pub output: PathBuf,
}

#[derive(Debug, ClapArgs)]
pub struct HistoryArgs {
    /// One run, by its number: everything that happened in it, in order
    #[arg(value_name = "RUN", conflicts_with_all = ["errors", "since", "limit"])]
    pub run: Option<i64>,
    /// Only runs that failed, were killed, or met with warnings
    #[arg(long)]
    pub errors: bool,
    /// From when on: a time ago, such as 30m or 7d, or a time, such as 2026-06-01T14:00:00Z or '2026-06-01 14:00'
    #[arg(long, value_name = "TIME", value_parser = since)]
    pub since: Option<DateTime<Utc>>,
    /// How many runs are listed, the newest
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub limit: u32,
    /// The pipeline; all if none is given
    #[arg(long, value_name = "PIPELINE")]
    pub pipeline: Option<String>,
}
