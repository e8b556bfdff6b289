//! Errors of a SQLite source in words that say what to do.

use moorage_adapter::{AdapterError, Layer};
use rusqlite::ErrorCode;
use std::path::Path;

/// Wraps an error of a statement on the source file. A file that is busy may be free later.
pub(crate) fn source_error(path: &Path, doing: &str, error: rusqlite::Error) -> AdapterError {
    let place = path.display().to_string();
    let refuse =
        |hint: &str| AdapterError::refused(format!("source {place}: {doing}"), format!("{error}{hint}"));
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => AdapterError::Lost {
            address: place,
            reason: format!("{doing}: another program keeps the file locked"),
        },
        Some(ErrorCode::ReadOnly | ErrorCode::PermissionDenied) => {
            refuse("; make the file and its folder writable for this user: the change table is in the file")
        }
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            refuse("; the file is damaged or not a SQLite database")
        }
        Some(ErrorCode::CannotOpen) => {
            AdapterError::Connect { address: place, layer: Layer::Database, reason: error.to_string() }
        }
        _ => refuse(""),
    }
}
