//! SQLite against the suites for sources and for targets.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

use moorage_adapter::{InspectTarget, Source, Target};
use moorage_core::plan::table::TablePlan;
use moorage_sqlite::{SqliteSource, SqliteTarget};
use moorage_testkit::conformance::{SourceUnderTest, TargetUnderTest, check_source, check_target};
use moorage_testkit::{Op, Row};
use rusqlite::Connection;
use std::path::PathBuf;
use std::sync::Arc;

struct Sqlite {
    target: Arc<SqliteTarget>,
    path: PathBuf,
}

impl TargetUnderTest for Sqlite {
    fn target(&self) -> Arc<dyn Target> {
        self.target.clone()
    }
    fn another(&self) -> Arc<dyn Target> {
        Arc::new(SqliteTarget::new(&self.path))
    }

    fn rows(&self, table: &str) -> Vec<Row> {
        let db = Connection::open(&self.path).unwrap();
        let Ok(mut query) = db.prepare(&format!("SELECT id, name, note FROM {table} ORDER BY 1, 2, 3"))
        else {
            return Vec::new();
        };
        let rows = query.query_map([], |r| Ok(Row(r.get(0)?, r.get(1)?, r.get(2)?))).unwrap();
        rows.map(Result::unwrap).collect()
    }

    fn forbid(&self, table: &str, name: &str) {
        let db = Connection::open(&self.path).unwrap();
        let forbid = format!(
            "CREATE TRIGGER forbidden BEFORE INSERT ON {table} WHEN NEW.name = '{name}' BEGIN SELECT RAISE(ABORT, 'forbidden'); END"
        );
        db.execute_batch(&forbid).unwrap();
    }

    fn put(&self, plan: &TablePlan, rows: &[Row]) {
        let db = Connection::open(&self.path).unwrap();
        db.execute_batch(&self.target.definition(plan)).unwrap();
        for row in rows {
            db.execute(&format!("INSERT INTO {} VALUES (?1, ?2, ?3)", plan.target), (row.0, &row.1, &row.2))
                .unwrap();
        }
    }
}

#[tokio::test]
async fn sqlite_does_what_is_asked_of_a_target() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("warehouse.db");
    check_target(&Sqlite { target: Arc::new(SqliteTarget::new(&path)), path }).await;
}

struct SqliteOrigin {
    source: Arc<SqliteSource>,
    path: PathBuf,
}

impl SqliteOrigin {
    fn transaction(&self, ops: &[Op], end: &str) {
        let db = Connection::open(&self.path).unwrap();
        db.execute_batch("BEGIN IMMEDIATE").unwrap();
        for op in ops {
            match op {
                Op::Insert(r) => {
                    db.execute("INSERT INTO berths (id, name, note) VALUES (?1, ?2, ?3)", (r.0, &r.1, &r.2))
                }
                Op::Update(key, r) => db.execute(
                    "UPDATE berths SET id = ?1, name = ?2, note = ?3 WHERE id = ?4",
                    (r.0, &r.1, &r.2, key),
                ),
                Op::Delete(key) => db.execute("DELETE FROM berths WHERE id = ?1", [key]),
                Op::Truncate => db.execute("DELETE FROM berths", []),
            }
            .unwrap();
        }
        db.execute_batch(end).unwrap();
    }
}

impl SourceUnderTest for SqliteOrigin {
    fn source(&self) -> Arc<dyn Source> {
        self.source.clone()
    }
    fn commit(&self, ops: &[Op]) {
        self.transaction(ops, "COMMIT");
    }
    fn roll_back(&self, ops: &[Op]) {
        self.transaction(ops, "ROLLBACK");
    }
    fn add_column(&self) {
        let db = Connection::open(&self.path).unwrap();
        db.execute_batch("ALTER TABLE berths ADD COLUMN depth INTEGER").unwrap();
    }
}

#[tokio::test]
async fn sqlite_does_what_is_asked_of_a_source() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("harbour.db");
    let db = Connection::open(&path).unwrap();
    db.execute_batch(
        "PRAGMA journal_mode = WAL; CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT, note TEXT)",
    )
    .unwrap();
    check_source(&SqliteOrigin { source: Arc::new(SqliteSource::new(&path)), path }).await;
}
