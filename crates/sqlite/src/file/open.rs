//! Opening a file with no more than the right to read it.

use rusqlite::{Connection, ErrorCode, OpenFlags};
use std::path::Path;
use std::time::Duration;

/// Opens a file that is there for reading: as any reader does if its folder can be written, otherwise without
/// touching anything. A file in write-ahead mode whose log is empty can be read by someone without rights to its
/// folder only as one that nobody changes meanwhile (<https://www.sqlite.org/wal.html>, section 5).
pub(crate) fn open(path: &Path) -> rusqlite::Result<Connection> {
    let usual = OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let first = attempt(path.as_os_str(), usual | OpenFlags::SQLITE_OPEN_READ_WRITE);
    let Err(error) = first else { return first };
    let no_right = matches!(
        error.sqlite_error_code(),
        Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen | ErrorCode::PermissionDenied)
    );
    if !no_right {
        return Err(error);
    }
    let second = attempt(path.as_os_str(), usual | OpenFlags::SQLITE_OPEN_READ_ONLY);
    let mut log = path.as_os_str().to_owned();
    log.push("-wal");
    if second.is_ok() || Path::new(&log).exists() {
        return second;
    }
    let plain: String =
        path.display().to_string().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
    let flags = usual | OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    attempt(format!("file:{plain}?immutable=1").as_ref(), flags)
}

fn attempt(path: &std::ffi::OsStr, flags: OpenFlags) -> rusqlite::Result<Connection> {
    let db = Connection::open_with_flags(path, flags)?;
    db.busy_timeout(Duration::from_secs(30))?;
    // Opening touches nothing yet: only a first read shows whether it works.
    db.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))?;
    Ok(db)
}
