//! A batch of a target in memory: a copy of all that it holds, which takes its place when it is committed.

use crate::carry_out::carry_out;
use crate::memory_held::{Inner, refused};
use crate::rows::{Op, row_at};
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Holder, Lack, Memo, MemoKind, Merge, Replacement, Result, TableProgress, TableState,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::counters::TableCounters;
use moorage_core::change::kind::ChangeKind;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::model::policy::ExistingRows;
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

pub(crate) struct MemoryMerge {
    pub(crate) shared: Arc<Mutex<Inner>>,
    pub(crate) work: Inner,
    pub(crate) mine: Option<Holder>,
    pub(crate) pipeline: String,
    pub(crate) progress: BTreeMap<String, TableCounters>,
}

fn ops(block: &ChangeBlock) -> impl Iterator<Item = Op> {
    block.changes().map(|c| {
        let new = || row_at(block.new_rows(), c.new.unwrap());
        let old = || c.old.map(|o| row_at(block.old_rows(), o).0);
        match c.kind {
            ChangeKind::Insert => Op::Insert(new()),
            ChangeKind::Update => Op::Update(old().unwrap_or_else(|| new().0), new()),
            ChangeKind::Delete => Op::Delete(old().unwrap()),
            ChangeKind::Truncate => Op::Truncate,
        }
    })
}

#[async_trait]
impl Merge for MemoryMerge {
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        for of in batch.iter() {
            self.work.seen.extend(of.blocks.iter().flat_map(ops));
            let table = self.work.table(&of.plan.target);
            if of.set.empty && table.adopted && of.plan.existing_rows == Some(ExistingRows::Keep) {
                return Err(refused(&format!("{} keeps rows: resnapshot it", of.plan.target)));
            }
            let counters = carry_out(&mut self.work.table(&of.plan.target).rows, of)?;
            self.work.refuse_forbidden(&of.plan.target)?;
            *self.progress.entry(of.plan.target.clone()).or_default() += counters;
        }
        Ok(())
    }

    async fn reserve(&mut self, _: &[&TablePlan]) -> Result<()> {
        Ok(())
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        if !alteration.steps.is_empty() {
            return Err(AdapterError::Lacking { system: "memory".into(), lack: Lack::Altering });
        }
        if let Some(stored) = &mut self.work.table(&alteration.after.target).stored {
            stored.plan = (*alteration.after).clone();
            let live = if stored.state == TableState::Held { TableState::Live } else { stored.state };
            stored.state = TableState::behind(alteration.then).unwrap_or(live);
        }
        Ok(())
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        for Replacement { plan, later, end } in tables {
            let mut rows = self.shared.lock().unwrap().table(&plan.target).again.take().expect("made again");
            let snapshot_rows = rows.len() as u64;
            let mut counters = TableCounters::default();
            for batch in later {
                counters += carry_out(&mut rows, &batch?)?;
            }
            let table = self.work.table(&plan.target);
            (table.rows, table.again) = (rows, None);
            self.progress.remove(&plan.target);
            let stored = table.stored.as_mut().expect("created");
            (stored.snapshot_rows, stored.counters, stored.state) = (snapshot_rows, counters, end.state);
            stored.mark = end.mark.map(|m| (m.text, m.complete_at.to_string()));
            stored.captured_by = end.captured_by;
        }
        Ok(())
    }

    async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
        for Memo { kind, name, content } in memos.iter().cloned() {
            match content {
                Some(content) => self.work.memos.insert((self.pipeline.clone(), kind, name), content),
                None => self.work.memos.remove(&(self.pipeline.clone(), kind, name)),
            };
        }
        Ok(())
    }

    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
        let pipeline = &self.pipeline;
        self.work
            .memos
            .retain(|(of, other, name), _| (of, *other) != (pipeline, kind) || !name.starts_with(begin));
        Ok(())
    }

    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>> {
        let all = self.work.memos.iter().filter(|((pipeline, of, name), _)| {
            (pipeline, *of) == (&self.pipeline, kind) && name.as_str() > after && name.starts_with(begin)
        });
        Ok(all.map(|((.., name), content)| (name.clone(), content.clone())).take(2).collect())
    }

    async fn commit(mut self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        for (target, counters) in &self.progress {
            if let Some(stored) = &mut self.work.table(target).stored {
                stored.counters += *counters;
            }
        }
        self.work.checkpoint = Some(checkpoint.clone());
        let mut shared = self.shared.lock().unwrap();
        shared.fence(self.mine.as_ref())?;
        // What is loaded beside a table meanwhile is not this batch's.
        for (name, table) in &mut self.work.tables {
            let loaded = shared.tables.get(name).and_then(|t| t.again.clone());
            table.again = loaded;
        }
        *shared = self.work;
        drop(shared);
        let progress = self.progress.into_iter().map(|(target, counters)| TableProgress { target, counters });
        Ok(progress.collect())
    }
}
