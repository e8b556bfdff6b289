//! A target as a pipeline sees it whose tables may be kept in several forms: each is a table of its own there, and all that is
//! done to a table is done to each of its forms.
//!
//! What the target tells of its tables is of first forms alone; what stands in their plans says what others there are. Rows
//! ([`LoadTarget::load`], [`Merge::write`], [`Merge::replace`]) come form by form already.

use arrow::array::RecordBatch;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    DecideTarget, DependentView, Events, ExistingTable, Guarantees, Holder, InspectTarget, LoadTarget,
    LoadedTable, Memo, MemoKind, Merge, RecallTarget, Reject, Replacement, Result, RowOrder, Sample, Settle,
    Settled, Step, StoredTable, Surveyed, TableProgress, TakeFrom, Target, TargetAddress, TargetLook, Turn,
    Usage, WriteTarget,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::compare::rows::LookedRows;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::Finding;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};
use std::collections::HashSet;
use std::sync::Arc;
use tokio::sync::mpsc;

/// A target whose tables may have several forms.
pub struct WithForms(Arc<dyn Target>);

impl WithForms {
    /// Of a target that knows each form as a table.
    pub fn of(target: Arc<dyn Target>) -> Arc<dyn Target> {
        Arc::new(Self(target))
    }

    /// Whether there is nothing of a form in the target yet.
    async fn is_missing(&self, pipeline: &str, form: &TablePlan) -> Result<bool> {
        if form.gathered.is_some() {
            return Ok(self.0.tables(pipeline).await?.iter().all(|stored| stored.plan.target != form.target));
        }
        Ok(self.0.columns(&form.target).await?.is_empty())
    }

    /// The names of these tables with those of their other forms.
    async fn with_forms(&self, pipeline: &str, tables: &[String]) -> Result<Vec<String>> {
        let mut all = tables.to_vec();
        if !tables.is_empty() {
            let stored = self.0.tables(pipeline).await?;
            let beside = |s: &StoredTable| s.plan.beside.as_ref().is_some_and(|of| tables.contains(of));
            all.extend(stored.iter().filter(|s| beside(s)).map(|s| s.plan.target.clone()));
        }
        Ok(all)
    }
}

fn forms(plan: &TablePlan) -> impl Iterator<Item = &TablePlan> {
    std::iter::once(plan).chain(plan.also.iter().map(AsRef::as_ref))
}

fn first_forms(tables: Vec<StoredTable>) -> Vec<StoredTable> {
    tables.into_iter().filter(|stored| stored.plan.beside.is_none()).collect()
}

#[async_trait]
impl InspectTarget for WithForms {
    fn address(&self) -> TargetAddress {
        self.0.address()
    }

    fn usage(&self) -> Option<Usage> {
        self.0.usage()
    }

    fn guarantees(&self) -> Guarantees {
        self.0.guarantees()
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        self.0.dialect()
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        let all = std::iter::once(alteration).chain(&alteration.also);
        all.flat_map(|alteration| self.0.alteration(alteration)).collect()
    }

    fn definition(&self, plan: &TablePlan) -> String {
        forms(plan).map(|form| self.0.definition(form)).collect::<Vec<_>>().join("\n\n")
    }

    fn set_up_script(&self, role: Option<&str>, undo: bool) -> String {
        self.0.set_up_script(role, undo)
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        self.0.identity().await
    }

    async fn probe(&self, bytes: u64) -> Result<Vec<Finding>> {
        self.0.probe(bytes).await
    }

    async fn list(&self) -> Result<Vec<String>> {
        self.0.list().await
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        self.0.describe(table).await
    }

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        self.0.columns(table).await
    }

    async fn views(&self, table: &str) -> Result<Vec<DependentView>> {
        self.0.views(table).await
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        self.0.count(plan).await
    }
}

#[async_trait]
impl RecallTarget for WithForms {
    async fn checkpoint(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.0.checkpoint(pipeline).await
    }

    async fn tables(&self, pipeline: &str) -> Result<Vec<StoredTable>> {
        Ok(first_forms(self.0.tables(pipeline).await?))
    }

    async fn look(&self, pipeline: &str) -> Result<Option<Box<dyn TargetLook>>> {
        let Some(look) = self.0.look(pipeline).await? else { return Ok(None) };
        let tables = first_forms(look.tables().to_vec());
        Ok(Some(Box::new(LookWithForms { look, tables })))
    }

    async fn holder(&self, pipeline: &str) -> Result<Option<Holder>> {
        self.0.holder(pipeline).await
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        self.0.memos(pipeline, kind).await
    }

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        self.0.memo(pipeline, kind, name).await
    }

    async fn settled(&self, pipeline: &str) -> Result<Option<Checkpoint>> {
        self.0.settled(pipeline).await
    }
}

#[async_trait]
impl WriteTarget for WithForms {
    async fn take_turn(
        &self,
        pipeline: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        events: &Events,
    ) -> Result<Turn> {
        self.0.take_turn(pipeline, holder, from, make, events).await
    }

    async fn renew_turn(&self, pipeline: &str) -> Result<()> {
        self.0.renew_turn(pipeline).await
    }

    async fn end_turn(&self, pipeline: &str) -> Result<()> {
        self.0.end_turn(pipeline).await
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        self.0.save_checkpoint(checkpoint).await
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        let merge = self.0.begin(from).await?;
        Ok(Box::new(MergeWithForms { merge, others: HashSet::new() }))
    }
}

