//! How SQLite declares and compares names and types.
//!
//! Type affinity: <https://www.sqlite.org/datatype3.html>, section 3.1. Decimals of up to 15 digits go into
//! 64-bit floats, which give every such decimal back unchanged (IEEE 754: 15 digits survive the way
//! there and back), so that they sort, compare and sum; whole ones of up to 18 digits go into integers.

use crate::file::storage::{Storage, storage};
use moorage_core::plan::dialect::{Declared, TargetDialect};
use moorage_core::{Column, LogicalType};

/// SQLite's dialect.
pub struct SqliteDialect;

impl TargetDialect for SqliteDialect {
    fn declare(&self, column: &Column, _in_key: bool) -> Declared {
        let declared = |sql: &str, note: &str| Declared {
            sql: sql.into(),
            note: (!note.is_empty()).then(|| note.to_string()),
        };
        match &column.logical {
            LogicalType::Bool => declared("BOOLEAN", ""),
            LogicalType::Int16 | LogicalType::Int32 | LogicalType::Int64 => declared("INTEGER", ""),
            // Without a declared type a column has no affinity. With REAL, negative zero would become zero.
            LogicalType::Float32 | LogicalType::Float64 => {
                declared("", "a 64-bit float; NaN is the text 'NaN'")
            }
            LogicalType::Decimal { precision, scale } => match storage(&column.logical) {
                Storage::Plain => declared(
                    "TEXT",
                    "exact, but as text: it does not sort or sum as a number; use CAST(… AS REAL) for that",
                ),
                _ => Declared {
                    sql: format!("DECIMAL({},{})", precision.unwrap_or(0), scale.unwrap_or(0)),
                    note: (scale.unwrap_or(0) > 0)
                        .then(|| format!("exact; round sums to {} digits", scale.unwrap_or(0))),
                },
            },
            LogicalType::Bytes => declared("BLOB", ""),
            LogicalType::Date | LogicalType::Timestamp | LogicalType::TimestampTz => {
                declared("TEXT", "sorts from year 1 to 9999; BC, later years and infinity do not")
            }
            LogicalType::Interval => declared("TEXT", "ISO 8601 text; does not sort by length"),
            LogicalType::Other { name } if name == "money" => {
                declared("TEXT", "the source's text; does not sort or sum as a number")
            }
            _ => declared("TEXT", ""),
        }
    }

    /// SQLite compares names without regard to the case of ASCII letters.
    fn fold(&self, identifier: &str) -> String {
        identifier.to_ascii_lowercase()
    }

    /// What is declared counts for nothing but how values are stored: decimals stay what they are.
    fn widens_at_once(&self, from: &str, to: &str) -> bool {
        let is_whole = |sql: &str| Some(sql.strip_prefix("DECIMAL(")?.ends_with(",0)"));
        is_whole(from).is_some() && is_whole(from) == is_whole(to)
    }

    fn reserved(&self, table: &str) -> Option<String> {
        let folded = self.fold(table);
        if folded.starts_with("sqlite_") {
            return Some("SQLite keeps names that begin with sqlite_ for itself".into());
        }
        folded.starts_with("moorage_").then(|| "names that begin with moorage_ are Moorage's own".into())
    }
}
