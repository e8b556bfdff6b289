//! A target that fails once, at a chosen call: before carrying it out, or after, as a lost answer would.

use arrow::array::RecordBatch;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    AdapterError, DecideTarget, DependentView, Events, ExistingTable, Guarantees, Holder, InspectTarget,
    LoadTarget, LoadedTable, Memo, MemoKind, Merge, RecallTarget, Reject, Replacement, Result, Settle,
    Settled, Step, StoredTable, Surveyed, TableProgress, TakeFrom, Target, TargetAddress, TargetLook, Turn,
    Usage, WriteTarget,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// Counts calls and fails one of them.
#[derive(Clone)]
pub(crate) struct Fuse {
    of: &'static str,
    calls: Arc<AtomicUsize>,
    fail_at: usize,
    after: bool,
}

impl Fuse {
    pub(crate) fn new(of: &'static str, fail_at: usize, after: bool) -> Self {
        Self { of, calls: Arc::default(), fail_at, after }
    }

    pub(crate) fn calls(&self) -> usize {
        self.calls.load(Ordering::SeqCst)
    }

    pub(crate) async fn guard<T>(&self, work: impl Future<Output = Result<T>>) -> Result<T> {
        let broken = || AdapterError::refused(self.of, "made to fail by the test");
        let fails = self.calls.fetch_add(1, Ordering::SeqCst) + 1 == self.fail_at;
        if fails && !self.after {
            return Err(broken());
        }
        let done = work.await;
        if fails { Err(broken()) } else { done }
    }
}

/// Counts the writing calls of a target and fails one of them.
#[derive(Clone)]
pub struct FaultyTarget {
    inner: Arc<dyn Target>,
    fuse: Fuse,
    /// How much longer it takes to commit.
    slow_by: Duration,
    /// How long each batch took, from its begin to the end of its commit.
    took: Arc<Mutex<Vec<Duration>>>,
}

impl FaultyTarget {
    /// Fails the `fail_at`-th writing call (from 1; 0 fails none), `after` it was carried out or before.
    pub fn new(inner: Arc<dyn Target>, fail_at: usize, after: bool) -> Self {
        Self {
            inner,
            fuse: Fuse::new("target", fail_at, after),
            slow_by: Duration::ZERO,
            took: Arc::default(),
        }
    }

    /// Fails nothing, and takes so much longer to commit.
    pub fn slow(inner: Arc<dyn Target>, slow_by: Duration) -> Self {
        Self { slow_by, ..Self::new(inner, 0, false) }
    }

    /// How long each batch took that was committed.
    pub fn took(&self) -> Vec<Duration> {
        self.took.lock().unwrap().clone()
    }

    /// How many writing calls there were.
    pub fn calls(&self) -> usize {
        self.fuse.calls()
    }
}

struct FaultyMerge {
    inner: Box<dyn Merge>,
    of: FaultyTarget,
    fuse: Fuse,
    began: Instant,
}

#[async_trait]
impl Merge for FaultyMerge {
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        let fuse = self.fuse.clone();
        fuse.guard(self.inner.write(batch)).await
    }

    async fn reserve(&mut self, tables: &[&TablePlan]) -> Result<()> {
        self.fuse.clone().guard(self.inner.reserve(tables)).await
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        self.fuse.clone().guard(self.inner.alter(alteration)).await
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        self.fuse.clone().guard(self.inner.replace(tables)).await
    }
    async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
        self.fuse.clone().guard(self.inner.remember(memos)).await
    }

    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
        self.fuse.clone().guard(self.inner.forget(kind, begin)).await
    }

    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>> {
        self.fuse.clone().guard(self.inner.recall(kind, begin, after)).await
    }

    async fn commit(self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        tokio::time::sleep(self.of.slow_by).await;
        let done = self.fuse.guard(self.inner.commit(checkpoint)).await;
        self.of.took.lock().unwrap().push(self.began.elapsed());
        done
    }
}