#[async_trait]
impl LoadTarget for WithForms {
    async fn survey(&self, pipeline: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let mut surveyed = self.0.survey(pipeline, plans).await?;
        for (found, plan) in surveyed.iter_mut().zip(plans).filter(|(_, plan)| !plan.also.is_empty()) {
            let others: Vec<TablePlan> = plan.also.iter().map(|form| (**form).clone()).collect();
            let others = self.0.survey(pipeline, &others).await?;
            let problem = plan.also.iter().zip(&others).find_map(|(form, found)| {
                Some(format!("target table {}: {}", form.target, found.problem.as_ref()?))
            });
            found.problem = found.problem.take().or(problem);
        }
        Ok(surveyed)
    }

    async fn check(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        for form in forms(plan) {
            self.0.check(pipeline, form).await?;
        }
        Ok(())
    }

    async fn create(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        for form in forms(plan) {
            self.0.create(pipeline, form).await?;
        }
        Ok(())
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        self.0.load(plan, rows).await
    }

    async fn finish_load(&self, pipeline: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        // The first one last: by it the next run knows whether all of them are complete.
        for form in &plan.also {
            self.0.finish_load(pipeline, form, end.clone()).await?;
        }
        self.0.finish_load(pipeline, plan, end).await
    }

    async fn create_again(&self, pipeline: &str, plan: &TablePlan) -> Result<()> {
        for form in forms(plan) {
            // One that has come to the project file since.
            if form.beside.is_some() && self.is_missing(pipeline, form).await? {
                self.0.create(pipeline, form).await?;
            }
            self.0.create_again(pipeline, form).await?;
        }
        Ok(())
    }

    async fn ready_again(&self, plan: &TablePlan) -> Result<()> {
        for form in forms(plan) {
            self.0.ready_again(form).await?;
        }
        Ok(())
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        for form in forms(plan) {
            self.0.drop_again(form).await?;
        }
        Ok(())
    }

    async fn remember_captured_by(&self, pipeline: &str, tables: &[(String, String)]) -> Result<()> {
        self.0.remember_captured_by(pipeline, tables).await
    }
}

#[async_trait]
impl DecideTarget for WithForms {
    async fn forget(&self, pipeline: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        self.0.forget(pipeline, &self.with_forms(pipeline, tables).await?, checkpoint).await
    }

    async fn leave(&self, pipeline: &str, tables: &[String]) -> Result<()> {
        self.0.leave(pipeline, &self.with_forms(pipeline, tables).await?).await
    }

    async fn let_go(&self, pipeline: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        self.0.let_go(pipeline, &self.with_forms(pipeline, tables).await?, remove).await
    }

    async fn rejects(&self, pipeline: &str) -> Result<Vec<Reject>> {
        self.0.rejects(pipeline).await
    }

    async fn reject(&self, pipeline: &str, id: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        self.0.reject(pipeline, id).await
    }

    async fn old_rows(&self, plan: &TablePlan, since: DateTime<Utc>) -> Result<Option<Old>> {
        self.0.old_rows(plan, since).await
    }

    async fn fold(&self, plan: &TablePlan, old: &Old, part: u32, dry: bool) -> Result<Folded> {
        self.0.fold(plan, old, part, dry).await
    }

    async fn settle(&self, pipeline: &str, ids: Option<&[i64]>, how: Settle) -> Result<Settled> {
        self.0.settle(pipeline, ids, how).await
    }

    async fn teardown(&self, pipeline: &str, dry: bool) -> Result<Vec<Step>> {
        self.0.teardown(pipeline, dry).await
    }
}

/// An open batch.
struct MergeWithForms {
    merge: Box<dyn Merge>,
    /// The tables in it that are not first forms.
    others: HashSet<String>,
}

#[async_trait]
impl Merge for MergeWithForms {
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        let others = batch.iter().filter(|of| of.plan.beside.is_some());
        self.others.extend(others.map(|of| of.plan.target.clone()));
        self.merge.write(batch).await
    }

    async fn reserve(&mut self, tables: &[&TablePlan]) -> Result<()> {
        let all: Vec<&TablePlan> = tables.iter().flat_map(|plan| forms(plan)).collect();
        self.merge.reserve(&all).await
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        for alteration in std::iter::once(alteration).chain(&alteration.also) {
            self.merge.alter(alteration).await?;
        }
        Ok(())
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        let others = tables.iter().filter(|of| of.plan.beside.is_some());
        self.others.extend(others.map(|of| of.plan.target.clone()));
        self.merge.replace(tables).await
    }

    async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
        self.merge.remember(memos).await
    }

    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
        self.merge.forget(kind, begin).await
    }

    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>> {
        self.merge.recall(kind, begin, after).await
    }

    async fn commit(self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        let Self { merge, others } = *self;
        let progress = merge.commit(checkpoint).await?;
        // What was read is counted once.
        Ok(progress.into_iter().filter(|of| !others.contains(&of.target)).collect())
    }
}

/// One state of the target.
struct LookWithForms {
    look: Box<dyn TargetLook>,
    tables: Vec<StoredTable>,
}

#[async_trait]
impl TargetLook for LookWithForms {
    fn checkpoint(&self) -> Option<&Checkpoint> {
        self.look.checkpoint()
    }

    fn tables(&self) -> &[StoredTable] {
        &self.tables
    }

    async fn rows(
        &mut self,
        plan: &TablePlan,
        order: RowOrder,
        sender: mpsc::Sender<LookedRows>,
    ) -> Result<()> {
        self.look.rows(plan, order, sender).await
    }

    async fn count(&mut self, plan: &TablePlan) -> Result<(u64, u64)> {
        self.look.count(plan).await
    }

    async fn row(&mut self, plan: &TablePlan, key: &[String]) -> Result<LookedRows> {
        self.look.row(plan, key).await
    }

    async fn sample(&mut self, plan: &TablePlan, which: Sample) -> Result<LookedRows> {
        self.look.sample(plan, which).await
    }
}
