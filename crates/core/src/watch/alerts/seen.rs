//! How a pipeline is seen to stand at a time.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// Whether anything is carried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stands {
    /// A run is going on.
    Runs,
    /// A run is going on, and tries again.
    Retries {
        /// Since when nothing was carried any more.
        since: DateTime<Utc>,
        /// What it met.
        why: String,
    },
    /// A run is going on that says nothing any more, or nothing runs.
    Stopped {
        /// Since when; none if nobody knows.
        since: Option<DateTime<Utc>>,
        /// How it came to that.
        why: String,
    },
}

/// How a table is seen to stand.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct TableSeen {
    /// The source table.
    pub table: String,
    /// What it is called in the target.
    pub target: String,
    /// The word for how far it has come.
    pub state: String,
    /// Why it is held, and since when; none if it is not.
    pub held: Option<Trouble>,
    /// Why its rows are not all there and nobody is at it; none if they are.
    pub failed: Option<Trouble>,
    /// How many of its changes are set aside.
    pub rejects: u64,
}

/// Something that is wrong, and since when.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trouble {
    /// What.
    pub what: String,
    /// Since when; none if nobody knows.
    pub since: Option<DateTime<Utc>>,
    /// What to do next: a command.
    pub next: String,
}

/// A change of structure that waits for a decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Undecided {
    /// Its number.
    pub id: u64,
    /// The source table.
    pub table: String,
    /// What changed.
    pub what: String,
    /// When it was met.
    pub since: DateTime<Utc>,
}

/// A change of structure that was met.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DriftSeen {
    /// Its number: later ones have higher ones.
    pub id: u64,
    /// The source table.
    pub table: String,
    /// What changed.
    pub what: String,
    /// The columns that are other than before, each as it was and as it is: `depth integer`; none where there is none.
    pub columns: Vec<(Option<String>, Option<String>)>,
    /// What was done about it.
    pub done: String,
    /// When it was met.
    pub at: DateTime<Utc>,
}

/// How a pipeline is seen to stand. What is not known is none: of that, no alert is raised or cleared.
#[derive(Clone, Debug, PartialEq)]
pub struct Seen {
    /// The pipeline.
    pub pipeline: String,
    /// Whether anything is carried; none if that is not known.
    pub stands: Option<Stands>,
    /// How far the target is behind.
    pub behind: Option<Duration>,
    /// Why.
    pub why: Option<String>,
    /// Another value than before whenever anything was carried.
    pub progress: Option<u64>,
    /// Whether anything waits to be carried.
    pub waits: Option<bool>,
    /// What the source keeps, in bytes, and what it may.
    pub room: Option<(u64, u64)>,
    /// Tables whose reading was broken off and that are not read since, with why.
    pub broken_off: Option<Vec<(String, String)>>,
    /// The tables.
    pub tables: Option<Vec<TableSeen>>,
    /// What waits for a decision.
    pub undecided: Option<Vec<Undecided>>,
    /// Changes of structure that were met, the oldest first.
    pub drift: Option<Vec<DriftSeen>>,
}

impl Seen {
    /// Of a pipeline of which nothing is known.
    pub fn nothing(pipeline: impl Into<String>) -> Self {
        Self {
            pipeline: pipeline.into(),
            stands: None,
            behind: None,
            why: None,
            progress: None,
            waits: None,
            room: None,
            broken_off: None,
            tables: None,
            undecided: None,
            drift: None,
        }
    }
}
