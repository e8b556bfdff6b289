//! A place in a source's change log: opaque text to people, totally ordered within one source.

use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

/// A position. Two positions of one source compare by `rank`; positions of different sources must
/// never be compared, which the checkpoint's identity makes sure of.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Position {
    rank: u128,
    text: Arc<str>,
}

impl Position {
    /// Makes a position from its rank in the source's log and the text people see. The adapter that
    /// makes it must give equal ranks equal texts.
    pub fn new(rank: u128, text: impl Into<Arc<str>>) -> Self {
        Self { rank, text: text.into() }
    }

    /// The place in the log as a number. 0 is before everything.
    pub fn rank(&self) -> u128 {
        self.rank
    }

    /// The text that people see and that checkpoints store.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

impl fmt::Display for Position {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl PartialEq for Position {
    fn eq(&self, other: &Self) -> bool {
        self.rank == other.rank
    }
}
impl Eq for Position {}
impl PartialOrd for Position {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Position {
    fn cmp(&self, other: &Self) -> Ordering {
        self.rank.cmp(&other.rank)
    }
}
