//! Declared conversions of values from one logical type to another.
//!
//! Invariant: a value is either converted exactly, or it is a misfit that is named, or it was asked for in so
//! many words that it may be rounded. What a pair of types can do is known before the first row
//! ([`conversion`]).

use crate::model::types::LogicalType;
use crate::value::canonical::{is_value, normal_text};
use crate::value::column::{ColumnBuilder, Value, value_text};
use crate::value::decimal;
use bigdecimal::num_bigint::BigInt;
use bigdecimal::{BigDecimal, RoundingMode, ToPrimitive};
use chrono::{DateTime, NaiveDateTime};
use std::str::FromStr;

/// What a conversion between two types can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Conversion {
    /// Every value fits, and equal ones stay equal, different ones different, in the same order.
    Exact,
    /// Every value fits; the order changes, or different ones may become equal.
    Total,
    /// Some values may not fit.
    Partial,
}

/// What a conversion can do; `None` if there is none between the types.
pub fn conversion(from: &LogicalType, to: &LogicalType) -> Option<Conversion> {
    use LogicalType::{
        Bool, Bytes, Date, Decimal, Float32, Float64, Int16, Int32, Int64, Interval, Json, Other, Text, Time,
        Timestamp, TimestampTz, Uuid,
    };
    Some(match (from, to) {
        (a, b) if a == b => Conversion::Exact,
        (Int16, Int32 | Int64) | (Int32, Int64) => Conversion::Exact,
        (Int16 | Int32 | Int64, Decimal { precision: None, .. }) => Conversion::Exact,
        (Decimal { precision: Some(_), .. }, Decimal { precision: None, .. }) => Conversion::Exact,
        (Uuid | Other { .. }, Text) => Conversion::Exact,
        (Float32, Float64) => Conversion::Exact,
        (_, Text) => Conversion::Total,
        (Int16 | Int32, Float64) | (Int16, Float32) => Conversion::Total,
        (Bool, Int16 | Int32 | Int64) | (Date, Timestamp | TimestampTz) => Conversion::Total,
        (Timestamp, TimestampTz) | (TimestampTz, Timestamp) => Conversion::Total,
        (
            Int16 | Int32 | Int64 | Decimal { .. } | Float32 | Float64,
            Int16 | Int32 | Int64 | Decimal { .. } | Float32 | Float64,
        ) => Conversion::Partial,
        (Int16 | Int32 | Int64, Bool) | (Timestamp | TimestampTz, Date | Time) => Conversion::Partial,
        (Text | Other { .. }, Bytes | Interval | Other { .. }) => return None,
        (Text | Other { .. } | Json, Bool | Int16 | Int32 | Int64 | Float32 | Float64 | Decimal { .. }) => {
            Conversion::Partial
        }
        (Text | Other { .. }, Date | Time | Timestamp | TimestampTz | Uuid | Json) => Conversion::Partial,
        _ => return None,
    })
}

/// Converts a value and adds it to a column of the type `to`. With `nearest`, numbers are rounded and times
/// cut.
///
/// # Errors
/// Nothing is added then; what was wrong, in words.
pub fn convert(
    value: Value<'_>,
    from: &LogicalType,
    to: &LogicalType,
    nearest: bool,
    out: &mut ColumnBuilder,
) -> Result<(), String> {
    let misfit =
        || format!("{} does not fit {to}", value_text(value).map_or("null".into(), |t| format!("{t:?}")));
    if from == to || value == Value::Null {
        return if out.push(value) { Ok(()) } else { Err(misfit()) };
    }
    use LogicalType::{Bool, Date, Decimal, Float32, Float64, Int16, Int32, Int64, Text, Time, Timestamp};
    let pushed = match to {
        Text => value_text(value).is_some_and(|text| out.push(Value::Text(&text))),
        Bool => truth(value).is_some_and(|b| out.push(Value::Bool(b))),
        Int16 | Int32 | Int64 => whole(value, nearest).is_some_and(|i| out.push(Value::Int(i))),
        Float64 => double(value, nearest).is_some_and(|f| out.push(Value::Float64(f))),
        Float32 => double(value, nearest)
            .filter(|f| {
                nearest || f64::from(*f as f32) == *f || f.is_nan() || matches!(value, Value::Text(_))
            })
            .is_some_and(|f| out.push(Value::Float32(f as f32))),
        Decimal { .. } => exact_text(value)
            .and_then(|text| fitting(&text, to, nearest))
            .is_some_and(|t| out.push(Value::Text(&t))),
        Date | Time | Timestamp | LogicalType::TimestampTz => match value {
            Value::Text(text) => moment(text, from, to, nearest).is_some_and(|t| out.push(Value::Text(&t))),
            _ => false,
        },
        _ => match value {
            Value::Text(text) if is_value(to, text) => out.push(Value::Text(&normal_text(to, text))),
            _ => false,
        },
    };
    if pushed { Ok(()) } else { Err(misfit()) }
}

