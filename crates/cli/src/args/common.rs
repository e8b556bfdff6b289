//! Options that several commands share, and how their values are read.

use clap::{Args as ClapArgs, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;

#[derive(Clone, Debug, ClapArgs)]
#[command(next_help_heading = "Global options")]
pub struct Global {
    /// The project file
    #[arg(short, long, global = true, env = "MOORAGE_FILE", default_value = "moorage.toml")]
    pub file: PathBuf,
    /// How results are written; `run` writes one JSON document a line
    #[arg(long, global = true, value_enum, default_value = "text")]
    pub format: Format,
    /// When to use colour (NO_COLOR is respected too)
    #[arg(long, global = true, value_enum, default_value = "auto")]
    pub color: Color,
    /// Say only what went wrong
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more; twice for diagnostics
    #[arg(short, long, global = true, action = clap::ArgAction::Count)]
    pub verbose: u8,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Text,
    Json,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Clone, Debug, ClapArgs)]
pub struct Pipelines {
    /// Names from the project file; all if none is given
    #[arg(value_name = "PIPELINE")]
    pub pipelines: Vec<String>,
}

pub(super) fn rate(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(rate) if (0.0..=1e6).contains(&rate) => Ok(rate),
        _ => Err("a number from 0 to 1000000".into()),
    }
}

pub(super) fn duration(text: &str) -> Result<Duration, String> {
    moorage_core::project::units::parse_duration(text)
        .ok_or_else(|| "a number with ms, s, m or h, such as 10m".into())
}
