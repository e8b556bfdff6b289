//! The SQLite target against the suite for targets.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "test code stops at the first surprise"
)]

use moorage_adapter::Target;
use moorage_core::plan::TablePlan;
use moorage_sqlite::SqliteTarget;
use moorage_testkit::Row;
use moorage_testkit::conformance::{TargetUnderTest, check_target};
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

    fn rows(&self, table: &str) -> Vec<Row> {
        let db = Connection::open(&self.path).unwrap();
        let Ok(mut query) = db.prepare(&format!("SELECT id, name, note FROM {table} ORDER BY 1, 2, 3"))
        else {
            return Vec::new();
        };
        let rows = query.query_map([], |r| Ok(Row(r.get(0)?, r.get(1)?, r.get(2)?))).unwrap();
        rows.map(Result::unwrap).collect()
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
