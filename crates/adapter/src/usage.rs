//! What was asked of an end: either may be billed by use.

use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// What this process has asked of an end since it began.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Usage {
    /// Connections that were opened.
    pub connections: u64,
    /// Statements that were run.
    pub statements: u64,
    /// Bytes that came from there, without what encryption adds.
    pub received_bytes: u64,
    /// Bytes that went there.
    pub sent_bytes: u64,
}

/// Counts it; clones count together.
#[derive(Clone, Debug, Default)]
pub struct UsageCounter(Arc<[AtomicU64; 4]>);

impl UsageCounter {
    /// A connection was opened.
    pub fn connects(&self) {
        self.0[0].fetch_add(1, Ordering::Relaxed);
    }

    /// A statement is run.
    pub fn asks(&self) {
        self.0[1].fetch_add(1, Ordering::Relaxed);
    }

    /// So many bytes came.
    pub fn receives(&self, bytes: usize) {
        self.0[2].fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// So many bytes went.
    pub fn sends(&self, bytes: usize) {
        self.0[3].fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// What was counted until now.
    pub fn so_far(&self) -> Usage {
        let [connections, statements, received_bytes, sent_bytes] =
            [0, 1, 2, 3].map(|at| self.0[at].load(Ordering::Relaxed));
        Usage { connections, statements, received_bytes, sent_bytes }
    }
}
