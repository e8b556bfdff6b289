//! The types that columns have on their way from a source to a target.
//!
//! A [`LogicalType`] says what a value means; its [`base`](LogicalType::base) says which Arrow type
//! carries it. What Arrow cannot hold exactly (decimals of any size, times outside 64-bit
//! microseconds since 1970, infinity) rides as canonical text.

use arrow::datatypes::DataType;
use serde::{Deserialize, Serialize};
use std::fmt;

/// The meaning of a column's values.
///
/// The canonical text of the types that travel as text:
/// - `Decimal`: digits with an optional sign and point; also `NaN`, `Infinity`, `-Infinity`.
/// - `Date`: `YYYY-MM-DD`, years of four or more digits, ` BC` behind years before 1, `infinity`, `-infinity`.
/// - `Time`: `HH:MM:SS[.ffffff]` up to `24:00:00`.
/// - `Timestamp`: date, one space, time. `TimestampTz`: the same in UTC followed by `+00:00`.
/// - `Interval`: ISO 8601 duration with signed parts.
/// - all others: the source's own text under fixed session settings.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "type")]
pub enum LogicalType {
    /// True or false.
    Bool,
    /// Signed 16-bit integer.
    Int16,
    /// Signed 32-bit integer.
    Int32,
    /// Signed 64-bit integer.
    Int64,
    /// IEEE 754 single precision, every value including NaN, infinities and negative zero.
    Float32,
    /// IEEE 754 double precision, likewise.
    Float64,
    /// An exact decimal number. Both `None`: any number of digits.
    Decimal {
        /// All digits, 1 or more.
        precision: Option<u32>,
        /// Digits behind the point; may be negative.
        scale: Option<i32>,
    },
    /// Characters.
    Text,
    /// Bytes.
    Bytes,
    /// A calendar day.
    Date,
    /// A time of day without zone.
    Time,
    /// A calendar day and time without zone.
    Timestamp,
    /// An instant.
    TimestampTz,
    /// Months, days and microseconds, kept apart.
    Interval,
    /// A universally unique identifier.
    Uuid,
    /// A JSON document as its source prints it.
    Json,
    /// Anything else, as its source's canonical text; `name` is the source's name of the type.
    Other {
        /// The source's name of the type.
        name: String,
    },
}

impl LogicalType {
    /// The Arrow type whose arrays carry values of this type.
    pub fn base(&self) -> DataType {
        match self {
            Self::Bool => DataType::Boolean,
            Self::Int16 => DataType::Int16,
            Self::Int32 => DataType::Int32,
            Self::Int64 => DataType::Int64,
            Self::Float32 => DataType::Float32,
            Self::Float64 => DataType::Float64,
            Self::Bytes => DataType::Binary,
            _ => DataType::Utf8,
        }
    }

    /// Whether a 64-bit signed integer holds every value.
    pub fn is_integer(&self) -> bool {
        matches!(self, Self::Int16 | Self::Int32 | Self::Int64)
    }

    /// Whether it is a binary floating-point number.
    pub fn is_float(&self) -> bool {
        matches!(self, Self::Float32 | Self::Float64)
    }
}

impl fmt::Display for LogicalType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = match self {
            Self::Bool => "boolean",
            Self::Int16 => "int16",
            Self::Int32 => "int32",
            Self::Int64 => "int64",
            Self::Float32 => "float32",
            Self::Float64 => "float64",
            Self::Decimal { precision: Some(p), scale } => {
                return write!(f, "decimal({p},{})", scale.unwrap_or(0));
            }
            Self::Decimal { .. } => "decimal",
            Self::Text => "text",
            Self::Bytes => "bytes",
            Self::Date => "date",
            Self::Time => "time",
            Self::Timestamp => "timestamp",
            Self::TimestampTz => "timestamp with zone",
            Self::Interval => "interval",
            Self::Uuid => "uuid",
            Self::Json => "json",
            Self::Other { name } => name,
        };
        f.write_str(word)
    }
}
