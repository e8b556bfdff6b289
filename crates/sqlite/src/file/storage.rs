//! How values are stored in a file. Decimals of up to 15 digits go into 64-bit floats, which give every such decimal back
//! unchanged (IEEE 754: 15 digits survive the way there and back), so that they sort, compare and sum; whole ones of up to
//! 18 digits go into integers.

use moorage_core::LogicalType;

/// How a column's values are stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Storage {
    /// As they are.
    Plain,
    /// A decimal as an integer.
    DecimalInteger,
    /// A decimal as a 64-bit float.
    DecimalReal,
}

/// Chooses the storage of a type.
pub(crate) fn storage(logical: &LogicalType) -> Storage {
    match logical {
        LogicalType::Decimal { precision: Some(precision), scale } => {
            let scale = scale.unwrap_or(0);
            let digits = i64::from(*precision) - i64::from(scale.min(0));
            match scale {
                ..=0 if digits <= 18 => Storage::DecimalInteger,
                1.. if *precision <= 15 && scale <= 15 => Storage::DecimalReal,
                _ => Storage::Plain,
            }
        }
        _ => Storage::Plain,
    }
}
