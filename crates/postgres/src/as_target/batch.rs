//! An open batch: one transaction on the writing session.
//!
//! Changes go in by as few statements as there can be. If rows are refused, that part of the batch is undone and
//! applied once more with care ([`super::careful`]). A part is what is written at once: most batches are one.

use super::alter;
use super::beside::{self, Replaced};
use super::careful::{self, Part};
use super::form::{Form, Found, References, find};
use super::index::build_index;
use super::rejects;
use super::turn::{self, Mine};
use crate::as_target::deferred::check_deferred;
use crate::as_target::held::Held;
use crate::as_target::merge::{Into, Work};
use crate::as_target::{held, state};
use crate::wire::connect::Session;
use crate::wire::trouble::Trouble;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Doing, Memo, MemoKind, Merge, Replacement, Result, TableProgress};
use moorage_core::apply::prepare::TableBatch;
use moorage_core::change::counters::TableCounters;
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::alter::Alteration;
use moorage_core::model::policy::Mismatch;
use moorage_core::plan::table::TablePlan;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use tokio::sync::OwnedMutexGuard;

/// The writing session with what it knows of tables.
pub(crate) struct Writer {
    pub(crate) session: Session,
    forms: HashMap<String, (Arc<TablePlan>, Arc<Form>)>,
    references: References,
}

impl Writer {
    pub(crate) fn new(session: Session) -> Self {
        Self { session, forms: HashMap::new(), references: References::default() }
    }

    /// A table may be another one by now, also for the others that stand in it.
    fn forget(&mut self, table: &str) {
        self.forms.retain(|_, (plan, _)| plan.stands_in() != table);
    }

    /// The tables as they are in the server now, or were when they were last looked at.
    async fn know(&mut self, pipeline: &str, plans: &[Arc<TablePlan>]) -> Result<()> {
        let other =
            |known: &Arc<TablePlan>, plan: &Arc<TablePlan>| !Arc::ptr_eq(known, plan) && known != plan;
        let unknown: Vec<&Arc<TablePlan>> = plans
            .iter()
            .filter(|p| self.forms.get(&p.target).is_none_or(|(known, _)| other(known, p)))
            .collect();
        if unknown.is_empty() {
            return Ok(());
        }
        let targets: Vec<&str> = unknown.iter().map(|p| p.stands_in()).collect();
        for (plan, found) in unknown.iter().zip(find(&self.session, &targets).await?) {
            let found = found.ok_or_else(|| {
                AdapterError::refused(
                    format!("target table {}", plan.target),
                    format!("it is gone. Run `moorage resnapshot {}`", plan.table()),
                )
            })?;
            // Where several stand in a table, the one that was loaded last may have left that to us.
            if plan.gathered.is_some() {
                build_index(&self.session, plan, &found, false).await?;
            }
            super::kept::put_view_back(&self.session, pipeline, plan).await?;
            let form = Form::new(plan, super::dialect::relation(plan.stands_in()), &found)?;
            self.forms.insert(plan.target.clone(), ((*plan).clone(), Arc::new(form)));
        }
        let ids: Vec<u32> = self.forms.values().map(|(_, form)| form.id).collect();
        self.references = References::read(&self.session, &ids).await?;
        Ok(())
    }
}

/// Begins a batch that goes on from a checkpoint, if the turn and the checkpoint are still the same; gives how many
/// changes are set aside.
async fn go_on(session: &Session, mine: &Mine, from: &Checkpoint) -> Result<u64> {
    let Some(found) = state::lock(session, &mine.pipeline).await? else {
        turn::fence(session, mine).await?;
        return Err(AdapterError::checkpoint_moved(format!("target {}", session.address()), from, None));
    };
    if found.token != mine.token {
        turn::fence(session, mine).await?;
    }
    if found.checkpoint != *from {
        let target = format!("target {}", session.address());
        return Err(AdapterError::checkpoint_moved(target, from, Some(&found.checkpoint)));
    }
    Ok(found.rejects)
}

/// A batch. The guard keeps everyone else of this process off the session.
pub(crate) struct PostgresMerge {
    pipeline: String,
    writer: OwnedMutexGuard<Option<Writer>>,
    /// Those that the batch has met.
    tables: HashMap<String, Into>,
    held: Held,
    /// Whether a part was written before.
    began: bool,
    progress: BTreeMap<String, TableCounters>,
    committed: bool,
}

