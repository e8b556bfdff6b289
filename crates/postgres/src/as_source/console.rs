//! Statements as an application runs them.

use crate::wire::connect::Session;
use async_trait::async_trait;
use moorage_adapter::{Console, ConsoleDialect, Result};
use tokio_postgres::SimpleQueryMessage;

/// A session for statements.
pub(crate) struct PostgresConsole {
    session: Session,
    ready: bool,
}

impl PostgresConsole {
    pub(crate) fn new(session: Session) -> Self {
        Self { session, ready: false }
    }

    /// An application finds its tables by the usual path, not by the one that capturing pins.
    async fn get_ready(&mut self) -> Result<()> {
        if !self.ready {
            self.session
                .run("opening a session", "SET search_path = DEFAULT; SET search_path = \"$user\", public")
                .await?;
            self.ready = true;
        }
        Ok(())
    }
}

#[async_trait]
impl Console for PostgresConsole {
    fn dialect(&self) -> ConsoleDialect {
        ConsoleDialect::Postgres
    }

    async fn run(&mut self, statements: &str) -> Result<()> {
        self.get_ready().await?;
        let done = self.session.run("running statements", statements).await;
        if done.is_err() {
            // A connection that is gone has rolled back already.
            let _ = self.session.run("rolling back", "ROLLBACK").await;
        }
        done
    }

    async fn rows(&mut self, statement: &str) -> Result<Vec<Vec<Option<String>>>> {
        self.get_ready().await?;
        let messages = self.session.client().simple_query(statement).await;
        let messages = messages.map_err(|e| self.session.error("running a statement", &e))?;
        let row = |message| match message {
            SimpleQueryMessage::Row(row) => {
                Some((0..row.len()).map(|i| row.get(i).map(str::to_string)).collect())
            }
            _ => None,
        };
        Ok(messages.into_iter().filter_map(row).collect())
    }
}
