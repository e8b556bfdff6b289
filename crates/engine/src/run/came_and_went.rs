//! Tables that came, went or were made again since a pipeline followed its tables last: what becomes of each is what the
//! project file says of such changes, and is noted among what was met of drift.

use crate::before::draft::by;
use crate::before::known::held_and_gone;
use crate::pipeline::context::Context;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::run::holding;
use chrono::Utc;
use moorage_adapter::{AdapterError, CapturePlan, Event, GONE, Memo, MemoKind, StoredTable, TableState};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::decide::remap;
use moorage_core::drift::record::{DriftRecord, DriftState};
use moorage_core::model::described::SourceTable;
use moorage_core::model::drift::{DriftKind, DriftPolicy};
use moorage_core::model::name::TableName;
use moorage_core::plan::make::Plan;
use moorage_core::plan::table::TablePlan;
use std::collections::HashMap;
use std::sync::{Arc, PoisonError};

impl Context {
    /// Something became of a whole table; [`write_down`] keeps it.
    pub(crate) fn note(&self, kind: DriftKind, plan: &TablePlan, what: &str, state: DriftState) {
        let record = DriftRecord::of_table(kind, plan, what, state, Utc::now());
        let mut noted = self.noted.lock().unwrap_or_else(PoisonError::into_inner);
        // Setting up may have been broken off before it was kept.
        if !noted.iter().any(|known| known.kinds == record.kinds && known.table == record.table) {
            noted.push(record);
        }
    }
}

/// Writes down what became of whole tables, under numbers from `next` on; gives the next one. The target is not moved by it.
pub(crate) async fn write_down(context: &Context, checkpoint: &Checkpoint, next: u64) -> Result<u64> {
    let noted = context.noted.lock().unwrap_or_else(PoisonError::into_inner).clone();
    if noted.is_empty() {
        return Ok(next);
    }
    let memos = context.pipeline.target.memos(&context.pipeline.name, MemoKind::Structure).await?;
    let known = holding::records(&memos)?;
    let (position, committed_at) = (checkpoint.position.clone(), checkpoint.committed_at);
    let mut next = next;
    let number = |record: DriftRecord| {
        if record.id > 0 {
            return record;
        }
        let record = DriftRecord { position: position.clone(), committed_at, ..record.again(&known) };
        if record.id > 0 {
            return record;
        }
        next += 1;
        DriftRecord { id: next - 1, ..record }
    };
    let numbered: Vec<DriftRecord> = noted.into_iter().map(number).collect();
    let memos: Vec<Memo> =
        numbered.iter().map(|record| Ok(holding::record_memo(record)?)).collect::<Result<_>>()?;
    let mut merge = context.pipeline.target.begin(checkpoint).await?;
    merge.remember(&memos).await?;
    // Nothing more is known to be done than before.
    let (_durable, _) = merge.commit_durably(checkpoint.clone()).await?;
    context.noted.lock().unwrap_or_else(PoisonError::into_inner).clear();
    for record in numbered.iter().filter(|record| is_offer(record)) {
        if record.decision.is_some() {
            context.notes.decided(record.id, "");
        }
        let done = match (record.state, &record.decision) {
            (DriftState::Held, _) => format!("`moorage drift follow {}` lets it join", record.id),
            (DriftState::Followed, Some(_)) => JOINS.into(),
            _ => continue,
        };
        let (table, what) = (record.table.clone(), record.detail.clone());
        context.say(Event::StructureChanged { table, what, done });
    }
    Ok(next)
}

/// The same before the run ends by what it met: that is said, whatever becomes of noting it.
pub(crate) async fn write_down_the_stop(context: &Context, checkpoint: &Checkpoint, next: u64) {
    if let Err(error) = write_down(context, checkpoint, next).await {
        tracing::warn!("what the pipeline stopped before is not among what was met of drift: {error}");
    }
}

/// What is told of a table that came.
pub(crate) const JOINS: &str = "it joins";

/// Tables that came since the pipeline was set up, where the project file says to leave such tables, and those that cannot
/// join.
///
/// Those that wait for a decision are noted, once.
pub(crate) fn leave_out_new(
    context: &Context,
    planned: &mut Plan,
    stored: &[StoredTable],
    records: &[DriftRecord],
) {
    let left_out = context.left_out.lock().unwrap_or_else(PoisonError::into_inner).clone();
    planned.tables.retain(|table| {
        if !is_new(table, stored) {
            return true;
        }
        let comes = comes(&context.pipeline, table, records);
        if comes == Comes::Asks {
            context.note(DriftKind::TableAdded, table, "it was made", DriftState::Held);
        }
        comes == Comes::Joins && !left_out.contains(table.table())
    });
}

