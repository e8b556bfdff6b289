//! Rows in the text format of COPY (PostgreSQL manual, page COPY, section "Text Format").

use crate::wire::values::push_text;
use moorage_core::value::column::RowsBuilder;
use std::borrow::Cow;

/// The fields of a line, with or without its newline; none for null.
pub(crate) fn fields(line: &[u8]) -> impl Iterator<Item = Option<Cow<'_, [u8]>>> {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    line.split(|b| *b == b'\t').map(|field| (field != b"\\N").then(|| unescape(field)))
}

/// Adds one line to the rows.
///
/// # Errors
/// In words, with the column, if the line does not have one value for each column or a value is not one
/// of its type.
pub(crate) fn push_line(rows: &mut RowsBuilder, line: &[u8]) -> Result<(), String> {
    let schema = rows.schema().clone();
    let mut fields = fields(line);
    for (column, builder) in schema.columns.iter().zip(&mut rows.columns) {
        match fields.next().ok_or("a row with too few values")? {
            None => builder.push_null(),
            Some(field) => push_text(builder, &column.logical, &field)
                .map_err(|e| format!("column {}: {e}", column.name))?,
        }
    }
    if fields.next().is_some() {
        return Err("a row with too many values".into());
    }
    rows.end_row(line.len());
    Ok(())
}

fn unescape(field: &[u8]) -> Cow<'_, [u8]> {
    if !field.contains(&b'\\') {
        return Cow::Borrowed(field);
    }
    let mut out = Vec::with_capacity(field.len());
    let mut bytes = field.iter();
    while let Some(&byte) = bytes.next() {
        match (byte, bytes.as_slice().first()) {
            (b'\\', Some(&next)) => {
                bytes.next();
                out.push(match next {
                    b'b' => 8,
                    b't' => b'\t',
                    b'n' => b'\n',
                    b'v' => 11,
                    b'f' => 12,
                    b'r' => b'\r',
                    other => other,
                });
            }
            _ => out.push(byte),
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_are_undone() {
        assert_eq!(unescape(br"a\tb\\N\n\b\v\f\r").as_ref(), b"a\tb\\N\n\x08\x0b\x0c\r");
        assert!(matches!(unescape(b"plain"), Cow::Borrowed(_)));
    }
}
