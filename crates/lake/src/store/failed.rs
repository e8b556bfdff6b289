//! What a store's errors mean for a run.

use moorage_adapter::{AdapterError, Doing};
use object_store::Error;
use std::error::Error as _;
use std::io::ErrorKind;

/// The kind of the system's error behind an error, if there is one.
fn kind(error: &Error) -> Option<ErrorKind> {
    let mut cause = error.source();
    while let Some(error) = cause {
        if let Some(io) = error.downcast_ref::<std::io::Error>() {
            return Some(io.kind());
        }
        cause = error.source();
    }
    None
}

/// The words of an error and of what caused it, each once.
fn reason(error: &Error) -> String {
    let (mut all, mut cause) = (error.to_string(), error.source());
    while let Some(error) = cause {
        let words = error.to_string();
        if !all.contains(&words) {
            all.push_str(": ");
            all.push_str(&words);
        }
        cause = error.source();
    }
    all
}

/// What went wrong with a file, by who has to act; of the store it is told what it is called, and whether it is a folder.
pub(super) fn failed(
    (words, is_folder): (&str, bool),
    operation: &'static str,
    name: &str,
    error: Error,
) -> AdapterError {
    let (doing, reason) = (Doing::to(operation, if name.is_empty() { words } else { name }), reason(&error));
    match (&error, kind(&error)) {
        (_, Some(ErrorKind::StorageFull | ErrorKind::QuotaExceeded)) => AdapterError::Busy { doing, reason },
        (Error::PermissionDenied { .. } | Error::Unauthenticated { .. }, _)
        | (_, Some(ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem)) => {
            let way = "Give the user that runs Moorage the right to read, write, list and remove there";
            AdapterError::refused(doing, format!("{reason}. {way}"))
        }
        _ if is_folder => AdapterError::Io { doing, reason },
        _ => AdapterError::Lost { address: words.into(), reason: format!("{doing}: {reason}") },
    }
}
