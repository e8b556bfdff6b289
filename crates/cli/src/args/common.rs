//! Options that several commands share, and how their values are read.

use chrono::{DateTime, Local, NaiveDate, NaiveDateTime, TimeZone, Utc};
use clap::{Args as ClapArgs, ValueEnum};
use std::net::{Ipv4Addr, SocketAddr};
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
    /// Lines of values, for `lag` and `history`
    Csv,
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

/// A port of this machine, or an address and a port.
pub(super) fn listen_address(text: &str) -> Result<SocketAddr, String> {
    let port = || text.parse::<u16>().ok().map(|port| SocketAddr::from((Ipv4Addr::LOCALHOST, port)));
    let wanted = "a port, such as 9187, or an address and a port, such as 0.0.0.0:9187 or [::1]:9187";
    text.parse().ok().or_else(port).ok_or_else(|| wanted.into())
}

pub(super) fn rate(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(rate) if (0.0..=1e6).contains(&rate) => Ok(rate),
        _ => Err("a number from 0 to 1000000".into()),
    }
}

pub(super) fn duration(text: &str) -> Result<Duration, String> {
    moorage_core::project::units::parse_duration(text)
        .ok_or_else(|| "a number with ms, s, m, h or d, such as 10m".into())
}

/// A moment in the past: how long ago, or when, by the user's clock unless it says otherwise.
pub(super) fn since(text: &str) -> Result<DateTime<Utc>, String> {
    if let Some(ago) = moorage_core::project::units::parse_duration(text) {
        let ago = chrono::TimeDelta::from_std(ago).ok();
        return ago
            .and_then(|ago| Utc::now().checked_sub_signed(ago))
            .ok_or_else(|| "longer ago than there are dates".into());
    }
    if let Ok(at) = DateTime::parse_from_rfc3339(text) {
        return Ok(at.to_utc());
    }
    let at = ["%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M"]
        .iter()
        .find_map(|form| NaiveDateTime::parse_from_str(text, form).ok())
        .or_else(|| NaiveDate::parse_from_str(text, "%Y-%m-%d").ok()?.and_hms_opt(0, 0, 0));
    let at = at.and_then(|at| Local.from_local_datetime(&at).earliest());
    at.map(|at| at.to_utc())
        .ok_or_else(|| "a time ago, such as 30m or 7d, or a time, such as 2026-06-01T14:00:00Z".into())
}
