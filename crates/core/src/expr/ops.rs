//! What operators and functions do with single values.

use super::tree::{Arithmetic, Comparison, Function, Part};
use crate::model::types::LogicalType;
use crate::value::canonical;
use crate::value::column::{ColumnBuilder, Value};
use crate::value::convert::{big, plain};
use bigdecimal::{BigDecimal, RoundingMode};
use std::cmp::Ordering;

/// Adding results in a few words.
pub(super) trait Words {
    fn null(&mut self) -> Result<(), String>;
    fn text(&mut self, text: &str) -> Result<(), String>;
    fn int(&mut self, int: i64) -> Result<(), String>;
    fn put(&mut self, truth: Option<bool>) -> Result<(), String>;
}

fn added(done: bool) -> Result<(), String> {
    if done { Ok(()) } else { Err("the result has another type than was planned".into()) }
}

impl Words for ColumnBuilder {
    fn null(&mut self) -> Result<(), String> {
        self.push_null();
        Ok(())
    }
    fn text(&mut self, text: &str) -> Result<(), String> {
        added(self.push(Value::Text(text)))
    }
    fn int(&mut self, int: i64) -> Result<(), String> {
        added(self.push(Value::Int(int)))
    }
    fn put(&mut self, truth: Option<bool>) -> Result<(), String> {
        added(self.push(truth.map_or(Value::Null, Value::Bool)))
    }
}

pub(super) fn compare(
    comparison: Comparison,
    logical: &LogicalType,
    a: Value<'_>,
    b: Value<'_>,
) -> Option<bool> {
    if a == Value::Null || b == Value::Null {
        return None;
    }
    let order = order(logical, a, b);
    Some(match comparison {
        Comparison::Equal => order.is_eq(),
        Comparison::NotEqual => order.is_ne(),
        Comparison::Less => order.is_lt(),
        Comparison::LessOrEqual => order.is_le(),
        Comparison::Greater => order.is_gt(),
        Comparison::GreaterOrEqual => order.is_ge(),
    })
}

/// The order of two values that are not null: by value, texts by code points.
pub(super) fn order(logical: &LogicalType, a: Value<'_>, b: Value<'_>) -> Ordering {
    use LogicalType::{Date, Time, Timestamp, TimestampTz};
    match (logical, a, b) {
        (Date | Time | Timestamp | TimestampTz, Value::Text(a), Value::Text(b)) => {
            let (a, b) = (canonical::normal_text(logical, a), canonical::normal_text(logical, b));
            moment(&a).cmp(&moment(&b))
        }
        (LogicalType::Uuid, Value::Text(a), Value::Text(b)) => {
            canonical::normal_text(logical, a).cmp(&canonical::normal_text(logical, b))
        }
        _ => canonical::order(logical, a, b),
    }
}

/// A day or time such that later ones are greater, also before year 1 and behind year 9999.
fn moment(text: &str) -> (i64, &str) {
    match text {
        "infinity" => return (i64::MAX, ""),
        "-infinity" => return (i64::MIN, ""),
        _ => {}
    }
    let before_christ = text.ends_with(" BC");
    let text = text.trim_end_matches(" BC").trim_end_matches("+00:00");
    match text.split_once('-').and_then(|(year, rest)| Some((year.parse::<i64>().ok()?, rest))) {
        Some((year, rest)) => (if before_christ { 1 - year } else { year }, rest),
        None => (0, text),
    }
}

/// `%` stands for any characters, `_` for one (ISO/IEC 9075-2, section 8.5).
pub(super) fn like(text: &str, pattern: &str, escape: Option<char>) -> Result<bool, String> {
    enum Token {
        Any,
        One,
        Is(char),
    }
    let mut tokens = Vec::new();
    let mut characters = pattern.chars();
    while let Some(c) = characters.next() {
        tokens.push(match c {
            c if Some(c) == escape => {
                Token::Is(characters.next().ok_or("a LIKE pattern ends with its escape character")?)
            }
            '%' => Token::Any,
            '_' => Token::One,
            c => Token::Is(c),
        });
    }
    // Walks both; on a mismatch goes back to behind the last `%`, one character further.
    let text: Vec<char> = text.chars().collect();
    let (mut t, mut p, mut back) = (0, 0, None);
    while t < text.len() {
        match tokens.get(p) {
            Some(Token::Any) => {
                back = Some((p, t));
                p += 1;
            }
            Some(Token::One) => (t, p) = (t + 1, p + 1),
            Some(Token::Is(c)) if *c == text[t] => (t, p) = (t + 1, p + 1),
            _ => match back {
                Some((any, from)) => {
                    back = Some((any, from + 1));
                    (t, p) = (from + 1, any + 1);
                }
                None => return Ok(false),
            },
        }
    }
    Ok(tokens[p..].iter().all(|token| matches!(token, Token::Any)))
}

