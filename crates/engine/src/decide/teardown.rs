//! Letting go: of tables, and of a whole pipeline.

use crate::before::draft::{discover, plan_pipeline};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::process::{self, Life};
use crate::pipeline::select::find_tables;
use crate::pipeline::turn;
use moorage_adapter::{Events, Holder, Removed, Step, StoredTable, TableState};
use moorage_core::plan::table::TablePlan;

/// Removes what Moorage made in the source and, if asked, in the target; with `dry` only lists it.
///
/// # Errors
/// If the pipeline runs, or an end refuses.
pub async fn teardown(
    pipeline: &Pipeline,
    with_target: bool,
    dry: bool,
    events: &Events,
) -> Result<(Removed, Vec<Step>)> {
    let me = process::me();
    let _lock = PipelineLock::take(&pipeline.state_folder, &pipeline.name, &me)?;
    if !dry {
        not_elsewhere(pipeline, with_target, &me, events).await?;
    }
    let done = async {
        let removed = pipeline.source.teardown(&pipeline.known_capture().await?, dry, events).await?;
        let steps =
            if with_target { pipeline.target.teardown(&pipeline.name, dry).await? } else { Vec::new() };
        Ok((removed, steps))
    };
    let done = done.await;
    turn::end(pipeline).await;
    done
}

/// Lets go of tables that the pipeline does not follow any more: it forgets them, and removes them from the target if
/// asked.
///
/// # Errors
/// If one of them is still picked, or is not the pipeline's, or the pipeline runs.
pub async fn let_go(
    pipeline: &Pipeline,
    tables: &[String],
    remove: bool,
    events: &Events,
) -> Result<Vec<Step>> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let mut chosen: Vec<&StoredTable> = Vec::new();
    for table in tables {
        chosen.extend(find_tables(pipeline, &stored, table)?);
    }
    let plan = plan_pipeline(pipeline, &discover(pipeline).await?)?;
    // One that has become a partition has left its target table, and is picked all the same.
    let comes_again = |s: &StoredTable, t: &TablePlan| {
        t.table() == s.plan.table() && (s.state != TableState::Gone || t.target == s.plan.target)
    };
    let picked = |s: &&&StoredTable| plan.tables.iter().any(|t| comes_again(s, t));
    // One that goes on elsewhere may have left a target table behind.
    let (picked, chosen): (Vec<&StoredTable>, Vec<&StoredTable>) = chosen.iter().partition(picked);
    if let (Some(picked), []) = (picked.first(), &chosen[..]) {
        let (pipeline, table) = (pipeline.name.clone(), picked.plan.table().to_string());
        return Err(EngineError::StillPicked { pipeline, table });
    }
    let me = process::me();
    let _lock = PipelineLock::take(&pipeline.state_folder, &pipeline.name, &me)?;
    turn::take(pipeline, &me, false, events).await?;
    let targets: Vec<String> = chosen.iter().map(|s| s.plan.target.clone()).collect();
    let done = pipeline.target.let_go(&pipeline.name, &targets, remove).await;
    turn::end(pipeline).await;
    Ok(done?)
}

/// Nothing is taken away from under a process that runs the pipeline from another folder or machine. A target that
/// cannot be asked does not keep the source from being cleaned.
async fn not_elsewhere(pipeline: &Pipeline, with_target: bool, me: &Holder, events: &Events) -> Result<()> {
    if with_target {
        return turn::take(pipeline, me, false, events).await.map(|_| ());
    }
    match pipeline.target.holder(&pipeline.name).await {
        Ok(Some(held)) if process::life(&held) != Life::Gone => Err(EngineError::held(pipeline, &held)),
        _ => Ok(()),
    }
}
