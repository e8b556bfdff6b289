//! What the project file decides: what tables hold, and what becomes of what does not fit.

use serde::{Deserialize, Serialize};

/// What to do with rows that a target table held before the pipeline.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ExistingRows {
    /// Remove them first.
    Replace,
    /// Leave them; rows with the same key are overwritten.
    Keep,
}

/// What becomes of a change that a target refuses.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnReject {
    /// The pipeline stops before it, with nothing of its batch applied.
    #[default]
    Stop,
    /// It is set aside with its reason, and everything else is applied.
    SetAside,
}

/// What a change means whose row the target holds otherwise than the change assumes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mismatch {
    /// It is refused like one that violates a constraint.
    #[default]
    Reject,
    /// The target may be an imperfect copy: an update of a missing row becomes an insert, an insert of a present
    /// row an update, a delete of a missing row nothing.
    Adjust,
}

/// What Moorage knows of a row beside its values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stamp {
    /// The source's name in the project file.
    Source,
    /// The source table's full name.
    Table,
    /// When the row's last change was committed; null for rows of the snapshot.
    CommittedAt,
    /// The position of the row's last change; null for rows of the snapshot.
    Position,
}

impl Stamp {
    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Table => "table",
            Self::CommittedAt => "commit time",
            Self::Position => "position",
        }
    }
}

/// What a target table is made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Shape {
    /// Of a column for each.
    #[default]
    Columns,
    /// Of a document for each row, with its table and its key: the same for any table.
    Document,
}

impl Shape {
    /// What the columns of a document's table are called: its table, its key, and the document.
    pub const DOCUMENT: [&str; 3] = ["moorage_table", "moorage_key", "moorage_row"];
}

/// What becomes of columns that the source computes from others, and that its log does not carry.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Generated {
    /// They are left out.
    #[default]
    LeaveOut,
    /// They are computed here, by the source's own expression, where that is the same here.
    Compute,
}

/// What to do with a value that the wanted type cannot hold.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OnMisfit {
    /// Stop, and name the row.
    #[default]
    Stop,
    /// Write null instead.
    Null,
    /// Write the nearest value that the type holds: numbers are rounded, half away from zero; times lose what
    /// is smaller. What is out of range stops.
    Nearest,
}
