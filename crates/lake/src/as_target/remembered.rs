//! What a target remembers of a table, as JSON: in the table's own log, committed with its rows, and in the pipeline's ledger, as of
//! the checkpoint.

use crate::format::state::LogState;
use moorage_adapter::{StoredTable, TableState};
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::plan::table::TablePlan;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Of a table. New members have defaults; none is renamed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct Remembered {
    pub(crate) state: TableState,
    #[serde(default)]
    pub(crate) mark: Option<(String, String)>,
    #[serde(default)]
    pub(crate) snapshot_rows: u64,
    #[serde(default)]
    pub(crate) counters: TableCounters,
    #[serde(default)]
    pub(crate) last_change_at: Option<String>,
    #[serde(default)]
    pub(crate) captured_by: Option<String>,
    /// Whether the table was there before the pipeline.
    #[serde(default)]
    pub(crate) adopted: bool,
    /// How often the pipeline has written to it: which of two is the later one.
    #[serde(default)]
    pub(crate) serial: u64,
    /// The end of the last batch that is in it; empty before the first.
    #[serde(default)]
    pub(crate) position: String,
    /// The table's version then; none in its own log.
    #[serde(default)]
    pub(crate) version: Option<u64>,
    /// How many rows lived in it then.
    #[serde(default)]
    pub(crate) rows: u64,
    /// The files that were there before the pipeline and whose rows are kept.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub(crate) kept: BTreeSet<String>,
}

impl Remembered {
    /// Of a table of which nothing was read.
    pub(crate) fn new(adopted: bool) -> Self {
        Self {
            state: TableState::Waiting,
            mark: None,
            snapshot_rows: 0,
            counters: TableCounters::default(),
            last_change_at: None,
            captured_by: None,
            adopted,
            serial: 0,
            position: String::new(),
            version: None,
            rows: 0,
            kept: BTreeSet::new(),
        }
    }

    /// As whoever looks at the pipeline sees it.
    pub(crate) fn stored(self, plan: TablePlan) -> StoredTable {
        StoredTable {
            plan,
            state: self.state,
            mark: self.mark,
            snapshot_rows: self.snapshot_rows,
            counters: self.counters,
            last_change_at: self.last_change_at,
            captured_by: self.captured_by,
        }
    }
}

/// In a table's own log: what is remembered of it, and the checkpoint that the batch was to reach which wrote that.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct OwnWord {
    pub(crate) pipeline: String,
    pub(crate) target: String,
    pub(crate) of: Remembered,
    #[serde(default)]
    pub(crate) to: Option<Checkpoint>,
    /// How the table is carried from this commit on, where that is another way than before it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) plan: Option<TablePlan>,
}

const OWN: &str = "moorage.table.";

/// The domain of a table's own word in its log.
pub(crate) fn own_domain(pipeline: &str, target: &str) -> String {
    format!("{OWN}{pipeline}/{target}")
}

impl OwnWord {
    /// All that pipelines say of a table in its log. What cannot be read was not written by one.
    pub(crate) fn all(state: &LogState) -> Vec<Self> {
        let own = state.domains.iter().filter(|(domain, _)| domain.starts_with(OWN));
        own.filter_map(|(_, text)| serde_json::from_str(text).ok()).collect()
    }

    /// What one pipeline says of one of its tables.
    pub(crate) fn find(state: &LogState, pipeline: &str, target: &str) -> Option<Self> {
        serde_json::from_str(state.domains.get(&own_domain(pipeline, target))?).ok()
    }
}

/// The application under which a pipeline says whose turn it is.
pub(crate) fn turn_app(pipeline: &str) -> String {
    format!("moorage/{pipeline}/turn")
}

/// The application under which a pipeline counts the transactions that are in a table.
pub(crate) fn batch_app(pipeline: &str) -> String {
    format!("moorage/{pipeline}/batch")
}
