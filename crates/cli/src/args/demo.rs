//! Arguments of what works on made-up data: `demo`, `churn`.

use super::common::{duration, rate};
use clap::Args as ClapArgs;
use std::path::PathBuf;
use std::time::Duration;

#[derive(Debug, ClapArgs)]
pub struct ChurnArgs {
    /// A source of the project file; the only one if there is one
    #[arg(value_name = "SOURCE")]
    pub source: Option<String>,
    /// Transactions a second; 0 for as many as the source takes
    #[arg(long, value_name = "N", default_value_t = 20.0, value_parser = rate)]
    pub rate: f64,
    /// Every ten seconds so many transactions more at once
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub burst: u64,
    /// End after this time, such as 30s, 10m or 2h
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub duration: Option<Duration>,
    /// End after so many transactions
    #[arg(long, value_name = "N")]
    pub until: Option<u64>,
    /// The same seed on the same rows does the same
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// Rows of a large transaction, of which there is one in a thousand
    #[arg(long, value_name = "ROWS", default_value_t = 2000)]
    pub large: u64,
    /// A file of SQL statements to run again and again instead
    #[arg(long, value_name = "FILE")]
    pub script: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct DemoArgs {
    /// The folder it is written to; it is made if it is missing
    #[arg(value_name = "DIR", default_value = "pellow-quay")]
    pub folder: PathBuf,
    /// Rows of the source to begin with
    #[arg(long, value_name = "N", default_value_t = 20_000, value_parser = clap::value_parser!(u64).range(1_000..=10_000_000))]
    pub rows: u64,
    /// How long changes go on
    #[arg(long, value_name = "N", default_value_t = 8, value_parser = clap::value_parser!(u64).range(2..=3600))]
    pub seconds: u64,
    /// The same seed gives the same data
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
    /// Go on with changes and merges afterwards, until Ctrl-C
    #[arg(long)]
    pub keep_running: bool,
}
