//! One state of a source captured by triggers: one transaction sees the tables and their change tables.

use crate::as_source::look::{count_rows, lock, send_rows};
use crate::as_source::trigger::found::Read;
use crate::as_source::trigger::names::Names;
use crate::as_source::trigger::reader::{self, Stretch};
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, CapturePlan, Result, RowOrder, SourceLook, StreamTable};
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use tokio::sync::mpsc;

/// A look.
pub(crate) struct TriggerLook {
    address: PostgresAddress,
    names: Option<Names>,
    tables: Vec<StreamTable>,
    fixed: Option<(Session, String)>,
    since: Option<String>,
}

impl TriggerLook {
    pub(crate) fn new(
        address: &PostgresAddress,
        capture: Option<&CapturePlan>,
        tables: &[StreamTable],
    ) -> Self {
        Self {
            address: address.clone(),
            names: capture.map(Names::new),
            tables: tables.to_vec(),
            fixed: None,
            since: None,
        }
    }

    fn fixed(&self) -> Result<&(Session, String)> {
        self.fixed
            .as_ref()
            .ok_or_else(|| AdapterError::refused("looking at the source", "its state was not fixed"))
    }
}

#[async_trait]
impl SourceLook for TriggerLook {
    async fn fix(&mut self, since: Option<&Checkpoint>) -> Result<()> {
        let session = Session::open(&self.address).await?;
        session.run("seeing every row", "SET row_security = off").await?;
        let now = reader::begin(&session, &lock(&self.tables)).await?;
        self.since = since.map(|c| c.position.clone());
        self.fixed = Some((session, now));
        Ok(())
    }

    async fn between(&mut self, sender: mpsc::Sender<ChangeBlock>) -> Result<()> {
        let (session, now) = self.fixed()?;
        let (Some(names), Some(since), Some(now)) = (&self.names, &self.since, reader::position(now)) else {
            return Ok(());
        };
        let stretch = Stretch { after: since, now: &now, within: false };
        let (to_us, mut reads) = mpsc::channel(2);
        let reading = async {
            let read = reader::read(session, names, &self.tables, &stretch, None, &to_us).await;
            drop(to_us);
            read
        };
        let sending = async {
            while let Some(read) = reads.recv().await {
                // Structures are not followed here.
                let Read::Block(block) = read else { continue };
                if sender.send(block).await.is_err() {
                    return;
                }
            }
        };
        tokio::join!(reading, sending).0.map(|_| ())
    }

    async fn rows(&mut self, table: usize, order: RowOrder, sender: mpsc::Sender<LookedRows>) -> Result<()> {
        send_rows(&self.fixed()?.0, &self.tables[table].plan, order, &sender).await
    }

    async fn count(&mut self, table: usize) -> Result<u64> {
        count_rows(&self.fixed()?.0, &self.tables[table].plan).await
    }
}