/// What becomes of a table that came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Comes {
    Joins,
    /// Someone is to decide about it, and was not told yet.
    Asks,
    Stays,
}

fn comes(pipeline: &Pipeline, table: &TablePlan, records: &[DriftRecord]) -> Comes {
    let name = table.table().to_string();
    let is_of_it = |r: &&DriftRecord| {
        r.table == name && matches!(r.kinds[..], [DriftKind::TableAdded | DriftKind::TableDropped])
    };
    let last = records.iter().rfind(is_of_it).filter(|r| r.kinds == [DriftKind::TableAdded]);
    match (policy_of_new(pipeline, table.table()), last.map(|r| r.state)) {
        (DriftPolicy::Follow, _) | (DriftPolicy::Hold, Some(DriftState::Followed)) => Comes::Joins,
        (DriftPolicy::Hold, None) => Comes::Asks,
        _ => Comes::Stays,
    }
}

fn policy_of_new(pipeline: &Pipeline, table: &TableName) -> DriftPolicy {
    pipeline.config.picker().rule(table).drift.of(DriftKind::TableAdded)
}

/// Tables that wait to be let in, by the numbers of their records.
pub(crate) fn offered(records: &[DriftRecord]) -> HashMap<u64, String> {
    let waits = records.iter().filter(|r| is_offer(r) && r.state == DriftState::Held);
    waits.map(|r| (r.id, r.table.clone())).collect()
}

/// Whether a record is of a table that came, and not of one that is carried.
pub(crate) fn is_offer(record: &DriftRecord) -> bool {
    record.kinds == [DriftKind::TableAdded]
}

/// What someone decided about tables that came, as it is to be written down.
pub(crate) fn decided(context: &Context, records: &mut [DriftRecord]) {
    let decided = std::mem::take(&mut *context.decided.lock().unwrap_or_else(PoisonError::into_inner));
    let mut noted = context.noted.lock().unwrap_or_else(PoisonError::into_inner);
    for (id, decision) in decided {
        let Some(record) = records.iter().find(|r| r.id == id && is_offer(r)) else { continue };
        let state = if decision == DriftPolicy::Leave { DriftState::Left } else { DriftState::Followed };
        noted.push(DriftRecord { state, decision: Some(decision.word().into()), ..record.clone() });
    }
    // Also what was decided before a set-up that was broken off.
    for record in records {
        if let Some(decided) = noted.iter().find(|noted| noted.id == record.id) {
            *record = decided.clone();
        }
    }
}

pub(crate) fn is_new(table: &TablePlan, stored: &[StoredTable]) -> bool {
    stored.iter().all(|s| !s.plan.is_of_same(table) && s.plan.target != table.target)
}

/// Whether a table joins that comes while the pipeline is there.
pub(crate) fn joins(pipeline: &Pipeline, table: &TableName) -> bool {
    policy_of_new(pipeline, table) == DriftPolicy::Follow
}

/// Whether anything is done about a table that comes while the pipeline is there.
pub(crate) fn is_of_interest(pipeline: &Pipeline, table: &TableName) -> bool {
    policy_of_new(pipeline, table) != DriftPolicy::Leave
}

/// Held tables that are gone from the source, where what is left of such tables is to stay: said, and carried only as far as
/// someone's decision about them.
pub(crate) fn left_orphans(
    context: &Context,
    found: &[SourceTable],
    planned: &Plan,
    stored: &[StoredTable],
) -> Vec<TablePlan> {
    let picker = context.pipeline.config.picker();
    let is_left =
        |table: &TableName| picker.rule(table).drift.of(DriftKind::TableDropped) == DriftPolicy::Leave;
    let all = held_and_gone(found, planned, stored).into_iter().filter(|s| is_left(s.plan.table()));
    let said = all.inspect(|stored| {
        let message = format!(
            "{} is not in the source any more; what is held of it waits for a decision: `moorage drift`",
            stored.plan.table()
        );
        context.say(Event::Warning { message });
    });
    said.map(|stored| stored.plan.clone()).collect()
}

