//! Statements on a source, as an application runs them.

use crate::Result;
use async_trait::async_trait;

/// Which SQL a console speaks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ConsoleDialect {
    /// PostgreSQL's.
    Postgres,
    /// SQLite's.
    Sqlite,
}

/// A session on a source that writes to it. Moorage itself writes to a source only to capture; this is
/// for the demo and for making load.
#[async_trait]
pub trait Console: Send {
    /// Its SQL.
    fn dialect(&self) -> ConsoleDialect;

    /// Runs statements one after the other. A transaction that they left open when one failed is rolled
    /// back.
    async fn run(&mut self, statements: &str) -> Result<()>;

    /// The rows that one statement gives, values as text.
    async fn rows(&mut self, statement: &str) -> Result<Vec<Vec<Option<String>>>>;
}
