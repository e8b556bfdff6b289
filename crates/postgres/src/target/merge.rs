//! An open batch: one transaction on the writing session.
//!
//! Changes go in by as few statements as there can be. If rows are refused, that part of the batch is undone and
//! applied once more with care ([`super::careful`]). A part is what is written at once: most batches are one.

use super::again::{self, Replaced};
use super::batch::{Into, Work};
use super::careful::{self, Part};
use super::form::{Form, Found, References, find};
use super::meta;
use super::rejects::{self, Held};
use super::trouble::Trouble;
use super::turn::{self, Mine};
use crate::connect::Session;
use async_trait::async_trait;
use moorage_adapter::{AdapterError, Merge, Replacement, Result, TableProgress};
use moorage_core::change::ChangeBlock;
use moorage_core::checkpoint::{Checkpoint, Durable};
use moorage_core::counters::TableCounters;
use moorage_core::plan::TablePlan;
use moorage_core::project::Mismatch;
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

    /// The tables as they are in the server now, or were when they were last looked at.
    async fn know(&mut self, plans: &[TablePlan]) -> Result<()> {
        let unknown: Vec<&TablePlan> = plans
            .iter()
            .filter(|p| self.forms.get(&p.target).is_none_or(|(known, _)| **known != **p))
            .collect();
        if unknown.is_empty() {
            return Ok(());
        }
        let targets: Vec<&str> = unknown.iter().map(|p| p.target.as_str()).collect();
        for (plan, found) in unknown.iter().zip(find(&self.session, &targets).await?) {
            let found = found.ok_or_else(|| {
                AdapterError::refused(
                    format!("target table {}", plan.target),
                    format!("it is gone. Run `moorage resnapshot {}`", plan.table()),
                )
            })?;
            let form = Form::new(plan, super::dialect::relation(&plan.target), &found)?;
            self.forms.insert(plan.target.clone(), (Arc::new((*plan).clone()), Arc::new(form)));
        }
        let ids: Vec<u32> = self.forms.values().map(|(_, form)| form.id).collect();
        self.references = References::read(&self.session, &ids).await?;
        Ok(())
    }
}

/// Begins a batch that goes on from a checkpoint, if the turn and the checkpoint are still the same; gives how many
/// changes are set aside.
async fn go_on(session: &Session, mine: &Mine, from: &Checkpoint) -> Result<u64> {
    let Some(found) = meta::lock(session, &mine.pipeline).await? else {
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
    /// By source table.
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
        plans: &[TablePlan],
    ) -> Result<Self> {
        let pipeline = from.pipeline.as_str();
        // Taken out: if this is broken off, or fails, the session is closed, which undoes what it has open.
        let Some(mut open) = writer.take() else {
            return Err(AdapterError::refused("opening a batch", "there is no session"));
        };
        open.know(plans).await?;
        open.session.run("opening a batch", "BEGIN; SET CONSTRAINTS ALL DEFERRED").await?;
        let rejects = go_on(&open.session, &mine, from).await?;
        let standings = meta::standings(&open.session, pipeline).await?;
        let standings: HashMap<&str, _> = standings.iter().map(|s| (s.target.as_str(), s)).collect();
        let mut tables = HashMap::with_capacity(plans.len());
        for plan in plans {
            let Some((plan, form)) = open.forms.get(&plan.target) else { continue };
            let standing = standings.get(plan.target.as_str());
            let keeps_rows = standing.is_some_and(|s| s.keeps_rows);
            let exact = standing.is_some_and(|s| s.live) && !keeps_rows && plan.mismatch == Mismatch::Reject;
            let into = Into { plan: plan.clone(), form: form.clone(), exact, keeps_rows };
            tables.insert(plan.table().to_string(), into);
        }
        let held = if rejects > 0 { rejects::held(&open.session, pipeline).await? } else { Held::default() };

        *writer = Some(open);
        Ok(Self {
            pipeline: pipeline.into(),
            writer,
            tables,
            held,
            began: false,
            progress: BTreeMap::new(),
            committed: false,
        })
    }

    fn writer(&self) -> Result<&Writer> {
        self.writer.as_ref().ok_or_else(|| AdapterError::refused("target", "the batch is already closed"))
    }

    async fn write_part(&mut self, blocks: &[ChangeBlock]) -> Result<()> {
        let writer = self.writer()?;
        let session = &writer.session;
        let mark = if self.began {
            "RELEASE SAVEPOINT moorage_part; SAVEPOINT moorage_part"
        } else {
            "SAVEPOINT moorage_part"
        };
        session.run("opening a part of a batch", mark).await?;
        let mut parts = self.parts(writer, blocks);
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
                // People may have made foreign keys since they were last looked at.
                let ids: Vec<u32> = parts.iter().map(|p| p.into.form.id).collect();
                let references = References::read(session, &ids).await?;
                let order = references.order(&ids);
                parts.sort_by_key(|p| order.iter().position(|id| *id == p.into.form.id));
                let outcome =
                    careful::apply(session, &self.pipeline, &parts, &references, &self.held).await?;
                rejects::keep(session, &self.pipeline, &parts, &outcome.refused).await?;
                outcome.counted
            }
        };
        if counted.values().any(|c| c.rejected > 0 || c.dropped > 0) {
            self.held = rejects::held(session, &self.pipeline).await?;
        }
        self.began = true;
        for (target, counters) in counted {
            *self.progress.entry(target).or_default() += counters;
        }
        Ok(())
    }

    /// The changes of each table, parents before children.
    fn parts<'a>(&'a self, writer: &Writer, blocks: &'a [ChangeBlock]) -> Vec<Part<'a>> {
        let mut parts: HashMap<u32, Part<'a>> = HashMap::new();
        let mut order = Vec::new();
        for block in blocks.iter().filter(|b| !b.is_empty() || b.read().total() > 0) {
            let Some(into) = self.tables.get(&block.schema().table.to_string()) else { continue };
            let part = parts.entry(into.form.id).or_insert_with(|| {
                order.push(into.form.id);
                Part { into, blocks: Vec::new() }
            });
            part.blocks.push(block);
        }
        writer.references.order(&order).into_iter().filter_map(|id| parts.remove(&id)).collect()
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
        works.push(Work::new(session, part.into, part.blocks.clone()).await?);
    }
    let mut counted: BTreeMap<String, TableCounters> =
        works.iter().map(|w| (w.into.plan.target.clone(), w.reduced.counters)).collect();
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

