//! An open batch: what it does to each table is written to files that nothing names yet; its commit puts it into one table after
//! the other, and into the ledger last.

use crate::as_target::ledger::Entries;
use crate::as_target::memos;
use crate::as_target::merge::merge;
use crate::as_target::place::{Deed, LakeTarget, Writer};
use crate::as_target::remembered::Remembered;
use crate::table::work::Work;
use async_trait::async_trait;
use chrono::Utc;
use moorage_adapter::{
    AdapterError, Doing, Lack, Memo, MemoKind, Merge, Replacement, Result, TableProgress, TableState,
};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::model::policy::ExistingRows;
use moorage_core::plan::table::TablePlan;
use std::collections::BTreeMap;
use std::sync::Arc;

/// What a batch does to one table.
struct Part {
    /// None: nothing but what is remembered of it.
    work: Option<Work>,
    /// Whether its rows were loaded beside the table.
    beside: bool,
    of: Remembered,
    /// How it is carried from here on, where that is another way.
    plan: Option<TablePlan>,
    progress: Option<TableCounters>,
}

pub(crate) struct LakeMerge {
    target: LakeTarget,
    from: Checkpoint,
    /// Where this batch has to end, because an earlier one that was to end there was broken off.
    settled: Option<Checkpoint>,
    parts: BTreeMap<String, Part>,
    memos: Vec<Memo>,
}

impl LakeMerge {
    pub(crate) fn new(target: LakeTarget, from: Checkpoint, settled: Option<Checkpoint>) -> Self {
        Self { target, from, settled, parts: BTreeMap::new(), memos: Vec::new() }
    }

    /// The batch's part of a table, without any work yet; none if the table holds all of the batch already.
    async fn part(&mut self, target: &str) -> Result<Option<&mut Part>> {
        if !self.parts.contains_key(target) {
            let writer = self.target.writing().await?;
            let missing =
                || AdapterError::refused(Doing::to("writing to the lake table", target), "it is not known");
            let of = writer.ledger.table(target)?.ok_or_else(missing)?;
            self.parts
                .insert(target.into(), Part { work: None, beside: false, of, plan: None, progress: None });
        }
        let settled = self.settled.as_ref().map(|settled| settled.position.as_str());
        Ok(self.parts.get_mut(target).filter(|part| settled != Some(part.of.position.as_str())))
    }

    /// What is remembered of a kind, as the batch has it.
    async fn remembered(&self, kind: MemoKind) -> Result<BTreeMap<String, Vec<u8>>> {
        let mut all = match self.target.memo_table(&self.from.pipeline).await? {
            Some(table) => memos::of_kind(&table, kind).await?,
            None => BTreeMap::new(),
        };
        for memo in self.memos.iter().filter(|memo| memo.kind == kind) {
            match &memo.content {
                Some(content) => all.insert(memo.name.clone(), content.clone()),
                None => all.remove(&memo.name),
            };
        }
        Ok(all)
    }
}

/// Bytes of what is recalled at once, about.
const RECALLED_BYTES: usize = 8 << 20;

