//! A table's schema as its log has it (protocol, "Schema Serialization Format"), and the types of columns in it.

use arrow::datatypes::{DataType, Field, Schema, SchemaRef, TimeUnit};
use moorage_core::{Column, LogicalType};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fmt;
use std::sync::Arc;

/// A type that a column can have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum LakeType {
    Boolean,
    Short,
    Integer,
    Long,
    Float,
    Double,
    /// Digits in all, 1 to 38, and those behind the point.
    Decimal(u8, u8),
    Text,
    Binary,
    /// Days since 1970, in the proleptic Gregorian calendar.
    Date,
    /// An instant, in microseconds since 1970 UTC.
    Timestamp,
    /// A date and a time without zone, in microseconds.
    TimestampNtz,
}

/// The most digits that a decimal type has.
pub(crate) const MOST_DIGITS: u32 = 38;

impl LakeType {
    /// The type that holds values of a logical type.
    pub(crate) fn of(logical: &LogicalType) -> Self {
        match logical {
            LogicalType::Bool => Self::Boolean,
            LogicalType::Int16 => Self::Short,
            LogicalType::Int32 => Self::Integer,
            LogicalType::Int64 => Self::Long,
            LogicalType::Float32 => Self::Float,
            LogicalType::Float64 => Self::Double,
            LogicalType::Decimal { precision: Some(precision), scale } => {
                decimal(*precision, scale.unwrap_or(0)).unwrap_or(Self::Text)
            }
            LogicalType::Bytes => Self::Binary,
            LogicalType::Date => Self::Date,
            LogicalType::Timestamp => Self::TimestampNtz,
            LogicalType::TimestampTz => Self::Timestamp,
            _ => Self::Text,
        }
    }

    /// The type with a name in the log.
    pub(crate) fn named(name: &str) -> Option<Self> {
        Some(match name {
            "boolean" => Self::Boolean,
            "short" => Self::Short,
            "integer" => Self::Integer,
            "long" => Self::Long,
            "float" => Self::Float,
            "double" => Self::Double,
            "string" => Self::Text,
            "binary" => Self::Binary,
            "date" => Self::Date,
            "timestamp" => Self::Timestamp,
            "timestamp_ntz" => Self::TimestampNtz,
            _ => {
                let digits = name.strip_prefix("decimal(")?.strip_suffix(')')?;
                let (precision, scale) = digits.split_once(',')?;
                decimal(precision.trim().parse().ok()?, scale.trim().parse().ok()?)?
            }
        })
    }

    /// The Arrow type of its columns in data files.
    pub(crate) fn arrow(self) -> DataType {
        match self {
            Self::Boolean => DataType::Boolean,
            Self::Short => DataType::Int16,
            Self::Integer => DataType::Int32,
            Self::Long => DataType::Int64,
            Self::Float => DataType::Float32,
            Self::Double => DataType::Float64,
            Self::Decimal(precision, scale) => DataType::Decimal128(precision, scale as i8),
            Self::Text => DataType::Utf8,
            Self::Binary => DataType::Binary,
            Self::Date => DataType::Date32,
            Self::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
            Self::TimestampNtz => DataType::Timestamp(TimeUnit::Microsecond, None),
        }
    }
}

/// The decimal type with so many digits, also for numbers that end in zeros before the point; none if it has too many.
fn decimal(precision: u32, scale: i32) -> Option<LakeType> {
    let more = u32::try_from(-scale).unwrap_or(0);
    let scale = u32::try_from(scale).unwrap_or(0);
    let precision = precision.checked_add(more)?.max(scale).max(1);
    (precision <= MOST_DIGITS).then_some(LakeType::Decimal(precision as u8, scale as u8))
}

/// The name in the log.
impl fmt::Display for LakeType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Boolean => "boolean",
            Self::Short => "short",
            Self::Integer => "integer",
            Self::Long => "long",
            Self::Float => "float",
            Self::Double => "double",
            Self::Decimal(precision, scale) => return write!(f, "decimal({precision},{scale})"),
            Self::Text => "string",
            Self::Binary => "binary",
            Self::Date => "date",
            Self::Timestamp => "timestamp",
            Self::TimestampNtz => "timestamp_ntz",
        })
    }
}