pub(super) fn arithmetic(
    op: Arithmetic,
    a: Value<'_>,
    b: Value<'_>,
    out: &mut ColumnBuilder,
) -> Result<(), String> {
    match (a, b) {
        (Value::Int(a), Value::Int(b)) => {
            let result = match op {
                Arithmetic::Add => a.checked_add(b),
                Arithmetic::Subtract => a.checked_sub(b),
                Arithmetic::Multiply => a.checked_mul(b),
                Arithmetic::Divide => None,
                Arithmetic::Remainder if b == 0 => return Err("division by zero".into()),
                Arithmetic::Remainder => Some(a.wrapping_rem(b)),
            };
            out.int(result.ok_or("the result does not fit a 64-bit integer; CAST(… AS NUMERIC) has room")?)
        }
        (Value::Float64(a), Value::Float64(b)) => {
            let result = match op {
                Arithmetic::Add => a + b,
                Arithmetic::Subtract => a - b,
                Arithmetic::Multiply => a * b,
                Arithmetic::Divide if b == 0.0 => return Err("division by zero".into()),
                Arithmetic::Divide => a / b,
                Arithmetic::Remainder => a % b,
            };
            added(out.push(Value::Float64(result)))
        }
        (Value::Text(a), Value::Text(b)) => {
            let (a, b) = (finite(a)?, finite(b)?);
            let result = match op {
                Arithmetic::Add => a + b,
                Arithmetic::Subtract => a - b,
                _ => a * b,
            };
            if result.digits() > crate::value::decimal::MOST_DIGITS {
                return Err(format!(
                    "the result has more than {} digits",
                    crate::value::decimal::MOST_DIGITS
                ));
            }
            out.text(&plain(&result))
        }
        _ => out.null(),
    }
}

/// The longest text that an expression makes, in bytes.
const MOST_TEXT_BYTES: usize = 64 << 20;

/// Whether a result of so many bytes may be made.
pub(super) fn room_for(bytes: usize) -> Result<(), String> {
    match bytes {
        0..=MOST_TEXT_BYTES => Ok(()),
        _ => Err(format!("the result has {bytes} bytes, and may have {MOST_TEXT_BYTES}")),
    }
}

fn finite(text: &str) -> Result<BigDecimal, String> {
    big(text).ok_or_else(|| {
        let short: String = text.chars().take(60).collect();
        format!("{short} is not a finite number of at most {} digits", crate::value::decimal::MOST_DIGITS)
    })
}

pub(super) fn negate(value: Value<'_>, out: &mut ColumnBuilder) -> Result<(), String> {
    match value {
        Value::Int(i) => out.int(i.checked_neg().ok_or("the result does not fit a 64-bit integer")?),
        Value::Float64(f) => added(out.push(Value::Float64(-f))),
        Value::Text(text) => out.text(&plain(&-finite(text)?)),
        _ => out.null(),
    }
}

