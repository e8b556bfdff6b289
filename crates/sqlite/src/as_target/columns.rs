//! The columns of target tables, as they are in the file.

use moorage_core::drift::standing::TargetColumns;
use rusqlite::Connection;

/// No columns: no table.
pub(crate) fn columns(db: &Connection, table: &str) -> rusqlite::Result<TargetColumns> {
    // Hidden in these ways: generated columns (the manual of PRAGMA table_xinfo), which take no value.
    let sql = "SELECT name, type || CASE WHEN hidden IN (2, 3) THEN ' GENERATED' ELSE '' END FROM pragma_table_xinfo(?1)";
    let mut query = db.prepare(sql)?;
    query.query_map([table], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
}
