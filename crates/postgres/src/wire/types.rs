//! PostgreSQL's types as logical types.

use moorage_core::LogicalType;

/// What the catalogue says of a column's type, domains already resolved to what they are made from.
pub(crate) struct CatalogType<'a> {
    /// Its number.
    pub(crate) id: u32,
    /// Its modifier; -1 if there is none.
    pub(crate) modifier: i32,
    /// Its name as people write it.
    pub(crate) name: &'a str,
}

/// The logical type. Numbers are those of `pg_type.dat` in the server's sources, fixed for built-in types.
pub(crate) fn logical(of: &CatalogType<'_>) -> LogicalType {
    match of.id {
        16 => LogicalType::Bool,
        17 => LogicalType::Bytes,
        20 | 26 => LogicalType::Int64,
        21 => LogicalType::Int16,
        23 => LogicalType::Int32,
        19 | 25 | 1042 | 1043 => LogicalType::Text,
        114 | 3802 => LogicalType::Json,
        700 => LogicalType::Float32,
        701 => LogicalType::Float64,
        1082 => LogicalType::Date,
        1083 => LogicalType::Time,
        1114 => LogicalType::Timestamp,
        1184 => LogicalType::TimestampTz,
        1186 => LogicalType::Interval,
        1700 => decimal(of.modifier),
        2950 => LogicalType::Uuid,
        _ => LogicalType::Other { name: of.name.to_string() },
    }
}

/// A numeric's modifier holds precision and scale, the scale as 11 signed bits (`numeric.c`,
/// `make_numeric_typmod`).
fn decimal(modifier: i32) -> LogicalType {
    if modifier < 4 {
        return LogicalType::Decimal { precision: None, scale: None };
    }
    let packed = modifier - 4;
    let scale = ((packed & 0x7ff) ^ 1024) - 1024;
    LogicalType::Decimal { precision: Some((packed >> 16) as u32 & 0xffff), scale: Some(scale) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case(-1, None, None)]
    #[case(((12 << 16) | 2) + 4, Some(12), Some(2))]
    #[case(((5 << 16) | (-3 & 0x7ff)) + 4, Some(5), Some(-3))]
    fn a_numeric_keeps_its_digits(
        #[case] modifier: i32,
        #[case] precision: Option<u32>,
        #[case] scale: Option<i32>,
    ) {
        assert_eq!(decimal(modifier), LogicalType::Decimal { precision, scale });
    }
}
