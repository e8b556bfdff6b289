//! A target in memory that also records every change it is given, in order.

use crate::carry_out::{TextDialect, berth, load, texts};
use crate::memory_held::{Inner, Table};
use crate::memory_merge::MemoryMerge;
use crate::rows::{Op, Row};
use arrow::array::RecordBatch;
use async_trait::async_trait;
use chrono::{DateTime, Utc};
use moorage_adapter::{
    AdapterError, Committing, DecideTarget, DependentView, Events, ExistingTable, Guarantees, Holder,
    InspectTarget, Lack, LoadTarget, LoadedTable, MemoKind, Merge, RecallTarget, Reject, Replacing, Result,
    Settle, Settled, Step, StoredTable, Surveyed, TableState, TakeFrom, TargetAddress, TargetLook, Turn,
    Usage, WriteTarget,
};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::drift::standing::TargetColumns;
use moorage_core::model::described::SourceIdentity;
use moorage_core::model::finding::{End, Finding};
use moorage_core::model::policy::ExistingRows;
use moorage_core::plan::dialect::TargetDialect;
use moorage_core::plan::table::TablePlan;
use moorage_core::plan::tidy::{Folded, Old};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};

/// A target in memory. Clones share what they hold.
#[derive(Clone)]
pub struct MemoryTarget {
    inner: Arc<Mutex<Inner>>,
    /// The turn that was taken.
    mine: Arc<Mutex<Option<Holder>>>,
    /// What it says of itself.
    guarantees: Guarantees,
}

/// What it can do.
const GUARANTEES: Guarantees = Guarantees {
    committing: Committing::Together,
    replacing: Replacing::AtOnce,
    lacks: &[Lack::SettingAside, Lack::Looks, Lack::Altering, Lack::Keeping, Lack::Gathering],
};

impl Default for MemoryTarget {
    fn default() -> Self {
        Self { inner: Arc::default(), mine: Arc::default(), guarantees: GUARANTEES }
    }
}

impl MemoryTarget {
    /// A table's rows, sorted.
    pub fn rows(&self, table: &str) -> Vec<Row> {
        let inner = self.inner.lock().unwrap();
        let mut rows: Vec<Row> =
            inner.tables.get(table).map(|t| &t.rows).into_iter().flatten().map(berth).collect();
        rows.sort();
        rows
    }

    /// The same target as another process has it.
    pub fn another(&self) -> Self {
        Self { inner: self.inner.clone(), ..Self::default() }
    }

    /// A target that says that it lacks more, or replaces tables in parts.
    pub fn that_says(lacks: &'static [Lack], replacing: Replacing) -> Self {
        Self { guarantees: Guarantees { lacks, replacing, ..GUARANTEES }, ..Self::default() }
    }

    /// What it holds, for writing.
    fn write(&self) -> Result<MutexGuard<'_, Inner>> {
        let mine = self.mine.lock().unwrap().clone();
        let inner = self.inner.lock().unwrap();
        inner.fence(mine.as_ref()).map(|()| inner)
    }

    /// Every change of every committed batch, in the order it was handed over.
    pub fn seen(&self) -> Vec<Op> {
        self.inner.lock().unwrap().seen.clone()
    }

    /// Has rows with this name be refused in a table.
    pub fn forbid(&self, table: &str, name: &str) {
        self.inner.lock().unwrap().forbidden = Some((table.into(), name.into()));
    }

    /// Puts a table there, as if someone else had made it.
    pub fn put(&self, table: &str, rows: Vec<Row>) {
        let rows = rows.iter().map(texts).collect();
        let table_there = Table { rows, stored: None, adopted: true, again: None };
        self.inner.lock().unwrap().tables.insert(table.into(), table_there);
    }
}

#[async_trait]
impl InspectTarget for MemoryTarget {
    fn usage(&self) -> Option<Usage> {
        None
    }

    fn address(&self) -> TargetAddress {
        TargetAddress {
            system: "memory".into(),
            host: String::new(),
            database: "here".into(),
            user: String::new(),
        }
    }

    fn dialect(&self) -> &(dyn TargetDialect + Sync) {
        &TextDialect
    }

    async fn list(&self) -> Result<Vec<String>> {
        Ok(self.inner.lock().unwrap().tables.keys().cloned().collect())
    }

    fn set_up_script(&self, _: Option<&str>, _: bool) -> String {
        String::new()
    }

    async fn probe(&self, _: u64) -> Result<Vec<Finding>> {
        Ok(vec![Finding::ok(End::Target, "target", "memory")])
    }

    async fn describe(&self, table: &str) -> Result<Option<ExistingTable>> {
        let inner = self.inner.lock().unwrap();
        let columns = || ["id", "name", "note"].map(|c| (c.to_string(), String::new())).to_vec();
        Ok(inner.tables.get(table).map(|t| ExistingTable {
            columns: columns(),
            rows: t.rows.len() as u64,
            owner: t.stored.as_ref().map(|_| "here".into()),
        }))
    }

