//! Which types go together, and the names of types.

use super::{Constant, Expr, Node};
use crate::convert::{self, conversion};
use crate::types::LogicalType;
use sqlparser::ast::{DataType, ExactNumberInfo, TimezoneInfo};

pub(super) const ANY_DECIMAL: LogicalType = LogicalType::Decimal { precision: None, scale: None };

pub(super) fn is_float(logical: &LogicalType) -> bool {
    matches!(logical, LogicalType::Float32 | LogicalType::Float64)
}

pub(super) fn is_decimal(logical: &LogicalType) -> bool {
    matches!(logical, LogicalType::Decimal { .. })
}

pub(super) fn is_number(logical: &LogicalType) -> bool {
    logical.is_integer() || is_float(logical) || is_decimal(logical)
}

/// Texts, and what only its source knows, which is a text here.
pub(super) fn is_text(logical: &LogicalType) -> bool {
    matches!(logical, LogicalType::Text | LogicalType::Other { .. })
}

/// The type in which two expressions meet, for comparing them or choosing between them.
pub(super) fn meeting(a: &Expr, b: &Expr) -> Result<LogicalType, String> {
    use LogicalType::{Date, Float64, Int64, Text, Time, Timestamp, TimestampTz, Uuid};
    let (x, y) = (&a.logical, &b.logical);
    let is_null = |e: &Expr| matches!(e.node, Node::Constant(Constant::Null));
    let is_literal = |e: &Expr| matches!(e.node, Node::Constant(Constant::Text(_)));
    Ok(match (x, y) {
        _ if is_null(a) => y.clone(),
        _ if is_null(b) => x.clone(),
        (x, y) if x == y && !matches!(x, LogicalType::Interval) => {
            if is_text(x) {
                Text
            } else if x.is_integer() {
                Int64
            } else {
                x.clone()
            }
        }
        (x, y) if is_text(x) && is_text(y) => Text,
        (x, y) if x.is_integer() && y.is_integer() => Int64,
        (x, y) if is_number(x) && is_number(y) => {
            if is_float(x) || is_float(y) {
                Float64
            } else {
                ANY_DECIMAL
            }
        }
        // A quoted literal beside a day, a time or an identifier is one.
        (Date | Time | Timestamp | TimestampTz | Uuid, _) if is_literal(b) => x.clone(),
        (_, Date | Time | Timestamp | TimestampTz | Uuid) if is_literal(a) => y.clone(),
        (Date, Timestamp) | (Timestamp, Date) => Timestamp,
        (Date | Timestamp, TimestampTz) | (TimestampTz, Date | Timestamp) => TimestampTz,
        (x, y) => {
            return Err(format!("{x} and {y} do not go together; CAST(… AS …) makes one into the other"));
        }
    })
}

/// The same expression as a value of a type that it can be of.
pub(super) fn promote(expr: Expr, to: &LogicalType) -> Result<Expr, String> {
    if expr.logical == *to {
        return Ok(expr);
    }
    match &expr.node {
        Node::Constant(Constant::Null) => Ok(Expr { logical: to.clone(), ..expr }),
        Node::Constant(Constant::Text(text)) if !is_text(to) => {
            let mut out = crate::column::ColumnBuilder::new(to);
            convert::convert(crate::column::Value::Text(text), &LogicalType::Text, to, false, &mut out)?;
            let value = crate::compare::value_text(crate::column::value_at(out.finish().as_ref(), 0));
            match value.filter(|_| !is_number(to) && *to != LogicalType::Bool) {
                Some(text) => Ok(Expr { node: Node::Constant(Constant::Text(text)), logical: to.clone() }),
                None => Ok(Expr { node: Node::Convert(Box::new(expr), false), logical: to.clone() }),
            }
        }
        _ if conversion(&expr.logical, to).is_some() => {
            // Promotions within numbers are what the standard says of approximate ones: the nearest.
            let nearest = is_float(to);
            Ok(Expr { node: Node::Convert(Box::new(expr), nearest), logical: to.clone() })
        }
        _ => Err(format!("a value of type {} cannot be one of type {to}", expr.logical)),
    }
}

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
        None => super::parse::data_type(text).and_then(|t| of_sql(&t)),
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
