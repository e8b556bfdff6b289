//! Which types go together, and the names of types.

use super::tree::{Constant, Expr, Node};
use crate::model::types::LogicalType;
use crate::value::convert::{self, conversion};

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
            let mut out = crate::value::column::ColumnBuilder::new(to);
            convert::convert(
                crate::value::column::Value::Text(text),
                &LogicalType::Text,
                to,
                false,
                &mut out,
            )?;
            let value =
                crate::value::column::value_text(crate::value::column::value_at(out.finish().as_ref(), 0));
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
