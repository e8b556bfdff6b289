//! An open batch: one transaction on the writing connection.

use crate::as_target::open::blocking;
use crate::as_target::{alter, beside, kept, merge, state};
use crate::file::error::sql_error;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Memo, MemoKind, Merge, Replacement, Result, TableProgress};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::model::policy::Mismatch;
use moorage_core::plan::table::TablePlan;
use rusqlite::Connection;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::OwnedMutexGuard;

/// An open transaction. The guard keeps everyone else of this process off the connection.
pub(crate) struct SqliteMerge {
    path: Arc<PathBuf>,
    db: Option<OwnedMutexGuard<Option<Connection>>>,
    pipeline: String,
    progress: BTreeMap<String, TableCounters>,
}

impl SqliteMerge {
    /// A batch in a transaction that was begun.
    pub(crate) fn new(path: Arc<PathBuf>, db: OwnedMutexGuard<Option<Connection>>, pipeline: String) -> Self {
        Self { path, db: Some(db), pipeline, progress: BTreeMap::new() }
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
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        let progress = self
            .on(move |db, path| {
                batch.iter().try_for_each(|of| kept::put_view_back(db, path, &of.plan))?;
                merge::apply_all(db, path, &batch, |of| {
                    let live = state::is_live(db, &of.plan.target)
                        .map_err(|e| sql_error(path, "reading a table's state", e))?;
                    Ok(live && of.plan.mismatch == Mismatch::Reject)
                })
            })
            .await?;
        for (target, counters) in progress {
            *self.progress.entry(target).or_default() += counters;
        }
        Ok(())
    }

    async fn reserve(&mut self, _: &[&TablePlan]) -> Result<()> {
        // Readers see their own state of the file, and wait for nobody.
        Ok(())
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        let (pipeline, alteration) = (self.pipeline.clone(), alteration.clone());
        self.on(move |db, path| alter::alter(db, path, &pipeline, &alteration)).await
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        for Replacement { plan, later, end } in tables {
            let into = Arc::new(beside::beside(plan));
            let counted = plan.clone();
            let rows = self.on(move |db, path| beside::count(db, path, &counted)).await?;
            let mut counters = TableCounters::default();
            for batch in later {
                let (batch, into) = (batch?, into.clone());
                counters += self.on(move |db, path| merge::apply(db, path, &into, true, &batch)).await?;
            }
            let replaced = plan.clone();
            self.on(move |db, path| beside::swap(db, path, &replaced, &end, rows)).await?;
            // What this batch merged into the old rows is not counted any more.
            self.progress.insert(plan.target.clone(), counters);
        }
        Ok(())
    }

    async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
        let (pipeline, memos) = (self.pipeline.clone(), memos.to_vec());
        self.on(move |db, path| {
            let failed = |e| sql_error(path, "remembering things beside the rows", e);
            memos.iter().try_for_each(|memo| state::remember(db, &pipeline, memo).map_err(failed))
        })
        .await
    }

    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
        let (pipeline, begin) = (self.pipeline.clone(), begin.to_string());
        self.on(move |db, path| {
            let failed = |e| sql_error(path, "forgetting what is remembered", e);
            state::forget_memos(db, &pipeline, kind, &begin).map_err(failed)
        })
        .await
    }

    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>> {
        let (pipeline, begin, after) = (self.pipeline.clone(), begin.to_string(), after.to_string());
        self.on(move |db, path| {
            let failed = |e| sql_error(path, "reading what is remembered", e);
            state::recall(db, &pipeline, kind, &begin, &after).map_err(failed)
        })
        .await
    }

    async fn commit(mut self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        let progress = std::mem::take(&mut self.progress);
        let counters = progress.clone();
        let saved = checkpoint.clone();
        self.on(move |db, path| {
            let failed = |e| sql_error(path, "committing a batch", e);
            for (target, counters) in &counters {
                state::count_changes(db, target, counters).map_err(failed)?;
            }
            state::save_checkpoint(db, &saved).map_err(failed)?;
            db.execute_batch("COMMIT").map_err(failed)
        })
        .await?;
        self.db = None;
        Ok(progress.into_iter().map(|(target, counters)| TableProgress { target, counters }).collect())
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