/// Tables whose structure is not the one that their target tables were made from, where the source does not tell, stop the run, as do
/// those that are refused now; tables that are not picked any more, or gone, are forgotten with a warning. Gives those that the
/// project file maps in another way by now.
pub(crate) async fn refuse_drift(
    context: &Context,
    capture: &CapturePlan,
    (found, planned): (&[SourceTable], &Plan),
    stored: &[StoredTable],
) -> Result<Vec<TableName>> {
    let pipeline = &context.pipeline;
    let mut remapped = Vec::new();
    let known: Vec<&StoredTable> = stored.iter().filter(|s| s.state != TableState::Gone).collect();
    let (elsewhere, known): (Vec<_>, Vec<_>) =
        known.into_iter().partition(|s| stands_elsewhere(pipeline, found, &s.plan));
    for stored in elsewhere {
        left_root(context, &stored.plan).await?;
    }
    let (unread, live): (Vec<_>, Vec<_>) = known.into_iter().partition(|s| s.state.is_unread());
    let plans: Vec<TablePlan> = live.iter().map(|s| s.plan.clone()).collect();
    let mut drifted = pipeline.source.drifted(capture, &plans).await?;
    if pipeline.source.tells_of_structure() {
        // What it tells in its stream is no reason not to begin.
        let is_told = |table: &TableName| {
            let plan = plans.iter().find(|p| p.table() == table);
            plan.is_some_and(|plan| {
                plan.structure.is_some() && planned.tables.iter().any(|t| t.is_of_same(plan))
            })
        };
        drifted.retain(|(schema, _)| !is_told(&schema.table));
    }
    let is_picked = |plan: &TablePlan| {
        let is_it = |t: &TablePlan| t.is_of_same(plan) || t.table() == plan.table();
        planned.tables.iter().any(|t| is_it(t) && t.target == plan.target)
            || planned.refused.iter().any(|r| r.table == *plan.table())
    };
    for stored in unread.into_iter().filter(|s| !is_picked(&s.plan)) {
        // What was read of it by now stands among the rows of others.
        if stored.plan.gathered.is_some() {
            let targets = std::slice::from_ref(&stored.plan.target);
            let _steps = pipeline.target.let_go(&pipeline.name, targets, true).await?;
            continue;
        }
        let why =
            "the project file does not pick it any more, or has it go to another target table; or it is gone";
        leave(context, &stored.plan, why, false).await?;
    }
    for stored in live {
        let table = stored.plan.table();
        let now = planned.tables.iter().find(|t| t.table() == table);
        let drift = drifted.iter().find(|(schema, _)| schema.table == *table).map(|(_, what)| what.clone());
        let table = table.clone();
        match (now, drift) {
            (Some(now), Some(_)) if is_another(pipeline, now, stored) => {
                let target = std::slice::from_ref(&stored.plan.target);
                pipeline.target.forget(&pipeline.name, target, false).await?;
                let what = "it was dropped and made again";
                context.note(DriftKind::TableMadeAgain, now, what, DriftState::Rereading);
                let (what, done) = (what.into(), "the table is read again".into());
                context.say(Event::StructureChanged { table: table.to_string(), what, done });
            }
            (Some(now), Some(what)) => {
                if now.source_id != stored.plan.source_id {
                    context.note(DriftKind::TableMadeAgain, &stored.plan, &what, DriftState::Stopped);
                }
                return Err(AdapterError::Drift { table, what }.into());
            }
            (Some(now), None) if *now == stored.plan => {}
            (Some(now), None) if now.maps_like(&stored.plan) => {}
            // The rows that are there are altered, or read again, once it is followed.
            (Some(now), None) if is_followed_otherwise(pipeline, now, stored) => {
                if let Err(why) = remap(&Arc::new(stored.plan.clone()), &by(pipeline, None)) {
                    let what = format!(
                        "the project file maps it in another way than when it was read, and what there was then cannot be carried so: {why}"
                    );
                    return Err(AdapterError::Drift { table, what }.into());
                }
                remapped.push(table);
            }
            (Some(_), None) => {
                let what = "the project file maps it in another way than when it was read".into();
                return Err(AdapterError::Drift { table, what }.into());
            }
            (None, drift) => {
                if let Some(refused) = planned.refused.iter().find(|r| r.table == *stored.plan.table()) {
                    return Err(EngineError::RefusedNow {
                        table: table.to_string(),
                        why: refused.reason.to_string(),
                    });
                }
                match drift {
                    Some(what) if what == GONE => dropped(context, &stored.plan).await?,
                    drift => {
                        let why = drift.as_deref().unwrap_or("the project file does not pick it any more");
                        leave(context, &stored.plan, why, false).await?;
                    }
                }
            }
        }
    }
    Ok(remapped)
}

