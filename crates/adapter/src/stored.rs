//! What a target remembers of its tables.

use moorage_core::change::counters::TableCounters;
use moorage_core::drift::alter::Then;
use moorage_core::plan::table::TablePlan;
use serde::{Deserialize, Serialize};

/// How far a table has come. Each word means the same everywhere: in the target, in `status`, in JSON.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TableState {
    /// It is there, and nothing of it has been read.
    Waiting,
    /// Some of its rows are there; if it is broken off, it starts again from empty.
    Reading,
    /// Its snapshot is complete; changes are merged into it.
    Live,
    /// Its snapshot is complete; its changes are kept beside its rows until someone decides about a change of its structure.
    Held,
    /// It follows changes from some point on, without a snapshot.
    ChangesOnly,
    /// Rows were copied once and nothing is followed.
    Copied,
    /// Its rows are as they were, and are read again by the next run.
    NeedsResnapshot,
    /// It is not in the source any more, or not picked any more: its rows stay as they were.
    Gone,
}

impl TableState {
    const ALL: [Self; 8] = [
        Self::Waiting,
        Self::Reading,
        Self::Live,
        Self::Held,
        Self::ChangesOnly,
        Self::Copied,
        Self::NeedsResnapshot,
        Self::Gone,
    ];

    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Reading => "reading",
            Self::Live => "live",
            Self::Held => "held",
            Self::ChangesOnly => "changes only",
            Self::Copied => "copied",
            Self::NeedsResnapshot => "needs resnapshot",
            Self::Gone => "gone",
        }
    }

    /// The state that a word stands for. An earlier version had one word, `loading`, for all that is to be read.
    pub fn from_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|state| state.word() == word).unwrap_or(Self::Waiting)
    }

    /// What a table goes on as behind an alteration; none if it goes on as before.
    pub fn behind(then: Then) -> Option<Self> {
        match then {
            Then::Merges => None,
            Then::Holds => Some(Self::Held),
            Then::Rereads => Some(Self::NeedsResnapshot),
        }
    }

    /// Whether the next run reads it from empty.
    pub fn is_unread(self) -> bool {
        matches!(self, Self::Waiting | Self::Reading | Self::NeedsResnapshot)
    }
}

/// What the target remembers of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredTable {
    /// The plan it was made from.
    pub plan: TablePlan,
    /// How far it has come.
    pub state: TableState,
    /// The mark of its snapshot: text and position text.
    pub mark: Option<(String, String)>,
    /// Rows that came by snapshot.
    pub snapshot_rows: u64,
    /// What was merged into it since.
    pub counters: TableCounters,
    /// When the last change was merged, as RFC 3339.
    pub last_change_at: Option<String>,
    /// What captures its changes, as the source said it ([`crate::SetUpSource::captured_by`]); none in a target that an
    /// earlier version wrote.
    pub captured_by: Option<String>,
}
