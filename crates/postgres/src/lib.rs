//! PostgreSQL as a source, read through its logical replication stream, and as a target.
//!
//! Statements go over ordinary connections (`tokio-postgres`). The stream itself is our own: its
//! messages are read from bytes by [`pgoutput`], without a runtime, and put together by the stream's
//! assembler. How the snapshot is joined to the stream is described in `snapshot.rs`.

mod as_source;
mod as_target;
#[cfg(test)]
mod hostile;
mod kind;
mod wire;

pub use as_source::PostgresSource;
pub use as_source::trigger::PostgresTriggerSource;
pub use as_target::PostgresTarget;
pub use as_target::settings::TargetSettings;
pub use kind::Postgres;
pub use wire::address::{AddressError, Password, PostgresAddress};
pub use wire::pgoutput;
