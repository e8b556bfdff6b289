//! Tables as a source describes them: names, columns, and the key that tells rows apart.

use crate::pattern::quoted_part;
use crate::types::LogicalType;
use arrow::datatypes::{Field, Schema, SchemaRef};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;

/// A table's full name in its source.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct TableName {
    /// The schema (name space) it is in.
    pub schema: String,
    /// Its own name.
    pub name: String,
}

impl TableName {
    /// Puts a name together.
    pub fn new(schema: impl Into<String>, name: impl Into<String>) -> Self {
        Self { schema: schema.into(), name: name.into() }
    }

    /// The name as SQL wants it, both parts quoted.
    pub fn quoted(&self) -> String {
        format!("{}.{}", crate::sql::quote_ident(&self.schema), crate::sql::quote_ident(&self.name))
    }
}

impl TableName {
    /// Whether someone who writes this means the table: as it is shown, without quotes, or without its schema.
    pub fn goes_by(&self, text: &str) -> bool {
        text == self.to_string()
            || text == self.name
            || text.strip_prefix(self.schema.as_str()).and_then(|t| t.strip_prefix('.'))
                == Some(self.name.as_str())
    }
}

/// As patterns take it: a part in double quotes where it has to be.
impl fmt::Display for TableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", quoted_part(&self.schema), quoted_part(&self.name))
    }
}

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
