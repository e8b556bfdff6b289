//! Values from the server's text into columns. The session settings in `connect.rs` make the text canonical.

use moorage_core::LogicalType;
use moorage_core::value::column::{ColumnBuilder, Value};

/// Adds a value that came as text.
///
/// # Errors
/// In words, without the value's content beyond what is needed, if the text is not one of the type.
pub(crate) fn push_text(
    builder: &mut ColumnBuilder,
    logical: &LogicalType,
    text: &[u8],
) -> Result<(), String> {
    if let LogicalType::Bytes = logical {
        let bytes = from_hex(text).ok_or("bytes that are not in hexadecimal form")?;
        return pushed(builder.push(Value::Bytes(&bytes)));
    }
    let text = std::str::from_utf8(text)
        .map_err(|e| format!("text that is not valid UTF-8 (byte {} of {})", e.valid_up_to(), text.len()))?;
    let wrong = || format!("{text:?} is not a value of type {logical}");
    let done = match logical {
        LogicalType::Bool => builder.push(Value::Bool(text == "t")),
        LogicalType::Int16 | LogicalType::Int32 | LogicalType::Int64 => {
            builder.push(Value::Int(text.parse().map_err(|_| wrong())?))
        }
        LogicalType::Float32 => builder.push(Value::Float32(text.parse().map_err(|_| wrong())?)),
        LogicalType::Float64 => builder.push(Value::Float64(text.parse().map_err(|_| wrong())?)),
        LogicalType::TimestampTz => match full_offset(text) {
            Some(full) => builder.push(Value::Text(&full)),
            None => builder.push(Value::Text(text)),
        },
        _ => builder.push(Value::Text(text)),
    };
    pushed(done)
}

fn pushed(done: bool) -> Result<(), String> {
    if done { Ok(()) } else { Err("a value that does not fit its column".into()) }
}

/// `+00` becomes `+00:00`, which other systems' date functions understand; infinity has no offset.
fn full_offset(text: &str) -> Option<String> {
    let at = text.find("+00")?;
    let (head, tail) = text.split_at(at + 3);
    Some(format!("{head}:00{tail}"))
}

fn from_hex(text: &[u8]) -> Option<Vec<u8>> {
    let digits = text.strip_prefix(b"\\x")?;
    if digits.len() % 2 != 0 {
        return None;
    }
    let digit = |b: u8| (b as char).to_digit(16);
    digits.chunks_exact(2).map(|pair| Some((digit(pair[0])? << 4 | digit(pair[1])?) as u8)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_instant_gets_its_whole_offset_also_before_christ() {
        assert_eq!(
            full_offset("0044-03-15 12:00:00.5+00 BC").as_deref(),
            Some("0044-03-15 12:00:00.5+00:00 BC")
        );
        assert_eq!(full_offset("infinity"), None);
    }

    #[test]
    fn what_is_not_a_value_of_the_type_is_refused() {
        let push =
            |logical: LogicalType, text: &[u8]| push_text(&mut ColumnBuilder::new(&logical), &logical, text);
        assert!(push(LogicalType::Text, b"\xff").unwrap_err().contains("UTF-8"));
        assert!(push(LogicalType::Int16, b"40000").is_err());
        assert!(push(LogicalType::Bytes, b"\\x0").is_err());
        assert!(push(LogicalType::Bytes, b"\\x00Ff").is_ok());
    }
}
