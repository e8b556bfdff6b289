//! Who runs a pipeline now.

use crate::pipeline::ends::Pipeline;
use crate::pipeline::lock::PipelineLock;
use crate::pipeline::process::{Life, is_asleep, life};
use chrono::{DateTime, Utc};
use moorage_adapter::Holder;
use serde::Serialize;

/// The process that runs a pipeline now.
#[derive(Clone, Debug, Serialize)]
pub struct RunningNow {
    /// Its number.
    pub pid: u32,
    /// Where it runs.
    pub host: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// Whether it was stopped by a signal, and does nothing until it gets another one.
    pub asleep: bool,
}

/// The process that runs a pipeline now, if one does. Needs no source and no target.
pub fn running(pipeline: &Pipeline) -> Option<RunningNow> {
    PipelineLock::holder(&pipeline.state_folder, &pipeline.name).map(RunningNow::from)
}

/// The same, also for one that runs from another folder or machine.
pub(super) async fn running_anywhere(pipeline: &Pipeline) -> Option<RunningNow> {
    match running(pipeline) {
        Some(here) => Some(here),
        None => match pipeline.target.holder(&pipeline.name).await {
            Ok(held) => held.filter(|h| life(h) != Life::Gone).map(RunningNow::from),
            Err(_) => None,
        },
    }
}

impl From<Holder> for RunningNow {
    fn from(holder: Holder) -> Self {
        Self { asleep: is_asleep(&holder), pid: holder.pid, host: holder.host, since: holder.since }
    }
}
