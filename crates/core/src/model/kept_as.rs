//! What a target table keeps of its source's rows, and the columns that Moorage adds to it for that.

use crate::model::types::LogicalType;
use serde::{Deserialize, Serialize};

/// What a target table holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Keep {
    /// The rows as they are now.
    #[default]
    Current,
    /// A row for every change, and for every row of a snapshot.
    Changes,
    /// Every version that a row had, with the times from when and until when it was valid.
    Versions,
}

impl Keep {
    /// The word in the project file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Current => "current",
            Self::Changes => "changes",
            Self::Versions => "versions",
        }
    }

    /// The columns that it adds, in their order.
    pub fn adds(self) -> &'static [Added] {
        match self {
            Self::Current => &[],
            Self::Changes => {
                &[Added::Operation, Added::CommittedAt, Added::Position, Added::Order, Added::Unchanged]
            }
            Self::Versions => &[Added::Since, Added::Until],
        }
    }
}

/// A column that Moorage adds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Added {
    /// What the change was: a word.
    Operation,
    /// When the source committed it; null for rows of a snapshot.
    CommittedAt,
    /// Its position, in a form that sorts as positions do; of no characters for rows of the first snapshot, and with a `+`
    /// behind it for rows that were read again, which stand behind all changes of that position.
    Position,
    /// The order of changes with one position: a number that grows, with gaps.
    Order,
    /// The columns whose values neither the log nor the rows before tell: a JSON array of names; null where all are known.
    Unchanged,
    /// From when on the version was valid.
    Since,
    /// Until when, that moment not among it; null where it still is.
    Until,
}

impl Added {
    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Operation => "moorage_operation",
            Self::CommittedAt => "moorage_committed_at",
            Self::Position => "moorage_position",
            Self::Order => "moorage_order",
            Self::Unchanged => "moorage_unchanged",
            Self::Since => "moorage_since",
            Self::Until => "moorage_until",
        }
    }

    /// The type of its values.
    pub fn logical(self) -> LogicalType {
        match self {
            Self::Operation | Self::Position => LogicalType::Text,
            Self::Unchanged => LogicalType::Json,
            Self::CommittedAt | Self::Since | Self::Until => LogicalType::TimestampTz,
            Self::Order => LogicalType::Int64,
        }
    }

    /// Whether each row has a value.
    pub fn is_needed(self) -> bool {
        matches!(self, Self::Operation | Self::Position | Self::Order | Self::Since)
    }

    /// What it is, for people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Operation => "what the change was",
            Self::CommittedAt => "commit time of the change",
            Self::Position => "position of the change",
            Self::Order => "order within the position",
            Self::Unchanged => "columns whose value is not known",
            Self::Since => "valid from",
            Self::Until => "valid until",
        }
    }
}

/// What a change was, as a trail says it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Operation {
    /// The row was read.
    Snapshot,
    /// It came.
    Insert,
    /// It has other values.
    Update,
    /// It went.
    Delete,
    /// All rows went.
    Truncate,
}

impl Operation {
    /// The word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Snapshot => "snapshot",
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
            Self::Truncate => "truncate",
        }
    }
}

/// How a target table keeps rows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptAs {
    /// What it holds.
    #[serde(default)]
    pub keep: Keep,
    /// Whether old values stand beside the new ones of each change.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub old_values: bool,
    /// The view beside a table that keeps changes that has the current rows: its full name in the target.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub view: Option<String>,
}

impl KeptAs {
    /// Whether it is the rows as they are now, and nothing more.
    pub fn is_plain(&self) -> bool {
        *self == Self::default()
    }

    /// What a column that Moorage adds is called.
    pub fn name(&self, added: Added) -> &str {
        added.name()
    }

    /// The word that stands for an operation.
    pub fn word(&self, operation: Operation) -> &str {
        operation.word()
    }
}

/// What a column with old values is called.
pub fn old_name(column: &str) -> String {
    format!("old_{column}")
}
