//! What is known of runs, past and present, in the project's `.moorage/` folder: what a run does, what it measures, what people
//! ask it to do.
//!
//! Losing that folder loses no data: everything that counts is in the target. Whoever looks reads what a run has written there,
//! and never waits for it, nor it for them (SQLite manual, "Write-Ahead Logging": readers do not block writers).

mod error;
pub mod folder;
#[cfg(test)]
mod hostile;
mod store;

pub use error::{Result, StoreError};
pub use store::base::StateStore;
pub use store::events::{RunEvent, Severity};
pub use store::periods::{Period, Quantiles, TablePeriod};
pub use store::published::{HeldTable, MERGES, Published, Rates, ReadingTable, Standing, WAITS_FOR_SOURCE};
pub use store::runs::{RunRecord, RunSums};
