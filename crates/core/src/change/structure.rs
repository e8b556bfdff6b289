//! Changes of a table's structure, in order with the changes of its rows.

use crate::model::described::SourceTable;
use crate::model::name::TableName;
use crate::model::schema::TableSchema;
use arrow::array::RecordBatch;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A table is not as it was planned any more.
#[derive(Clone, Debug)]
pub struct SchemaChange {
    /// The table, under the name that it had before.
    pub table: TableName,
    /// Its number in the stream, as changes of rows have it: those with lower numbers were made before. The
    /// greatest number there is where it lies behind everything that came.
    pub order: u64,
    /// What differs, for people: `column depth was added`. Empty if nothing does but what the source keeps for itself.
    pub what: String,
    /// Whether nothing of the table can come any more: it is gone, or not captured any more.
    pub ends: bool,
    /// What it leads to, from a source that tells; then changes behind it follow. None: the stream ends with it.
    pub step: Option<Arc<Step>>,
}

/// The same step is the same one that was handed over.
impl PartialEq for SchemaChange {
    fn eq(&self, other: &Self) -> bool {
        let same_step = match (&self.step, &other.step) {
            (Some(a), Some(b)) => Arc::ptr_eq(a, b),
            (None, None) => true,
            _ => false,
        };
        same_step
            && (&self.table, self.order, &self.what, self.ends)
                == (&other.table, other.order, &other.what, other.ends)
    }
}

impl Eq for SchemaChange {}

/// From one structure to the next.
#[derive(Clone, Debug)]
pub struct Step {
    /// The table from here on.
    pub after: Arc<SourceTable>,
    /// The columns that changes behind it are handed on with: all that the log carries.
    pub schema: Arc<TableSchema>,
    /// One row of that schema, with the values that rows from before have in the columns that came. None: they are null in
    /// all of them.
    pub values: Option<RecordBatch>,
    /// What is not known of the values that rows from before have now, if anything: only reading the table again tells.
    pub unknown: Option<Unknown>,
    /// What became of types that columns are of.
    pub types: Vec<OfType>,
}

/// What became of the values that a column may have, by a change of its type and not of its table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OfType {
    /// The column's number.
    pub column: u32,
    /// What it was.
    pub what: TypeChange,
}

/// A change of a type.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TypeChange {
    /// A value is called otherwise in every row that has it, and nothing else is called as it was.
    Renamed {
        /// As it was called.
        from: String,
        /// As it is called.
        to: String,
    },
    /// Other values are allowed than before, in words; none that is there became another one.
    Allowed(String),
}

/// Values that are not known.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unknown {
    /// Why, for people.
    pub why: String,
    /// The numbers of the columns whose values are not; none if it may be all.
    pub columns: Option<Vec<u32>>,
}

impl Unknown {
    /// Both.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        let columns = match (self.columns, other.columns) {
            (Some(a), Some(b)) => Some(a.into_iter().chain(b).collect()),
            _ => None,
        };
        Self { why: format!("{}, {}", self.why, other.why), columns }
    }

    /// Whether a column's values may be among them.
    pub fn includes(&self, number: Option<u32>) -> bool {
        match (&self.columns, number) {
            (Some(columns), Some(number)) => columns.contains(&number),
            _ => true,
        }
    }
}
