//! PostgreSQL as a source, read through its logical replication stream, and as a target.
//!
//! Statements go over ordinary connections (`tokio-postgres`). The stream itself is our own: its
//! messages are read from bytes by [`pgoutput`], without a runtime, and put together by the stream's
//! assembler. How the snapshot is joined to the stream is described in `snapshot.rs`.

mod address;
mod assemble;
mod capture;
mod catalog;
mod certificate;
mod check;
mod connect;
mod console;
mod copy_text;
mod error;
#[cfg(test)]
mod hostile;
mod link;
mod look;
mod lsn;
mod mark;
pub mod pgoutput;
mod replication;
mod snapshot;
mod source;
mod stream;
mod target;
mod tls;
mod trigger;
mod types;
mod values;
mod waits;

pub use address::{AddressError, Password, PostgresAddress};
pub use source::PostgresSource;
pub use target::{PostgresTarget, TargetSettings};
pub use trigger::PostgresTriggerSource;
