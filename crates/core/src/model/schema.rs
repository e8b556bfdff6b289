//! Tables as a source describes them: names, columns, and the key that tells rows apart.

use crate::model::name::TableName;
use crate::model::types::LogicalType;
use arrow::datatypes::{Field, Schema, SchemaRef};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

/// One column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    /// Its name, as the source spells it.
    pub name: String,
    /// What its values mean.
    pub logical: LogicalType,
    /// The type as the source prints it, for people and for telling structures apart.
    pub source_type: String,
    /// Whether the source lets it be null.
    pub nullable: bool,
}

/// How rows of a table are told apart.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "kind", content = "columns")]
pub enum RowIdentity {
    /// By these columns (indexes into the schema), which the source guarantees to be unique and not null.
    Key(Vec<usize>),
    /// By these columns, which only the project file says are a key: duplicates and nulls are refused.
    DeclaredKey(Vec<usize>),
    /// By the whole row; several equal rows may exist.
    WholeRow,
}

impl RowIdentity {
    /// The key's columns, or none where the whole row is compared.
    pub fn key(&self) -> Option<&[usize]> {
        match self {
            Self::Key(k) | Self::DeclaredKey(k) => Some(k),
            Self::WholeRow => None,
        }
    }
}

/// The columns of a table that are carried, in the source's order, and its row identity.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableSchema {
    /// Which table.
    pub table: TableName,
    /// The carried columns.
    pub columns: Vec<Column>,
    /// How rows are told apart.
    pub identity: RowIdentity,
}

impl TableSchema {
    /// The Arrow schema of record batches of this table. Every field is nullable: a batch of changes
    /// has nulls where the log carried nothing.
    pub fn arrow(&self) -> SchemaRef {
        let fields: Vec<Field> = self
            .columns
            .iter()
            .map(|c| {
                Field::new(&c.name, c.logical.base(), true).with_metadata(HashMap::from([(
                    "moorage.logical_type".to_string(),
                    c.logical.to_string(),
                )]))
            })
            .collect();
        Arc::new(Schema::new(fields))
    }

    /// The names of the key's columns; empty where the whole row is compared.
    pub fn key_names(&self) -> Vec<&str> {
        self.identity.key().unwrap_or(&[]).iter().map(|&i| self.columns[i].name.as_str()).collect()
    }
}
