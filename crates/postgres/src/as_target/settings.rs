//! What the project file says of a target beside its address.

use std::time::Duration;

/// How a target is used.
#[derive(Clone, Debug)]
pub struct TargetSettings {
    /// The schema of tables for which none is named.
    pub schema: String,
    /// How long a statement waits for a lock; zero for ever.
    pub lock_timeout: Duration,
    /// How long a statement of a merge may take; zero for ever.
    pub statement_timeout: Duration,
    /// How many sessions load snapshots (at least 1).
    pub connections: usize,
}

impl Default for TargetSettings {
    fn default() -> Self {
        Self {
            schema: "public".into(),
            lock_timeout: Duration::from_secs(30),
            statement_timeout: Duration::ZERO,
            connections: 4,
        }
    }
}
