//! Evidence that something was committed.

use moorage_core::checkpoint::stored::Checkpoint;

/// Evidence that a target has durably committed everything up to a position. Only committing a batch makes one
/// (`commit_durably` of [`Merge`](crate::Merge)), and only with one can a source position be acknowledged.
#[derive(Clone, Debug)]
#[must_use]
pub struct Durable(Checkpoint);

impl Durable {
    pub(crate) fn committed(checkpoint: Checkpoint) -> Self {
        Self(checkpoint)
    }

    /// The committed checkpoint.
    pub fn checkpoint(&self) -> &Checkpoint {
        &self.0
    }
}
