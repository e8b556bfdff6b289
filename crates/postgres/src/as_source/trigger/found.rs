//! What a look comes to.

use chrono::{DateTime, Utc};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::structure::SchemaChange;

/// What a look found beside the changes themselves.
#[derive(Default)]
pub(crate) struct Found {
    /// How many changes.
    pub(crate) changes: u64,
    /// How many changes of structure.
    pub(crate) structures: u64,
    /// The newest time of one.
    pub(crate) newest: DateTime<Utc>,
}

/// What is read.
pub(crate) enum Read {
    /// Changes of rows.
    Block(ChangeBlock),
    /// A change of structure, behind all blocks that came before it.
    Change(SchemaChange),
}
