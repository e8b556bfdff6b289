//! What happens, as facts. Terminal, JSON lines, state store and status are consumers of one stream.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// One step of setting something up or removing it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    /// What it is about: `publication moorage_quayside`.
    pub what: String,
    /// `made`, `already so`, `removed`, `not there`, `left: …`.
    pub outcome: String,
}

impl Step {
    /// A step and its outcome.
    pub fn new(what: impl Into<String>, outcome: impl Into<String>) -> Self {
        Self { what: what.into(), outcome: outcome.into() }
    }
}

/// A fact about a running pipeline. Durations are in milliseconds, sizes in bytes.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "event")]
pub enum Event {
    /// A step of the set-up was done.
    Prepared {
        /// The step.
        step: Step,
    },
    /// A picked table is not carried.
    TableLeftOut {
        /// The source table.
        table: String,
        /// Why, and the way out.
        why: String,
    },
    /// Something is being waited for.
    Waiting {
        /// For what, and since when: `transaction 741 of pid 312 (app, idle in transaction), open since …`.
        what: String,
        /// How long so far.
        waited_ms: u64,
    },
    /// Tables are about to be copied.
    SnapshotStarted {
        /// The tables, with the source's estimate of their rows.
        tables: Vec<(String, Option<u64>)>,
    },
    /// The first rows of the snapshot can be read in the target.
    FirstRowReadable {
        /// The target table.
        table: String,
        /// Since the run began.
        elapsed_ms: u64,
    },
    /// More rows of a table are in the target.
    SnapshotRows {
        /// The source table.
        table: String,
        /// Rows so far.
        rows: u64,
    },
    /// A table is complete as of its mark.
    SnapshotFinished {
        /// The source table.
        table: String,
        /// Its rows.
        rows: u64,
        /// Since its first row was asked for.
        elapsed_ms: u64,
    },
    /// A table is read again while changes are followed.
    ReadingAgain {
        /// The source table.
        table: String,
        /// Whether it was not read before: it joins the others.
        first: bool,
    },
    /// The rows that were read again took the place of the old ones.
    ReadAgain {
        /// The source table.
        table: String,
        /// Rows that were read.
        rows: u64,
        /// Since it began.
        elapsed_ms: u64,
        /// Whether it was not read before.
        first: bool,
    },
    /// Changes are followed from here.
    Streaming {
        /// The position.
        position: String,
    },
    /// The target has durably committed a batch.
    Merged {
        /// Changes read in it.
        changes: u64,
        /// Source transactions in it.
        transactions: u64,
        /// The commit time of its last transaction.
        committed_at: DateTime<Utc>,
        /// The position behind it.
        position: String,
        /// From the source's commit of the last transaction until now.
        lag_ms: u64,
        /// How long the merge itself took.
        merge_ms: u64,
    },
    /// Rows of a table were compared.
    Comparing {
        /// The source table.
        table: String,
        /// Rows of both sides so far.
        rows: u64,
    },
    /// A connection was lost and will be tried again.
    Retrying {
        /// What happened.
        reason: String,
        /// When the next attempt is made.
        in_ms: u64,
    },
    /// The run was asked to stop and is finishing the batch in hand.
    Stopping {
        /// By what: `Ctrl-C`, `SIGTERM`, `--for`.
        by: String,
    },
    /// A table's structure has changed in the source.
    StructureChanged {
        /// The source table, as it was called before.
        table: String,
        /// What changed: `column depth was added (integer)`.
        what: String,
        /// What is done about it: `the target follows`.
        done: String,
    },
    /// What was old in a table that keeps changes was folded.
    Tidied {
        /// The source table.
        table: String,
        /// The target table.
        target: String,
        /// How many rows went.
        removed: u64,
        /// How many became rows of a snapshot.
        folded: u64,
    },
    /// Something a person should know.
    Warning {
        /// What.
        message: String,
    },
}

/// Where events go. Cheap to clone and to call.
pub type Events = Arc<dyn Fn(Event) + Send + Sync>;
