//! Statements as an application runs them.

use crate::as_source::open::open;
use crate::file::error::source_error;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Console, ConsoleDialect, Result};
use rusqlite::Connection;
use rusqlite::types::ValueRef;
use std::path::{Path, PathBuf};

/// A session for statements. The connection travels to a thread that may block, and back.
pub(crate) struct SqliteConsole {
    db: Option<Connection>,
    path: PathBuf,
}

impl SqliteConsole {
    pub(crate) fn open(path: &Path) -> Result<Self> {
        Ok(Self { db: Some(open(path)?), path: path.into() })
    }

    async fn on<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T> {
        let gone = || AdapterError::refused("source", "the session was closed");
        let db = self.db.take().ok_or_else(gone)?;
        let (db, done) = tokio::task::spawn_blocking(move || {
            let done = work(&db);
            (db, done)
        })
        .await
        .map_err(|e| AdapterError::Io { doing: "running statements".into(), reason: e.to_string() })?;
        self.db = Some(db);
        done.map_err(|e| source_error(&self.path, "running statements", e))
    }
}

#[async_trait]
impl Console for SqliteConsole {
    fn dialect(&self) -> ConsoleDialect {
        ConsoleDialect::Sqlite
    }

    async fn run(&mut self, statements: &str) -> Result<()> {
        let statements = statements.to_string();
        self.on(move |db| {
            let done = db.execute_batch(&statements);
            if done.is_err() && !db.is_autocommit() {
                db.execute_batch("ROLLBACK")?;
            }
            done
        })
        .await
    }

    async fn rows(&mut self, statement: &str) -> Result<Vec<Vec<Option<String>>>> {
        let statement = statement.to_string();
        self.on(move |db| {
            let mut query = db.prepare(&statement)?;
            let width = query.column_count();
            let text = |value: ValueRef<'_>| match value {
                ValueRef::Null => None,
                ValueRef::Integer(i) => Some(i.to_string()),
                ValueRef::Real(f) => Some(f.to_string()),
                ValueRef::Text(bytes) | ValueRef::Blob(bytes) => {
                    Some(String::from_utf8_lossy(bytes).into_owned())
                }
            };
            let rows = query.query_map([], |r| (0..width).map(|i| r.get_ref(i).map(text)).collect())?;
            rows.collect()
        })
        .await
    }
}
