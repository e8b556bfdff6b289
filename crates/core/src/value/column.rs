//! Building Arrow columns value by value, and reading them back as plain values.

use crate::model::schema::TableSchema;
use crate::model::types::LogicalType;
use arrow::array::{
    Array, ArrayRef, AsArray, BinaryBuilder, BooleanBuilder, Float32Builder, Float64Builder, Int16Builder,
    Int32Builder, Int64Builder, RecordBatch, RecordBatchOptions, StringBuilder,
};
use arrow::datatypes::{DataType, Float32Type, Float64Type, Int16Type, Int32Type, Int64Type};
use std::sync::Arc;

/// One value, borrowed from a column. Floats compare by bits in [`Value::write_key`], never by `==`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Value<'a> {
    /// No value.
    Null,
    /// True or false.
    Bool(bool),
    /// Any integer of up to 64 bits.
    Int(i64),
    /// Single precision.
    Float32(f32),
    /// Double precision.
    Float64(f64),
    /// Text, or the canonical text of a type that travels as text.
    Text(&'a str),
    /// Bytes.
    Bytes(&'a [u8]),
}

impl Value<'_> {
    /// Appends an encoding that is equal for equal values of one type and different for all others;
    /// several values written one after the other stay unambiguous.
    pub fn write_key(&self, out: &mut Vec<u8>) {
        match self {
            Value::Null => out.push(0),
            Value::Bool(b) => out.extend_from_slice(&[1, u8::from(*b)]),
            Value::Int(i) => {
                out.push(2);
                out.extend_from_slice(&i.to_le_bytes());
            }
            Value::Float32(f) => {
                out.push(3);
                out.extend_from_slice(&f.to_bits().to_le_bytes());
            }
            Value::Float64(f) => {
                out.push(4);
                out.extend_from_slice(&f.to_bits().to_le_bytes());
            }
            Value::Text(t) => write_bytes(5, t.as_bytes(), out),
            Value::Bytes(b) => write_bytes(6, b, out),
        }
    }
}

fn write_bytes(tag: u8, bytes: &[u8], out: &mut Vec<u8>) {
    out.push(tag);
    out.extend_from_slice(&(bytes.len() as u64).to_le_bytes());
    out.extend_from_slice(bytes);
}

/// The value in `row` of a column that was built for one of our logical types. An array of any
/// other Arrow type reads as null, which no [`ColumnBuilder`] ever makes.
pub fn value_at(array: &dyn Array, row: usize) -> Value<'_> {
    if array.is_null(row) {
        return Value::Null;
    }
    match array.data_type() {
        DataType::Boolean => Value::Bool(array.as_boolean().value(row)),
        DataType::Int16 => Value::Int(array.as_primitive::<Int16Type>().value(row).into()),
        DataType::Int32 => Value::Int(array.as_primitive::<Int32Type>().value(row).into()),
        DataType::Int64 => Value::Int(array.as_primitive::<Int64Type>().value(row)),
        DataType::Float32 => Value::Float32(array.as_primitive::<Float32Type>().value(row)),
        DataType::Float64 => Value::Float64(array.as_primitive::<Float64Type>().value(row)),
        DataType::Utf8 => Value::Text(array.as_string::<i32>().value(row)),
        DataType::Binary => Value::Bytes(array.as_binary::<i32>().value(row)),
        _ => Value::Null,
    }
}

/// A value as people read it; `None` for null.
pub fn value_text(value: Value<'_>) -> Option<String> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(b) => b.to_string(),
        Value::Int(i) => i.to_string(),
        Value::Float32(f) => format!("{f:?}"),
        Value::Float64(f) => format!("{f:?}"),
        Value::Text(t) => t.to_string(),
        Value::Bytes(b) => b.iter().fold(String::from("\\x"), |mut out, byte| {
            out.push_str(&format!("{byte:02x}"));
            out
        }),
    })
}

/// Collects one column's values.
pub enum ColumnBuilder {
    /// Booleans.
    Bool(BooleanBuilder),
    /// 16-bit integers.
    Int16(Int16Builder),
    /// 32-bit integers.
    Int32(Int32Builder),
    /// 64-bit integers.
    Int64(Int64Builder),
    /// Single precision.
    Float32(Float32Builder),
    /// Double precision.
    Float64(Float64Builder),
    /// Text and canonical text.
    Text(StringBuilder),
    /// Bytes.
    Bytes(BinaryBuilder),
}

