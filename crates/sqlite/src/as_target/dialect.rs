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

/// What becomes of values that are written into a column (datatype3.html, section 3.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Affinity {
    /// Texts that are numbers become numbers. What only `CAST` tells apart (INTEGER and NUMERIC) is one here.
    Number,
    /// The same, and all are floats.
    Real,
    /// Numbers become texts.
    Text,
    /// They stay what they are.
    Any,
}

/// What a declared type makes of values. The rules stand in the order of the manual.
pub(crate) fn affinity(declared: &str) -> Affinity {
    let declared = declared.to_ascii_uppercase();
    let has = |words: &[&str]| words.iter().any(|word| declared.contains(word));
    match () {
        () if has(&["INT"]) => Affinity::Number,
        () if has(&["CHAR", "CLOB", "TEXT"]) => Affinity::Text,
        () if has(&["BLOB"]) || declared.is_empty() => Affinity::Any,
        () if has(&["REAL", "FLOA", "DOUB"]) => Affinity::Real,
        () => Affinity::Number,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("INTEGER", Affinity::Number)]
    #[case("FLOATING POINT", Affinity::Number)]
    #[case("VARCHAR(40)", Affinity::Text)]
    #[case("text", Affinity::Text)]
    #[case("", Affinity::Any)]
    #[case("BLOB", Affinity::Any)]
    #[case("DOUBLE PRECISION", Affinity::Real)]
    #[case("DECIMAL(10,2)", Affinity::Number)]
    #[case("BOOLEAN", Affinity::Number)]
    #[case("STRING", Affinity::Number)]
    fn a_declared_type_has_the_affinity_that_the_manual_gives_it(
        #[case] declared: &str,
        #[case] of: Affinity,
    ) {
        assert_eq!(affinity(declared), of);
    }
}
