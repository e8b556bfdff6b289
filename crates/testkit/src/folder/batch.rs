//! Writing batches one table after the other: where the batch ends is settled first, the checkpoint comes last.

use super::files::{Table, beside_table, of_pipeline, of_table};
use super::place::FolderTarget;
use crate::carry_out::{TextRow, carry_out};
use async_trait::async_trait;
use moorage_adapter::{
    AdapterError, Lack, Memo, MemoKind, Merge, RecallTarget, Replacement, Result, TableProgress, TableState,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::model::policy::ExistingRows;
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

pub(super) struct FolderMerge {
    pub(super) target: FolderTarget,
    pub(super) from: Checkpoint,
    /// Where this batch has to end, because an earlier one that was to end there may have been broken off.
    pub(super) settled: Option<Checkpoint>,
    pub(super) work: BTreeMap<String, Table>,
    pub(super) progress: BTreeMap<String, TableCounters>,
    pub(super) replaced: BTreeSet<String>,
    pub(super) memos: Vec<Memo>,
}

impl FolderMerge {
    /// The table as the batch has it so far; none if it holds all of the batch already.
    fn table(&mut self, name: &str) -> Result<Option<&mut Table>> {
        if !self.work.contains_key(name) {
            let missing = || AdapterError::refused("writing a batch", format!("there is no table {name}"));
            let table = self.target.files.table(name)?.ok_or_else(missing)?;
            self.work.insert(name.into(), table);
        }
        let settled = self.settled.as_ref().map(|s| &s.position);
        let table = self.work.get_mut(name);
        let holds_all = |t: &Table| t.of.as_ref().is_some_and(|of| Some(&of.position) == settled);
        Ok(table.filter(|t| !holds_all(t)))
    }

    /// The memos of a kind as the batch has them.
    async fn remembered(&self, kind: MemoKind) -> Result<BTreeMap<String, Vec<u8>>> {
        let mut all: BTreeMap<String, Vec<u8>> =
            self.target.memos(&self.from.pipeline, kind).await?.into_iter().collect();
        for memo in self.memos.iter().filter(|memo| memo.kind == kind) {
            match &memo.content {
                Some(content) => all.insert(memo.name.clone(), content.clone()),
                None => all.remove(&memo.name),
            };
        }
        Ok(all)
    }
}

#[async_trait]
impl Merge for FolderMerge {
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        for of in batch.iter() {
            let name = &of.plan.target;
            let Some(table) = self.table(name)? else { continue };
            if of.set.empty && table.adopted && of.plan.existing_rows == Some(ExistingRows::Keep) {
                return Err(AdapterError::refused(name.clone(), "it keeps rows: resnapshot it"));
            }
            let counters = carry_out(&mut table.rows, of)?;
            if let Some(text) = &table.forbidden
                && table.rows.iter().flatten().any(|value| value.as_ref() == Some(text))
            {
                return Err(AdapterError::refused(name.clone(), format!("it takes no {text}")));
            }
            *self.progress.entry(name.clone()).or_default() += counters;
        }
        Ok(())
    }

    async fn reserve(&mut self, _: &[&TablePlan]) -> Result<()> {
        Ok(())
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        if !alteration.steps.is_empty() {
            return Err(AdapterError::Lacking { system: "folder".into(), lack: Lack::Altering });
        }
        if let Some(of) = self.table(&alteration.after.target)?.and_then(|table| table.of.as_mut()) {
            of.plan = (*alteration.after).clone();
            let live = if of.state == TableState::Held { TableState::Live } else { of.state };
            of.state = TableState::behind(alteration.then).unwrap_or(live);
        }
        Ok(())
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        for Replacement { plan, later, end } in tables {
            let beside = beside_table(&plan.target);
            let rows: Option<Vec<TextRow>> = self.target.files.read(&beside)?;
            let missing = || AdapterError::refused(plan.target.clone(), "nothing was loaded beside it");
            let mut rows = rows.ok_or_else(missing)?;
            let snapshot_rows = rows.len() as u64;
            let mut counters = TableCounters::default();
            for batch in later {
                counters += carry_out(&mut rows, &batch?)?;
            }
            self.progress.remove(&plan.target);
            self.replaced.insert(plan.target.clone());
            let Some(table) = self.table(&plan.target)? else { continue };
            table.rows = rows;
            if let Some(of) = &mut table.of {
                (of.snapshot_rows, of.counters, of.state) = (snapshot_rows, counters, end.state);
                of.mark = end.mark.map(|m| (m.text, m.complete_at.to_string()));
                of.captured_by = end.captured_by;
            }
        }
        Ok(())
    }

    async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
        self.memos.extend_from_slice(memos);
        Ok(())
    }

    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
        let all = self.remembered(kind).await?.into_keys().filter(|name| name.starts_with(begin));
        self.memos.extend(all.map(|name| Memo { kind, name, content: None }));
        Ok(())
    }

    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>> {
        let all = self.remembered(kind).await?;
        let wanted = |(name, _): &(String, Vec<u8>)| name.as_str() > after && name.starts_with(begin);
        Ok(all.into_iter().filter(wanted).take(2).collect())
    }

    async fn commit(mut self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        let moves = checkpoint.position != self.from.position;
        if let Some(settled) = self.settled.as_ref().filter(|s| moves && s.position != checkpoint.position) {
            let reason = format!("it was to end at {}, and not at {}", settled.position, checkpoint.position);
            return Err(AdapterError::refused("committing a batch", reason));
        }
        let (files, pipeline) = (self.target.files.clone(), &self.from.pipeline);
        let _lock = files.lock()?;
        self.target.fence()?;
        if moves {
            files.write(&of_pipeline(pipeline, "settled"), checkpoint)?;
        }
        for (name, mut table) in std::mem::take(&mut self.work) {
            let settled = self.settled.as_ref().map(|s| &s.position);
            let Some(of) = table.of.as_mut().filter(|of| Some(&of.position) != settled) else { continue };
            of.counters += self.progress.get(&name).copied().unwrap_or_default();
            of.position.clone_from(&checkpoint.position);
            files.write(&of_table(&name), &table)?;
        }
        if !self.memos.is_empty() {
            self.target.remember(pipeline, &self.memos)?;
        }
        files.write(&of_pipeline(pipeline, "checkpoint"), checkpoint)?;
        self.replaced.iter().try_for_each(|name| files.remove(&beside_table(name)))?;
        let progress = self.progress.into_iter().map(|(target, counters)| TableProgress { target, counters });
        Ok(progress.collect())
    }
}
