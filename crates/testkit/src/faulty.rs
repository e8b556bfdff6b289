//! A target that fails once, at a chosen call: before carrying it out, or after, as a lost answer would.

use arrow::array::RecordBatch;
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Events, ExistingTable, Holder, LoadedTable, Merge, Replacement, Result, Step, StoredTable,
    TableProgress, TakeFrom, Target, TargetAddress, TargetLook, Turn,
};
use moorage_core::change::ChangeBlock;
use moorage_core::checkpoint::{Checkpoint, Durable};
use moorage_core::finding::Finding;
use moorage_core::plan::{TablePlan, TargetDialect};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Counts the writing calls of a target and fails one of them.
#[derive(Clone)]
pub struct FaultyTarget {
    inner: Arc<dyn Target>,
    calls: Arc<AtomicUsize>,
    fail_at: usize,
    after: bool,
}

impl FaultyTarget {
    /// Fails the `fail_at`-th writing call (from 1; 0 fails none), `after` it was carried out or before.
    pub fn new(inner: Arc<dyn Target>, fail_at: usize, after: bool) -> Self {
        Self { inner, calls: Arc::default(), fail_at, after }
    }

    /// How many writing calls there were.
    pub fn calls(&self) -> usize {
        self.calls.load(Ordering::SeqCst)
    }

    async fn guard<T>(&self, work: impl Future<Output = Result<T>>) -> Result<T> {
        let broken = || AdapterError::refused("target", "made to fail by the test");
        let fails = self.calls.fetch_add(1, Ordering::SeqCst) + 1 == self.fail_at;
        if fails && !self.after {
            return Err(broken());
        }
        let done = work.await;
        if fails { Err(broken()) } else { done }
    }
}

struct FaultyMerge {
    inner: Box<dyn Merge>,
    target: FaultyTarget,
}

#[async_trait]
impl Merge for FaultyMerge {
    async fn write(&mut self, blocks: &[ChangeBlock]) -> Result<()> {
        let target = self.target.clone();
        target.guard(self.inner.write(blocks)).await
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        self.target.clone().guard(self.inner.replace(tables)).await
    }
    async fn commit(self: Box<Self>, checkpoint: Checkpoint) -> Result<(Durable, Vec<TableProgress>)> {
        self.target.guard(self.inner.commit(checkpoint)).await
    }
}

#[async_trait]
impl Target for FaultyTarget {
    fn address(&self) -> TargetAddress {
        self.inner.address()
    }
    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        self.inner.dialect()
    }
    async fn list(&self) -> Result<Vec<String>> {
        self.inner.list().await
    }
    async fn probe(&self, bytes: u64) -> Result<Vec<Finding>> {
        self.inner.probe(bytes).await
    }
    fn set_up_script(&self, role: Option<&str>, undo: bool) -> String {
        self.inner.set_up_script(role, undo)
    }
    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        self.inner.describe(table).await
    }
    fn definition(&self, plan: &TablePlan) -> String {
        self.inner.definition(plan)
    }
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.inner.checkpoint(pipeline).await
    }
    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        self.inner.tables(pipeline).await
    }
    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        self.inner.look(pipeline).await
    }

    async fn count(&self, table: &str) -> Result<u64> {
        self.inner.count(table).await
    }
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn> {
        self.guard(self.inner.take_turn(pipeline, holder, from, make, events)).await
    }
    async fn end_turn(&self, pipeline: &str) -> Result<()> {
        // Its failure is of no consequence.
        self.inner.end_turn(pipeline).await
    }
    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        self.inner.holder(pipeline).await
    }
    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<Durable> {
        self.guard(self.inner.save_checkpoint(checkpoint)).await
    }
    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.inner.check(pipeline, plan).await
    }
    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.guard(self.inner.create(pipeline, plan)).await
    }
    async fn create_again(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.guard(self.inner.create_again(pipeline, plan)).await
    }
    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        self.guard(self.inner.ready_again(plan)).await
    }
    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.guard(self.inner.drop_again(plan)).await
    }
    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        self.guard(self.inner.load(plan, rows)).await
    }
    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        self.guard(self.inner.finish_load(pipeline, plan, end)).await
    }
    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()> {
        self.guard(self.inner.remember_captured_by(pipeline, tables)).await
    }
    async fn begin(&self, from: &Checkpoint, tables: &[TablePlan]) -> Result<Box<dyn Merge>> {
        let inner = self.guard(self.inner.begin(from, tables)).await?;
        Ok(Box::new(FaultyMerge { inner, target: self.clone() }))
    }
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        self.guard(self.inner.forget(pipeline, tables, checkpoint)).await
    }
    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        self.guard(self.inner.leave(pipeline, tables)).await
    }
    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        self.guard(self.inner.let_go(pipeline, tables, remove)).await
    }
    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        self.guard(self.inner.teardown(pipeline, dry)).await
    }
}