impl PostgresMerge {
    /// Opens a transaction on a session that is open.
    pub(crate) async fn begin(
        mut writer: OwnedMutexGuard<Option<Writer>>,
        mine: Mine,
        from: &Checkpoint,
    ) -> Result<Self> {
        let pipeline = from.pipeline.as_str();
        // Taken out: if this is broken off, or fails, the session is closed, which undoes what it has open.
        let Some(open) = writer.take() else {
            return Err(AdapterError::refused("opening a batch", "there is no session"));
        };
        open.session.run("opening a batch", "BEGIN; SET CONSTRAINTS ALL DEFERRED").await?;
        let rejects = go_on(&open.session, &mine, from).await?;
        let held = if rejects > 0 { held::held(&open.session, pipeline).await? } else { Held::default() };

        *writer = Some(open);
        Ok(Self {
            pipeline: pipeline.into(),
            writer,
            tables: HashMap::new(),
            held,
            began: false,
            progress: BTreeMap::new(),
            committed: false,
        })
    }

    fn writer(&self) -> Result<&Writer> {
        self.writer.as_ref().ok_or_else(|| AdapterError::refused("target", "the batch is already closed"))
    }

    /// Looks at the tables that blocks are about, and that the batch has not met yet.
    async fn meet(&mut self, batch: &[TableBatch]) -> Result<()> {
        let unmet = batch.iter().filter(|of| !self.tables.contains_key(&of.plan.target));
        let new: Vec<Arc<TablePlan>> = unmet.map(|of| of.plan.clone()).collect();
        if new.is_empty() {
            return Ok(());
        }
        let closed = || AdapterError::refused("target", "the batch is already closed");
        let writer = self.writer.as_mut().ok_or_else(closed)?;
        writer.know(&self.pipeline, &new).await?;
        let targets: Vec<&str> = new.iter().map(|p| p.target.as_str()).collect();
        let standings = state::standings(&writer.session, &self.pipeline, &targets).await?;
        for plan in new {
            let Some((_, form)) = writer.forms.get(&plan.target) else { continue };
            let standing = standings.iter().find(|s| s.target == plan.target);
            let into = Into::of(plan, form.clone(), standing);
            self.tables.insert(into.plan.target.clone(), into);
        }
        Ok(())
    }

    async fn write_part(&mut self, batch: &[TableBatch]) -> Result<()> {
        self.meet(batch).await?;
        let writer = self.writer()?;
        let session = &writer.session;
        let mark = if self.began {
            "RELEASE SAVEPOINT moorage_part; SAVEPOINT moorage_part"
        } else {
            "SAVEPOINT moorage_part"
        };
        session.run("opening a part of a batch", mark).await?;
        let mut parts = self.parts(writer, batch);
        let touches_held = parts.iter().any(|p| self.held.of(&p.into.plan.target).is_some());
        let fast = if touches_held { None } else { Some(fast(session, &parts, &writer.references).await) };
        let counted = match fast {
            Some(Ok(counted)) => counted,
            Some(Err(Trouble::Failed(error))) => return Err(error),
            refused => {
                if let Some(Err(Trouble::Refused(refusal))) = refused {
                    tracing::debug!("applying a part of a batch once more, with care: {}", refusal.reason);
                    session.run("undoing a part of a batch", "ROLLBACK TO SAVEPOINT moorage_part").await?;
                }
                let (kept, current): (Vec<_>, Vec<_>) =
                    parts.into_iter().partition(|part| !part.into.plan.kept_as.is_plain());
                let whole = in_whole(session, &kept, &writer.references).await?;
                parts = current;
                // People may have made foreign keys since they were last looked at.
                let ids: Vec<u32> = parts.iter().map(|p| p.into.form.id).collect();
                let references = References::read(session, &ids).await?;
                let order = references.order(&ids);
                parts.sort_by_key(|p| order.iter().position(|id| *id == p.into.form.id));
                let outcome =
                    careful::apply(session, &self.pipeline, &parts, &references, &self.held).await?;
                rejects::keep(session, &self.pipeline, &parts, &outcome.refused).await?;
                outcome.counted.into_iter().chain(whole).collect()
            }
        };
        if counted.values().any(|c| c.rejected > 0 || c.dropped > 0) {
            self.held = held::held(session, &self.pipeline).await?;
        }
        self.began = true;
        for (target, counters) in counted {
            *self.progress.entry(target).or_default() += counters;
        }
        Ok(())
    }