/// A column as the log has it. Its type is a name, or an object for those that are made of others.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct LakeField {
    pub(crate) name: String,
    #[serde(rename = "type")]
    pub(crate) of_type: Value,
    pub(crate) nullable: bool,
    #[serde(default)]
    pub(crate) metadata: serde_json::Map<String, Value>,
}

impl LakeField {
    /// A column that any value may be missing in.
    pub(crate) fn new(name: &str, of_type: LakeType) -> Self {
        let of_type = Value::String(of_type.to_string());
        Self { name: name.into(), of_type, nullable: true, metadata: serde_json::Map::new() }
    }

    /// Its type, if it is one of those that are written here.
    pub(crate) fn lake_type(&self) -> Option<LakeType> {
        LakeType::named(self.of_type.as_str()?)
    }

    /// Its type in words, and whether it takes no nulls, which no column of ours does.
    pub(crate) fn words(&self) -> String {
        let of_type = self.of_type.as_str().map_or_else(|| self.of_type.to_string(), str::to_string);
        if self.nullable { of_type } else { format!("{of_type} not null") }
    }
}

/// The columns of a table.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct LakeSchema {
    #[serde(rename = "type")]
    kind: String,
    pub(crate) fields: Vec<LakeField>,
}

impl LakeSchema {
    pub(crate) fn new(fields: Vec<LakeField>) -> Self {
        Self { kind: "struct".into(), fields }
    }

    /// The columns of a planned table, under their names in the target.
    pub(crate) fn of<'a>(columns: impl Iterator<Item = (&'a str, &'a Column)>) -> Self {
        Self::new(columns.map(|(name, c)| LakeField::new(name, LakeType::of(&c.logical))).collect())
    }

    /// From the log's text.
    ///
    /// # Errors
    /// If it is none; in words.
    pub(crate) fn parse(text: &str) -> Result<Self, String> {
        serde_json::from_str(text).map_err(|e| e.to_string())
    }

    /// As the log has it.
    pub(crate) fn text(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// The schema of its data files, without columns of types that are not read here.
    pub(crate) fn arrow(&self) -> SchemaRef {
        let field = |f: &LakeField| Some(Field::new(&f.name, f.lake_type()?.arrow(), true));
        Arc::new(Schema::new(self.fields.iter().filter_map(field).collect::<Vec<_>>()))
    }

    /// Whether it has a column of this type.
    pub(crate) fn has(&self, of_type: LakeType) -> bool {
        self.fields.iter().any(|field| field.lake_type() == Some(of_type))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Some(10), Some(2), "decimal(10,2)")]
    #[case(Some(38), Some(38), "decimal(38,38)")]
    #[case(Some(3), Some(-2), "decimal(5,0)")]
    #[case(Some(2), Some(5), "decimal(5,5)")]
    #[case(Some(39), Some(0), "string")]
    #[case(Some(37), Some(-2), "string")]
    #[case(None, None, "string")]
    fn decimals_have_the_type_that_holds_them_all(
        #[case] precision: Option<u32>,
        #[case] scale: Option<i32>,
        #[case] expected: &str,
    ) {
        let of_type = LakeType::of(&LogicalType::Decimal { precision, scale });
        assert_eq!(of_type.to_string(), expected);
        assert_eq!(LakeType::named(expected), Some(of_type));
    }

    #[test]
    fn schemas_come_back_and_what_others_have_is_no_type_of_ours() {
        let text = r#"{"type":"struct","fields":[{"name":"id","type":"long","nullable":false,"metadata":{}},{"name":"tags","type":{"type":"array","elementType":"string","containsNull":true},"nullable":true,"metadata":{}}]}"#;
        let schema = LakeSchema::parse(text).unwrap();
        assert_eq!(schema.text(), text);
        assert_eq!(schema.fields[0].lake_type(), Some(LakeType::Long));
        assert_eq!((schema.fields[1].lake_type(), schema.arrow().fields().len()), (None, 1));
        for name in ["decimal(39,1)", "decimal(-1,2)", "decimal", "interval day", ""] {
            assert_eq!(LakeType::named(name), None, "{name}");
        }
    }
}
