//! Values on their way into SQLite.

use crate::file::storage::{Storage, storage};
use moorage_adapter::{AdapterError, Result};
use moorage_core::plan::table::TablePlan;
use moorage_core::value::column::Value;
use rusqlite::types::{ToSqlOutput, ValueRef};

/// A plan's columns, ready to convert values.
pub(crate) struct Converter {
    table: String,
    columns: Vec<(String, Storage)>,
}

impl Converter {
    pub(crate) fn new(plan: &TablePlan) -> Self {
        let columns = plan.mapped.columns.iter().map(|c| (c.name.clone(), storage(&c.logical))).collect();
        Self { table: plan.table().to_string(), columns }
    }

    /// The value as SQLite stores it.
    ///
    /// # Errors
    /// If it is a decimal that is not one.
    pub(crate) fn convert<'a>(&self, column: usize, value: Value<'a>) -> Result<ToSqlOutput<'a>> {
        let out = match (value, self.columns[column].1) {
            (Value::Text(text), Storage::DecimalInteger | Storage::DecimalReal)
                if matches!(text, "NaN" | "Infinity" | "-Infinity") =>
            {
                ValueRef::Text(text.as_bytes())
            }
            (Value::Text(text), Storage::DecimalInteger) => {
                ValueRef::Integer(text.parse().map_err(|_| self.not_a_decimal(column, text))?)
            }
            (Value::Text(text), Storage::DecimalReal) => {
                ValueRef::Real(text.parse().map_err(|_| self.not_a_decimal(column, text))?)
            }
            (Value::Null, _) => ValueRef::Null,
            (Value::Bool(b), _) => ValueRef::Integer(b.into()),
            (Value::Int(i), _) => ValueRef::Integer(i),
            (Value::Float32(f), _) => real(widen(f)),
            (Value::Float64(f), _) => real(f),
            (Value::Text(text), Storage::Plain) => ValueRef::Text(text.as_bytes()),
            (Value::Bytes(bytes), _) => ValueRef::Blob(bytes),
        };
        Ok(ToSqlOutput::Borrowed(out))
    }

    fn not_a_decimal(&self, column: usize, text: &str) -> AdapterError {
        AdapterError::Value {
            table: self.table.clone(),
            what: format!(
                "column {}: {text:?} does not fit the declared decimal type",
                self.columns[column].0
            ),
        }
    }
}

fn real(f: f64) -> ValueRef<'static> {
    if f.is_nan() { ValueRef::Text(b"NaN") } else { ValueRef::Real(f) }
}

/// The double whose shortest text is the single's: what people see in the source is what they see in
/// the target, and rounding it back gives the same single.
fn widen(f: f32) -> f64 {
    f.to_string().parse().unwrap_or(f64::from(f))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn singles_come_back_bit_for_bit() {
        for f in [0.1f32, 1e-45, 3.402_823_5e38, -2.5, 16_777_216.0, f32::INFINITY] {
            assert_eq!((widen(f) as f32).to_bits(), f.to_bits(), "{f}");
        }
        assert_eq!(widen(0.1), 0.1);
    }
}