/// Has constraints checked now that would be checked at the end, where no row could be told from another.
pub(crate) async fn check_deferred(session: &Session) -> std::result::Result<(), Trouble> {
    let sql = "SET CONSTRAINTS ALL IMMEDIATE; SET CONSTRAINTS ALL DEFERRED";
    let done = session.client().batch_execute(sql).await;
    done.map_err(|e| super::trouble::sort(session.address(), "checking constraints", &e))
}

#[async_trait]
impl Merge for PostgresMerge {
    async fn write(&mut self, blocks: &[ChangeBlock]) -> Result<()> {
        self.write_part(blocks).await
    }

    async fn replace(&mut self, tables: Vec<Replacement<'_>>) -> Result<()> {
        let session = &self.writer()?.session;
        let mut replaced = Vec::with_capacity(tables.len());
        let mut ends = Vec::with_capacity(tables.len());
        let mut counted = Vec::with_capacity(tables.len());
        for Replacement { plan, later, end } in tables {
            let found = again::id(session, plan).await?;
            counted.push((plan.target.clone(), write_later(session, plan, &found, later).await?));
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
        again::replace(session, &tables).await?;
        let as_before = "SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off; SET LOCAL enable_seqscan = off";
        session.run("planning for single rows", as_before).await?;
        for (target, _) in &counted {
            meta::forget_rejects(session, &self.pipeline, target).await?;
        }
        self.held = rejects::held(session, &self.pipeline).await?;
        for (target, counters) in counted {
            if let Some(writer) = self.writer.as_mut() {
                // It may have become another table.
                writer.forms.remove(&target);
            }
            // What this batch merged into the old rows is not counted any more.
            self.progress.insert(target, counters);
        }
        Ok(())
    }

    async fn commit(mut self: Box<Self>, checkpoint: Checkpoint) -> Result<(Durable, Vec<TableProgress>)> {
        let session = &self.writer()?.session;
        for (target, counters) in &self.progress {
            // What a truncate made pointless had been set aside before.
            let rejected = counters.rejected as i64 - counters.dropped as i64;
            meta::count(session, target, counters, rejected).await?;
        }
        if self.progress.values().any(|c| c.rejected > 0 || c.dropped > 0) {
            meta::count_rejects(session, &self.pipeline).await?;
        }
        meta::save_checkpoint(session, &checkpoint).await?;
        session.run("committing a batch", "COMMIT").await?;
        self.committed = true;
        let progress = std::mem::take(&mut self.progress);
        let progress =
            progress.into_iter().map(|(target, counters)| TableProgress { target, counters }).collect();
        Ok((Durable::committed(checkpoint), progress))
    }
}

/// Writes the changes that a snapshot does not hold to the rows that were loaded beside a table.
async fn write_later(
    session: &Session,
    plan: &TablePlan,
    found: &Found,
    later: impl Iterator<Item = Result<ChangeBlock>>,
) -> Result<TableCounters> {
    let form = Arc::new(again::form(session, plan, found.id).await?);
    let into = Into {
        plan: Arc::new(plan.clone()),
        form,
        exact: plan.mismatch == Mismatch::Reject,
        keeps_rows: false,
    };
    let mut counters = TableCounters::default();
    for block in later {
        let block = block?;
        let work = Work::new(session, &into, vec![&block]).await;
        let done = async {
            let work = work?;
            work.truncate().await?;
            work.delete().await?;
            work.write().await?;
            Ok(work.reduced.counters)
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
