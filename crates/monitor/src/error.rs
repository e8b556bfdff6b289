//! What can go wrong with the local store.

use std::path::PathBuf;

/// The store, or the folder it is in, cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("state folder {path}: {reason}")]
pub struct StoreError {
    /// The folder or file.
    pub path: PathBuf,
    /// What went wrong, with the way out where there is one.
    pub reason: String,
}

/// What comes of using the store.
pub type Result<T> = std::result::Result<T, StoreError>;