pub(super) fn call(function: Function, values: &[Value<'_>], out: &mut ColumnBuilder) -> Result<(), String> {
    if values.contains(&Value::Null) {
        return out.null();
    }
    match (function, values) {
        (Function::Upper, [Value::Text(t)]) => out.text(&t.to_uppercase()),
        (Function::Lower, [Value::Text(t)]) => out.text(&t.to_lowercase()),
        (Function::TrimBoth, [Value::Text(t)]) => out.text(t.trim_matches(' ')),
        (Function::TrimLeading, [Value::Text(t)]) => out.text(t.trim_start_matches(' ')),
        (Function::TrimTrailing, [Value::Text(t)]) => out.text(t.trim_end_matches(' ')),
        (Function::Length, [Value::Text(t)]) => out.int(t.chars().count() as i64),
        (Function::Replace, [Value::Text(t), Value::Text(from), Value::Text(to)]) => {
            if from.is_empty() {
                return out.text(t);
            }
            let times = t.matches(from).count();
            room_for(t.len().saturating_add(times.saturating_mul(to.len())))?;
            out.text(&t.replace(from, to))
        }
        (Function::Substring, [Value::Text(t), Value::Int(from)]) => out.text(&substring(t, *from, None)?),
        (Function::Substring, [Value::Text(t), Value::Int(from), Value::Int(length)]) => {
            out.text(&substring(t, *from, Some(*length))?)
        }
        (Function::Extract(part), [Value::Text(t)]) => extract(part, t, out),
        (Function::Abs, [Value::Int(i)]) => {
            out.int(i.checked_abs().ok_or("the result does not fit a 64-bit integer")?)
        }
        (Function::Abs, [Value::Float64(f)]) => added(out.push(Value::Float64(f.abs()))),
        (Function::Abs, [Value::Text(t)]) => out.text(&plain(&finite(t)?.abs())),
        (Function::Round | Function::Floor | Function::Ceiling, [Value::Int(i)]) => out.int(*i),
        (Function::Round, [Value::Float64(f)]) => added(out.push(Value::Float64(f.round()))),
        (Function::Floor, [Value::Float64(f)]) => added(out.push(Value::Float64(f.floor()))),
        (Function::Ceiling, [Value::Float64(f)]) => added(out.push(Value::Float64(f.ceil()))),
        (Function::Round, [Value::Int(i), Value::Int(digits)]) => {
            let rounded = round(&BigDecimal::from(*i), *digits, RoundingMode::HalfUp)?;
            out.int(rounded.parse().map_err(|_| "the result does not fit a 64-bit integer")?)
        }
        (Function::Round, [Value::Text(t)]) => out.text(&round(&finite(t)?, 0, RoundingMode::HalfUp)?),
        (Function::Round, [Value::Text(t), Value::Int(digits)]) => {
            out.text(&round(&finite(t)?, *digits, RoundingMode::HalfUp)?)
        }
        (Function::Floor, [Value::Text(t)]) => out.text(&round(&finite(t)?, 0, RoundingMode::Floor)?),
        (Function::Ceiling, [Value::Text(t)]) => out.text(&round(&finite(t)?, 0, RoundingMode::Ceiling)?),
        _ => Err("the function got values of other types than were planned".into()),
    }
}

fn round(number: &BigDecimal, digits: i64, mode: RoundingMode) -> Result<String, String> {
    match digits {
        -1000..=1000 => Ok(plain(&number.with_scale_round(digits, mode))),
        _ => Err(format!("ROUND to {digits} digits is out of range (-1000 to 1000)")),
    }
}

/// Positions count from 1 and may lie outside (ISO/IEC 9075-2, section 6.32).
fn substring(text: &str, from: i64, length: Option<i64>) -> Result<String, String> {
    let end = match length {
        Some(length) if length < 0 => return Err("SUBSTRING of a negative length".into()),
        Some(length) => from.saturating_add(length),
        None => i64::MAX,
    };
    let start = from.max(1);
    let count = end.saturating_sub(start).max(0);
    Ok(text.chars().skip((start - 1) as usize).take(usize::try_from(count).unwrap_or(usize::MAX)).collect())
}

fn extract(part: Part, text: &str, out: &mut ColumnBuilder) -> Result<(), String> {
    if text.ends_with("infinity") {
        return out.null();
    }
    let before_christ = text.ends_with(" BC");
    let text = text.trim_end_matches(" BC").trim_end_matches("+00:00");
    let (day, time) = match text.split_once(' ') {
        Some((day, time)) => (day, time),
        None if text.contains(':') => ("", text),
        None => (text, ""),
    };
    let (from, separator, at) = match part {
        Part::Year => (day, '-', 0),
        Part::Month => (day, '-', 1),
        Part::Day => (day, '-', 2),
        Part::Hour => (time, ':', 0),
        Part::Minute => (time, ':', 1),
        Part::Second => (time, ':', 2),
    };
    let found = from.split(separator).nth(at).unwrap_or_default();
    if part == Part::Second {
        return out.text(&plain(&finite(found)?));
    }
    let number: i64 = found.parse().map_err(|_| format!("{text:?} has no such part"))?;
    out.int(if part == Part::Year && before_christ { -number } else { number })
}
