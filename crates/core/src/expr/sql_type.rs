//! The names of types, as people write them and as SQL does.

use super::text::data_type;
use super::types::ANY_DECIMAL;
use crate::model::types::LogicalType;
use sqlparser::ast::{DataType, ExactNumberInfo, TimezoneInfo};

/// Reads the name of a type as people write it: SQL's names, and those that a plan shows.
///
/// # Errors
/// If there is no such type; in words.
pub fn logical_type(text: &str) -> Result<LogicalType, String> {
    let shown = match text.trim() {
        "int16" => Some(LogicalType::Int16),
        "int32" => Some(LogicalType::Int32),
        "int64" => Some(LogicalType::Int64),
        "float32" => Some(LogicalType::Float32),
        "float64" => Some(LogicalType::Float64),
        "bytes" => Some(LogicalType::Bytes),
        "json" => Some(LogicalType::Json),
        "timestamp with zone" => Some(LogicalType::TimestampTz),
        _ => None,
    };
    match shown {
        Some(found) => Ok(found),
        None => data_type(text).and_then(|t| of_sql(&t)),
    }
}

pub(super) fn of_sql(declared: &DataType) -> Result<LogicalType, String> {
    Ok(match declared {
        DataType::Bool | DataType::Boolean => LogicalType::Bool,
        DataType::SmallInt(_) => LogicalType::Int16,
        DataType::Int(_) | DataType::Integer(_) => LogicalType::Int32,
        DataType::BigInt(_) => LogicalType::Int64,
        DataType::Real => LogicalType::Float32,
        DataType::DoublePrecision | DataType::Double(_) | DataType::Float(_) => LogicalType::Float64,
        DataType::Numeric(info) | DataType::Decimal(info) => decimal(info)?,
        DataType::Text => LogicalType::Text,
        DataType::Varchar(None) | DataType::CharVarying(None) | DataType::CharacterVarying(None) => {
            LogicalType::Text
        }
        DataType::Date => LogicalType::Date,
        DataType::Time(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => LogicalType::Time,
        DataType::Timestamp(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => LogicalType::Timestamp,
        DataType::Timestamp(..) => LogicalType::TimestampTz,
        DataType::Uuid => LogicalType::Uuid,
        other => {
            return Err(format!(
                "there is no conversion to {other}; there is one to boolean, int16, int32, int64, float32, float64, decimal(digits, behind the point), text, date, time, timestamp, timestamp with time zone, uuid and json"
            ));
        }
    })
}

fn decimal(info: &ExactNumberInfo) -> Result<LogicalType, String> {
    let (precision, scale) = match info {
        ExactNumberInfo::None => return Ok(ANY_DECIMAL),
        ExactNumberInfo::Precision(p) => (*p, 0),
        ExactNumberInfo::PrecisionAndScale(p, s) => (*p, *s),
    };
    match (u32::try_from(precision), i32::try_from(scale)) {
        (Ok(p @ 1..=1000), Ok(s @ 0..=1000)) if s <= p as i32 => {
            Ok(LogicalType::Decimal { precision: Some(p), scale: Some(s) })
        }
        _ => Err(format!(
            "decimal({precision}, {scale}) has no such digits: 1 to 1000, and no more of them behind the point"
        )),
    }
}
