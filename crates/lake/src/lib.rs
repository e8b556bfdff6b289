//! Tables of the open table format "Delta" in a folder or on object storage, as a target.
//!
//! The log is written here; data files are Parquet. Rows leave by deletion vectors and come in one new file a batch; which file a
//! key's row is in is told by key files on this machine, which may be lost.

#![cfg_attr(
    test,
    allow(
        clippy::unwrap_used,
        clippy::expect_used,
        clippy::panic,
        reason = "test code stops at the first surprise"
    )
)]

mod as_target;
#[cfg(test)]
mod breaking;
#[cfg(test)]
mod conformance;
mod format;
mod kind;
mod rows;
mod store;
mod table;
#[cfg(test)]
mod upkeep_tests;

pub use as_target::LakeTarget;
pub use kind::Lake;
