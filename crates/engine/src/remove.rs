//! Taking things back: forgetting tables so that they are read again, and removing a pipeline.

use crate::error::{EngineError, Result};
use crate::lock::PipelineLock;
use crate::pipeline::Pipeline;
use crate::planning::plan_pipeline;
use crate::process::{self, Life};
use crate::state::StateStore;
use crate::turn;
use crate::verify::find_table;
use moorage_adapter::{Events, Holder, Removed, Step, StoredTable};

/// Which tables to read again.
#[derive(Clone, Debug)]
pub enum Resnapshot {
    /// These, by source name.
    Tables(Vec<String>),
    /// All, with a new capture point.
    All,
}

/// How tables will be read again.
#[derive(Clone, Debug)]
pub enum Rereads {
    /// By the next run.
    NextRun(Vec<String>),
    /// By the process that runs the pipeline, while it goes on; [`reread_outcome`] tells when.
    Running(Vec<String>),
}

/// Has tables read again: by the process that runs the pipeline, if one does, otherwise by the next run. Until
/// the new rows are complete, readers of the target see the old ones.
///
/// # Errors
/// If a table is not one of the pipeline's, all are wanted while the pipeline runs, or an end cannot be written.
pub async fn resnapshot(pipeline: &Pipeline, which: &Resnapshot, events: &Events) -> Result<Rereads> {
    let stored = pipeline.target.tables(&pipeline.name).await?;
    let name = |s: &StoredTable| s.plan.table().to_string();
    let chosen: Vec<&StoredTable> = match which {
        Resnapshot::All => stored.iter().collect(),
        Resnapshot::Tables(wanted) => {
            wanted.iter().map(|w| find_table(pipeline, &stored, w)).collect::<Result<_>>()?
        }
    };
    let names: Vec<String> = chosen.iter().map(|s| name(s)).collect();
    let state = StateStore::open(&pipeline.state_folder)?;
    let me = process::me();
    let _lock = match (PipelineLock::take(&pipeline.state_folder, &pipeline.name, &me), which) {
        (Err(EngineError::Locked { .. }), Resnapshot::Tables(_)) => {
            state.ask_again(&pipeline.name, &names)?;
            return Ok(Rereads::Running(names));
        }
        (lock, _) => lock?,
    };
    turn::take(pipeline, &me, false, events).await?;
    let forgotten = forget(pipeline, which, &chosen, events).await;
    turn::end(pipeline).await;
    forgotten?;
    names.iter().for_each(|table| state.unask_again(&pipeline.name, table));
    Ok(Rereads::NextRun(names))
}

async fn forget(
    pipeline: &Pipeline,
    which: &Resnapshot,
    chosen: &[&StoredTable],
    events: &Events,
) -> Result<()> {
    if matches!(which, Resnapshot::All) {
        pipeline.source.teardown(&pipeline.capture(), false, events).await?;
    }
    let targets: Vec<String> = chosen.iter().map(|s| s.plan.target.clone()).collect();
    Ok(pipeline.target.forget(&pipeline.name, &targets, matches!(which, Resnapshot::All)).await?)
}

/// What came of reading a table again while the pipeline runs; none as long as it goes on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RereadOutcome {
    /// The new rows are in place.
    Done,
    /// It was given up, and the old rows stay.
    GivenUp(String),
    /// The process ended before; the next run does it.
    Ended,
}

/// Asks what came of it.
///
/// # Errors
/// If the state folder cannot be read.
pub fn reread_outcome(pipeline: &Pipeline, table: &str) -> Result<Option<RereadOutcome>> {
    let state = StateStore::open(&pipeline.state_folder)?;
    let running = PipelineLock::holder(&pipeline.state_folder, &pipeline.name).is_some();
    Ok(match state.answer_to_again(&pipeline.name, table)? {
        Some(outcome) if outcome.is_empty() => Some(RereadOutcome::Done),
        Some(outcome) => Some(RereadOutcome::GivenUp(outcome)),
        None if running => None,
        None => Some(RereadOutcome::Ended),
    })
}

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
        let removed = pipeline.source.teardown(&pipeline.capture(), dry, events).await?;
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
    let chosen: Vec<&StoredTable> =
        tables.iter().map(|t| find_table(pipeline, &stored, t)).collect::<Result<_>>()?;
    let plan = plan_pipeline(pipeline, &pipeline.source.discover().await?)?;
    let picked = |s: &&&StoredTable| plan.tables.iter().any(|t| t.table() == s.plan.table());
    if let Some(picked) = chosen.iter().find(picked) {
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
