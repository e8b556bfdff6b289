//! Having tables read again.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::process::{self};
use crate::pipeline::select::find_tables;
use crate::pipeline::turn;
use moorage_adapter::{Events, StoredTable, TableState};
use moorage_monitor::StateStore;

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
#[must_use]
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
            let found = wanted.iter().map(|w| find_tables(pipeline, &stored, w));
            let found = found.collect::<Result<Vec<_>>>()?.into_iter().flatten();
            found.filter(|s| s.state != TableState::Gone).collect()
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
        pipeline.source.teardown(&pipeline.known_capture().await?, false, events).await?;
    }
    let targets: Vec<String> = chosen.iter().map(|s| s.plan.target.clone()).collect();
    Ok(pipeline.target.forget(&pipeline.name, &targets, matches!(which, Resnapshot::All)).await?)
}

/// What came of reading a table again while the pipeline runs; none as long as it goes on.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
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
