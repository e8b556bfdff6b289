//! Opening the source, and positions in its change table.

use crate::file::error::source_error;
use moorage_adapter::{AdapterError, Head, Layer, Result};
use moorage_core::Position;
use moorage_core::watch::lag::ClockSkew;
use rusqlite::Connection;
use std::path::Path;
use std::time::Duration;

/// How long a statement waits for the application's own transactions.
pub(super) const BUSY_TIMEOUT: Duration = Duration::from_secs(10);

/// Opens the file, which must be there.
pub(crate) fn open(path: &Path) -> Result<Connection> {
    if !path.exists() {
        return Err(AdapterError::Connect {
            address: path.display().to_string(),
            layer: Layer::Database,
            reason: "there is no such file".into(),
        });
    }
    let db = crate::file::open::open(path).map_err(|e| source_error(path, "opening", e))?;
    db.busy_timeout(BUSY_TIMEOUT).map_err(|e| source_error(path, "opening", e))?;
    Ok(db)
}

/// The position behind the change with this number.
pub(crate) fn position(number: i64) -> Position {
    Position::new(&[number.max(0) as u64], number.to_string())
}

/// The end of a change table, whose newest change has this number; its clock is ours.
pub(crate) fn head(number: i64) -> Head {
    Head {
        position: position(number),
        skew: ClockSkew::default(),
        holds_log_back: false,
        kept_bytes: None,
        limit_bytes: None,
    }
}