/// Whether a table goes on in its target table, mapped in another way.
fn is_followed_otherwise(pipeline: &Pipeline, now: &TablePlan, stored: &StoredTable) -> bool {
    pipeline.source.tells_of_structure()
        && stored.plan.structure.is_some()
        && now.target == stored.plan.target
}

/// Whether a table is another one of the same name, which is read in the place of the one that is gone.
fn is_another(pipeline: &Pipeline, now: &TablePlan, stored: &StoredTable) -> bool {
    let policies = pipeline.config.picker().rule_within(now.table(), now.root()).drift;
    let reads = policies.of(DriftKind::TableMadeAgain) == DriftPolicy::Reread;
    reads && now.source_id != stored.plan.source_id && now.target == stored.plan.target
}

/// Whether a table that stands among the rows of a partitioned one is no part of it any more, or has become one.
fn stands_elsewhere(pipeline: &Pipeline, found: &[SourceTable], plan: &TablePlan) -> bool {
    let table = found.iter().find(|t| t.id != 0 && t.id == plan.source_id);
    let picker = pipeline.config.picker();
    table.is_some_and(|table| picker.part_of(table).map(|part| &part.root) != plan.root())
}

/// A partition was detached, or a table that was carried alone was attached: what it has where it was follows it, or stays. Where it
/// is now, it is read.
async fn left_root(context: &Context, plan: &TablePlan) -> Result<()> {
    let pipeline = &context.pipeline;
    let what = match plan.root() {
        Some(root) => format!("it is no partition of {root} any more"),
        None => "it has become a partition".to_string(),
    };
    if policy_of_gone(pipeline, plan) != DriftPolicy::Follow {
        context.note(DriftKind::TableDropped, plan, &what, DriftState::Left);
        return leave(context, plan, &what, true).await;
    }
    let targets = std::slice::from_ref(&plan.target);
    let steps = pipeline.target.let_go(&pipeline.name, targets, true).await?;
    context.note(DriftKind::TableDropped, plan, &what, DriftState::Followed);
    let done = steps.iter().map(|step| format!("{}: {}", step.what, step.outcome));
    let done = done.collect::<Vec<_>>().join(", ");
    context.say(Event::StructureChanged { table: plan.table().to_string(), what, done });
    Ok(())
}

/// What becomes of what a table has in the target that is gone.
fn policy_of_gone(pipeline: &Pipeline, plan: &TablePlan) -> DriftPolicy {
    let policies = pipeline.config.picker().rule_within(plan.table(), plan.root()).drift;
    match plan.root() {
        Some(_) => policies.of_partition(DriftKind::TableDropped),
        None => policies.of(DriftKind::TableDropped),
    }
}

/// A table is not in the source any more.
async fn dropped(context: &Context, plan: &TablePlan) -> Result<()> {
    let pipeline = &context.pipeline;
    match policy_of_gone(pipeline, plan) {
        DriftPolicy::Stop => {
            context.note(DriftKind::TableDropped, plan, GONE, DriftState::Stopped);
            Err(AdapterError::Drift { table: plan.table().clone(), what: GONE.into() }.into())
        }
        DriftPolicy::Follow => {
            let targets = std::slice::from_ref(&plan.target);
            let steps = pipeline.target.let_go(&pipeline.name, targets, true).await?;
            context.note(DriftKind::TableDropped, plan, GONE, DriftState::Followed);
            let done = steps.iter().map(|step| format!("{}: {}", step.what, step.outcome));
            let done = done.collect::<Vec<_>>().join(", ");
            context.say(Event::StructureChanged { table: plan.table().to_string(), what: GONE.into(), done });
            Ok(())
        }
        _ => {
            context.note(DriftKind::TableDropped, plan, GONE, DriftState::Left);
            leave(context, plan, GONE, false).await
        }
    }
}

/// Lets a target table be as it is from now on, and says so. The table itself may go on in another one.
async fn leave(context: &Context, plan: &TablePlan, why: &str, goes_on: bool) -> Result<()> {
    let pipeline = &context.pipeline;
    let (table, target) = (plan.table(), &plan.target);
    let name = if goes_on { target.clone() } else { table.to_string() };
    pipeline.target.leave(&pipeline.name, std::slice::from_ref(target)).await?;
    let message = format!(
        "{table} is not followed any more: {why}. Its target table {target} stays as it is; `moorage teardown --table {name}` lets go of it"
    );
    context.say(Event::Warning { message });
    Ok(())
}
