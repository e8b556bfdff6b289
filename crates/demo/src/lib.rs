//! Pellow Quay, a made-up marina: its tables, its first rows, and its daily business as transactions.
//!
//! Everything is generated from a seed: the same seed and the same rows give the same statements. What runs
//! them is a [`Console`](moorage_adapter::Console); this crate knows no system beyond its SQL dialect.

mod business;
mod busy;
mod fill;
mod schema;

pub use business::Business;
pub use busy::{Busy, Pace, Progress, churn, grow, run_script};
pub use fill::{Sizes, fill};
pub use schema::{TABLES, create};
