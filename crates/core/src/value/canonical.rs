//! The canonical form of values: when two of them are the same, how they are ordered, and which texts
//! are values of a type at all.
//!
//! Comparing source and target rests on this alone: floats bit for bit, decimals by value, texts by code
//! points, JSON by value (RFC 8259), times as instants.

use crate::model::types::LogicalType;
use crate::value::column::Value;
use crate::value::decimal;
use crate::value::interval;
use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime};
use serde_json::value::RawValue;
use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::BTreeMap;

/// Whether two values of one column are the same.
pub fn same(logical: &LogicalType, a: Value<'_>, b: Value<'_>) -> bool {
    match (a, b) {
        (Value::Float32(a), Value::Float32(b)) => a.to_bits() == b.to_bits(),
        (Value::Float64(a), Value::Float64(b)) => a.to_bits() == b.to_bits(),
        (Value::Text(a), Value::Text(b)) => {
            a == b || (has_many_texts(logical) && normal_text(logical, a) == normal_text(logical, b))
        }
        (a, b) => a == b,
    }
}

/// Whether one value of the type can have several texts.
fn has_many_texts(logical: &LogicalType) -> bool {
    use LogicalType::{Decimal, Json, Time, Timestamp, TimestampTz, Uuid};
    matches!(logical, Decimal { .. } | Json | Time | Timestamp | TimestampTz | Uuid)
}

/// The one text that stands for a value of a type that travels as text.
pub fn normal_text<'a>(logical: &LogicalType, text: &'a str) -> Cow<'a, str> {
    match logical {
        LogicalType::Decimal { .. } => Cow::Owned(decimal::normal(text)),
        LogicalType::Json => json(text).map_or(Cow::Borrowed(text), Cow::Owned),
        LogicalType::Time | LogicalType::Timestamp => Cow::Borrowed(without_trailing_zeros(text)),
        LogicalType::TimestampTz => instant(text).map_or(Cow::Borrowed(text), Cow::Owned),
        LogicalType::Uuid if text.bytes().any(|b| b.is_ascii_uppercase()) => {
            Cow::Owned(text.to_ascii_lowercase())
        }
        _ => Cow::Borrowed(text),
    }
}

/// Appends an encoding that is equal for the same values and different for all others.
pub fn write_key(logical: &LogicalType, value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Text(text) => Value::Text(&normal_text(logical, text)).write_key(out),
        other => other.write_key(out),
    }
}

/// Appends an encoding that is equal for all values that a system may take for one key: values that are the same, and zeros of
/// either sign, all that are no number, and intervals that are equally long.
pub fn write_equal(logical: &LogicalType, value: Value<'_>, out: &mut Vec<u8>) {
    let float = |f: f64| match f {
        f if f.is_nan() => f64::NAN,
        // Zeros of either sign are one number.
        f => f + 0.0,
    };
    match value {
        Value::Float32(f) => Value::Float64(float(f.into())).write_key(out),
        Value::Float64(f) => Value::Float64(float(f)).write_key(out),
        Value::Text(text) if *logical == LogicalType::Interval => match interval::length(text) {
            Some(length) => Value::Text(&length.to_string()).write_key(out),
            None => value.write_key(out),
        },
        value => write_key(logical, value, out),
    }
}

/// The order in which rows are compared. Numbers, also decimals, by value; bytes and all texts by their
/// bytes, which for UTF-8 is the order of code points; nulls first. Negative zero and zero are equal here.
pub fn order(logical: &LogicalType, a: Value<'_>, b: Value<'_>) -> Ordering {
    match (a, b) {
        (Value::Null, Value::Null) => Ordering::Equal,
        (Value::Null, _) => Ordering::Less,
        (_, Value::Null) => Ordering::Greater,
        (Value::Bool(a), Value::Bool(b)) => a.cmp(&b),
        (Value::Int(a), Value::Int(b)) => a.cmp(&b),
        (Value::Float32(a), Value::Float32(b)) => float_order(a.into(), b.into()),
        (Value::Float64(a), Value::Float64(b)) => float_order(a, b),
        (Value::Bytes(a), Value::Bytes(b)) => a.cmp(b),
        (Value::Text(a), Value::Text(b)) if matches!(logical, LogicalType::Decimal { .. }) => {
            match (decimal::parse(a), decimal::parse(b)) {
                (Some(a), Some(b)) => decimal::compare(&a, &b),
                _ => a.cmp(b),
            }
        }
        (Value::Text(a), Value::Text(b)) => a.cmp(b),
        _ => Ordering::Equal,
    }
}

fn float_order(a: f64, b: f64) -> Ordering {
    a.partial_cmp(&b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan()))
}

/// Whether a text is a value of the type in the form that [`LogicalType`] documents.
pub fn is_value(logical: &LogicalType, text: &str) -> bool {
    match logical {
        LogicalType::Decimal { precision, scale } => match (decimal::parse(text), precision) {
            (Some(decimal::Number::Finite(number)), Some(precision)) => {
                number.fits((*precision).into(), scale.unwrap_or(0).into())
            }
            (found, _) => found.is_some(),
        },
        LogicalType::Date => NaiveDate::parse_from_str(text, "%Y-%m-%d").is_ok() && text.len() == 10,
        LogicalType::Time => NaiveTime::parse_from_str(text, "%H:%M:%S%.f").is_ok(),
        LogicalType::Timestamp => NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f").is_ok(),
        LogicalType::TimestampTz => DateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f%:z").is_ok(),
        LogicalType::Uuid => {
            text.len() == 36
                && text.char_indices().all(|(i, c)| match i {
                    8 | 13 | 18 | 23 => c == '-',
                    _ => c.is_ascii_hexdigit(),
                })
        }
        LogicalType::Json => serde_json::from_str::<&RawValue>(text).is_ok(),
        _ => true,
    }
}

