//! What a target table keeps of its source's rows, and the columns that Moorage adds to it for that.

use crate::model::types::LogicalType;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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

    /// The columns that it adds by itself, in their order.
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
    /// When the row was deleted; null where it is there.
    DeletedAt,
    /// Whether the change was a delete. Only where the project file gives it a name.
    IsDelete,
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
            Self::DeletedAt => "moorage_deleted_at",
            Self::IsDelete => "moorage_is_delete",
        }
    }

    /// The type of its values.
    pub fn logical(self) -> LogicalType {
        match self {
            Self::Operation | Self::Position => LogicalType::Text,
            Self::Unchanged => LogicalType::Json,
            Self::CommittedAt | Self::Since | Self::Until | Self::DeletedAt => LogicalType::TimestampTz,
            Self::Order => LogicalType::Int64,
            Self::IsDelete => LogicalType::Bool,
        }
    }

    /// Whether each row has a value.
    pub fn is_needed(self) -> bool {
        matches!(self, Self::Operation | Self::Position | Self::Order | Self::Since | Self::IsDelete)
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
            Self::DeletedAt => "when it was deleted",
            Self::IsDelete => "whether it was deleted",
        }
    }
}

/// What becomes of a row of the target that was deleted in the source.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Deletes {
    /// It goes; of versions, the one that is valid ends.
    #[default]
    Remove,
    /// It stays, with the time of its deletion; a row that comes again with its key clears that.
    Mark,
    /// It stays as it was.
    Ignore,
}

impl Operation {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Snapshot, Self::Insert, Self::Update, Self::Delete, Self::Truncate];
}

/// What a change was, as a trail says it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands over a reference")]
fn is_removed(deletes: &Deletes) -> bool {
    *deletes == Deletes::Remove
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
    /// What becomes of rows that were deleted in the source.
    #[serde(default, skip_serializing_if = "is_removed")]
    pub deletes: Deletes,
    /// The operations whose changes are not applied. Emptying a table goes with deletes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub leaves_out: Vec<Operation>,
    /// What added columns are called that are not called as they would be.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub names: BTreeMap<Added, String>,
    /// Other words for operations.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub words: BTreeMap<Operation, String>,
    /// Whether commit times of a trail are milliseconds since 1970-01-01 00:00 UTC.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub milliseconds: bool,
    /// The view beside a table that keeps changes that has the current rows: its full name in the target.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub view: Option<String>,
}

impl KeptAs {
    /// Whether it is the rows as they are now, and nothing more.
    pub fn is_plain(&self) -> bool {
        *self == Self::default()
    }

    /// The columns that are added, in their order.
    pub fn adds(&self) -> impl Iterator<Item = Added> {
        let marks = (self.deletes == Deletes::Mark).then_some(Added::DeletedAt);
        let flags = self.keep == Keep::Changes && self.names.contains_key(&Added::IsDelete);
        self.keep.adds().iter().copied().chain(marks).chain(flags.then_some(Added::IsDelete))
    }

    /// Whether the table has just the rows that the changes assume: then one that is another way is an error.
    pub fn is_exact(&self) -> bool {
        self.deletes == Deletes::Remove && self.leaves_out.is_empty()
    }

    /// Whether changes of a kind are not applied.
    pub fn leaves_out(&self, operation: Operation) -> bool {
        self.leaves_out.contains(&operation)
    }

    /// Whether rows stay that the source has no more, and nothing tells them from those that it has.
    pub fn keeps_deleted(&self) -> bool {
        self.keep != Keep::Changes && self.deletes == Deletes::Ignore
    }

    /// Why what it holds cannot be compared with the source's rows, or why counts alone tell nothing; none if it can be.
    pub fn not_comparable(&self, counts_only: bool) -> Option<&'static str> {
        match self.keep {
            _ if counts_only && self.keeps_deleted() => Some(
                "rows that were deleted stay in it, so that counts tell nothing: compare without --counts-only",
            ),
            Keep::Changes if !self.leaves_out.is_empty() => Some(
                "it leaves changes out (`operations`), so what it has come to is not what the source has",
            ),
            Keep::Current if self.leaves_out(Operation::Update) => {
                Some("it leaves updates out (`operations`), so its rows are as they first came")
            }
            _ => None,
        }
    }

    /// Whether rows that are there already say the same as those that will come.
    pub fn says_like(&self, other: &Self) -> bool {
        (self.keep, &self.words, self.milliseconds) == (other.keep, &other.words, other.milliseconds)
    }

    /// What the project file says of that, for people.
    pub fn written(&self) -> String {
        let word = |(operation, word): (&Operation, &String)| format!("{} = \"{word}\"", operation.word());
        let words: Vec<String> = self.words.iter().map(word).collect();
        let words = if words.is_empty() {
            String::new()
        } else {
            format!(", operation_words = {{ {} }}", words.join(", "))
        };
        let times = if self.milliseconds { ", commit_times = \"milliseconds\"" } else { "" };
        format!("keep = \"{}\"{words}{times}", self.keep.word())
    }

    /// What it keeps, for people; none if it is the rows as they are now, and nothing more.
    pub fn words(&self) -> Option<String> {
        if self.is_plain() {
            return None;
        }
        let what = match self.keep {
            Keep::Current => "the rows as they are now",
            Keep::Changes => "every change, a row for each",
            Keep::Versions => "every version of a row, with the times in which it was valid",
        };
        let old = if self.old_values { ", with old values" } else { "" };
        let deletes = match self.deletes {
            Deletes::Remove => "",
            Deletes::Mark => ", with deleted ones marked",
            Deletes::Ignore => ", with those that were deleted",
        };
        let mut left_out: Vec<&str> = self.leaves_out.iter().map(|operation| operation.word()).collect();
        left_out.retain(|word| *word != "truncate" && (*word != "delete" || self.keep == Keep::Changes));
        let without = match left_out.is_empty() {
            true => String::new(),
            false => format!(", without any {}", left_out.join(" or ")),
        };
        let view = self.view.as_ref().map(|view| format!("; view {view} has the rows as they are now"));
        Some(format!("{what}{old}{deletes}{without}{}", view.unwrap_or_default()))
    }

    /// What a column that Moorage adds is called.
    pub fn name(&self, added: Added) -> &str {
        self.names.get(&added).map_or(added.name(), String::as_str)
    }

    /// The type of its values.
    pub fn logical(&self, added: Added) -> LogicalType {
        match added {
            Added::CommittedAt if self.milliseconds => LogicalType::Int64,
            added => added.logical(),
        }
    }

    /// The word that stands for an operation.
    pub fn word(&self, operation: Operation) -> &str {
        self.words.get(&operation).map_or(operation.word(), String::as_str)
    }
}

/// What the name of a column with old values begins with.
pub const OLD: &str = "old_";

/// What a column with old values is called.
pub fn old_name(column: &str) -> String {
    format!("{OLD}{column}")
}