#[async_trait]
impl Merge for LakeMerge {
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        for of in batch.iter() {
            let target = self.target.clone();
            let Some(part) = self.part(&of.plan.target).await? else { continue };
            if of.set.empty && part.of.adopted && of.plan.existing_rows == Some(ExistingRows::Keep) {
                let what = Doing::to("emptying the lake table", &of.plan.target);
                let table = of.plan.table();
                let reason = format!(
                    "the source was emptied, and rows are kept there that were there before: run `moorage resnapshot {table}`"
                );
                return Err(AdapterError::refused(what, reason));
            }
            let mut work = match part.work.take() {
                Some(work) => work,
                None => {
                    let table = target.table(&mut *target.writing().await?, &of.plan).await?;
                    Work::on(table).await?
                }
            };
            let counters = merge(&mut work, of).await?;
            part.work = Some(work);
            *part.progress.get_or_insert_default() += counters;
        }
        Ok(())
    }

    async fn reserve(&mut self, _: &[&TablePlan]) -> Result<()> {
        Ok(())
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        if !alteration.steps.is_empty() {
            return Err(AdapterError::Lacking { system: "delta".into(), lack: Lack::Altering });
        }
        let after = alteration.after.clone();
        if let Some(part) = self.part(&after.target).await? {
            let live = if part.of.state == TableState::Held { TableState::Live } else { part.of.state };
            part.of.state = TableState::behind(alteration.then).unwrap_or(live);
            part.plan = Some((*after).clone());
        }
        Ok(())
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        for Replacement { plan, later, end } in tables {
            let target = self.target.clone();
            let missing = || AdapterError::refused(plan.target.clone(), "nothing was loaded beside it");
            let loaded = target.take_loaded(&plan.target)?.ok_or_else(missing)?;
            let (mut work, snapshot_rows) = (loaded.work, loaded.rows);
            let mut counters = TableCounters::default();
            for batch in later {
                counters += merge(&mut work, &batch?).await?;
            }
            let Some(part) = self.part(&plan.target).await? else { continue };
            part.progress = None;
            part.of.counters = counters;
            part.of.snapshot_rows = snapshot_rows;
            part.of.state = end.state;
            part.of.mark = end.mark.map(|m| (m.text, m.complete_at.to_string()));
            part.of.captured_by = end.captured_by;
            (part.work, part.beside) = (Some(work), true);
            part.plan = Some(plan.clone());
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
        let all = self.remembered(kind).await?.into_iter();
        let wanted = all.filter(|(name, _)| name.as_str() > after && name.starts_with(begin));
        let mut bytes = 0;
        let fits = |(_, content): &(String, Vec<u8>)| {
            let before = bytes;
            bytes += content.len();
            before < RECALLED_BYTES
        };
        Ok(wanted.take_while(fits).collect())
    }

    async fn commit(mut self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        let moves = checkpoint.position != self.from.position;
        if let Some(settled) = self.settled.as_ref().filter(|s| moves && s.position != checkpoint.position) {
            let reason = format!("it was to end at {}, and not at {}", settled.position, checkpoint.position);
            return Err(AdapterError::refused("committing a batch", reason));
        }
        let target = self.target.clone();
        let mut writer = target.writing().await?;
        let unsure = std::mem::replace(&mut writer.unsure, true);
        writer.ahead = true;
        if !self.memos.is_empty() && moves && self.settled.is_none() {
            // A table's own word settles where the batch ends, too; memos have none.
            let entries = Entries { settled: Some(Some(checkpoint.clone())), ..Entries::default() };
            writer.note("settle", &entries).await?;
        }
        let mut entries = Entries { checkpoint: Some(Some(checkpoint.clone())), ..Entries::default() };
        let mut progress = Vec::new();
        let settled = self.settled.as_ref().map(|settled| settled.position.clone());
        for (name, part) in std::mem::take(&mut self.parts) {
            if settled.as_ref() == Some(&part.of.position) {
                continue;
            }
            progress.extend(part.progress.map(|counters| TableProgress { target: name.clone(), counters }));
            let (of, plan) = write_part(&mut writer, &name, part, checkpoint).await?;
            entries.plans.extend(plan);
            entries.tables.push((name, Some(of)));
        }
        target.remember(&mut writer, &self.memos).await?;
        if moves && (self.settled.is_some() || !self.memos.is_empty()) {
            entries.settled = Some(None);
        }
        writer.note("merge", &entries).await?;
        (writer.unsure, writer.ahead) = (unsure, false);
        let mut written: Vec<String> = entries.tables.into_iter().map(|(name, _)| name).collect();
        written.push(memos::OPEN_AS.into());
        target.look_after(&writer, &written);
        Ok(progress)
    }
}

/// Commits a table's part; gives what is remembered of it then, and how it is carried if that is another way.
async fn write_part(
    writer: &mut Writer,
    name: &str,
    part: Part,
    checkpoint: &Checkpoint,
) -> Result<(Remembered, Option<TablePlan>)> {
    let Part { work, beside, mut of, plan, progress } = part;
    if let Some(counters) = progress {
        of.counters += counters;
        of.last_change_at = Some(Utc::now().to_rfc3339());
    }
    of.position.clone_from(&checkpoint.position);
    let Some(work) = work else {
        // What is remembered of a table alone goes with the ledger.
        return Ok((Remembered { serial: of.serial + 1, ..of }, plan));
    };
    let operation = if beside { "replace" } else { "merge" };
    let deed = Deed { operation, target: name, of, to: Some(checkpoint), plan: plan.as_ref(), beside };
    let (table, of) = writer.commit(work, deed).await?;
    writer.tables.insert(name.into(), table);
    Ok((of, plan))
}
