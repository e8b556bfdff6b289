//! A table's structure as a plan keeps it: what a later structure of the source's table is compared with, and what the
//! project file's rules are applied to while the table is followed, whatever the catalogue says by now.

use crate::model::described::{LogIdentity, SourceColumn, SourceTable, TableKind};
use crate::model::finding::{Fix, Reason};
use crate::model::gathered::PartOf;
use crate::model::name::TableName;
use serde::{Deserialize, Serialize};

/// What a plan keeps of a source's table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Structure {
    /// Its name.
    pub name: TableName,
    /// The source's own number for it.
    pub id: u64,
    /// All columns.
    pub columns: Vec<SourceColumn>,
    /// What the log says about rows.
    pub identity: LogIdentity,
    /// What has the source's log carry whole rows.
    #[serde(default)]
    pub whole_rows: Fix,
    /// What else the source needs to tell this structure from a later one: its own text.
    #[serde(default)]
    pub state: String,
    /// The name that rules of the project file know it by: the one that it had when it was first planned. None: its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<TableName>,
    /// The partitioned table that it was a part of when it was first planned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part_of: Option<PartOf>,
    /// Why its changes are not captured as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uncaptured: Option<Reason>,
    /// Columns of the target's table that hold what columns held which are gone by now.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_behind: Vec<String>,
}

impl Structure {
    /// Of a table as it was described.
    pub fn of(table: &SourceTable) -> Self {
        Self {
            name: table.name.clone(),
            id: table.id,
            columns: table.columns.clone(),
            identity: table.identity.clone(),
            whole_rows: table.whole_rows.clone(),
            state: table.state.clone(),
            known_as: None,
            part_of: table.part_of.clone().filter(|part| !part.apart),
            uncaptured: table.uncaptured.clone(),
            left_behind: Vec::new(),
        }
    }

    /// The name that rules know it by.
    pub fn ruled_as(&self) -> &TableName {
        self.known_as.as_ref().unwrap_or(&self.name)
    }

    /// The table as it was, for planning it once more.
    pub fn table(&self) -> SourceTable {
        SourceTable {
            name: self.name.clone(),
            kind: TableKind::Table,
            id: self.id,
            columns: self.columns.clone(),
            identity: self.identity.clone(),
            identity_word: "",
            row_estimate: None,
            bytes: None,
            refused: None,
            uncaptured: self.uncaptured.clone(),
            whole_rows: self.whole_rows.clone(),
            written_by: None,
            written_from: None,
            bound: Vec::new(),
            note: None,
            part_of: self.part_of.clone(),
            comment: None,
            state: self.state.clone(),
        }
    }

    /// The column that is the same one as `other`, whatever it is called now: by number, or by name where columns have
    /// none.
    pub fn same(&self, other: &SourceColumn) -> Option<&SourceColumn> {
        self.columns.iter().find(|c| c.is_same(other))
    }
}

impl SourceColumn {
    /// Whether both are the same column, at two times.
    pub fn is_same(&self, other: &Self) -> bool {
        match (self.number, other.number) {
            (Some(a), Some(b)) => a == b,
            _ => self.column.name == other.column.name,
        }
    }
}