    /// The changes of each table, parents before children.
    fn parts<'a>(&'a self, writer: &Writer, batch: &'a [TableBatch]) -> Vec<Part<'a>> {
        let into = |of: &TableBatch| self.tables.get(&of.plan.target);
        let parts = batch.iter().filter_map(|batch| Some(Part { into: into(batch)?, batch }));
        // Several may be of one target table.
        let mut by_table: HashMap<u32, Vec<Part<'a>>> = HashMap::new();
        parts.for_each(|part| by_table.entry(part.into.form.id).or_default().push(part));
        let mut ids: Vec<u32> = Vec::new();
        for id in batch.iter().filter_map(|of| Some(into(of)?.form.id)) {
            if !ids.contains(&id) {
                ids.push(id);
            }
        }
        let ordered = writer.references.order(&ids).into_iter();
        ordered.flat_map(|id| by_table.remove(&id).unwrap_or_default()).collect()
    }
}

/// All changes by whole sets of rows: removed ones with children first, written ones with parents first. Where
/// deleting a row changes others, that comes last: those may have found another parent by then.
async fn fast(
    session: &Session,
    parts: &[Part<'_>],
    references: &References,
) -> std::result::Result<BTreeMap<String, TableCounters>, Trouble> {
    let mut works = Vec::with_capacity(parts.len());
    for part in parts {
        works.push(Work::new(session, part.into, part.batch).await?);
    }
    let mut counted: BTreeMap<String, TableCounters> =
        works.iter().map(|w| (w.into.plan.target.clone(), w.set.counters)).collect();
    let mut adjust = |work: &Work<'_>, adjusted| {
        if work.into.plan.mismatch == Mismatch::Adjust {
            counted.entry(work.into.plan.target.clone()).or_default().adjusted += adjusted;
        }
    };
    let acts = |work: &Work<'_>| references.acts(work.into.form.id);
    for work in works.iter().rev() {
        work.truncate().await?;
        if !acts(work) {
            adjust(work, work.delete().await?);
        }
    }
    for work in &works {
        adjust(work, work.write().await?);
    }
    for work in works.iter().rev().filter(|w| acts(w)) {
        adjust(work, work.delete().await?);
    }
    check_deferred(session).await?;
    Ok(counted)
}