fn without_trailing_zeros(time: &str) -> &str {
    if time.contains('.') { time.trim_end_matches('0').trim_end_matches('.') } else { time }
}

/// An instant in UTC; `None` where the calendar library does not reach, whose texts are canonical already.
fn instant(text: &str) -> Option<String> {
    let at = DateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S%.f%:z").ok()?.to_utc();
    let text = at.format("%Y-%m-%d %H:%M:%S%.6f").to_string();
    Some(format!("{}+00:00", without_trailing_zeros(&text)))
}

/// A JSON document in one form: members in order of their names (the last of several with one name, RFC
/// 8259, section 4), numbers by value, strings without needless escapes, no white space.
fn json(text: &str) -> Option<String> {
    let mut out = String::with_capacity(text.len());
    write_json(serde_json::from_str(text).ok()?, &mut out)?;
    Some(out)
}

fn write_json(raw: &RawValue, out: &mut String) -> Option<()> {
    let text = raw.get();
    match text.as_bytes().first()? {
        b'{' => {
            let members: BTreeMap<String, &RawValue> = serde_json::from_str(text).ok()?;
            out.push('{');
            for (name, value) in members {
                out.push_str(&serde_json::to_string(&name).ok()?);
                out.push(':');
                write_json(value, out)?;
                out.push(',');
            }
            out.push('}');
        }
        b'[' => {
            out.push('[');
            for value in serde_json::from_str::<Vec<&RawValue>>(text).ok()? {
                write_json(value, out)?;
                out.push(',');
            }
            out.push(']');
        }
        b'"' => out.push_str(&serde_json::to_string(&serde_json::from_str::<String>(text).ok()?).ok()?),
        b'-' | b'0'..=b'9' => out.push_str(&decimal::normal(text)),
        _ => out.push_str(text),
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    const DECIMAL: LogicalType = LogicalType::Decimal { precision: None, scale: None };

    #[rstest::rstest]
    #[case(DECIMAL, "1.50", "1.5", true)]
    #[case(DECIMAL, "1.5", "1.51", false)]
    #[case(LogicalType::Text, "a", "A", false)]
    #[case(LogicalType::Text, "é", "e\u{301}", false)]
    #[case(LogicalType::Json, r#"{"a": 1.0, "b": [1e2]}"#, r#"{"b":[100],"a":1}"#, true)]
    #[case(LogicalType::Json, r#"{"a": "\u0041"}"#, r#"{"a":"A"}"#, true)]
    #[case(LogicalType::Json, "[1, 2]", "[2, 1]", false)]
    #[case(LogicalType::Json, "12345678901234567890123", "12345678901234567890124", false)]
    #[case(LogicalType::Timestamp, "2026-06-01 06:00:00.500", "2026-06-01 06:00:00.5", true)]
    #[case(LogicalType::TimestampTz, "2026-06-01 06:00:00+00:00", "2026-06-01 08:00:00.0+02:00", true)]
    #[case(LogicalType::TimestampTz, "294276-06-01 06:00:00+00:00", "294276-06-01 06:00:01+00:00", false)]
    #[case(
        LogicalType::Uuid,
        "A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11",
        "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11",
        true
    )]
    fn texts_are_the_same_by_meaning(
        #[case] logical: LogicalType,
        #[case] a: &str,
        #[case] b: &str,
        #[case] expected: bool,
    ) {
        assert_eq!(same(&logical, Value::Text(a), Value::Text(b)), expected);
        let key = |text| {
            let mut out = Vec::new();
            write_key(&logical, Value::Text(text), &mut out);
            out
        };
        assert_eq!(key(a) == key(b), expected);
    }

    #[test]
    fn floats_are_the_same_bit_for_bit() {
        let same = |a, b| same(&LogicalType::Float64, Value::Float64(a), Value::Float64(b));
        assert!(same(f64::NAN, f64::NAN) && !same(0.0, -0.0) && !same(0.1 + 0.2, 0.3));
        assert!(!super::same(&LogicalType::Int64, Value::Int(0), Value::Null));
    }

    #[rstest::rstest]
    #[case(LogicalType::Date, "2026-06-01", true)]
    #[case(LogicalType::Date, "2026-6-1", false)]
    #[case(LogicalType::Timestamp, "2026-06-01 06:00:00", true)]
    #[case(LogicalType::Timestamp, "2026-06-01T06:00:00", false)]
    #[case(LogicalType::Timestamp, "yesterday", false)]
    #[case(LogicalType::Decimal { precision: Some(6), scale: Some(2) }, "12.345", false)]
    #[case(LogicalType::Json, "{", false)]
    fn what_is_not_a_value_of_the_type_is_told(
        #[case] logical: LogicalType,
        #[case] text: &str,
        #[case] is: bool,
    ) {
        assert_eq!(is_value(&logical, text), is);
    }
}
