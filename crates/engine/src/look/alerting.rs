//! Alerts, looked at from outside of any run: what is raised, whether or not anything runs.

use super::behind::{Behind, behind};
use crate::pipeline::ends::Pipeline;
use crate::pipeline::error::{EngineError, Result};
use crate::run::standings::{left_out, standings};
use chrono::{DateTime, Utc};
use moorage_core::watch::alerts::seen::{Seen, Stands};
use moorage_monitor::{StateStore, add_published, add_standings, stands};
use serde::Serialize;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::time::Duration;

/// How long the ends of a pipeline may take to say how it stands: whoever asks does so every minute.
const PATIENCE: Duration = Duration::from_secs(30);

const NO_ANSWER: &str = "its source or its target does not answer";

/// An alert that is raised.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RaisedAlert {
    /// The rule.
    pub alert: String,
    /// The pipeline.
    pub pipeline: String,
    /// The source table, where it is about one.
    pub table: Option<String>,
    /// What is wrong.
    pub what: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// When it was raised.
    pub raised_at: DateTime<Utc>,
    /// When it was last told.
    pub told_at: Option<DateTime<Utc>>,
    /// What to do next: a command.
    pub next: String,
}

/// What is raised of a pipeline, by what was remembered last.
///
/// # Errors
/// If the state folder cannot be read.
pub fn raised(pipeline: &Pipeline) -> Result<Vec<RaisedAlert>> {
    let memory = StateStore::open(&pipeline.state_folder)?.alert_memory(&pipeline.name)?;
    let raised = memory.standings.into_iter().filter_map(|(key, standing)| {
        Some(RaisedAlert {
            raised_at: standing.raised_at?,
            alert: key.alert,
            pipeline: key.pipeline,
            table: key.table,
            what: standing.what,
            since: standing.since,
            told_at: standing.told_at,
            next: standing.next,
        })
    });
    Ok(raised.collect())
}

/// How a pipeline stands, and why not everything of it is known.
pub(crate) async fn seen(pipeline: &Pipeline, state: &StateStore) -> Result<(Seen, Option<String>)> {
    let mut seen = Seen::nothing(&pipeline.name);
    let last_run = state.last_run(&pipeline.name)?;
    let said = state.published_by_newest(&pipeline.name)?;
    let by_run = |now| stands(last_run.as_ref(), said.as_ref().map(|(at, said)| (*at, said)), now);
    if let Some((_, said)) = &said {
        add_published(&mut seen, said);
    }
    let mut problem: Option<String>;
    let mut is_told = false;
    match tokio::time::timeout(PATIENCE, behind(pipeline)).await {
        Ok(Ok(behind)) => {
            problem = behind.source_problem.clone().map(|why| format!("the source cannot be asked: {why}"));
            is_told = behind.running.is_some() && !behind.silent && !behind.elsewhere;
            seen.stands = Some(stands_by(&behind, by_run(Utc::now())));
            seen.behind = behind.behind_us.map(Duration::from_micros);
            seen.why = behind.why.clone();
            seen.room = behind.kept_bytes.zip(behind.limit_bytes.filter(|limit| *limit > 0));
            if let Some(waiting) = &behind.waiting {
                seen.waits = Some(waiting.or_more || waiting.changes.is_some_and(|changes| changes > 0));
                // While nothing runs, nothing is carried.
                let mut progress = DefaultHasher::new();
                (
                    behind.last_run.as_ref().map(|run| run.run),
                    behind.complete_until.filter(|_| behind.running.is_some()),
                )
                    .hash(&mut progress);
                seen.progress = Some(progress.finish());
            }
        }
        Ok(Err(error)) => {
            seen.stands = Some(by_run(Utc::now()));
            problem = Some(error.to_string());
        }
        Err(_) => {
            seen.stands = Some(by_run(Utc::now()));
            problem = Some(NO_ANSWER.into());
        }
    }
    // What a run that says how it stands told of its tables is what it looks at itself.
    let told = state.standings(&pipeline.name)?.filter(|_| is_told);
    let left_out = || {
        Ok::<_, EngineError>(
            last_run.as_ref().map(|run| state.events_of_run(run.run)).transpose()?.map(|e| left_out(&e)),
        )
    };
    let found = match told {
        Some(standings) => Ok(Ok(standings)),
        None => {
            tokio::time::timeout(PATIENCE, standings(pipeline, left_out()?.unwrap_or_default().tables()))
                .await
        }
    };
    match found {
        Ok(Ok(standings)) => {
            add_standings(&mut seen, standings, said.as_ref().map(|(_, said)| said).filter(|_| is_told));
        }
        Ok(Err(error)) => problem = problem.or_else(|| Some(error.to_string())),
        Err(_) => problem = problem.or_else(|| Some(NO_ANSWER.into())),
    }
    Ok((seen, problem))
}

/// Whether anything is carried, from all that is known.
fn stands_by(behind: &Behind, by_run: Stands) -> Stands {
    let Some(running) = &behind.running else {
        // A run that ended without a word is not silent: it is gone.
        return match by_run {
            Stands::Stopped { since, why } if behind.last_run.is_none() => Stands::Stopped { since, why },
            Stands::Stopped { since, .. } => Stands::Stopped { since, why: behind.why_nothing_runs() },
            _ => Stands::Stopped { since: behind.said_at, why: behind.why_nothing_runs() },
        };
    };
    match &behind.published {
        _ if behind.elsewhere && !running.asleep => Stands::Runs,
        _ if behind.elsewhere || behind.silent => {
            let why = format!("process {} on {} stands still", running.pid, running.host);
            Stands::Stopped { since: behind.said_at.or(behind.complete_until), why }
        }
        Some(said) => match &said.retrying {
            Some(retrying) => Stands::Retries { since: retrying.since, why: retrying.doing.clone() },
            None => Stands::Runs,
        },
        None => Stands::Runs,
    }
}
