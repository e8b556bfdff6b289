//! How a table stands.

use chrono::{DateTime, Utc};
use moorage_adapter::TableState;
use moorage_core::change::counters::{Operations, TableCounters};
use serde::Serialize;

/// One table.
#[derive(Clone, Debug, Serialize)]
pub struct TableStatus {
    /// In the source.
    pub table: String,
    /// In the target.
    pub target: String,
    /// The target tables of its other forms.
    pub also: Vec<String>,
    /// How far it has come.
    pub state: TableState,
    /// Rows in the target now; none if they were not counted.
    pub rows: Option<u64>,
    /// How far it is read, of 100, while it is being read and that is known.
    pub percent: Option<u64>,
    /// Whether it is followed, and the pipeline has fallen behind.
    pub catching_up: bool,
    /// The lag of the last transaction that changed it in this run or the last, in microseconds.
    pub lag_us: Option<u64>,
    /// Rows that came by snapshot.
    pub snapshot_rows: u64,
    /// What was read and merged since.
    pub changes: TableCounters,
    /// What was added since the last look; none at the first.
    pub since_last_look: Option<Operations>,
    /// When the last change was merged, RFC 3339.
    pub last_change_at: Option<String>,
    /// What is kept of its changes until someone decides; none if they are merged.
    pub held: Option<HeldStatus>,
}

/// A table whose changes are kept until someone decides.
#[derive(Clone, Debug, Serialize)]
pub struct HeldStatus {
    /// Since when.
    pub since: Option<DateTime<Utc>>,
    /// Which changes of structure it waits for, by the numbers that `drift` gives them.
    pub waits_for: Vec<u64>,
    /// What they are, for people.
    pub detail: String,
    /// How many changes of rows are kept.
    pub changes: u64,
    /// Bytes of them.
    pub bytes: u64,
}
