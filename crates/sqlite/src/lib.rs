//! SQLite on both ends: a file as a source, captured by triggers, and an embedded warehouse in one file.
//!
//! The file is in write-ahead mode, so that people can query it while Moorage writes. A batch and its
//! checkpoint are one transaction. What Moorage remembers is in tables of the same file, `moorage_checkpoints`,
//! `moorage_tables` and `moorage_writers`.

mod again;
mod batch;
mod create;
mod dialect;
mod error;
mod look;
mod merge;
mod meta;
mod probe;
mod read;
mod reading;
mod sort;
mod source;
mod statements;
mod target;
mod turn;
mod values;

pub use dialect::SqliteDialect;
pub use source::SqliteSource;
pub use target::SqliteTarget;
