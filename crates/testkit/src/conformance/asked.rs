//! What the suite for sources is made of: the source under test, and its capture point.

use crate::rows::Op;
use moorage_adapter::{CapturePlan, Source};
use std::sync::Arc;

/// A source with a way to change its table.
pub trait SourceUnderTest {
    /// The source, whose table `berths` is there and empty.
    fn source(&self) -> Arc<dyn Source>;
    /// Commits a transaction.
    fn commit(&self, ops: &[Op]);
    /// Begins a transaction with these changes and rolls it back.
    fn roll_back(&self, ops: &[Op]);
    /// Gives the table one more column, `depth`, behind the others.
    fn add_column(&self);
}

pub(super) fn capture() -> CapturePlan {
    let name = || "moorage_conformance".to_string();
    CapturePlan { pipeline: "conformance".into(), name: name(), token: "t1".into() }
}
