//! A target at one moment: its checkpoint, and what its tables hold with it.

use crate::harness::Folder;
use moorage_testkit::Session;
use rusqlite::Connection;

/// Values as texts, sorted.
pub type Rows = Vec<Vec<Option<String>>>;

/// A target whose state does not change while this is there.
pub enum Moment<'a> {
    /// A database, whose tables are in the schema `mirror`.
    Server(&'a Session),
    /// A file.
    File(Connection),
}

impl<'a> Moment<'a> {
    /// Of a database. None while one of these tables is being altered: structures are not seen as of a snapshot, so nobody may
    /// change them any more.
    pub fn of_server(target: &'a Session, tables: &[String]) -> Option<Self> {
        let list: Vec<String> = tables.iter().map(|t| format!("mirror.{t}")).collect();
        let lock = format!(
            "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; LOCK TABLE {} IN ACCESS SHARE MODE NOWAIT",
            list.join(", ")
        );
        if target.try_run(&lock).is_err() {
            target.run("ROLLBACK");
            return None;
        }
        Some(Self::Server(target))
    }

    /// Of the file of a project.
    pub fn of_file(folder: &Folder) -> Self {
        let db = folder.warehouse();
        db.execute_batch("BEGIN").unwrap();
        Self::File(db)
    }

    /// The checkpoint's position.
    pub fn position(&self) -> Option<String> {
        match self {
            Self::Server(s) => {
                s.rows("SELECT position FROM moorage_state.checkpoints").first().map(|r| r.get(0))
            }
            Self::File(db) => db.query_row("SELECT position FROM moorage_checkpoints", [], |r| r.get(0)).ok(),
        }
    }

    /// The tables whose rows go with it, with the positions of their marks: one that was just read may be ahead.
    pub fn live(&self) -> Vec<(String, Option<String>)> {
        let sql =
            |from: &str| format!("SELECT target, mark_position FROM {from} WHERE state = 'live' ORDER BY 1");
        let plain = |name: String| name.trim_start_matches("mirror.").to_string();
        match self {
            Self::Server(s) => {
                let rows = s.rows(&sql("moorage_state.tables"));
                rows.iter().map(|r| (plain(r.get(0)), r.get(1))).collect()
            }
            Self::File(db) => {
                let mut query = db.prepare(&sql("moorage_tables")).unwrap();
                let rows = query.query_map([], |r| Ok((plain(r.get(0)?), r.get(1)?))).unwrap();
                rows.map(Result::unwrap).collect()
            }
        }
    }

    /// The columns of a table.
    pub fn columns(&self, table: &str) -> Vec<String> {
        match self {
            Self::Server(s) => s
                .rows(&format!("SELECT attname::text FROM pg_attribute WHERE attrelid = 'mirror.{table}'::regclass AND attnum > 0 AND NOT attisdropped"))
                .iter()
                .map(|r| r.get(0))
                .collect(),
            Self::File(db) => {
                let mut query = db.prepare("SELECT name FROM pragma_table_info(?1)").unwrap();
                query.query_map([table], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
            }
        }
    }

    /// The rows of a table in these columns.
    pub fn rows(&self, table: &str, columns: &[String]) -> Rows {
        match self {
            Self::Server(s) => rows_of(s, &format!("mirror.{table}"), columns),
            Self::File(db) => {
                let list: Vec<String> = columns.iter().map(|c| format!("CAST({c} AS TEXT)")).collect();
                let mut query = db.prepare(&format!("SELECT {} FROM {table}", list.join(", "))).unwrap();
                let row = |r: &rusqlite::Row<'_>| (0..columns.len()).map(|i| Ok(whole(r.get(i)?))).collect();
                let mut rows: Rows = query.query_map([], row).unwrap().map(Result::unwrap).collect();
                rows.sort();
                rows
            }
        }
    }
}

impl Drop for Moment<'_> {
    fn drop(&mut self) {
        if let Self::Server(s) = self {
            s.run("COMMIT");
        }
    }
}

/// The rows of a table of a server in these columns.
pub fn rows_of(session: &Session, table: &str, columns: &[String]) -> Rows {
    let list: Vec<String> = columns.iter().map(|c| format!("{c}::text")).collect();
    let rows = session.rows(&format!("SELECT {} FROM {table}", list.join(", ")));
    let mut rows: Rows = rows.iter().map(|r| (0..columns.len()).map(|i| whole(r.get(i))).collect()).collect();
    rows.sort();
    rows
}

/// A decimal in a file has no trailing zeros.
fn whole(text: Option<String>) -> Option<String> {
    text.map(|text| text.trim_end_matches(".00").to_string())
}
