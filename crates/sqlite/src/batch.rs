//! An open batch: one transaction on the writing connection.

use crate::error::sql_error;
use crate::target::blocking;
use crate::{again, merge, meta};
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Merge, Replacement, Result, TableProgress};
use moorage_core::change::ChangeBlock;
use moorage_core::checkpoint::{Checkpoint, Durable};
use moorage_core::counters::TableCounters;
use moorage_core::plan::TablePlan;
use rusqlite::Connection;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::OwnedMutexGuard;

/// An open transaction. The guard keeps everyone else of this process off the connection.
pub(crate) struct SqliteMerge {
    path: Arc<PathBuf>,
    db: Option<OwnedMutexGuard<Option<Connection>>>,
    tables: Arc<[(TablePlan, bool)]>,
    progress: BTreeMap<String, TableCounters>,
}

impl SqliteMerge {
    /// A batch in a transaction that was begun; each table with whether it is complete.
    pub(crate) fn new(
        path: Arc<PathBuf>,
        db: OwnedMutexGuard<Option<Connection>>,
        tables: Vec<(TablePlan, bool)>,
    ) -> Self {
        Self { path, db: Some(db), tables: tables.into(), progress: BTreeMap::new() }
    }

    async fn on<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&Connection, &Path) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let closed = || AdapterError::refused("target", "the batch is already closed");
        let guard = self.db.take().ok_or_else(closed)?;
        let path = self.path.clone();
        let (guard, done) = blocking(move || {
            let done = match guard.as_ref() {
                Some(db) => work(db, &path),
                None => Err(AdapterError::refused("target", "the file was closed")),
            };
            Ok((guard, done))
        })
        .await?;
        self.db = Some(guard);
        done
    }
}

#[async_trait]
impl Merge for SqliteMerge {
    async fn write(&mut self, blocks: &[ChangeBlock]) -> Result<()> {
        let tables = self.tables.clone();
        // Blocks are shared columns: cloning copies no rows.
        let blocks = blocks.to_vec();
        let progress = self
            .on(move |db, path| {
                let mut progress = Vec::new();
                for (plan, strict) in tables.iter() {
                    let own: Vec<&ChangeBlock> =
                        blocks.iter().filter(|b| b.schema().table == *plan.table()).collect();
                    if !own.is_empty() {
                        progress.push((plan.target.clone(), merge::apply(db, path, plan, *strict, &own)?));
                    }
                }
                Ok(progress)
            })
            .await?;
        for (target, counters) in progress {
            *self.progress.entry(target).or_default() += counters;
        }
        Ok(())
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        for Replacement { plan, later, end } in tables {
            let into = Arc::new(again::beside(plan));
            let counted = plan.clone();
            let rows = self.on(move |db, path| again::count(db, path, &counted)).await?;
            let mut counters = TableCounters::default();
            for block in later {
                let (block, into) = (block?, into.clone());
                counters += self.on(move |db, path| merge::apply(db, path, &into, true, &[&block])).await?;
            }
            let replaced = plan.clone();
            self.on(move |db, path| again::swap(db, path, &replaced, &end, rows)).await?;
            // What this batch merged into the old rows is not counted any more.
            self.progress.insert(plan.target.clone(), counters);
        }
        Ok(())
    }

    async fn commit(mut self: Box<Self>, checkpoint: Checkpoint) -> Result<(Durable, Vec<TableProgress>)> {
        let progress = std::mem::take(&mut self.progress);
        let counters = progress.clone();
        let saved = checkpoint.clone();
        self.on(move |db, path| {
            let failed = |e| sql_error(path, "committing a batch", e);
            for (target, counters) in &counters {
                meta::count_changes(db, target, counters).map_err(failed)?;
            }
            meta::save_checkpoint(db, &saved).map_err(failed)?;
            db.execute_batch("COMMIT").map_err(failed)
        })
        .await?;
        self.db = None;
        let progress =
            progress.into_iter().map(|(target, counters)| TableProgress { target, counters }).collect();
        Ok((Durable::committed(checkpoint), progress))
    }
}

impl Drop for SqliteMerge {
    fn drop(&mut self) {
        if let Some(db) = self.db.as_ref().and_then(|guard| guard.as_ref())
            && !db.is_autocommit()
            && let Err(e) = db.execute_batch("ROLLBACK")
        {
            tracing::warn!("undoing a batch failed: {e}");
        }
    }
}
