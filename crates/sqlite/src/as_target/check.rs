//! What `check` looks at in a target file.

use crate::as_target::open::open;
use crate::file::error::sql_error;
use crate::file::open;
use moorage_adapter::Result;
use moorage_core::model::finding::{End, Finding, Fix};
use rusqlite::Connection;
use std::path::Path;

fn ok(check: &'static str, found: impl Into<String>) -> Finding {
    Finding::ok(End::Target, check, found)
}

/// Writes, reads and drops a table, and looks at what there is room for. Leaves nothing behind.
pub(crate) fn probe(path: &Path, bytes: u64) -> Vec<Finding> {
    let existed = path.exists();
    let mut found = vec![ok("version", format!("SQLite {}, file {}", rusqlite::version(), path.display()))];
    let tried = write_and_read(path);
    if !existed {
        // The look must not leave anything behind; what cannot be removed was not made.
        for suffix in ["", "-wal", "-shm"] {
            let _ = std::fs::remove_file(format!("{}{suffix}", path.display()));
        }
    }
    found.push(match tried {
        Ok(()) if existed => ok("writing", "works: a table was made, written, read and dropped"),
        Ok(()) => ok("writing", "the file will be made; making one works"),
        Err(e) => Finding::blocker(
            End::Target,
            "writing",
            e.to_string(),
            "nothing can be written there",
            Fix::step("make the file and its folder writable for this user (chmod u+w), or change `path`"),
        ),
    });
    if existed {
        found.extend(encoding(path));
    }
    found.extend(space(path, bytes));
    found
}

fn write_and_read(path: &Path) -> Result<()> {
    let mut db = open(path)?;
    let mut tried = || -> rusqlite::Result<()> {
        let transaction = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        transaction.execute_batch(
            "CREATE TABLE moorage_probe (x TEXT); INSERT INTO moorage_probe VALUES ('Pellow')",
        )?;
        transaction.query_row("SELECT x FROM moorage_probe", [], |r| r.get::<_, String>(0))?;
        transaction.execute_batch("DROP TABLE moorage_probe")?;
        transaction.commit()
    };
    tried().map_err(|e| sql_error(path, "writing", e))
}

fn encoding(path: &Path) -> Option<Finding> {
    let ask = |db: Connection| db.query_row("PRAGMA encoding", [], |r| r.get::<_, String>(0));
    let encoding = open::open(path).and_then(ask).ok()?;
    Some(ok("encoding", encoding))
}

/// Room on the disk against about twice what will be written: rows, and the log they go through.
fn space(path: &Path, bytes: u64) -> Option<Finding> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let disk = rustix::fs::statvfs(folder).ok()?;
    Some(judge_space(disk.f_bavail.saturating_mul(disk.f_frsize), bytes))
}

fn judge_space(free: u64, bytes: u64) -> Finding {
    let mib = |bytes: u64| match bytes >> 20 {
        0 => "less than 1 MiB".to_string(),
        mib => format!("{mib} MiB"),
    };
    let about = if bytes == 0 { String::new() } else { format!("; the source's tables take {}", mib(bytes)) };
    let found = format!("{} free{about}", mib(free));
    if free < bytes.saturating_mul(2) {
        return Finding::warning(
            End::Target,
            "free_space",
            found,
            "rows go through a log on their way into the file, so about twice their size is needed",
            Fix::step("make room, or move the target: `path` in the project file"),
        );
    }
    ok("free_space", found)
}

/// SQLite knows no roles: what there is to set up are rights on files.
pub(crate) fn set_up_script(path: &Path, undo: bool) -> String {
    let file = path.display();
    if undo {
        return format!(
            "-- Target: SQLite file {file}. Nothing was set up there; `moorage teardown --target` removes what Moorage made.\n"
        );
    }
    format!(
        "-- Target: SQLite file {file}\n-- SQLite knows no roles. The user who runs Moorage needs to write the file, and to make files beside it (-wal, -shm).\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use moorage_core::model::finding::Severity;

    #[test]
    fn too_little_room_is_told_beforehand() {
        assert_eq!(judge_space(100 << 20, 60 << 20).severity, Severity::Warning);
        assert_eq!(judge_space(100 << 20, 40 << 20).severity, Severity::Ok);
    }
}