#[async_trait]
impl InspectTarget for FaultyTarget {
    fn usage(&self) -> Option<Usage> {
        self.inner.usage()
    }

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

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        self.inner.columns(table).await
    }

    async fn views(&self, table: &str) -> Result<Vec<DependentView>> {
        self.inner.views(table).await
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        self.inner.alteration(alteration)
    }

    fn definition(&self, plan: &TablePlan) -> String {
        self.inner.definition(plan)
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        self.inner.count(plan).await
    }

    fn guarantees(&self) -> Guarantees {
        self.inner.guarantees()
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        self.inner.identity().await
    }
}

#[async_trait]
impl RecallTarget for FaultyTarget {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.inner.checkpoint(pipeline).await
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        self.inner.tables(pipeline).await
    }

    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        self.inner.look(pipeline).await
    }

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        self.inner.holder(pipeline).await
    }

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        self.inner.memo(pipeline, kind, name).await
    }

    async fn settled(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.inner.settled(pipeline).await
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        self.inner.memos(pipeline, kind).await
    }
}

#[async_trait]
impl WriteTarget for FaultyTarget {
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn> {
        self.fuse.guard(self.inner.take_turn(pipeline, holder, from, make, events)).await
    }

    async fn end_turn(&self, pipeline: &str) -> Result<()> {
        // Its failure is of no consequence.
        self.inner.end_turn(pipeline).await
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        self.fuse.guard(self.inner.save_checkpoint(checkpoint)).await
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        let began = Instant::now();
        let inner = self.fuse.guard(self.inner.begin(from)).await?;
        Ok(Box::new(FaultyMerge { inner, of: self.clone(), fuse: self.fuse.clone(), began }))
    }

    async fn renew_turn(&self, pipeline: &str) -> Result<()> {
        // Called by a clock, not by the order of the run: what cannot be counted on is not counted.
        self.inner.renew_turn(pipeline).await
    }
}

#[async_trait]
impl LoadTarget for FaultyTarget {
    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.inner.check(pipeline, plan).await
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.fuse.guard(self.inner.create(pipeline, plan)).await
    }

    async fn create_again(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        self.fuse.guard(self.inner.create_again(pipeline, plan)).await
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        self.fuse.guard(self.inner.ready_again(plan)).await
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.fuse.guard(self.inner.drop_again(plan)).await
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        self.fuse.guard(self.inner.load(plan, rows)).await
    }

    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        self.fuse.guard(self.inner.finish_load(pipeline, plan, end)).await
    }

    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()> {
        self.fuse.guard(self.inner.remember_captured_by(pipeline, tables)).await
    }

    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        self.inner.survey(pipeline, plans).await
    }
}

#[async_trait]
impl DecideTarget for FaultyTarget {
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        self.fuse.guard(self.inner.forget(pipeline, tables, checkpoint)).await
    }

    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        self.fuse.guard(self.inner.leave(pipeline, tables)).await
    }

    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        self.fuse.guard(self.inner.let_go(pipeline, tables, remove)).await
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        self.fuse.guard(self.inner.teardown(pipeline, dry)).await
    }

    async fn rejects(&self, pipeline: &str) -> Result<Vec<Reject>> {
        self.inner.rejects(pipeline).await
    }

    async fn reject(&self, pipeline: &str, id: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        self.inner.reject(pipeline, id).await
    }

    async fn old_rows(&self, plan: &TablePlan, since: DateTime<Utc>) -> Result<Option<Old>> {
        self.fuse.guard(self.inner.old_rows(plan, since)).await
    }

    async fn fold(&self, plan: &TablePlan, old: &Old, part: u32, dry: bool) -> Result<Folded> {
        self.fuse.guard(self.inner.fold(plan, old, part, dry)).await
    }

    async fn settle(&self, pipeline: &str, ids: Option<&[i64]>, how: Settle) -> Result<Settled> {
        self.fuse.guard(self.inner.settle(pipeline, ids, how)).await
    }
}
