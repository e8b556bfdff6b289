//! Past runs of a pipeline, and what happened in them.

use super::running::{RunningNow, running_anywhere};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::Result;
use chrono::{DateTime, Utc};
use moorage_monitor::{RunEvent, RunRecord, StateStore};
use serde::Serialize;

/// How a run stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum RunOutcome {
    /// It goes on.
    Running,
    /// It has done what it was asked for.
    Done,
    /// Someone stopped it.
    Stopped,
    /// It met something that it could not go on with.
    Failed,
    /// It ended without a word.
    Killed,
}

impl RunOutcome {
    /// The word for people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Stopped => "stopped",
            Self::Failed => "failed",
            Self::Killed => "killed",
        }
    }
}

/// A run of a pipeline.
#[derive(Clone, Debug, Serialize)]
pub struct PastRun {
    /// The pipeline.
    pub pipeline: String,
    /// How it stands.
    pub state: RunOutcome,
    /// What was noted of it.
    #[serde(flatten)]
    pub record: RunRecord,
    /// For how long it went on, in milliseconds; none if nobody knows, because it was killed.
    pub took_ms: Option<u64>,
}

/// Which runs.
#[derive(Clone, Copy, Debug)]
pub struct WantedRuns {
    /// Those that had not ended by then.
    pub since: Option<DateTime<Utc>>,
    /// Only those in which something went wrong.
    pub errors: bool,
    /// So many at most, the newest.
    pub most: u32,
}

impl PastRun {
    fn of(pipeline: &Pipeline, record: RunRecord, now: (DateTime<Utc>, Option<&RunningNow>)) -> Self {
        let (now, running) = now;
        let running = running.is_some_and(|r| r.pid == record.pid && record.outcome.is_none());
        let state = match record.outcome.as_deref() {
            Some("done") => RunOutcome::Done,
            Some("stopped") => RunOutcome::Stopped,
            Some(_) => RunOutcome::Failed,
            None if running => RunOutcome::Running,
            None => RunOutcome::Killed,
        };
        let time = |text: &str| DateTime::parse_from_rfc3339(text).ok().map(|at| at.to_utc());
        let end = record.ended_at.as_deref().and_then(time).or(running.then_some(now));
        let took = end
            .zip(time(&record.started_at))
            .map(|(end, begin)| (end - begin).num_milliseconds().max(0) as u64);
        Self { pipeline: pipeline.name.clone(), state, record, took_ms: took }
    }

    /// Whether something went wrong in it.
    pub fn is_troubled(&self) -> bool {
        let ended_badly = matches!(self.state, RunOutcome::Failed | RunOutcome::Killed);
        ended_badly || self.record.sums.warnings > 0 || self.record.sums.retries > 0
    }
}

/// The runs of a pipeline, the newest first.
///
/// # Errors
/// If the state folder cannot be read.
pub async fn history(pipeline: &Pipeline, wanted: &WantedRuns) -> Result<Vec<PastRun>> {
    let state = StateStore::open(&pipeline.state_folder)?;
    let since = wanted.since.map(|at| at.to_rfc3339());
    // Which of them are wanted is only known once they are read.
    let read = if wanted.errors { u32::MAX } else { wanted.most };
    let running = running_anywhere(pipeline).await;
    let now = (Utc::now(), running.as_ref());
    let runs = state.runs(&pipeline.name, since.as_deref(), read)?;
    let runs = runs.into_iter().map(|record| PastRun::of(pipeline, record, now));
    Ok(runs.filter(|run| !wanted.errors || run.is_troubled()).take(wanted.most as usize).collect())
}

/// One run of one of these pipelines, with what happened in it, in order; none if there is none of that number.
///
/// # Errors
/// If the state folder cannot be read.
pub async fn history_of(pipelines: &[Pipeline], run: i64) -> Result<Option<(PastRun, Vec<RunEvent>)>> {
    let Some(first) = pipelines.first() else { return Ok(None) };
    let state = StateStore::open(&first.state_folder)?;
    let Some((name, record)) = state.run(run)? else { return Ok(None) };
    let Some(pipeline) = pipelines.iter().find(|pipeline| pipeline.name == name) else { return Ok(None) };
    let running = running_anywhere(pipeline).await;
    let past = PastRun::of(pipeline, record, (Utc::now(), running.as_ref()));
    Ok(Some((past, state.events_of_run(run)?)))
}