fn truth(value: Value<'_>) -> Option<bool> {
    match value {
        Value::Int(0) => Some(false),
        Value::Int(1) => Some(true),
        Value::Text(text) => match text.trim().to_ascii_lowercase().as_str() {
            "true" | "t" | "1" | "yes" => Some(true),
            "false" | "f" | "0" | "no" => Some(false),
            _ => None,
        },
        _ => None,
    }
}

/// The exact decimal text of a number.
fn exact_text(value: Value<'_>) -> Option<String> {
    match value {
        Value::Int(i) => Some(i.to_string()),
        Value::Float32(f) => Some(float_text(f.is_finite(), f.to_string())),
        Value::Float64(f) => Some(float_text(f.is_finite(), f.to_string())),
        Value::Text(text) => {
            let text = text.trim();
            decimal::parse(text).map(|_| text.to_string())
        }
        _ => None,
    }
}

fn float_text(finite: bool, text: String) -> String {
    match text.as_str() {
        _ if finite => text,
        "inf" => "Infinity".into(),
        "-inf" => "-Infinity".into(),
        _ => text,
    }
}

/// A number as a big one; `None` for what is not finite.
pub fn big(text: &str) -> Option<BigDecimal> {
    match decimal::parse(text)? {
        // Written out, a number of any exponent would have as many digits.
        decimal::Number::Finite(number) if number.has_room() => BigDecimal::from_str(text).ok(),
        _ => None,
    }
}

fn whole(value: Value<'_>, nearest: bool) -> Option<i64> {
    match value {
        Value::Int(i) => Some(i),
        Value::Bool(b) => Some(b.into()),
        other => {
            let number = big(&exact_text(other)?)?;
            let rounded = number.with_scale_round(0, RoundingMode::HalfUp);
            (nearest || rounded == number).then(|| rounded.to_i64()).flatten()
        }
    }
}

fn double(value: Value<'_>, nearest: bool) -> Option<f64> {
    match value {
        Value::Int(i) => (nearest || (i as f64) as i128 == i128::from(i)).then_some(i as f64),
        Value::Float32(f) => Some(f.into()),
        Value::Float64(f) => Some(f),
        Value::Text(text) => {
            let text = text.trim();
            decimal::parse(text)?;
            text.replace("Infinity", "inf")
                .parse()
                .ok()
                .filter(|f: &f64| f.is_finite() || !text.starts_with(|c: char| c.is_ascii_digit()))
        }
        _ => None,
    }
}

/// A decimal's text in a decimal type, rounded if asked for.
fn fitting(text: &str, to: &LogicalType, nearest: bool) -> Option<String> {
    if is_value(to, text) {
        return Some(text.to_string());
    }
    let LogicalType::Decimal { precision: Some(_), scale } = to else { return None };
    let rounded = big(text)?.with_scale_round(i64::from(scale.unwrap_or(0)), RoundingMode::HalfUp);
    let rounded = plain(&rounded);
    (nearest && is_value(to, &rounded)).then_some(rounded)
}

/// A number's digits without an exponent.
pub fn plain(number: &BigDecimal) -> String {
    if *number.as_bigint_and_exponent().0.magnitude() == *BigInt::from(0).magnitude() {
        return "0".into();
    }
    number.to_plain_string()
}

/// Days and times: parts of one another, and texts in the form that [`LogicalType`] documents, or RFC 3339.
fn moment(text: &str, from: &LogicalType, to: &LogicalType, nearest: bool) -> Option<String> {
    use LogicalType::{Date, Other, Text, Time, Timestamp, TimestampTz};
    // An instant in UTC; before year 1 its era stands behind the zone.
    let text = match from {
        TimestampTz => &text.replacen("+00:00", "", 1),
        _ => text,
    };
    match (from, to) {
        (Date, Timestamp) => day_time(text, "00:00:00", ""),
        (Date, TimestampTz) => day_time(text, "00:00:00", "+00:00"),
        (Timestamp, TimestampTz) if text.ends_with("infinity") => Some(text.to_string()),
        (Timestamp, TimestampTz) => Some(match text.strip_suffix(" BC") {
            Some(text) => format!("{text}+00:00 BC"),
            None => format!("{text}+00:00"),
        }),
        (TimestampTz, Timestamp) => Some(text.to_string()),
        (Timestamp | TimestampTz, Date) if text.ends_with("infinity") => Some(text.to_string()),
        (Timestamp | TimestampTz, Date) => {
            let (day, rest) = text.split_once(' ')?;
            let (time, era) = rest.split_once(' ').map_or((rest, ""), |(t, _)| (t, " BC"));
            (nearest || time == "00:00:00").then(|| format!("{day}{era}"))
        }
        (Timestamp | TimestampTz, Time) if nearest => text.split(' ').nth(1).map(str::to_string),
        (Text | Other { .. }, TimestampTz) => instant(text.trim()),
        (Text | Other { .. }, Timestamp) => {
            let plain = text.trim().replacen('T', " ", 1);
            is_value(to, &plain).then(|| normal_text(to, &plain).into_owned())
        }
        (Text | Other { .. }, Date | Time) => is_value(to, text.trim()).then(|| text.trim().to_string()),
        _ => None,
    }
}

