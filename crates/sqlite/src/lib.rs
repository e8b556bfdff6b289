//! SQLite on both ends: a file as a source, captured by triggers, and an embedded warehouse in one file.
//!
//! The file is in write-ahead mode, so that people can query it while Moorage writes. A batch and its
//! checkpoint are one transaction. What Moorage remembers is in tables of the same file, `moorage_checkpoints`,
//! `moorage_tables` and `moorage_writers`.

mod as_source;
mod as_target;
mod file;
mod kind;

pub use as_source::SqliteSource;
pub use as_target::SqliteTarget;
pub use as_target::dialect::SqliteDialect;
pub use kind::Sqlite;
