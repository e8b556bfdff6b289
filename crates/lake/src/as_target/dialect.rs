//! How a lake declares and compares names and types.

use crate::as_target::ledger::STATE;
use crate::format::schema::{LakeType, MOST_DIGITS};
use moorage_core::plan::dialect::{Declared, TargetDialect};
use moorage_core::{Column, LogicalType};

/// The lake's dialect.
#[derive(Default)]
pub(crate) struct LakeDialect;

/// What the user should know of how values are held.
fn note(logical: &LogicalType) -> Option<String> {
    let text = "as text: it does not sort or sum as a number";
    Some(match logical {
        LogicalType::Decimal { .. } if LakeType::of(logical) != LakeType::Text => return None,
        LogicalType::Decimal { precision: Some(_), .. } => {
            format!("more than {MOST_DIGITS} digits; exact, but {text}")
        }
        LogicalType::Decimal { .. } => format!("any number of digits; exact, but {text}"),
        LogicalType::Date => "years 1 to 9999; infinity and BC are refused".into(),
        LogicalType::Timestamp | LogicalType::TimestampTz => {
            "in microseconds, years 1 to 9999; infinity and BC are refused".into()
        }
        LogicalType::Time => "as text".into(),
        LogicalType::Interval => "ISO 8601 text; does not sort by length".into(),
        LogicalType::Uuid | LogicalType::Json => "as text".into(),
        LogicalType::Other { .. } => "the source's text".into(),
        _ => return None,
    })
}

impl TargetDialect for LakeDialect {
    fn declare(&self, column: &Column, _in_key: bool) -> Declared {
        Declared { sql: LakeType::of(&column.logical).to_string(), note: note(&column.logical) }
    }

    /// Most readers compare names without regard to case, and so do some file systems.
    fn fold(&self, identifier: &str) -> String {
        identifier.to_lowercase()
    }

    fn reserved(&self, table: &str) -> Option<String> {
        (self.fold(table) == STATE).then(|| "Moorage keeps what it remembers under this name".into())
    }
}
