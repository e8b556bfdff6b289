//! What tests share: private PostgreSQL servers, in-memory fakes, and one conformance suite for all
//! sources and one for all targets. Like tests, it stops at the first surprise.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

mod carry_out;
pub mod conformance;
mod faulty;
mod faulty_source;
mod folder;
mod mail_sink;
mod memory_held;
mod memory_merge;
mod memory_source;
mod memory_target;
mod pool;
mod postgres;
mod proxy;
mod receivers;
mod rows;

pub use faulty::FaultyTarget;
pub use faulty_source::FaultySource;
pub use folder::{FolderKind, FolderTarget};
pub use mail_sink::{Encrypts, MailSink, Mailed};
pub use memory_source::MemorySource;
pub use memory_target::MemoryTarget;
pub use pool::pool_before;
pub use postgres::{PostgresServer, Session, wait_until};
pub use proxy::{Proxy, Weather};
pub use receivers::{HttpReceiver, Posted};
pub use rows::{AnyKind, Op, Row, berths_schema, berths_source_table, block_of, row, row_at, rows_of_batch};