fn day_time(day: &str, time: &str, zone: &str) -> Option<String> {
    Some(match day.strip_suffix(" BC") {
        Some(day) => format!("{day} {time}{zone} BC"),
        None if day.ends_with("infinity") => day.to_string(),
        None => format!("{day} {time}{zone}"),
    })
}

/// An instant as people and programs write it (RFC 3339, or with a blank), in UTC.
fn instant(text: &str) -> Option<String> {
    let at = DateTime::parse_from_rfc3339(text)
        .or_else(|_| DateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f%#z"))
        .map(|t| t.to_utc())
        .or_else(|_| NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f").map(|t| t.and_utc()))
        .ok()?;
    let canonical = at.format("%Y-%m-%d %H:%M:%S%.6f+00:00").to_string();
    Some(normal_text(&LogicalType::TimestampTz, &canonical).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::column::value_at;
    use rstest::rstest;

    fn decimal(precision: u32, scale: i32) -> LogicalType {
        LogicalType::Decimal { precision: Some(precision), scale: Some(scale) }
    }

    #[rstest]
    #[case(Value::Int(70_000), LogicalType::Int32, LogicalType::Int16, false, None)]
    #[case(Value::Text("12.50"), LogicalType::Text, decimal(5, 2), false, Some("12.50"))]
    #[case(Value::Text("12.505"), LogicalType::Text, decimal(5, 2), false, None)]
    #[case(Value::Text("-12.505"), LogicalType::Text, decimal(5, 2), true, Some("-12.51"))]
    #[case(Value::Text("1999.999"), LogicalType::Text, decimal(5, 2), true, None)]
    #[case(Value::Text("7.0"), decimal(5, 2), LogicalType::Int32, false, Some("7"))]
    #[case(Value::Text("7.5"), decimal(5, 2), LogicalType::Int32, false, None)]
    #[case(Value::Text("NaN"), decimal(5, 2), LogicalType::Int32, true, None)]
    #[case(Value::Float64(0.1), LogicalType::Float64, LogicalType::Float32, false, None)]
    #[case(Value::Float64(0.1), LogicalType::Float64, decimal(5, 2), false, Some("0.1"))]
    #[case(Value::Int(i64::MAX), LogicalType::Int64, LogicalType::Float64, false, None)]
    #[case(Value::Text("7"), LogicalType::Text, LogicalType::Int64, false, Some("7"))]
    #[case(Value::Text("x"), LogicalType::Text, LogicalType::Int64, true, None)]
    #[case(
        Value::Text("2026-06-01T08:00:00+02:00"),
        LogicalType::Text,
        LogicalType::TimestampTz,
        false,
        Some("2026-06-01 06:00:00+00:00")
    )]
    #[case(Value::Text("2026-06-01 06:30:00"), LogicalType::Timestamp, LogicalType::Date, false, None)]
    #[case(
        Value::Text("2026-06-01 06:30:00"),
        LogicalType::Timestamp,
        LogicalType::Date,
        true,
        Some("2026-06-01")
    )]
    #[case(
        Value::Text("0044-03-15 12:00:00+00:00 BC"),
        LogicalType::TimestampTz,
        LogicalType::Timestamp,
        false,
        Some("0044-03-15 12:00:00 BC")
    )]
    #[case(
        Value::Text("0044-03-15 12:00:00 BC"),
        LogicalType::Timestamp,
        LogicalType::TimestampTz,
        false,
        Some("0044-03-15 12:00:00+00:00 BC")
    )]
    #[case(
        Value::Text("infinity"),
        LogicalType::TimestampTz,
        LogicalType::Timestamp,
        false,
        Some("infinity")
    )]
    #[case(
        Value::Text("0044-03-15 00:00:00+00:00 BC"),
        LogicalType::TimestampTz,
        LogicalType::Date,
        false,
        Some("0044-03-15 BC")
    )]
    #[case(Value::Bool(true), LogicalType::Bool, LogicalType::Int16, false, Some("1"))]
    #[case(Value::Bytes(&[1, 255]), LogicalType::Bytes, LogicalType::Text, false, Some("\\x01ff"))]
    fn a_value_fits_exactly_or_not_at_all(
        #[case] value: Value<'_>,
        #[case] from: LogicalType,
        #[case] to: LogicalType,
        #[case] nearest: bool,
        #[case] expected: Option<&str>,
    ) {
        assert!(conversion(&from, &to).is_some());
        let mut out = ColumnBuilder::new(&to);
        let done = convert(value, &from, &to, nearest, &mut out);
        let column = out.finish();
        match expected {
            Some(text) => assert_eq!(value_text(value_at(column.as_ref(), 0)).as_deref(), Some(text)),
            None => assert!(done.unwrap_err().contains("does not fit") && column.is_empty()),
        }
    }
}
