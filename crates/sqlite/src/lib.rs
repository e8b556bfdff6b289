//! SQLite as a target: an embedded warehouse in one file.
//!
//! The file is in write-ahead mode, so that people can query it while Moorage writes. A batch and its
//! checkpoint are one transaction. What Moorage remembers is in two tables of the same file,
//! `moorage_checkpoints` and `moorage_tables`.

mod create;
mod dialect;
mod error;
mod merge;
mod meta;
mod statements;
mod target;
mod values;

pub use dialect::SqliteDialect;
pub use target::SqliteTarget;
