//! What a capture point is made of, and how much of a file's schema is its own.

use moorage_adapter::CapturePlan;
use moorage_core::model::sql::quote_ident;
use rusqlite::Connection;

type Sql<T> = rusqlite::Result<T>;

/// The names of what a capture point is made of.
#[derive(Clone, Debug)]
pub(crate) struct Names {
    pub(crate) name: String,
}

impl Names {
    pub(crate) fn new(capture: &CapturePlan) -> Self {
        Self { name: capture.name.clone() }
    }

    /// The table with the token.
    pub(crate) fn about(&self) -> String {
        quote_ident(&format!("{}_about", self.name))
    }

    pub(crate) fn changes_plain(&self) -> String {
        format!("{}_changes", self.name)
    }

    /// The change table.
    pub(crate) fn changes(&self) -> String {
        quote_ident(&self.changes_plain())
    }

    pub(crate) fn trigger(&self, what: &str, table: &str) -> String {
        format!("{}_{what}_{table}", self.name)
    }

    /// Whether a trigger is one of this capture point's.
    pub(crate) fn prefix(&self) -> Vec<String> {
        EVENTS.iter().map(|what| format!("{}_{what}_", self.name)).collect()
    }
}

const EVENTS: [&str; 5] = ["insert", "update", "delete", "replace_by_insert", "replace_by_update"];

/// SQLite has three names for the row number, each of which a column may hide.
pub(crate) fn row_number(db: &Connection, table: &str) -> Sql<Option<&'static str>> {
    let mut query = db.prepare_cached("SELECT lower(name) FROM pragma_table_xinfo(?1)")?;
    let columns: Vec<String> = query.query_map([table], |r| r.get(0))?.collect::<Sql<_>>()?;
    Ok(["rowid", "_rowid_", "oid"].into_iter().find(|n| columns.iter().all(|c| c != n)))
}

/// The version of the file's schema but for what capture points did to it themselves: how many statements of others changed
/// it is told by two of these. (`schema_version` counts each statement.)
pub(crate) fn foreign_version(db: &Connection) -> Sql<i64> {
    let mut query = db.prepare_cached(
        "SELECT m.name FROM sqlite_schema m JOIN pragma_table_info(m.name) c
         WHERE m.type = 'table' AND m.name GLOB 'moorage_*_about' AND c.name = 'own'",
    )?;
    let abouts: Vec<String> = query.query_map([], |r| r.get(0))?.collect::<Sql<_>>()?;
    let mut version: i64 = db.query_row("PRAGMA schema_version", [], |r| r.get(0))?;
    for about in abouts {
        let sql = format!("SELECT coalesce(sum(own), 0) FROM {}", quote_ident(&about));
        version -= db.query_row(&sql, [], |r| r.get::<_, i64>(0))?;
    }
    Ok(version)
}
