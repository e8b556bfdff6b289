//! Whose turn it is to write: a pipeline has one writer at a time, wherever it runs.
//!
//! Who writes is settled in the target. Taking the turn waits until nothing that an earlier writer sent can still
//! be committed, and shuts earlier writers out: from then on each of their writing transactions fails, however late
//! it comes. The checkpoint is read only after the turn was taken, so it is the one that everything before led to.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// A process that has a pipeline's turn, or wants it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Holder {
    /// A random text, new for every run: the same process may run a pipeline many times.
    pub id: String,
    /// The process.
    pub pid: u32,
    /// The machine's name, for people.
    pub host: String,
    /// What tells the system that the process number belongs to from all others (a boot of a machine, and the
    /// process numbers of one container on it); empty if it is not known.
    #[serde(default)]
    pub place: String,
    /// What tells the process from others that had its number before; empty if it is not known.
    #[serde(default)]
    pub started: String,
    /// Since when it has the turn, or began to want it.
    pub since: DateTime<Utc>,
}

/// The outcome of [`take_turn`](crate::WriteTarget::take_turn).
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum Turn {
    /// It is ours: nothing that others began can be committed any more.
    Taken,
    /// The target remembers nothing yet, and nothing was to be made.
    NothingThere,
    /// Another process has it.
    Held(Holder),
}

/// Which earlier writer a turn may be taken from.
#[derive(Clone, Copy, Debug)]
pub enum TakeFrom<'a> {
    /// Nobody who still has it.
    Nobody,
    /// Also this one, which is known to be gone or to be this process itself: what is left of it in the target is
    /// ended.
    Gone(&'a Holder),
}

impl Holder {
    /// For people: `process 312 on quay`.
    pub fn words(&self) -> String {
        format!("process {} on {}", self.pid, self.host)
    }
}
