//! How the server is asked to sort as core does.

use moorage_core::LogicalType;

/// The same for a column of the server's type `declared` that holds values of `logical`.
pub(crate) fn sort_term(logical: &LogicalType, declared: &str, name: &str) -> String {
    let is_text = declared == "text" || declared.starts_with("character");
    match logical {
        LogicalType::Bool
        | LogicalType::Int16
        | LogicalType::Int32
        | LogicalType::Int64
        | LogicalType::Float32
        | LogicalType::Float64
        | LogicalType::Decimal { .. }
        | LogicalType::Bytes
            if !is_text =>
        {
            name.into()
        }
        // A cast would take the blanks off, or add a network's size.
        LogicalType::Other { .. } => format!("format('%s', {name}) COLLATE \"C\""),
        _ if declared.starts_with("character(") => format!("format('%s', {name}) COLLATE \"C\""),
        _ => format!("{name}::text COLLATE \"C\""),
    }
}