impl ColumnBuilder {
    /// An empty column for values of `logical`. It begins without room: most blocks of changes are small,
    /// and many wait at a time.
    pub fn new(logical: &LogicalType) -> Self {
        match logical.base() {
            DataType::Boolean => Self::Bool(BooleanBuilder::with_capacity(0)),
            DataType::Int16 => Self::Int16(Int16Builder::with_capacity(0)),
            DataType::Int32 => Self::Int32(Int32Builder::with_capacity(0)),
            DataType::Int64 => Self::Int64(Int64Builder::with_capacity(0)),
            DataType::Float32 => Self::Float32(Float32Builder::with_capacity(0)),
            DataType::Float64 => Self::Float64(Float64Builder::with_capacity(0)),
            DataType::Binary => Self::Bytes(BinaryBuilder::with_capacity(0, 0)),
            _ => Self::Text(StringBuilder::with_capacity(0, 0)),
        }
    }

    /// Adds a null: also the mark of a value that the log did not carry.
    pub fn push_null(&mut self) {
        match self {
            Self::Bool(b) => b.append_null(),
            Self::Int16(b) => b.append_null(),
            Self::Int32(b) => b.append_null(),
            Self::Int64(b) => b.append_null(),
            Self::Float32(b) => b.append_null(),
            Self::Float64(b) => b.append_null(),
            Self::Text(b) => b.append_null(),
            Self::Bytes(b) => b.append_null(),
        }
    }

    /// Adds a value; `false`, and nothing added, if it does not fit this column's type.
    #[must_use]
    pub fn push(&mut self, value: Value<'_>) -> bool {
        match (self, value) {
            (me, Value::Null) => me.push_null(),
            (Self::Bool(b), Value::Bool(v)) => b.append_value(v),
            (Self::Int16(b), Value::Int(v)) => match i16::try_from(v) {
                Ok(v) => b.append_value(v),
                Err(_) => return false,
            },
            (Self::Int32(b), Value::Int(v)) => match i32::try_from(v) {
                Ok(v) => b.append_value(v),
                Err(_) => return false,
            },
            (Self::Int64(b), Value::Int(v)) => b.append_value(v),
            (Self::Float32(b), Value::Float32(v)) => b.append_value(v),
            (Self::Float64(b), Value::Float64(v)) => b.append_value(v),
            (Self::Text(b), Value::Text(v)) => b.append_value(v),
            (Self::Bytes(b), Value::Bytes(v)) => b.append_value(v),
            _ => return false,
        }
        true
    }

    /// Takes the values out.
    pub fn finish(&mut self) -> ArrayRef {
        match self {
            Self::Bool(b) => Arc::new(b.finish()),
            Self::Int16(b) => Arc::new(b.finish()),
            Self::Int32(b) => Arc::new(b.finish()),
            Self::Int64(b) => Arc::new(b.finish()),
            Self::Float32(b) => Arc::new(b.finish()),
            Self::Float64(b) => Arc::new(b.finish()),
            Self::Text(b) => Arc::new(b.finish()),
            Self::Bytes(b) => Arc::new(b.finish()),
        }
    }
}

/// Collects rows of one table into a [`RecordBatch`].
pub struct RowsBuilder {
    schema: Arc<TableSchema>,
    /// One builder a column, in the schema's order. Whoever pushes must push to each of them.
    pub columns: Vec<ColumnBuilder>,
    rows: usize,
    bytes: usize,
}

impl RowsBuilder {
    /// An empty set of rows.
    pub fn new(schema: Arc<TableSchema>) -> Self {
        let columns = schema.columns.iter().map(|c| ColumnBuilder::new(&c.logical)).collect();
        Self { schema, columns, rows: 0, bytes: 0 }
    }

    /// The table whose rows these are.
    pub fn schema(&self) -> &Arc<TableSchema> {
        &self.schema
    }

    /// Counts a row whose values were all pushed; `bytes` is its size as it came from the source.
    pub fn end_row(&mut self, bytes: usize) {
        self.rows += 1;
        self.bytes += bytes;
    }

    /// Rows so far.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Bytes so far, as counted by [`end_row`](Self::end_row).
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Takes the rows out and starts again from none.
    ///
    /// # Errors
    /// If a column was pushed to more or less often than the others.
    pub fn finish(&mut self) -> Result<RecordBatch, arrow::error::ArrowError> {
        let arrays = self.columns.iter_mut().map(ColumnBuilder::finish).collect();
        let options = RecordBatchOptions::new().with_row_count(Some(self.rows));
        self.rows = 0;
        self.bytes = 0;
        RecordBatch::try_new_with_options(self.schema.arrow(), arrays, &options)
    }
}
