//! What is known of runs, past and present, in the project's `.moorage/` folder: what a run does, what it measures, what people
//! ask it to do.
//!
//! Losing that folder loses no data: everything that counts is in the target. Whoever looks reads what a run has written there,
//! and never waits for it, nor it for them (SQLite manual, "Write-Ahead Logging": readers do not block writers).

mod alerting;
mod error;
pub mod folder;
#[cfg(test)]
mod hostile;
mod listen;
mod report;
mod store;
mod watching;

pub use alerting::receiver::{RECEIVER_KINDS, Receiver};
pub use alerting::seen::{SILENT_AFTER, add_published, add_standings, ended, seen, stands};
pub use alerting::sending::{send_due, send_test};
pub use alerting::service::{AlertService, Alerts, Say, log_line};
pub use error::{Result, StoreError};
pub use listen::{LISTEN_KEYS, ListenSettings};
pub use report::html;
pub use report::{DriftLine, PipelineReport, RejectLine, Report, RunLine};
pub use store::alerts::ReceiverStanding;
pub use store::base::StateStore;
pub use store::events::{RunEvent, Severity};
pub use store::periods::{Period, Quantiles, TablePeriod};
pub use store::published::{
    ALL_HELD, BrokenOff, HeldTable, LAG_BOUNDS, LagCounts, LagsCounts, MERGES, Published, Rates,
    ReadingTable, Standing, WAITS_FOR_SOURCE,
};
pub use store::runs::{RunRecord, RunSums};
pub use store::samples::Point;
pub use store::standings::Standings;
pub use watching::{OperationRates, Watched, WatchedTable, watched};
