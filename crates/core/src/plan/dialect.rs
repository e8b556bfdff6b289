//! What planning needs to know of a target.

use crate::model::schema::Column;
use serde::{Deserialize, Serialize};

/// How a target declares a column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Declared {
    /// The type in its SQL.
    pub sql: String,
    /// What the user should know: what does not sort, or looks different.
    pub note: Option<String>,
}

/// What planning needs to know of a target.
pub trait TargetDialect {
    /// The declaration for a column's type.
    fn declare(&self, column: &Column, in_key: bool) -> Declared;
    /// The form of an identifier under which two that collide are equal.
    fn fold(&self, identifier: &str) -> String;
    /// Why a table may not have this name, if so: names that the target or Moorage keep for themselves.
    fn reserved(&self, table: &str) -> Option<String>;
    /// Why a column may not have this name, if so.
    fn reserved_column(&self, _column: &str) -> Option<String> {
        None
    }
    /// Whether a column that is declared as `from` can be declared as `to` at once, however many rows there are, with no
    /// value becoming another one.
    fn widens_at_once(&self, _from: &str, _to: &str) -> bool {
        false
    }
    /// Whether a column can be taken away at once, however many rows there are.
    fn drops_at_once(&self) -> bool {
        false
    }
    /// The full name of a target table, from the two parts that a naming rule gives. Where there are no schemas,
    /// a dot is part of the name.
    fn place(&self, schema: Option<&str>, table: &str) -> String {
        schema.map_or_else(|| table.into(), |schema| format!("{schema}.{table}"))
    }
}
