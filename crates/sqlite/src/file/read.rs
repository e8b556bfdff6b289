//! Values on their way out of SQLite, which lets any column hold a value of any class
//! (<https://www.sqlite.org/datatype3.html>). A value that is not one of its column's type is told in
//! words and never bent.

use crate::file::storage::{Storage, storage};
use moorage_core::value::canonical::is_value;
use moorage_core::value::column::{ColumnBuilder, Value};
use moorage_core::{LogicalType, TableSchema};
use rusqlite::types::{Value as Owned, ValueRef};

/// Who wrote the value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Writer {
    /// An application.
    Application,
    /// Moorage, as [`crate::as_target::values`] does: numbers that no number holds are texts, no text needs checking.
    Moorage,
}

/// Adds a value to a column of the type.
///
/// # Errors
/// In words if it is not a value of the type; nothing is added then.
pub(crate) fn push(
    builder: &mut ColumnBuilder,
    logical: &LogicalType,
    value: ValueRef<'_>,
    writer: Writer,
) -> Result<(), String> {
    use LogicalType as L;
    let wrong = || Err(format!("{} is not a value of type {logical}", shown(value)));
    let pushed = match (logical, value) {
        (_, ValueRef::Null) => {
            builder.push_null();
            true
        }
        (L::Bool, ValueRef::Integer(i @ (0 | 1))) => builder.push(Value::Bool(i == 1)),
        (L::Int16 | L::Int32 | L::Int64, ValueRef::Integer(i)) => builder.push(Value::Int(i)),
        (L::Float64, ValueRef::Real(f)) => builder.push(Value::Float64(f)),
        // A whole number in a column of affinity REAL is stored as an integer.
        (L::Float64, ValueRef::Integer(i)) if (i as f64) as i64 == i => {
            builder.push(Value::Float64(i as f64))
        }
        (L::Float32, ValueRef::Real(f)) if single(f).is_some() => {
            builder.push(Value::Float32(single(f).unwrap_or_default()))
        }
        (L::Float64, ValueRef::Text(b"NaN")) if writer == Writer::Moorage => {
            builder.push(Value::Float64(f64::NAN))
        }
        (L::Float32, ValueRef::Text(b"NaN")) if writer == Writer::Moorage => {
            builder.push(Value::Float32(f32::NAN))
        }
        (L::Bytes, ValueRef::Blob(bytes)) => builder.push(Value::Bytes(bytes)),
        (L::Decimal { .. } | L::Json | L::Other { .. }, ValueRef::Integer(i)) => {
            return push_text(builder, logical, &i.to_string(), writer);
        }
        (L::Decimal { .. } | L::Json | L::Other { .. }, ValueRef::Real(f)) if f.is_finite() => {
            return push_text(builder, logical, &f.to_string(), writer);
        }
        (L::Bool | L::Int16 | L::Int32 | L::Int64 | L::Float32 | L::Float64 | L::Bytes, _) => return wrong(),
        (_, ValueRef::Text(bytes)) => match std::str::from_utf8(bytes) {
            Ok(text) => return push_text(builder, logical, text, writer),
            Err(e) => {
                return Err(format!(
                    "text that is not valid UTF-8 (byte {} of {})",
                    e.valid_up_to(),
                    bytes.len()
                ));
            }
        },
        _ => return wrong(),
    };
    if pushed { Ok(()) } else { wrong() }
}

fn push_text(
    builder: &mut ColumnBuilder,
    logical: &LogicalType,
    text: &str,
    writer: Writer,
) -> Result<(), String> {
    let fits = writer == Writer::Moorage || is_value(logical, text);
    if fits && builder.push(Value::Text(text)) {
        return Ok(());
    }
    Err(format!("{} is not a value of type {logical}", shown(ValueRef::Text(text.as_bytes()))))
}

/// The single whose text is the double's, if there is one: the other way of the target's own widening.
fn single(f: f64) -> Option<f32> {
    let narrow = f as f32;
    let same = f.is_infinite() || narrow.to_string().parse() == Ok(f);
    same.then_some(narrow)
}

/// A value for a message: its class and the beginning of its text.
pub(crate) fn shown(value: ValueRef<'_>) -> String {
    match value {
        ValueRef::Null => "null".into(),
        ValueRef::Integer(i) => format!("integer {i}"),
        ValueRef::Real(f) => format!("real {f}"),
        ValueRef::Text(bytes) => {
            let text = String::from_utf8_lossy(bytes);
            let cut: String = text.chars().take(40).collect();
            format!("text {cut:?}{}", if cut.len() < text.len() { "…" } else { "" })
        }
        ValueRef::Blob(bytes) => format!("blob of {} bytes", bytes.len()),
    }
}

/// A key's values from their texts, as SQLite compares them.
///
/// # Errors
/// In words if there are too few or too many, or one is not of its column's type.
pub(crate) fn key_values(schema: &TableSchema, texts: &[String]) -> Result<Vec<Owned>, String> {
    let key = schema.identity.key().unwrap_or(&[]);
    if key.len() != texts.len() {
        return Err(format!(
            "its key has {} values ({}), not {}",
            key.len(),
            schema.key_names().join(", "),
            texts.len()
        ));
    }
    key.iter()
        .zip(texts)
        .map(|(&k, text)| key_value(&schema.columns[k].logical, &schema.columns[k].name, text))
        .collect()
}

fn key_value(logical: &LogicalType, name: &str, text: &str) -> Result<Owned, String> {
    use LogicalType as L;
    let wrong = || format!("{text:?} is not a value of key column {name} ({logical})");
    Ok(match logical {
        L::Bool => Owned::Integer(i64::from(match text {
            "true" | "t" | "1" => true,
            "false" | "f" | "0" => false,
            _ => return Err(wrong()),
        })),
        L::Int16 | L::Int32 | L::Int64 => Owned::Integer(text.parse().map_err(|_| wrong())?),
        L::Float32 | L::Float64 => Owned::Real(text.parse().map_err(|_| wrong())?),
        L::Decimal { .. } => match (storage(logical), text.parse::<f64>()) {
            (Storage::Plain, _) => Owned::Text(text.into()),
            (_, Ok(number)) => Owned::Real(number),
            _ => return Err(wrong()),
        },
        L::Bytes => {
            let digits = text.strip_prefix("\\x").ok_or_else(wrong)?;
            let byte = |i: usize| {
                digits.get(i..i + 2).and_then(|d| u8::from_str_radix(d, 16).ok()).ok_or_else(wrong)
            };
            Owned::Blob((0..digits.len()).step_by(2).map(byte).collect::<Result<_, _>>()?)
        }
        _ => Owned::Text(text.into()),
    })
}
