//! Tables that came, went or were made again since a pipeline followed its tables last: what becomes of each is what the
//! project file says of such changes, and is noted among what was met of drift.

use crate::before::draft::by;
use crate::pipeline::context::Context;
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::run::holding;
use chrono::Utc;
use moorage_adapter::{AdapterError, CapturePlan, Event, GONE, Memo, StoredTable, TableState};
use moorage_core::checkpoint::stored::Checkpoint;
use moorage_core::drift::decide::remap;
use moorage_core::drift::record::{DriftRecord, DriftState};
use moorage_core::model::drift::{DriftKind, DriftPolicy};
use moorage_core::model::name::TableName;
use moorage_core::plan::make::Plan;
use moorage_core::plan::table::TablePlan;
use std::sync::{Arc, PoisonError};

impl Context {
    /// Something became of a whole table; [`write_down`] keeps it.
    pub(crate) fn note(&self, kind: DriftKind, plan: &TablePlan, what: &str, state: DriftState) {
        let record = DriftRecord::of_table(kind, plan, what, state, Utc::now());
        self.noted.lock().unwrap_or_else(PoisonError::into_inner).push(record);
    }
}

/// Writes down what became of whole tables, under numbers from `next` on; gives the next one. The target is not moved by it.
pub(crate) async fn write_down(context: &Context, checkpoint: &Checkpoint, next: u64) -> Result<u64> {
    let noted = std::mem::take(&mut *context.noted.lock().unwrap_or_else(PoisonError::into_inner));
    if noted.is_empty() {
        return Ok(next);
    }
    let (position, committed_at) = (checkpoint.position.clone(), checkpoint.committed_at);
    let numbered = noted.into_iter().zip(next..).map(|(record, id)| DriftRecord {
        id,
        position: position.clone(),
        committed_at,
        ..record
    });
    let memos: Vec<Memo> =
        numbered.map(|record| Ok(holding::record_memo(&record)?)).collect::<Result<_>>()?;
    let mut merge = context.pipeline.target.begin(checkpoint).await?;
    merge.remember(&memos).await?;
    // Nothing more is known to be done than before.
    let (_durable, _) = merge.commit_durably(checkpoint.clone()).await?;
    Ok(next + memos.len() as u64)
}

/// Tables that came since the pipeline was set up, where the project file says to leave such tables, and those that cannot
/// join.
pub(crate) fn leave_out_new(context: &Context, planned: &mut Plan, stored: &[StoredTable]) {
    let left_out = context.left_out.lock().unwrap_or_else(PoisonError::into_inner);
    planned.tables.retain(|table| {
        !is_new(table, stored) || (joins(&context.pipeline, table) && !left_out.contains(table.table()))
    });
}

pub(crate) fn is_new(table: &TablePlan, stored: &[StoredTable]) -> bool {
    stored.iter().all(|s| !s.plan.is_of_same(table) && s.plan.target != table.target)
}

/// Whether a table joins that comes while the pipeline is there.
pub(crate) fn joins(pipeline: &Pipeline, table: &TablePlan) -> bool {
    let policies = pipeline.config.picker().rule(table.table()).drift;
    policies.of(DriftKind::TableAdded) == DriftPolicy::Follow
}

/// Tables whose structure is not the one that their target tables were made from, where the source does not tell, stop the run, as do
/// those that are refused now; tables that are not picked any more, or gone, are forgotten with a warning. Gives those that the
/// project file maps in another way by now.
pub(crate) async fn refuse_drift(
    context: &Context,
    capture: &CapturePlan,
    planned: &Plan,
    stored: &[StoredTable],
) -> Result<Vec<TableName>> {
    let pipeline = &context.pipeline;
    let mut remapped = Vec::new();
    let known: Vec<&StoredTable> = stored.iter().filter(|s| s.state != TableState::Gone).collect();
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
    let is_picked = |table: &TableName| {
        planned.tables.iter().any(|t| t.table() == table) || planned.refused.iter().any(|r| r.table == *table)
    };
    for stored in unread.into_iter().filter(|s| !is_picked(s.plan.table())) {
        leave(context, &stored.plan, "the project file does not pick it any more, or it is gone").await?;
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
            (Some(_), Some(what)) => return Err(AdapterError::Drift { table, what }.into()),
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
                        leave(context, &stored.plan, why).await?;
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
    let policies = pipeline.config.picker().rule(now.table()).drift;
    let reads = policies.of(DriftKind::TableMadeAgain) == DriftPolicy::Reread;
    reads && now.source_id != stored.plan.source_id && now.target == stored.plan.target
}

/// A table is not in the source any more.
async fn dropped(context: &Context, plan: &TablePlan) -> Result<()> {
    let pipeline = &context.pipeline;
    let policies = pipeline.config.picker().rule(plan.table()).drift;
    match policies.of(DriftKind::TableDropped) {
        DriftPolicy::Stop => {
            Err(AdapterError::Drift { table: plan.table().clone(), what: GONE.into() }.into())
        }
        DriftPolicy::Follow => {
            let targets = std::slice::from_ref(&plan.target);
            let steps = pipeline.target.let_go(&pipeline.name, targets, true).await?;
            context.note(DriftKind::TableDropped, plan, GONE, DriftState::Followed);
            let done = steps.iter().map(|step| format!("target {}: {}", step.what, step.outcome));
            let done = done.collect::<Vec<_>>().join(", ");
            context.say(Event::StructureChanged { table: plan.table().to_string(), what: GONE.into(), done });
            Ok(())
        }
        _ => {
            context.note(DriftKind::TableDropped, plan, GONE, DriftState::Left);
            leave(context, plan, GONE).await
        }
    }
}

/// Lets a table be as it is from now on, and says so.
async fn leave(context: &Context, plan: &TablePlan, why: &str) -> Result<()> {
    let pipeline = &context.pipeline;
    let (table, target) = (plan.table(), &plan.target);
    pipeline.target.leave(&pipeline.name, std::slice::from_ref(target)).await?;
    let message = format!(
        "{table} is not followed any more: {why}. Its target table {target} stays as it is; `moorage teardown --table {table}` lets go of it"
    );
    context.say(Event::Warning { message });
    Ok(())
}