    async fn columns(&self, table: &str) -> Result<TargetColumns> {
        Ok(self.describe(table).await?.map(|there| there.columns).unwrap_or_default())
    }

    async fn views(&self, _: &str) -> Result<Vec<DependentView>> {
        Ok(Vec::new())
    }

    fn alteration(&self, alteration: &Alteration) -> Vec<String> {
        alteration.steps.iter().map(|step| format!("{step:?}")).collect()
    }

    fn definition(&self, plan: &TablePlan) -> String {
        plan.target.clone()
    }

    async fn count(&self, plan: &TablePlan) -> Result<u64> {
        Ok(self.rows(&plan.target).len() as u64)
    }

    fn guarantees(&self) -> Guarantees {
        self.guarantees
    }

    async fn identity(&self) -> Result<Option<SourceIdentity>> {
        Ok(None)
    }
}

#[async_trait]
impl RecallTarget for MemoryTarget {
    async fn checkpoint(&self, _: &str) -> Result<Option<Checkpoint>> {
        Ok(self.inner.lock().unwrap().checkpoint.clone())
    }

    async fn tables(&self, _: &str) -> Result<Vec<StoredTable>> {
        Ok(self.inner.lock().unwrap().tables.values().filter_map(|t| t.stored.clone()).collect())
    }

    async fn look(&self, _: &str) -> Result<Option<Box<dyn TargetLook>>> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Looks })
    }

    async fn holder(&self, _: &str) -> Result<Option<Holder>> {
        Ok(self.inner.lock().unwrap().holder.clone())
    }

    async fn memos(&self, pipeline: &str, kind: MemoKind) -> Result<Vec<(String, Vec<u8>)>> {
        let inner = self.inner.lock().unwrap();
        let of_kind = inner.memos.iter().filter(|((p, k, _), _)| p == pipeline && *k == kind);
        Ok(of_kind.map(|((.., name), content)| (name.clone(), content.clone())).collect())
    }

    async fn memo(&self, pipeline: &str, kind: MemoKind, name: &str) -> Result<Option<Vec<u8>>> {
        let key = (pipeline.to_string(), kind, name.to_string());
        Ok(self.inner.lock().unwrap().memos.get(&key).cloned())
    }

    async fn settled(&self, _: &str) -> Result<Option<Checkpoint>> {
        Ok(None)
    }
}

#[async_trait]
impl WriteTarget for MemoryTarget {
    async fn take_turn(
        &self,
        _: &str,
        holder: &Holder,
        from: TakeFrom<'_>,
        make: bool,
        _: &Events,
    ) -> Result<Turn> {
        let mut inner = self.inner.lock().unwrap();
        if !make && inner.checkpoint.is_none() && inner.tables.values().all(|t| t.stored.is_none()) {
            return Ok(Turn::NothingThere);
        }
        let may = |held: &Holder| held.id == holder.id || matches!(from, TakeFrom::Gone(g) if g == held);
        if let Some(held) = inner.holder.clone().filter(|held| !may(held)) {
            return Ok(Turn::Held(held));
        }
        inner.holder = Some(holder.clone());
        *self.mine.lock().unwrap() = Some(holder.clone());
        Ok(Turn::Taken)
    }

    async fn end_turn(&self, _: &str) -> Result<()> {
        let mine = self.mine.lock().unwrap().take();
        let mut inner = self.inner.lock().unwrap();
        inner.holder = inner.holder.take().filter(|held| Some(held) != mine.as_ref());
        Ok(())
    }

    async fn save_checkpoint(&self, checkpoint: &Checkpoint) -> Result<()> {
        self.write()?.checkpoint = Some(checkpoint.clone());
        Ok(())
    }

    async fn begin(&self, from: &Checkpoint) -> Result<Box<dyn Merge>> {
        let work = self.write()?.clone();
        if work.checkpoint.as_ref() != Some(from) {
            return Err(AdapterError::checkpoint_moved("memory".into(), from, work.checkpoint.as_ref()));
        }
        let mine = self.mine.lock().unwrap().clone();
        let (shared, pipeline) = (self.inner.clone(), from.pipeline.clone());
        Ok(Box::new(MemoryMerge { shared, work, mine, pipeline, progress: BTreeMap::new() }))
    }

    async fn renew_turn(&self, _: &str) -> Result<()> {
        Ok(())
    }
}

#[async_trait]
impl LoadTarget for MemoryTarget {
    async fn survey(&self, _: &str, plans: &[TablePlan]) -> Result<Vec<Surveyed>> {
        let mut all = Vec::with_capacity(plans.len());
        for plan in plans {
            let existing = self.describe(&plan.target).await?;
            let inner = self.inner.lock().unwrap();
            let stored = inner.tables.get(&plan.target).and_then(|t| t.stored.clone());
            all.push(Surveyed {
                existing,
                state: stored.as_ref().map(|s| s.state),
                maps_otherwise: stored.is_some_and(|s| !s.plan.maps_like(plan)),
                problem: inner.check(plan).err().map(|e| e.to_string()),
            });
        }
        Ok(all)
    }

