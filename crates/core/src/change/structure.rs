//! Changes of a table's structure, in order with the changes of its rows.

use crate::model::name::TableName;

/// A table is not as it was planned any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SchemaChange {
    /// The table.
    pub table: TableName,
    /// Its number in the stream, as changes of rows have it: those with lower numbers were made before. The
    /// greatest number there is where it lies behind everything that came.
    pub order: u64,
    /// What differs, for people: `column depth was added`.
    pub what: String,
    /// Whether nothing of the table can come any more: it is gone, or not captured any more.
    pub ends: bool,
}
