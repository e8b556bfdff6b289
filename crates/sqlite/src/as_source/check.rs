//! What `check` looks at in a SQLite file as a source.

use crate::as_source::capture::{self};
use crate::as_source::names::Names;
use moorage_core::model::finding::{End, Finding, Fix, tables};
use moorage_core::model::sql::{quote_ident, quote_list};
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;
use std::path::Path;

fn ok(check: &'static str, found: impl Into<String>) -> Finding {
    Finding::ok(End::Source, check, found)
}

/// Looks at everything that capturing needs; tries a write and takes it back.
pub(super) fn inspect(
    db: &Connection,
    names: &Names,
    place: &str,
    plans: &[TablePlan],
) -> rusqlite::Result<Vec<Finding>> {
    let version = ok("version", format!("SQLite {}, file {place}", rusqlite::version()));
    let mut found = vec![version, writing(db, place), journal(db)?, reading(db, plans)?];
    let changes = names.changes_plain();
    found.push(match capture::token(db, names)? {
        Some(_) => ok("change_table", format!("triggers and change table {changes} are there")),
        None => ok("change_table", format!("triggers and change table {changes} will be made")),
    });
    found.push(ok("capture", "by triggers").because(
        "a SQLite file has no log that can be read; every write becomes a little slower, and transactions that end within 20 to 30 ms are seen as one",
    ));
    Ok(found)
}

fn writing(db: &Connection, place: &str) -> Finding {
    match db.execute_batch("BEGIN IMMEDIATE; CREATE TABLE moorage_probe (x); ROLLBACK") {
        Ok(()) => ok("writing", "works: a table was made and taken back"),
        Err(error) => {
            // Nothing is open if BEGIN itself failed.
            let _ = db.execute_batch("ROLLBACK");
            Finding::blocker(
                End::Source,
                "writing",
                format!("{place}: {error}"),
                "triggers and the change table are made in the file itself",
                Fix::step("make the file and its folder writable for this user: chmod u+w"),
            )
        }
    }
}

fn journal(db: &Connection) -> rusqlite::Result<Finding> {
    let mode: String = db.query_row("PRAGMA journal_mode", [], |r| r.get(0))?;
    Ok(match mode.as_str() {
        "wal" => ok("journal_mode", "write-ahead: readers and the writer do not wait for each other"),
        other => Finding::warning(
            End::Source,
            "journal_mode",
            other,
            "while tables are read, the application cannot commit",
            Fix::run(["PRAGMA journal_mode = WAL"]).then("once; the file remembers it"),
        ),
    })
}

/// Reads no row of every picked table.
fn reading(db: &Connection, plans: &[TablePlan]) -> rusqlite::Result<Finding> {
    for plan in plans {
        let columns = quote_list(plan.schema.columns.iter().map(|c| c.name.as_str()));
        db.prepare(&format!("SELECT {columns} FROM {} WHERE 0", quote_ident(&plan.table().name)))?;
    }
    Ok(ok("reading", format!("works: selected from {}", tables(plans.len()))))
}

/// SQLite knows no roles: what there is to set up are rights on files.
pub(super) fn set_up_script(path: &Path, undo: bool) -> String {
    let file = path.display();
    if undo {
        return format!(
            "-- Source: SQLite file {file}. Rights on files are all that was set up; `moorage teardown` removes triggers and the change table.\n"
        );
    }
    format!(
        "-- Source: SQLite file {file}\n-- SQLite knows no roles. The user who runs Moorage needs to read and write the file, and to make files beside it:\n--   chgrp moorage {file} . && chmod g+rw {file} && chmod g+rwx .\n-- Readers and the application do not wait for each other in write-ahead mode; the file remembers it:\nPRAGMA journal_mode = WAL;\n"
    )
}
