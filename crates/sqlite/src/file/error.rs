//! SQLite's errors in words that say what to do.

use moorage_adapter::{AdapterError, Doing, Layer};
use rusqlite::ErrorCode;
use std::path::Path;

/// Wraps an error of a statement on the file at `path`.
pub(crate) fn sql_error(path: &Path, doing: impl Into<Doing>, error: rusqlite::Error) -> AdapterError {
    let doing = doing.into();
    let what = Doing { operation: format!("target {}: {}", path.display(), doing.operation).into(), ..doing };
    let hint = match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            return AdapterError::Busy {
                doing: what,
                reason: format!(
                    "{error}; another program holds a write transaction open on this file: end it"
                ),
            };
        }
        Some(ErrorCode::DiskFull | ErrorCode::SystemIoFailure) => {
            return AdapterError::Busy {
                doing: what,
                reason: format!("{error}; free some space there, nothing was lost"),
            };
        }
        Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => {
            "; make the file and its folder writable for this user"
        }
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            "; the file is damaged or not a SQLite database: name another file in the project file"
        }
        _ if error.to_string().contains("no such table") => {
            "; it was removed by someone: `moorage resnapshot` for its table makes it anew"
        }
        _ => "",
    };
    AdapterError::refused(what, format!("{error}{hint}"))
}

/// Wraps an error of a statement on the source file. A file that is busy may be free later.
pub(crate) fn source_error(path: &Path, doing: impl Into<Doing>, error: rusqlite::Error) -> AdapterError {
    let (place, doing) = (path.display().to_string(), doing.into());
    let refuse = |hint: &str| {
        let doing = doing.clone();
        let doing = Doing { operation: format!("source {place}: {}", doing.operation).into(), ..doing };
        AdapterError::refused(doing, format!("{error}{hint}"))
    };
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => AdapterError::Lost {
            reason: format!("{doing}: another program keeps the file locked"),
            address: place,
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
