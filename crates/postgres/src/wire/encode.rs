//! Rows on their way into the server: COPY in its binary form where every column has one, otherwise as text; and
//! columns of rows as array parameters.

use super::binary::Form;
use super::trouble::{Refusal, Trouble};
use bytes::BytesMut;
use moorage_core::LogicalType;
use moorage_core::value::column::Value;
use std::fmt::Write;
use tokio_postgres::types::{IsNull, ToSql, Type, to_sql_checked};

/// What COPY in binary form begins with: signature, flags, length of an extension.
const SIGNATURE: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";
/// And what it ends with: a row of -1 fields.
const END: [u8; 2] = (-1i16).to_be_bytes();

/// How a table's rows are written.
#[derive(Clone, Debug)]
pub(crate) struct Encoder {
    /// The columns' binary forms; none if one of them has none.
    forms: Option<Vec<Form>>,
    names: Vec<String>,
}

impl Encoder {
    /// For columns with these names, logical types, and the server's numbers of their types in the target.
    pub(crate) fn new<'a>(columns: impl Iterator<Item = (&'a str, &'a LogicalType, u32)> + Clone) -> Self {
        let forms = columns.clone().map(|(_, logical, id)| Form::of(logical, id)).collect();
        Self { forms, names: columns.map(|(name, ..)| name.to_string()).collect() }
    }

    /// What goes behind COPY … FROM STDIN.
    pub(crate) fn options(&self) -> &'static str {
        if self.forms.is_some() { " WITH (FORMAT binary)" } else { "" }
    }

    /// What the data begins with.
    pub(crate) fn begin(&self, out: &mut Vec<u8>) {
        if self.forms.is_some() {
            out.extend_from_slice(SIGNATURE);
        }
    }

    /// What it ends with.
    pub(crate) fn end(&self, out: &mut Vec<u8>) {
        if self.forms.is_some() {
            out.extend_from_slice(&END);
        }
    }

    /// Appends a row.
    ///
    /// # Errors
    /// If a value is not one of its column's type. The row is not appended then.
    pub(crate) fn row<'a>(
        &self,
        out: &mut Vec<u8>,
        values: impl Iterator<Item = Value<'a>>,
    ) -> Result<(), Trouble> {
        let Some(forms) = &self.forms else {
            text_row(out, values);
            return Ok(());
        };
        let at = out.len();
        out.extend_from_slice(&(forms.len() as u16).to_be_bytes());
        for ((form, value), name) in forms.iter().zip(values).zip(&self.names) {
            if form.put(out, value).is_none() {
                out.truncate(at);
                let shown = text(value).unwrap_or_default();
                let reason = format!("column {name}: {shown:?} is not a value that its type can hold");
                return Err(Refusal::value(reason).into());
            }
        }
        Ok(())
    }
}

/// A row in the text format (PostgreSQL manual, page COPY, section "Text Format").
fn text_row<'a>(out: &mut Vec<u8>, values: impl Iterator<Item = Value<'a>>) {
    for (at, value) in values.enumerate() {
        if at > 0 {
            out.push(b'\t');
        }
        match value {
            Value::Null => out.extend_from_slice(b"\\N"),
            Value::Text(text) => escape(out, text),
            other => escape(out, &text(other).unwrap_or_default()),
        }
    }
    out.push(b'\n');
}

fn escape(out: &mut Vec<u8>, text: &str) {
    for byte in text.bytes() {
        match byte {
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            other => out.push(other),
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(2 + bytes.len() * 2);
    text.push_str("\\x");
    for byte in bytes {
        let _infallible = write!(text, "{byte:02x}");
    }
    text
}

fn float(f: f64, shortest: impl ToString) -> String {
    match () {
        () if f.is_nan() => "NaN".into(),
        () if f == f64::INFINITY => "Infinity".into(),
        () if f == f64::NEG_INFINITY => "-Infinity".into(),
        () => shortest.to_string(),
    }
}

/// A value as the server reads it; none for null.
pub(crate) fn text(value: Value<'_>) -> Option<String> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(b) => if b { "t" } else { "f" }.into(),
        Value::Int(i) => i.to_string(),
        Value::Float32(f) => float(f.into(), f),
        Value::Float64(f) => float(f, f),
        Value::Text(text) => text.into(),
        Value::Bytes(bytes) => hex(bytes),
    })
}

/// The type of the array in which a column's values are handed over; they are cast to the column's own by the
/// statement.
pub(crate) fn array_type(logical: &LogicalType) -> &'static str {
    match logical {
        LogicalType::Bool => "boolean",
        LogicalType::Int16 | LogicalType::Int32 | LogicalType::Int64 => "bigint",
        LogicalType::Float64 => "double precision",
        LogicalType::Bytes => "bytea",
        _ => "text",
    }
}

/// One column's values as an array parameter. Nothing is copied but texts of singles.
#[derive(Debug)]
pub(crate) struct Array<'a>(pub(crate) Vec<Value<'a>>);

impl ToSql for Array<'_> {
    /// Header, dimensions, elements (`array_send` in `arrayfuncs.c`).
    fn to_sql(
        &self,
        ty: &Type,
        out: &mut BytesMut,
    ) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        let tokio_postgres::types::Kind::Array(element) = ty.kind() else {
            return Err("not an array".into());
        };
        let has_null = self.0.iter().any(|v| matches!(v, Value::Null));
        let length = i32::try_from(self.0.len())?;
        // No elements, no dimension.
        for part in [i32::from(length > 0), i32::from(has_null), element.oid() as i32] {
            out.extend_from_slice(&part.to_be_bytes());
        }
        if length > 0 {
            out.extend_from_slice(&length.to_be_bytes());
            out.extend_from_slice(&1i32.to_be_bytes());
        }
        for value in &self.0 {
            let mut put = |bytes: &[u8]| {
                out.extend_from_slice(&(bytes.len() as i32).to_be_bytes());
                out.extend_from_slice(bytes);
            };
            match value {
                Value::Null => out.extend_from_slice(&(-1i32).to_be_bytes()),
                Value::Bool(b) => put(&[u8::from(*b)]),
                Value::Int(i) => put(&i.to_be_bytes()),
                Value::Float64(f) => put(&f.to_be_bytes()),
                Value::Float32(f) => put(float((*f).into(), f).as_bytes()),
                Value::Text(t) => put(t.as_bytes()),
                Value::Bytes(b) => put(b),
            }
        }
        Ok(IsNull::No)
    }

    fn accepts(ty: &Type) -> bool {
        matches!(ty.kind(), tokio_postgres::types::Kind::Array(_))
    }

    to_sql_checked!();
}

/// One flag a row.
#[derive(Debug)]
pub(crate) struct Flags(pub(crate) Vec<bool>);

impl ToSql for Flags {
    fn to_sql(
        &self,
        ty: &Type,
        out: &mut BytesMut,
    ) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        self.0.to_sql(ty, out)
    }

    fn accepts(ty: &Type) -> bool {
        *ty == Type::BOOL_ARRAY
    }

    to_sql_checked!();
}
