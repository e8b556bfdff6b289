//! Reading rows in the order in which core compares them.

use crate::file::storage::{Storage, storage};
use moorage_core::LogicalType;
use moorage_core::model::schema::TableSchema;
use moorage_core::model::sql::quote_ident;
use moorage_core::value::canonical;
use moorage_core::value::column::Value;
use rusqlite::Connection;

/// Orders texts that are decimals by value.
const COLLATION: &str = "moorage_decimal";
const ANY_DECIMAL: LogicalType = LogicalType::Decimal { precision: None, scale: None };

/// Gives a connection the order of decimals that are stored as text.
pub(crate) fn prepare(db: &Connection) -> rusqlite::Result<()> {
    db.create_collation(COLLATION, |a, b| canonical::order(&ANY_DECIMAL, Value::Text(a), Value::Text(b)))
}

/// ` ORDER BY …` over the key, whose columns have these names here.
pub(crate) fn by_key(schema: &TableSchema, names: &[&str]) -> String {
    let key = schema.identity.key().unwrap_or(&[]);
    let term = |&k: &usize| {
        let name = quote_ident(names[k]);
        match &schema.columns[k].logical {
            logical @ LogicalType::Decimal { .. } if storage(logical) == Storage::Plain => {
                format!("{name} COLLATE {COLLATION}")
            }
            LogicalType::Other { .. } => format!("CAST({name} AS TEXT) COLLATE BINARY"),
            _ => format!("{name} COLLATE BINARY"),
        }
    };
    if key.is_empty() {
        String::new()
    } else {
        format!(" ORDER BY {}", key.iter().map(term).collect::<Vec<_>>().join(", "))
    }
}