    async fn check(&self, _: &str, plan: &TablePlan) -> Result<()> {
        self.inner.lock().unwrap().check(plan)
    }

    async fn create(&self, _: &str, plan: &TablePlan) -> Result<()> {
        let mut inner = self.write()?;
        inner.check(plan)?;
        let before = inner.tables.get(&plan.target).cloned();
        let adopted = before.as_ref().is_some_and(|t| t.adopted);
        let keeps = adopted && plan.existing_rows == Some(ExistingRows::Keep);
        let stored = StoredTable {
            plan: plan.clone(),
            state: TableState::Waiting,
            mark: None,
            snapshot_rows: 0,
            counters: TableCounters::default(),
            last_change_at: None,
            captured_by: None,
        };
        let rows = before.filter(|_| keeps).map(|t| t.rows).unwrap_or_default();
        inner.tables.insert(plan.target.clone(), Table { rows, stored: Some(stored), adopted, again: None });
        Ok(())
    }

    async fn load(&self, plan: &TablePlan, rows: RecordBatch) -> Result<()> {
        let mut inner = self.write()?;
        let table = inner.table(&plan.target);
        load(table.again.as_mut().unwrap_or(&mut table.rows), plan, &rows);
        if table.again.is_some() {
            return Ok(());
        }
        if let Some(stored) = &mut table.stored {
            stored.state = TableState::Reading;
            stored.snapshot_rows += rows.num_rows() as u64;
        }
        Ok(())
    }

    async fn create_again(&self, _: &str, plan: &TablePlan) -> Result<()> {
        self.write()?.table(&plan.target).again = Some(Vec::new());
        Ok(())
    }

    async fn ready_again(&self, _: &TablePlan) -> Result<()> {
        Ok(())
    }

    async fn drop_again(&self, plan: &TablePlan) -> Result<()> {
        self.write()?.table(&plan.target).again = None;
        Ok(())
    }

    async fn finish_load(&self, _: &str, plan: &TablePlan, end: LoadedTable) -> Result<()> {
        let mut inner = self.write()?;
        let stored = inner.table(&plan.target).stored.as_mut().expect("created");
        stored.state = end.state;
        stored.mark = end.mark.map(|m| (m.text, m.complete_at.to_string()));
        stored.captured_by = end.captured_by;
        Ok(())
    }

    async fn remember_captured_by(&self, _: &str, tables: &[(String, String)]) -> Result<()> {
        let mut inner = self.write()?;
        for (target, by) in tables {
            if let Some(stored) = &mut inner.table(target).stored {
                stored.captured_by = Some(by.clone());
            }
        }
        Ok(())
    }
}

#[async_trait]
impl DecideTarget for MemoryTarget {
    async fn forget(&self, _: &str, tables: &[String], checkpoint: bool) -> Result<()> {
        let mut inner = self.write()?;
        for name in tables {
            if let Some(stored) = &mut inner.table(name).stored {
                stored.state = TableState::NeedsResnapshot;
                stored.mark = None;
            }
        }
        if checkpoint {
            inner.checkpoint = None;
        }
        Ok(())
    }

    async fn leave(&self, _: &str, tables: &[String]) -> Result<()> {
        let mut inner = self.write()?;
        for name in tables {
            if let Some(stored) = &mut inner.table(name).stored {
                stored.state = TableState::Gone;
                stored.mark = None;
            }
        }
        Ok(())
    }

    async fn let_go(&self, _: &str, tables: &[String], remove: bool) -> Result<Vec<Step>> {
        let mut inner = self.write()?;
        for name in tables {
            inner.table(name).stored = None;
            if remove {
                inner.tables.remove(name);
            }
        }
        Ok(tables.iter().map(|n| Step::new(n.clone(), "let go")).collect())
    }

    async fn teardown(&self, _: &str, dry: bool) -> Result<Vec<Step>> {
        let mut inner = self.write()?;
        let ours: Vec<String> = inner
            .tables
            .iter()
            .filter(|(_, t)| t.stored.is_some() && !t.adopted)
            .map(|(n, _)| n.clone())
            .collect();
        if !dry {
            inner.tables.retain(|name, _| !ours.contains(name));
            inner.tables.values_mut().for_each(|t| t.stored = None);
            inner.checkpoint = None;
            inner.memos.clear();
        }
        Ok(ours.into_iter().map(|n| Step::new(n, if dry { "would be removed" } else { "removed" })).collect())
    }

    async fn rejects(&self, _: &str) -> Result<Vec<Reject>> {
        Ok(Vec::new())
    }

    async fn reject(&self, _: &str, _: i64) -> Result<Option<(Reject, ChangeBlock)>> {
        Ok(None)
    }

    async fn old_rows(&self, _: &TablePlan, _: DateTime<Utc>) -> Result<Option<Old>> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Keeping })
    }

    async fn fold(&self, _: &TablePlan, _: &Old, _: u32, _: bool) -> Result<Folded> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Keeping })
    }

    async fn settle(&self, _: &str, _: Option<&[i64]>, _: Settle) -> Result<Settled> {
        Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::SettingAside })
    }
}