/// Changes of tables that keep more than the current rows: nothing of them is ever set aside.
async fn in_whole(
    session: &Session,
    parts: &[Part<'_>],
    references: &References,
) -> Result<BTreeMap<String, TableCounters>> {
    let mut counted = BTreeMap::new();
    for part in parts {
        match fast(session, std::slice::from_ref(part), references).await {
            Ok(more) => counted.extend(more),
            Err(Trouble::Failed(error)) => return Err(error),
            Err(Trouble::Refused(refusal)) => {
                let plan = &part.into.plan;
                let reason = format!(
                    "{}. Mend what refuses it in the target; if the table was changed by someone else, run `moorage resnapshot {}`",
                    refusal.reason,
                    plan.table()
                );
                return Err(AdapterError::refused(Doing::to("merging into table", &plan.target), reason));
            }
        }
    }
    Ok(counted)
}

#[async_trait]
impl Merge for PostgresMerge {
    async fn write(&mut self, batch: Arc<[TableBatch]>) -> Result<()> {
        self.write_part(&batch).await
    }

    async fn reserve(&mut self, tables: &[&TablePlan]) -> Result<()> {
        alter::reserve(&self.writer()?.session, tables).await
    }

    async fn alter(&mut self, alteration: &Alteration) -> Result<()> {
        alter::alter(&self.writer()?.session, &self.pipeline, alteration).await?;
        // It is met again, with the new plan; its cached statements are made anew with the form.
        self.tables.remove(&alteration.before.target);
        if let Some(writer) = self.writer.as_mut() {
            writer.forget(alteration.after.stands_in());
        }
        Ok(())
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        let session = &self.writer()?.session;
        let mut replaced = Vec::with_capacity(tables.len());
        let mut ends = Vec::with_capacity(tables.len());
        let mut counted = Vec::with_capacity(tables.len());
        for Replacement { plan, later, end } in tables {
            let found = beside::id(session, plan).await?;
            let table = plan.stands_in().to_string();
            counted.push((plan.target.clone(), table, write_later(session, plan, &found, later).await?));
            replaced.push((plan, found));
            ends.push(end);
        }
        let ids: Vec<u32> = replaced.iter().map(|(_, found)| found.id).collect();
        let order = References::read(session, &ids).await?.order(&ids);
        let tables =
            replaced.into_iter().zip(&ends).map(|((plan, found), end)| Replaced { plan, found, end });
        let mut tables: Vec<Replaced<'_>> = tables.collect();
        tables.sort_by_key(|t| order.iter().position(|id| *id == t.found.id));
        // Whole tables are compared: looking each row up would take longer.
        let plan_freely =
            "SET LOCAL enable_hashjoin = on; SET LOCAL enable_mergejoin = on; SET LOCAL enable_seqscan = on";
        session.run("planning for whole tables", plan_freely).await?;
        beside::replace(session, &self.pipeline, &tables).await?;
        let as_before = "SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off; SET LOCAL enable_seqscan = off";
        session.run("planning for single rows", as_before).await?;
        for (target, ..) in &counted {
            state::forget_rejects(session, &self.pipeline, target).await?;
        }
        self.held = held::held(session, &self.pipeline).await?;
        for (target, table, counters) in counted {
            if let Some(writer) = self.writer.as_mut() {
                // It may have become another table.
                writer.forget(&table);
            }
            // What this batch merged into the old rows is not counted any more.
            self.progress.insert(target, counters);
        }
        Ok(())
    }

    async fn remember(&mut self, memos: &[Memo]) -> Result<()> {
        state::remember(&self.writer()?.session, &self.pipeline, memos).await
    }

    async fn forget(&mut self, kind: MemoKind, begin: &str) -> Result<()> {
        state::forget_memos(&self.writer()?.session, &self.pipeline, kind, begin).await
    }

    async fn recall(&mut self, kind: MemoKind, begin: &str, after: &str) -> Result<Vec<(String, Vec<u8>)>> {
        state::recall(&self.writer()?.session, &self.pipeline, kind, begin, after).await
    }

    async fn commit(mut self: Box<Self>, checkpoint: &Checkpoint) -> Result<Vec<TableProgress>> {
        let session = &self.writer()?.session;
        for (target, counters) in &self.progress {
            // What a truncate made pointless had been set aside before.
            let rejected = counters.rejected as i64 - counters.dropped as i64;
            state::count(session, target, counters, rejected).await?;
        }
        if self.progress.values().any(|c| c.rejected > 0 || c.dropped > 0) {
            state::count_rejects(session, &self.pipeline).await?;
        }
        state::save_checkpoint(session, checkpoint).await?;
        session.run("committing a batch", "COMMIT").await?;
        self.committed = true;
        let progress = std::mem::take(&mut self.progress);
        Ok(progress.into_iter().map(|(target, counters)| TableProgress { target, counters }).collect())
    }
}

/// Writes the changes that a snapshot does not hold to the rows that were loaded beside a table.
async fn write_later(
    session: &Session,
    plan: &TablePlan,
    found: &Found,
    later: impl Iterator<Item = Result<TableBatch>>,
) -> Result<TableCounters> {
    let form = Arc::new(beside::form(session, plan, found.id).await?);
    let into = Into {
        plan: Arc::new(plan.clone()),
        form,
        exact: plan.mismatch == Mismatch::Reject,
        keeps_rows: false,
    };
    let mut counters = TableCounters::default();
    for batch in later {
        let batch = batch?;
        let work = Work::new(session, &into, &batch).await;
        let done = async {
            let work = work?;
            work.truncate().await?;
            work.delete().await?;
            work.write().await?;
            Ok(work.set.counters)
        };
        counters += done.await.map_err(|trouble| match trouble {
            Trouble::Failed(error) => error,
            Trouble::Refused(refusal) => {
                AdapterError::refused(format!("reading {} again", plan.table()), refusal.reason)
            }
        })?;
    }
    Ok(counters)
}

impl Drop for PostgresMerge {
    fn drop(&mut self) {
        if !self.committed {
            // Closing the session undoes what it has open.
            *self.writer = None;
        }
    }
}
